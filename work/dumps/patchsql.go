package dumps

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
	"strings"

	"trimlantern/outside/dump"
)

// patchSQL is how a dialect writes a patch. Its functions add to what is written already.
type patchSQL struct {
	dialect dump.Dialect
	begin   string // before the statements
	before  string // before each UPDATE
	after   string // behind each
	end     string // counts those that took
	quote   byte   // around names
	literal func(b, v []byte, binary bool) []byte
	is      func(b []byte, column string, value []byte, sum [sha256.Size]byte, binary bool) []byte // the condition that a column holds a value
	spliced string                                                                                 // before a text in the place of whose letters a literal is put
	splice  func(b []byte, at, length int, in string, binary bool) []byte                          // and behind it: length letters, from 0
}

// name adds a name in quotes.
func (s *patchSQL) name(b []byte, n string) []byte {
	b = append(b, s.quote)
	for {
		i := strings.IndexByte(n, s.quote)
		if i < 0 {
			return append(append(b, n...), s.quote)
		}
		b = append(append(b, n[:i+1]...), s.quote)
		n = n[i+1:]
	}
}

// casts reports whether text is to be made a value of the column's type. Of a type with a length it stays text, since
// that would cut it.
func (s *patchSQL) casts(c *patchedCell) bool {
	return s.dialect == dump.Postgres && !c.binary && c.typ != "" && !strings.HasPrefix(c.typ, "text") && !strings.HasPrefix(c.typ, "char") && !strings.HasPrefix(c.typ, "varchar")
}

// plain reports whether a text can stand between single quotes in any mode and charset.
func plain[T string | []byte](v T) bool {
	for i := range len(v) {
		if c := v[i]; c < ' ' || c > '~' || c == '\'' || c == '\\' {
			return false
		}
	}
	return true
}

// put adds a value between two texts, as it is.
func put(b []byte, before string, v []byte, after string) []byte {
	return append(append(append(b, before...), v...), after...)
}

// putHex adds a value in hexadecimal digits between two texts.
func putHex(b []byte, before string, v []byte, after string) []byte {
	return append(hex.AppendEncode(append(b, before...), v), after...)
}

// patchSQLs are the dialects of patches. Text that is not plain is written in hexadecimal digits, which no charset
// and no mode changes.
var patchSQLs = map[dump.Dialect]patchSQL{dump.MySQL: patchMySQL(), dump.Postgres: patchPostgres(), dump.SQLite: patchSQLite()}

func patchMySQL() patchSQL {
	s := patchSQL{dialect: dump.MySQL, quote: '`',
		begin: "SET NAMES utf8mb4;\nSET @took = 0;\nSTART TRANSACTION;\n",
		after: ";\nSET @took = @took + (ROW_COUNT() > 0);\n",
		end:   "COMMIT;\nSELECT @took AS `rows changed`, %d - @took AS `rows left, edited since the export`;\n",
		literal: func(b, v []byte, binary bool) []byte {
			switch {
			case len(v) == 0:
				return append(b, "''"...)
			case binary:
				return putHex(b, "X'", v, "'")
			case plain(v):
				return put(b, "'", v, "'")
			}
			return putHex(b, "_utf8mb4 X'", v, "'")
		},
		spliced: "INSERT(",
	}
	s.is = func(b []byte, column string, _ []byte, sum [sha256.Size]byte, binary bool) []byte {
		before, after := "SHA2(CONVERT(", " USING utf8mb4), 256) = '"
		if binary {
			before, after = "SHA2(", ", 256) = '"
		}
		return putHex(s.name(append(b, before...), column), after, sum[:], "'")
	}
	s.splice = func(b []byte, at, length int, in string, binary bool) []byte {
		b = strconv.AppendInt(append(b, ", "...), int64(at+1), 10)
		b = strconv.AppendInt(append(b, ", "...), int64(length), 10)
		return append(s.literal(append(b, ", "...), []byte(in), binary), ')')
	}
	return s
}

func patchPostgres() patchSQL {
	s := patchSQL{dialect: dump.Postgres, quote: '"',
		begin:  "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nBEGIN;\nCREATE TEMPORARY TABLE trimlantern_took (n int) ON COMMIT PRESERVE ROWS;\n",
		before: "WITH took AS (",
		after:  " RETURNING 1) INSERT INTO trimlantern_took SELECT count(*) FROM took;\n",
		end:    "COMMIT;\nSELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\n",
		literal: func(b, v []byte, binary bool) []byte {
			switch {
			case binary:
				return putHex(b, `'\x`, v, `'::bytea`)
			case plain(v):
				return put(b, "'", v, "'")
			}
			return putHex(b, `convert_from('\x`, v, `'::bytea, 'UTF8')`)
		},
		spliced: "overlay(",
	}
	s.is = func(b []byte, column string, _ []byte, sum [sha256.Size]byte, binary bool) []byte {
		before, after := "encode(sha256(convert_to(", "::text, 'UTF8')), 'hex') = '"
		if binary {
			before, after = "encode(sha256(", "), 'hex') = '"
		}
		return putHex(s.name(append(b, before...), column), after, sum[:], "'")
	}
	s.splice = func(b []byte, at, length int, in string, binary bool) []byte {
		b = s.literal(append(b, " placing "...), []byte(in), binary)
		b = strconv.AppendInt(append(b, " from "...), int64(at+1), 10)
		b = strconv.AppendInt(append(b, " for "...), int64(length), 10)
		return append(b, ')')
	}
	return s
}

func patchSQLite() patchSQL {
	s := patchSQL{dialect: dump.SQLite, quote: '"',
		begin: "BEGIN;\nCREATE TEMP TABLE trimlantern_took (n int);\n",
		after: ";\nINSERT INTO trimlantern_took SELECT changes();\n",
		end:   "SELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\nCOMMIT;\n",
		literal: func(b, v []byte, binary bool) []byte {
			switch {
			case binary:
				return putHex(b, "X'", v, "'")
			case plain(v):
				return put(b, "'", v, "'")
			}
			return putHex(b, "CAST(X'", v, "' AS TEXT)")
		},
	}
	s.is = func(b []byte, column string, v []byte, _ [sha256.Size]byte, _ bool) []byte {
		return putHex(s.name(append(b, "CAST("...), column), " AS BLOB) = X'", v, "'")
	}
	return s
}
