// Package dump reads SQL dumps as streams, the way the dump programs of MariaDB
// and MySQL, PostgreSQL and SQLite write them, row by row, and writes them again
// with nothing changed but what it is told to.
package dump

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
)

// Dialect is whose SQL a dump is written in.
type Dialect uint8

// The dialects.
const (
	Unknown Dialect = iota
	MySQL           // MariaDB too
	Postgres
	SQLite
)

// String names the dialect.
func (d Dialect) String() string {
	return [...]string{"unknown", "MariaDB or MySQL", "PostgreSQL", "SQLite"}[d]
}

// sniffs is the one table of signs by which a dump is told. Those that come first
// are the surer.
var sniffs = []struct {
	sign *regexp.Regexp
	is   Dialect
}{
	{regexp.MustCompile(`(?m)^-- (MariaDB|MySQL) dump|^/\*M?!\d+`), MySQL},
	{regexp.MustCompile(`(?m)^-- PostgreSQL database dump|^COPY [^;]+ FROM stdin;|^SELECT pg_catalog\.`), Postgres},
	{regexp.MustCompile(`(?m)^PRAGMA foreign_keys=|^BEGIN TRANSACTION;\s+CREATE TABLE`), SQLite},
	{regexp.MustCompile("(?mi)^(INSERT|REPLACE) (IGNORE )?INTO `|^CREATE TABLE (IF NOT EXISTS )?`|^LOCK TABLES "), MySQL},
	{regexp.MustCompile(`(?m)^SET standard_conforming_strings|^INSERT INTO [a-z_]+\.["a-z_0-9]+ `), Postgres},
	{regexp.MustCompile(`(?m)^INSERT INTO \S+ VALUES\(`), SQLite},
}

// Sniff tells the dialect from the beginning of a dump.
func Sniff(head []byte) Dialect {
	for _, s := range sniffs {
		if s.sign.Match(head) {
			return s.is
		}
	}
	return Unknown
}

// Column is one column as a dump shows it.
type Column struct {
	Name     string
	MaxChars int64 // longest value in characters; 0: no such limit
	MaxBytes int64 // longest value in bytes; 0: no such limit
	List     bool  // an array or the like, whose values have a form of their own
}

// Table is one table as a dump shows it. Columns is empty where it does not.
type Table struct {
	Name    string
	Columns []Column
}

// notColumns are the words that begin a definition that is no column.
var notColumns = map[string]bool{"PRIMARY": true, "KEY": true, "UNIQUE": true, "CONSTRAINT": true, "FULLTEXT": true, "INDEX": true,
	"CHECK": true, "FOREIGN": true, "EXCLUDE": true, "LIKE": true, "SPATIAL": true, "PERIOD": true}

// textBytes are how many bytes MySQL's types hold.
var textBytes = map[string]int64{"tinytext": 1<<8 - 1, "tinyblob": 1<<8 - 1, "text": 1<<16 - 1, "blob": 1<<16 - 1,
	"mediumtext": 1<<24 - 1, "mediumblob": 1<<24 - 1}

// parseCreate reads the columns of a CREATE TABLE statement.
func (d Dialect) parseCreate(b []byte) *Table {
	s := string(b)
	open := strings.IndexByte(s, '(')
	if open < 0 {
		return nil
	}
	head := strings.Fields(s[:open])
	if len(head) < 3 {
		return nil
	}
	name := head[2]
	if strings.EqualFold(name, "IF") && len(head) > 5 {
		name = head[5]
	}
	t := &Table{Name: unquoteName(name)}
	for _, def := range splitTop(s[open+1:]) {
		def = strings.TrimSpace(def)
		name, rest := cutName(def)
		if name == "" || notColumns[strings.ToUpper(name)] && def[0] != '`' && def[0] != '"' {
			continue
		}
		t.Columns = append(t.Columns, d.column(name, strings.ToLower(strings.TrimSpace(rest))))
	}
	return t
}

var sized = regexp.MustCompile(`^(varchar|char|character varying|character|varbinary|binary)\s*\(\s*(\d+)`)

// listType tells the types of lists, whose values have a form of their own.
var listType = regexp.MustCompile(`^([^,'()]*(\(\d+\))?\[\]|(\w+\.)?hstore\b)`)

func (d Dialect) column(name, typ string) Column {
	c := Column{Name: name, List: d == Postgres && listType.MatchString(typ)}
	if d == SQLite {
		return c
	}
	if m := sized.FindStringSubmatch(typ); m != nil {
		n, err := strconv.ParseInt(m[2], 10, 64)
		if err == nil && strings.Contains(m[1], "binary") {
			c.MaxBytes = n
		} else if err == nil {
			c.MaxChars = n
		}
	} else if d == MySQL {
		word, _, _ := strings.Cut(strings.NewReplacer(",", " ", ")", " ", "\n", " ").Replace(typ), " ")
		c.MaxBytes = textBytes[word]
	}
	return c
}

// splitTop splits at the commas outside of parentheses and quotes, up to the
// parenthesis that closes the list.
func splitTop(s string) (parts []string) {
	depth, start := 0, 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '\'', '"', '`':
			end := strings.IndexByte(s[i+1:], c)
			if end < 0 {
				return parts
			}
			i += end + 1
		case '(':
			depth++
		case ')':
			if depth--; depth < 0 {
				return append(parts, s[start:i])
			}
		case ',':
			if depth == 0 {
				parts = append(parts, s[start:i])
				start = i + 1
			}
		}
	}
	return parts
}

// cutName takes the identifier at the beginning of s.
func cutName(s string) (name, rest string) {
	if s == "" {
		return "", ""
	}
	if q := s[0]; q == '`' || q == '"' || q == '[' {
		if q == '[' {
			q = ']'
		}
		for i := 1; i < len(s); i++ {
			if s[i] != q {
				continue
			}
			if i+1 < len(s) && s[i+1] == q {
				i++
				continue
			}
			return unquoteName(s[:i+1]), s[i+1:]
		}
		return "", ""
	}
	i := strings.IndexAny(s, " \t\r\n(),")
	if i < 0 {
		i = len(s)
	}
	return s[:i], s[i:]
}

// unquoteName takes quotes and a schema off a name.
func unquoteName(s string) string {
	s = strings.TrimSpace(s)
	if s == "" {
		return ""
	}
	if c := s[len(s)-1]; c == '`' || c == '"' {
		if i := strings.LastIndexByte(s[:len(s)-1], c); i >= 0 {
			q := string(c)
			for i > 0 && s[i-1] == c { // a doubled quote inside the name
				if i = strings.LastIndexByte(s[:i-1], c); i < 0 {
					return ""
				}
			}
			return strings.ReplaceAll(s[i+1:len(s)-1], q+q, q)
		}
	}
	if i := strings.LastIndexByte(s, '.'); i >= 0 {
		return unquoteName(s[i+1:])
	}
	return s
}

// hasWord reports whether b begins with a word, in any letter case, that ends
// there.
func hasWord(b []byte, word string) bool {
	return len(b) > len(word) && bytes.EqualFold(b[:len(word)], []byte(word)) && (b[len(word)] <= ' ' || b[len(word)] == '(' || b[len(word)] == '`' || b[len(word)] == '"' || b[len(word)] == ';')
}
