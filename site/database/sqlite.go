package database

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"modernc.org/sqlite" // the driver, in Go alone

	"trimlantern/core/rewrite"
)

// holdsFunction is the coarse selection, as a function inside SQLite: values need
// not be copied out to be looked at.
const holdsFunction = "trimlantern_may_hold"

func init() {
	sqlite.MustRegisterDeterministicScalarFunction(holdsFunction, 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		b, ok := args[0].([]byte)
		return ok && rewrite.MayHold(b), nil
	})
}

func openSQLite(ctx context.Context, c Config) (Database, error) {
	path, err := filepath.Abs(c.File)
	if err != nil {
		return nil, err
	}
	if err := looksSQLite(path); err != nil {
		return nil, err
	}
	mode := "rw"
	if c.ReadOnly {
		mode = "ro"
	}
	q := url.Values{"mode": {mode}, "_pragma": {"busy_timeout(10000)", "synchronous(FULL)"}, "_txlock": {"immediate"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: path, RawQuery: q.Encode()}).String())
	if err != nil {
		return nil, err
	}
	s := &sqlDatabase{db: db, identity: "sqlite:" + path, failure: func(err error) error { return err }}
	s.d = dialect{
		quote: quoteSQLite,
		// As BLOB, since a text is handed over only up to its first NUL byte.
		coarse: func(column string, pick Pick) string {
			if pick == Serialized {
				return column + " GLOB '[sSaOCE]:[0-9]*'"
			}
			return holdsFunction + "(CAST(" + column + " AS BLOB))"
		},
		key: func(raw []byte) any {
			if n, err := strconv.ParseInt(string(raw), 10, 64); err == nil && strconv.FormatInt(n, 10) == string(raw) {
				return n // a rowid compares as a number; a text column turns it back
			}
			return string(raw)
		},
		value: func(v Value) any {
			switch {
			case v.Null:
				return nil
			case v.Blob:
				return v.Bytes
			}
			return string(v.Bytes)
		},
		scanned: func(raw any) (Value, error) {
			switch v := raw.(type) {
			case nil:
				return Value{Null: true}, nil
			case []byte:
				return Value{Bytes: slices.Clone(v), Blob: true}, nil
			case string:
				return Value{Bytes: []byte(v)}, nil
			}
			return Value{Bytes: fmt.Append(nil, raw)}, nil // a number in a text column holds no reference
		},
		tables: sqliteTables,
	}
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// looksSQLite looks at the file before the driver does, for clearer words.
func looksSQLite(path string) error {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: no file %s", ErrAbsent, path)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 16)
	if _, err := io.ReadFull(f, head); err != nil || string(head) != "SQLite format 3\x00" {
		return fmt.Errorf("%w: %s is not an SQLite file", ErrAbsent, path)
	}
	return nil
}

// IsSQLite reports whether a file is an SQLite database.
func IsSQLite(path string) bool { return looksSQLite(path) == nil }

func quoteSQLite(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` }

func sqliteTables(ctx context.Context, db *sql.DB, prefix string) ([]Table, error) {
	rows, err := db.QueryContext(ctx, `SELECT m.name, c.name, upper(c.type), c.pk, c.hidden, m.sql LIKE '%WITHOUT ROWID%'
		FROM sqlite_schema m JOIN pragma_table_xinfo(m.name) c
		WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite\_%' ESCAPE '\' AND m.sql NOT LIKE 'CREATE VIRTUAL%'
		AND substr(m.name, 1, length(?1)) = ?1
		ORDER BY m.name, c.cid`, prefix)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	type keyed struct {
		Table
		pk        map[int]string
		withoutID bool
	}
	var all []*keyed
	for rows.Next() {
		var table, column, typ string
		var pk, hidden int
		var withoutID bool
		if err := rows.Scan(&table, &column, &typ, &pk, &hidden, &withoutID); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].Name != table {
			all = append(all, &keyed{Table: Table{Name: table}, pk: map[int]string{}, withoutID: withoutID})
		}
		t := all[len(all)-1]
		if pk > 0 {
			t.pk[pk] = column
		}
		if hidden == 0 && holdsText(typ) {
			t.Columns = append(t.Columns, Column{Name: column})
		}
	}
	tables := make([]Table, 0, len(all))
	for _, t := range all {
		for i := 1; t.pk[i] != ""; i++ {
			t.Key = append(t.Key, t.pk[i])
		}
		if len(t.Key) == 0 && !t.withoutID {
			t.Key = []string{"rowid"}
		}
		tables = append(tables, t.Table)
	}
	return tables, rows.Err()
}

// holdsText reports whether a column of that declared type is looked at. SQLite
// keeps text in any column; numbers and dates are left out.
func holdsText(typ string) bool {
	for _, no := range []string{"INT", "REAL", "FLOA", "DOUB", "DATE", "TIME", "BOOL", "NUM", "DEC"} {
		if strings.Contains(typ, no) {
			return false
		}
	}
	return true
}
