package work

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"trimlantern/core/rewrite"
	"trimlantern/site/disk"
	"trimlantern/site/dump"
)

// patching makes of the rows that change two scripts: one that changes them, and one that takes that back. Each
// statement finds its row by the key and changes it only where all of its values are what they were.
type patching struct {
	d           *dumpApplying
	there, back map[int64]string // statements by the row's place
	sql         patchSQL
}

// patchSQL is how a dialect writes a patch.
type patchSQL struct {
	dialect dump.Dialect
	begin   string // before the statements
	after   string // behind each
	end     string // counts those that took
	quote   func(name string) string
	literal func(v []byte, bytes bool) string
	is      func(column string, value []byte, bytes bool) string // the condition that a column holds a value
	splice  func(expr string, at, length int, in string) string  // puts a literal in the place of length letters, from 0
}

// maxSplices is how many edits of a value are written as edits; more are written as the whole value.
const maxSplices = 24

func newPatch(d *dumpApplying) *patching {
	return &patching{d: d, there: map[int64]string{}, back: map[int64]string{}, sql: patchSQLs[d.store.About.Dialect]}
}

// plain reports whether a text can stand between single quotes in any mode and charset.
func plain(v []byte) bool {
	for _, c := range v {
		if c < ' ' || c > '~' || c == '\'' || c == '\\' {
			return false
		}
	}
	return true
}

func sha(v []byte) string {
	s := sha256.Sum256(v)
	return hex.EncodeToString(s[:])
}

