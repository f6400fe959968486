package database

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Script writes changes as SQL that the system's own client runs. A statement
// changes a row only where it still holds what is expected of it.
type Script struct {
	Begin, End string // what stands first and last
	quote      func(name string) string
	literal    func(c Column, v Value) string
	same       func(c Column, sha256 string, v []byte) string // the condition that a column holds a value
	insert     string
}

// Restore is a column of a row to be put back.
type Restore struct {
	Column Column
	Before Value  // what is put there
	Hash   string // SHA-256 of what it must hold now
	After  []byte // what it must hold now
}

// Update puts columns of a row back, where each of them still holds what it must.
func (s Script) Update(t Table, key [][]byte, columns []Restore) string {
	var sets []string
	where := s.is(t, key)
	for _, c := range columns {
		sets = append(sets, s.quote(c.Column.Name)+" = "+s.literal(c.Column, c.Before))
		where += " AND " + s.same(c.Column, c.Hash, c.After)
	}
	for _, stamp := range t.Stamps {
		sets = append(sets, s.quote(stamp)+" = "+s.quote(stamp))
	}
	return fmt.Sprintf("UPDATE %s SET %s WHERE %s;\n", s.quote(t.Name), strings.Join(sets, ", "), where)
}

// Left names the row where the column does not hold a value, of which hash is the
// SHA-256.
func (s Script) Left(t Table, key [][]byte, c Column, hash string, v []byte) string {
	where := t.Name + "." + c.Name
	for _, k := range key {
		where += " " + string(k)
	}
	return fmt.Sprintf("SELECT %s AS left_alone FROM %s WHERE %s AND NOT (%s);\n", s.literal(Column{Kind: Text}, Value{Bytes: []byte(where)}), s.quote(t.Name), s.is(t, key), s.same(c, hash, v))
}

// Insert puts a row back where none has its key.
func (s Script) Insert(t Table, key [][]byte, columns []string, image []Value) (string, error) {
	list, err := pickColumns(t, columns)
	if err != nil {
		return "", err
	}
	var names, values []string
	for i, c := range list {
		names, values = append(names, s.quote(c.Name)), append(values, s.literal(c, image[i]))
	}
	return fmt.Sprintf("INSERT INTO %s (%s)%s SELECT %s WHERE NOT EXISTS (SELECT 1 FROM %s WHERE %s);\n",
		s.quote(t.Name), strings.Join(names, ", "), s.insert, strings.Join(values, ", "), s.quote(t.Name), s.is(t, key)), nil
}

func (s Script) is(t Table, key [][]byte) string {
	var ands []string
	for i, k := range t.Key {
		ands = append(ands, s.quote(k.Name)+" = "+s.literal(k, Value{Bytes: key[i]}))
	}
	return strings.Join(ands, " AND ")
}

// plainText reports whether bytes can stand in a statement as they are: UTF-8 with
// no control characters but line ends and tabs.
func plainText(b []byte) bool {
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return utf8.Valid(b)
}

// number reports whether bytes are a whole number.
func number(b []byte) bool {
	digits := strings.TrimPrefix(string(b), "-")
	return digits != "" && strings.Trim(digits, "0123456789") == ""
}

var doubled = strings.NewReplacer("'", "''")

func mysqlScript(charset string) Script {
	literal := func(c Column, v Value) string {
		escaped := strings.NewReplacer("'", "''", `\`, `\\`, "\n", `\n`).Replace(string(v.Bytes))
		ascii := strings.IndexFunc(string(v.Bytes), func(r rune) bool { return r >= 0x80 }) < 0
		switch {
		case v.Null:
			return "NULL"
		case c.Kind == Integer && number(v.Bytes):
			return string(v.Bytes)
		case len(v.Bytes) == 0:
			return "''"
		case plainText(v.Bytes) && ascii: // a client would read anything else in its own charset
			return "'" + escaped + "'"
		case c.Kind == Binary || c.Kind == Other:
			return "0x" + hex.EncodeToString(v.Bytes)
		}
		return fmt.Sprintf("CONVERT(0x%x USING %s)", v.Bytes, charset)
	}
	return Script{Begin: "SET NAMES utf8mb4;\nSET sql_mode = 'STRICT_ALL_TABLES';\nSTART TRANSACTION;\n", End: "COMMIT;\n", quote: quoteMySQL, literal: literal,
		same: func(c Column, hash string, _ []byte) string {
			column := quoteMySQL(c.Name)
			if c.Kind != Binary {
				column = "CONVERT(" + column + " USING " + charset + ")"
			}
			return "SHA2(" + column + ", 256) = '" + hash + "'"
		}}
}

// postgresScript writes scripts for the tables of one schema.
func postgresScript(schema string) Script {
	literal := func(c Column, v Value) string {
		cast := func(s string) string {
			if c.Type == "" || c.Type == "text" {
				return s
			}
			return "CAST(" + s + " AS " + c.Type + ")"
		}
		switch {
		case v.Null:
			return "NULL"
		case c.Kind == Integer && number(v.Bytes):
			return string(v.Bytes)
		case c.Kind == Binary:
			return `'\x` + hex.EncodeToString(v.Bytes) + `'::bytea`
		case plainText(v.Bytes):
			return cast("'" + doubled.Replace(string(v.Bytes)) + "'")
		}
		return cast(fmt.Sprintf(`convert_from('\x%x'::bytea, 'UTF8')`, v.Bytes))
	}
	return Script{Begin: "SET client_encoding = 'UTF8';\nSET search_path = " + quoteSQL(schema) + ";\nSET standard_conforming_strings = on;\nBEGIN;\n", End: "COMMIT;\n", quote: quoteSQL, literal: literal,
		insert: " OVERRIDING SYSTEM VALUE",
		same: func(c Column, hash string, _ []byte) string {
			column := quoteSQL(c.Name)
			if c.Kind != Binary {
				column = "convert_to(" + column + "::text, 'UTF8')"
			}
			return "encode(sha256(" + column + "), 'hex') = '" + hash + "'"
		}}
}

func sqliteScript() Script {
	literal := func(c Column, v Value) string {
		switch {
		case v.Null:
			return "NULL"
		case v.As == 'i' || v.As == 'r' || c.Kind == Integer && number(v.Bytes):
			return string(v.Bytes)
		case v.As == 0 && c.Type == "key" && number(v.Bytes): // as a parameter would be
			return string(v.Bytes)
		case v.As == 'b' || v.As == 0 && c.Type == "key" && c.Kind == Binary:
			return fmt.Sprintf("x'%x'", v.Bytes)
		case plainText(v.Bytes):
			return "'" + doubled.Replace(string(v.Bytes)) + "'"
		}
		return fmt.Sprintf("CAST(x'%x' AS TEXT)", v.Bytes)
	}
	return Script{Begin: "BEGIN IMMEDIATE;\n", End: "COMMIT;\n", quote: quoteSQL, literal: literal,
		same: func(c Column, _ string, v []byte) string {
			return "CAST(" + quoteSQL(c.Name) + " AS BLOB) = CAST(" + literal(Column{}, Value{Bytes: v}) + " AS BLOB)"
		}}
}
