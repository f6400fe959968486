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
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/gofrs/flock"
	"modernc.org/sqlite" // the driver, in Go alone

	"trimlantern/core/rewrite"
	"trimlantern/outside/disk"
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
	if err := besideSQLite(path); err != nil {
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
	s := &sqlDatabase{db: db, stated: c.Identity, identity: "sqlite:" + path, failure: sqliteFailure}
	s.d = dialect{
		quote: quoteSQL,
		place: func(int, Column) string { return "?" },
		// As an expression a column has no declared type, by which the driver would
		// make a date of a text.
		read: func(c Column) string { return "+" + quoteSQL(c.Name) },
		param: func(c Column, v Value) any {
			switch {
			case v.Null:
				return nil
			case v.As == 'b' || c.Kind == Binary && v.As == 0 && c.Type == "key":
				return v.Bytes
			case v.As == 'r':
				if f, err := strconv.ParseFloat(string(v.Bytes), 64); err == nil {
					return f
				}
			case v.As == 'i' || c.Type == "key":
				// A rowid compares as a number; a text column turns it back.
				if n, err := strconv.ParseInt(string(v.Bytes), 10, 64); err == nil && strconv.FormatInt(n, 10) == string(v.Bytes) {
					return n
				}
			}
			return string(v.Bytes)
		},
		// Inside SQLite, so that values need not be copied out to be looked at; as BLOB,
		// since a text is handed over only up to its first NUL byte.
		coarse: func(column string, pick Pick) string {
			switch pick {
			case Everything:
				return "1"
			case Serialized:
				return "(" + column + " GLOB '*:[0-9]*:*' OR " + column + " GLOB '*%3[Aa][0-9]*')"
			}
			return holdsFunction + "(CAST(" + column + " AS BLOB))"
		},
		typed:  true,
		writes: "SELECT total_changes()",
		tables: sqliteTables, objects: sqliteObjects,
		script: sqliteScript(),
	}
	s.lock = func(context.Context, *sql.DB) (held, error) {
		lock := flock.New(path) // beside SQLite's own locks, which it does not touch
		if ok, err := lock.TryLock(); err != nil || !ok {
			return held{}, errors.Join(ErrLocked, err)
		}
		return held{release: func() { _ = lock.Unlock() }}, nil // the process's end unlocks too
	}
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// looksSQLite looks at the file before the driver does, for clearer words.
func looksSQLite(path string) error {
	f, err := disk.Open(path)
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

// besideSQLite looks at the files that SQLite writes beside a database. It refuses by itself to follow a link that somebody
// laid there; this says so in clearer words.
func besideSQLite(path string) error {
	for _, end := range []string{"-journal", "-wal", "-shm"} {
		info, err := os.Lstat(path + end)
		if err == nil && !info.Mode().IsRegular() {
			return fmt.Errorf("%w: %s", ErrBeside, path+end)
		}
	}
	return nil
}

// IsSQLite reports whether a file is an SQLite database.
func IsSQLite(path string) bool { return looksSQLite(path) == nil }

// quoteSQL quotes a name as the standard has it.
func quoteSQL(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` }

func sqliteTables(ctx context.Context, db *sql.DB, prefix string) ([]Table, error) {
	rows, err := db.QueryContext(ctx, `WITH m AS MATERIALIZED (SELECT m.name, m.sql, l.type = 'virtual' AS virtual FROM sqlite_schema m JOIN pragma_table_list l ON l.schema = 'main' AND l.name = m.name
			WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite\_%' ESCAPE '\' AND (l.type = 'table' OR l.type = 'virtual' AND `+sqliteOwnText+`) AND NOT (`+sqliteShadow+`))
		SELECT m.name, c.name, upper(c.type), c.pk, c.hidden, m.sql LIKE '%WITHOUT ROWID%', m.virtual
		FROM m JOIN pragma_table_xinfo(m.name) c WHERE substr(m.name, 1, length(?1)) = ?1
		ORDER BY m.name, c.cid`, prefix)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	type keyed struct {
		Table
		pk        map[int]Column
		withoutID bool
	}
	var all []*keyed
	for rows.Next() {
		var table, column, typ string
		var pk, hidden int
		var withoutID, virtual bool
		if err := rows.Scan(&table, &column, &typ, &pk, &hidden, &withoutID, &virtual); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].Name != table {
			all = append(all, &keyed{Table: Table{Name: table}, pk: map[int]Column{}, withoutID: withoutID})
		}
		t := all[len(all)-1]
		c := Column{Name: column, Kind: sqliteKind(typ)}
		if virtual && typ != "" { // of FTS4, which keeps what is written as the type of a column
			c.Kind = Text
		}
		if pk > 0 {
			t.pk[pk] = Column{Name: column, Kind: c.Kind, Type: "key"}
		}
		if hidden != 0 {
			continue
		}
		if c.Kind < Text && !(pk > 0 && typ == "INTEGER") { // any column may hold text; only a row's number cannot
			c.Kind, c.odd = Text, true
		}
		t.All = append(t.All, c)
		if c.Kind >= Text {
			t.Columns = append(t.Columns, c)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	tables := make([]Table, 0, len(all))
	for _, t := range all {
		for i := 1; t.pk[i].Name != ""; i++ {
			t.Key = append(t.Key, t.pk[i])
		}
		if len(t.Key) == 0 && !t.withoutID {
			t.Key = []Column{{Name: "rowid", Kind: Integer, Type: "key"}}
			if !slices.ContainsFunc(t.All, func(c Column) bool { return strings.EqualFold(c.Name, "rowid") }) {
				t.All = slices.Insert(t.All, 0, t.Key[0]) // so that a row comes back under its number
			}
		}
		tables = append(tables, t.Table)
	}
	return tables, sqliteRules(ctx, db, tables)
}

// sqliteRules adds unique indexes and triggers.
func sqliteRules(ctx context.Context, db *sql.DB, tables []Table) error {
	rows, err := db.QueryContext(ctx, `SELECT m.name, i.name, c.name, i.partial OR c.cid < 0, 1 FROM sqlite_schema m
		JOIN pragma_index_list(m.name) i JOIN pragma_index_info(i.name) c
		WHERE m.type = 'table' AND i."unique" ORDER BY m.name, i.seq, c.seqno`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var table, name string
		var column sql.NullString
		var part, null bool
		if err := rows.Scan(&table, &name, &column, &part, &null); err != nil {
			return err
		}
		i := slices.IndexFunc(tables, func(t Table) bool { return t.Name == table })
		if i < 0 || part || !column.Valid {
			continue
		}
		t := &tables[i]
		if n := len(t.Unique); n == 0 || t.Unique[n-1].Name != name {
			t.Unique = append(t.Unique, Index{Name: name})
		}
		ix := &t.Unique[len(t.Unique)-1]
		ix.Columns = append(ix.Columns, column.String)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	triggers, err := db.QueryContext(ctx, `SELECT tbl_name, name FROM sqlite_schema WHERE type = 'trigger' AND sql LIKE '%UPDATE%' ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	if err := addTriggers(triggers, tables); err != nil {
		return err
	}
	return sqliteUpkeep(ctx, db, tables)
}

// writesTo finds the tables that a trigger's statements write to.
var writesTo = regexp.MustCompile("(?i)\\b(?:into|update(?:\\s+or\\s+\\w+)?|delete\\s+from)\\s+[\"`\\[]?(\\w+)")

// sqliteUpkeep marks the tables whose triggers write to nothing but full-text indexes, which follow the rows in both
// directions.
func sqliteUpkeep(ctx context.Context, db *sql.DB, tables []Table) error {
	rows, err := db.QueryContext(ctx, `SELECT m.tbl_name, m.sql, (SELECT group_concat(name, ' ') FROM pragma_table_list WHERE type = 'virtual')
		FROM sqlite_schema m WHERE m.type = 'trigger' AND m.sql LIKE '%UPDATE%'`)
	if err != nil {
		return err
	}
	defer rows.Close()
	only := map[string]bool{}
	for rows.Next() {
		var table, text string
		var virtual sql.NullString
		if err := rows.Scan(&table, &text, &virtual); err != nil {
			return err
		}
		body := text[max(0, strings.Index(strings.ToUpper(text), "BEGIN")):]
		upkeep := true
		for _, to := range writesTo.FindAllStringSubmatch(body, -1) {
			upkeep = upkeep && slices.ContainsFunc(strings.Fields(virtual.String), func(v string) bool { return strings.EqualFold(v, to[1]) })
		}
		if was, seen := only[table]; seen {
			upkeep = upkeep && was
		}
		only[table] = upkeep
	}
	for i := range tables {
		tables[i].upkeep = only[tables[i].Name]
	}
	return rows.Err()
}

// sqliteKind tells from a declared type what a column is taken for. SQLite keeps
// text in any column; numbers and dates are left out.
func sqliteKind(typ string) Kind {
	switch {
	case strings.Contains(typ, "INT"):
		return Integer
	case strings.Contains(typ, "BLOB"):
		return Binary
	}
	for _, no := range []string{"REAL", "FLOA", "DOUB", "DATE", "TIME", "BOOL", "NUM", "DEC"} {
		if strings.Contains(typ, no) {
			return Other
		}
	}
	return Text
}

// sqliteFailure names what a rule of a table refuses.
func sqliteFailure(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case 5, 6: // SQLITE_BUSY, SQLITE_LOCKED
		return fmt.Errorf("%w: %s", ErrAgain, e.Error())
	case 8: // SQLITE_READONLY
		return fmt.Errorf("%w: %s", ErrFrozen, e.Error())
	case 3, 7, 9, 10, 13, 14, 15, 23, 26: // no rights, memory, disk or file; interrupted: it is about SQLite itself
		return err
	}
	return fmt.Errorf("%w: %s", ErrRefused, e.Error())
}
