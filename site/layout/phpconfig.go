package layout

import (
	"fmt"
	"strconv"
	"strings"

	"trimlantern/site/disk"
)

// maxConfig bounds a system's configuration file.
const maxConfig = 4 << 20

// Setting is one constant or variable that a PHP file sets to a literal.
type Setting struct {
	Value string
	Line  int
}

// ReadPHP reads the literals that a PHP configuration file sets, by reading its
// tokens and never by running it: define('NAME', 'value') and $name = 'value'.
// Names of variables keep their dollar sign. The first setting of a name counts
// for constants, as in PHP, and the last for variables.
func ReadPHP(file string) (map[string]Setting, error) {
	b, err := disk.Read(file, maxConfig)
	if err != nil {
		return nil, err
	}
	return phpSettings(string(b)), nil
}

type phpKind uint8

const (
	phpWord phpKind = iota
	phpVariable
	phpString
	phpNumber
	phpMark
)

type phpToken struct {
	kind phpKind
	text string
	line int
}

func phpSettings(src string) map[string]Setting {
	tokens := phpTokens(src)
	at := func(i int) phpToken {
		if i < len(tokens) {
			return tokens[i]
		}
		return phpToken{kind: phpMark}
	}
	isMark := func(i int, c string) bool { return at(i).kind == phpMark && at(i).text == c }
	literal := func(i int) bool {
		t := at(i)
		return t.kind == phpString || t.kind == phpNumber || t.kind == phpWord &&
			(strings.EqualFold(t.text, "true") || strings.EqualFold(t.text, "false"))
	}
	out := map[string]Setting{}
	for i, t := range tokens {
		switch {
		case t.kind == phpWord && strings.EqualFold(strings.TrimPrefix(t.text, `\`), "define") && isMark(i+1, "(") &&
			at(i+2).kind == phpString && isMark(i+3, ",") && literal(i+4) && (isMark(i+5, ")") || isMark(i+5, ",")):
			if _, ok := out[at(i+2).text]; !ok {
				out[at(i+2).text] = Setting{at(i + 4).text, t.line}
			}
		case t.kind == phpWord && strings.EqualFold(t.text, "const") && at(i+1).kind == phpWord && isMark(i+2, "=") && literal(i+3) && isMark(i+4, ";"):
			if _, ok := out[at(i+1).text]; !ok {
				out[at(i+1).text] = Setting{at(i + 3).text, t.line}
			}
		case t.kind == phpVariable && isMark(i+1, "=") && literal(i+2) && isMark(i+3, ";"):
			out[t.text] = Setting{at(i + 2).text, t.line}
		}
	}
	return out
}

// phpTokens splits PHP source as far as literals need it: comments and what
// stands outside of <?php go, strings are decoded.
func phpTokens(s string) []phpToken {
	var out []phpToken
	line, php := 1, false
	count := func(t string) { line += strings.Count(t, "\n") }
	cut := func(end string) { // over everything up to and with end
		i := strings.Index(s, end)
		if i < 0 {
			i, end = len(s), ""
		}
		count(s[:i+len(end)])
		s = s[i+len(end):]
	}
	for s != "" {
		if !php {
			i := strings.Index(s, "<?php")
			if i < 0 {
				return out
			}
			count(s[:i])
			s, php = s[i+5:], true
			continue
		}
		c := s[0]
		switch {
		case strings.HasPrefix(s, "?>"):
			s, php = s[2:], false
		case strings.HasPrefix(s, "/*"):
			cut("*/")
		case strings.HasPrefix(s, "//"), c == '#' && !strings.HasPrefix(s, "#["):
			if i, j := strings.Index(s, "\n"), strings.Index(s, "?>"); j >= 0 && (i < 0 || j < i) {
				s = s[j:]
			} else {
				cut("\n")
			}
		case strings.HasPrefix(s, "<<<"):
			label, _, _ := strings.Cut(s[3:], "\n")
			cut("\n" + strings.Trim(strings.TrimSpace(label), `'"`))
		case c == '\'' || c == '"':
			text, n := phpStringAt(s)
			out = append(out, phpToken{phpString, text, line})
			count(s[:n])
			s = s[n:]
		case c == '\n':
			line++
			s = s[1:]
		case c == ' ' || c == '\t' || c == '\r':
			s = s[1:]
		case c == '$' && len(s) > 1 && wordByte(s[1]):
			n := 1
			for n < len(s) && wordByte(s[n]) {
				n++
			}
			out = append(out, phpToken{phpVariable, s[:n], line})
			s = s[n:]
		case wordByte(c) || c == '\\':
			n := 1
			for n < len(s) && (wordByte(s[n]) || s[n] == '\\') {
				n++
			}
			kind := phpWord
			if c >= '0' && c <= '9' {
				kind = phpNumber
			}
			out = append(out, phpToken{kind, s[:n], line})
			s = s[n:]
		default:
			out = append(out, phpToken{phpMark, s[:1], line})
			s = s[1:]
		}
	}
	return out
}

func wordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
}

// phpStringAt decodes the quoted string at the beginning of s and returns how
// many bytes it takes.
func phpStringAt(s string) (text string, n int) {
	quote := s[0]
	var out strings.Builder
	for n = 1; n < len(s); n++ {
		switch {
		case s[n] == quote:
			return out.String(), n + 1
		case s[n] == '\\' && n+1 < len(s):
			n++
			if quote == '"' {
				if i := strings.IndexByte("nrtvef", s[n]); i >= 0 {
					out.WriteByte("\n\r\t\v\x1b\f"[i])
					continue
				}
			}
			if s[n] != quote && s[n] != '\\' && (quote == '\'' || s[n] != '$') {
				out.WriteByte('\\')
			}
			out.WriteByte(s[n])
		default:
			out.WriteByte(s[n])
		}
	}
	return out.String(), n
}

// Connection is what a system's own configuration says of its database.
type Connection struct {
	File, User, Password, Host, Socket, Database, Charset, Prefix string
	Port                                                          int
	Locks                                                         map[string]Lock // by the address's name

	settings map[string]Setting // all that the file sets: never shown
}

// Lock is an address that the configuration file holds against the database.
type Lock struct {
	Constant, Value string
	Line            int
}

// Connect reads a system's configuration file the way the layout says.
func (c *ConfigFile) Connect(file string) (*Connection, error) {
	read := ReadPHP
	if c.Format == "env" {
		read = ReadEnv
	}
	set, err := read(file)
	if err != nil {
		return nil, err
	}
	if _, ok := set[c.Database]; !ok {
		return nil, fmt.Errorf("%s sets no %s: is it the system's configuration?", file, c.Database)
	}
	conn := &Connection{File: file, User: set[c.User].Value, Password: set[c.Password].Value,
		Database: set[c.Database].Value, Charset: set[c.Charset].Value, Prefix: set[c.Prefix].Value, Locks: map[string]Lock{}, settings: set}
	// host, host:port, host:/socket or :/socket
	host, rest, _ := strings.Cut(set[c.Host].Value, ":")
	conn.Host = host
	switch {
	case strings.HasPrefix(rest, "/"):
		conn.Host, conn.Socket = "", rest
	case rest != "":
		if conn.Port, err = strconv.Atoi(rest); err != nil {
			return nil, fmt.Errorf("%s, line %d: %q is no port", file, set[c.Host].Line, rest)
		}
	}
	if p, ok := set[c.Port]; ok && p.Value != "" && conn.Port == 0 {
		if conn.Port, err = strconv.Atoi(p.Value); err != nil {
			return nil, fmt.Errorf("%s, line %d: %q is no port", file, p.Line, p.Value)
		}
	}
	if strings.HasPrefix(conn.Host, "/") { // PostgreSQL names the folder of the socket
		conn.Host, conn.Socket = "", conn.Host
	}
	for name, constant := range c.Locks {
		if s, ok := set[constant]; ok && s.Value != "" {
			conn.Locks[name] = Lock{constant, s.Value, s.Line}
		}
	}
	return conn, nil
}