// patchSQLs are the dialects of patches. Text that is not plain is written in hexadecimal digits, which no charset
// and no mode changes.
var patchSQLs = map[dump.Dialect]patchSQL{
	dump.MySQL: {dialect: dump.MySQL,
		begin: "SET NAMES utf8mb4;\nSET @took = 0;\nSTART TRANSACTION;\n",
		after: "SET @took = @took + (ROW_COUNT() > 0);\n",
		end:   "COMMIT;\nSELECT @took AS `rows changed`, %d - @took AS `rows left, edited since the export`;\n",
		quote: func(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" },
		literal: func(v []byte, bytes bool) string {
			switch {
			case len(v) == 0:
				return "''"
			case bytes:
				return "X'" + hex.EncodeToString(v) + "'"
			case plain(v):
				return "'" + string(v) + "'"
			}
			return "_utf8mb4 X'" + hex.EncodeToString(v) + "'"
		},
		is: func(c string, v []byte, bytes bool) string {
			if !bytes {
				c = "CONVERT(" + c + " USING utf8mb4)"
			}
			return "SHA2(" + c + ", 256) = '" + sha(v) + "'"
		},
		splice: func(expr string, at, length int, in string) string {
			return fmt.Sprintf("INSERT(%s, %d, %d, %s)", expr, at+1, length, in)
		},
	},
	dump.Postgres: {dialect: dump.Postgres,
		begin: "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nBEGIN;\nCREATE TEMPORARY TABLE trimlantern_took (n int) ON COMMIT PRESERVE ROWS;\n",
		end:   "COMMIT;\nSELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\n",
		quote: func(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` },
		literal: func(v []byte, bytes bool) string {
			switch {
			case bytes:
				return `'\x` + hex.EncodeToString(v) + `'::bytea`
			case plain(v):
				return "'" + string(v) + "'"
			}
			return `convert_from('\x` + hex.EncodeToString(v) + `'::bytea, 'UTF8')`
		},
		is: func(c string, v []byte, bytes bool) string {
			if !bytes {
				c = "convert_to(" + c + "::text, 'UTF8')"
			}
			return "encode(sha256(" + c + "), 'hex') = '" + sha(v) + "'"
		},
		splice: func(expr string, at, length int, in string) string {
			return fmt.Sprintf("overlay(%s placing %s from %d for %d)", expr, in, at+1, length)
		},
	},
	dump.SQLite: {dialect: dump.SQLite,
		begin: "BEGIN;\nCREATE TEMP TABLE trimlantern_took (n int);\n",
		after: "INSERT INTO trimlantern_took SELECT changes();\n",
		end:   "SELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\nCOMMIT;\n",
		quote: func(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` },
		literal: func(v []byte, bytes bool) string {
			switch {
			case bytes:
				return "X'" + hex.EncodeToString(v) + "'"
			case plain(v):
				return "'" + string(v) + "'"
			}
			return "CAST(X'" + hex.EncodeToString(v) + "' AS TEXT)"
		},
		is: func(c string, v []byte, bytes bool) string {
			return "CAST(" + c + " AS BLOB) = X'" + hex.EncodeToString(v) + "'"
		},
	},
}

// row writes the statements for one row.
func (p *patching) row(place int64, row *dumpRow, r *dump.Row) error {
	t, _ := p.d.store.Table(row.table.Name)
	var primary []string
	for _, u := range t.Unique {
		if u.Primary {
			primary = u.Columns
		}
	}
	if len(primary) == 0 {
		p.d.out.Keyless[row.table.Name] += len(row.cells)
		return nil
	}
	type change struct {
		column        string
		before, after []byte
		edits         []rewrite.Edit
		bytes         bool
	}
	var changes []change
	for _, c := range row.cells {
		i, before, after, err := cell(r, c)
		if err != nil {
			return err
		}
		ch := change{c.Column, append([]byte(nil), before...), after, c.Rewrites(), r.Columns[i].Bytes}
		if first, ok := firstReading(r, i); ok && string(first) != string(before) {
			// The database converts to UTF-8 what the software reads in another charset.
			return fmt.Errorf("a value of %s.%s is of another charset than the dump, which a patch cannot write: write a dump instead (apply --write FILE)", row.table.Name, c.Column)
		}
		changes = append(changes, ch)
		p.d.count(row, c)
	}
	statement := func(forth bool) string {
		var sets, guards, keys []string
		for _, c := range changes {
			column := p.sql.quote(c.column)
			from, to, edits := c.before, c.after, c.edits
			if !forth {
				from, to, edits = c.after, c.before, rewrite.Invert(c.edits)
			}
			sets = append(sets, column+" = "+p.value(column, from, to, edits, c.bytes))
			guards = append(guards, p.sql.is(column, from, c.bytes))
		}
		for _, c := range t.Columns {
			if c.Stamp {
				sets = append(sets, p.sql.quote(c.Name)+" = "+p.sql.quote(c.Name))
			}
		}
		for _, name := range primary {
			i := indexOf(r.Columns, name)
			if i < 0 {
				continue
			}
			is := p.sql.quote(name) + " = "
			if v, ok := r.Bare(i); ok {
				is += string(v)
			} else {
				v, _ := r.Value(i)
				for _, c := range changes { // a key that changes is found by what it is now
					if c.column == name && !forth {
						v = c.after
					}
				}
				is += p.sql.literal(v, r.Columns[i].Bytes)
			}
			keys = append(keys, is)
		}
		name := p.sql.quote(t.Name)
		if t.Schema != "" && t.Others {
			name = p.sql.quote(t.Schema) + "." + name
		}
		update := "UPDATE " + name + " SET " + strings.Join(sets, ", ") + " WHERE " + strings.Join(append(keys, guards...), " AND ")
		if p.sql.dialect == dump.Postgres {
			return "WITH took AS (" + update + " RETURNING 1) INSERT INTO trimlantern_took SELECT count(*) FROM took;\n"
		}
		return update + ";\n" + p.sql.after
	}
	p.there[place], p.back[place] = statement(true), statement(false)
	return nil
}

// firstReading returns a value as UTF-8.
func firstReading(r *dump.Row, i int) ([]byte, bool) {
	r.First(i)
	return r.Value(i)
}

func indexOf(columns []dump.Column, name string) int {
	for i, c := range columns {
		if strings.EqualFold(c.Name, name) {
			return i
		}
	}
	return -1
}

// value returns what a column is set to: itself with the edits, or the whole value.
func (p *patching) value(column string, from, to []byte, edits []rewrite.Edit, bytes bool) string {
	if p.sql.splice == nil || len(edits) > maxSplices {
		return p.sql.literal(to, bytes)
	}
	expr := column
	for k := len(edits) - 1; k >= 0; k-- { // from the end, so that places stay
		e := edits[k]
		at, length := e.Offset, len(e.Removed)
		if !bytes {
			if !utf8.Valid(from[:at]) || !utf8.ValidString(e.Removed) {
				return p.sql.literal(to, bytes)
			}
			at, length = utf8.RuneCount(from[:at]), utf8.RuneCountInString(e.Removed)
		}
		expr = p.sql.splice(expr, at, length, p.sql.literal([]byte(e.Inserted), bytes))
	}
	if len(expr) > 2*len(to)+40 {
		return p.sql.literal(to, bytes)
	}
	return expr
}

// write writes the files of both patches.
func (p *patching) write() error {
	order := p.d.order()
	name := p.d.o.Patch
	end := filepath.Ext(name)
	base := strings.TrimSuffix(name, end)
	there, err := p.files(order, p.there, base, end, "changes the database to https")
	if err != nil {
		return err
	}
	for i, j := 0, len(order)-1; i < j; i, j = i+1, j-1 {
		order[i], order[j] = order[j], order[i]
	}
	back, err := p.files(order, p.back, base+".back", end, "takes back what "+filepath.Base(name)+" changed")
	p.d.out.Wrote, p.d.out.Back = there, back
	return err
}

// files writes statements into as many files as their length asks for.
func (p *patching) files(order []int64, statements map[int64]string, base, end, what string) (names []string, err error) {
	var parts [][]string
	size := int64(0)
	for _, place := range order {
		s, ok := statements[place]
		if !ok {
			continue
		}
		if len(parts) == 0 || size+int64(len(s)) > p.d.o.Largest-1024 {
			parts, size = append(parts, nil), 0
		}
		parts[len(parts)-1] = append(parts[len(parts)-1], s)
		size += int64(len(s))
	}
	for i, statements := range parts {
		name := base + end
		if len(parts) > 1 {
			name = fmt.Sprintf("%s.%0*d-of-%d%s", base, len(fmt.Sprint(len(parts))), i+1, len(parts), end)
		}
		f, err := disk.Create(name, 0o600)
		if err != nil {
			return names, world(err, "the patch cannot be written", "name a file in a folder that is writable")
		}
		defer f.Discard()
		text := fmt.Sprintf("-- Trim Lantern: %s. File %d of %d, %d rows.\n-- Rows that were edited since the export are left as they are; the last statement counts them.\n", what, i+1, len(parts), len(statements)) +
			p.sql.begin + strings.Join(statements, "") + fmt.Sprintf(p.sql.end, len(statements))
		if _, err = f.WriteString(text); err == nil {
			err = f.Commit()
		}
		if err != nil {
			return names, world(err, "the patch cannot be written", "make room on the disk")
		}
		names = append(names, name)
	}
	return names, nil
}
