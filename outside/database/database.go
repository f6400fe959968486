// Package database reads and writes the tables of a site: MariaDB and MySQL,
// PostgreSQL, and SQLite. It knows SQL and nothing of what a reference is but the
// first look of core/rewrite.
package database

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"trimlantern/outside/disk"
	"trimlantern/outside/verbose"
)

// Config says where a database is and who asks.
type Config struct {
	Kind     string // one of Kinds
	File     string // SQLite: the file
	Host     string // host name or address; empty with Socket
	Port     int    // 0: the usual one
	Socket   string // the local socket (PostgreSQL: its folder)
	User     string
	Password string      // never printed
	Name     string      // the database's name
	Schema   string      // PostgreSQL: the schema of the tables; empty: the first of the search path
	Charset  string      // MySQL: as the site's own software connects; empty: utf8mb4
	TLS      string      // one of TLSModes
	Owner    *disk.Owner // who wrote these settings, if not the caller: the server and its programs see that user; nil: the caller
	CA       string      // PEM file of the authority that TLS "verify" trusts; empty: the system's
	ReadOnly bool        // refuse to write
	Effects  bool        // change rows also where triggers write more with it than undo can revert
	Identity string      // which database it is, by the user's word; empty: told from the server
}

// Kinds are the kinds of databases: MariaDB is "mysql".
var Kinds = []string{"mysql", "postgres", "sqlite"}

// TLSModes are the ways to protect the connection: empty takes TLS where the
// server has it; "encrypt" insists on it but not on a certificate that can be
// checked; "verify" checks it.
var TLSModes = []string{"", "off", "encrypt", "verify"}

// Where names the database without secrets.
func (c Config) Where() string {
	switch c.Kind {
	case "sqlite":
		return "SQLite file " + c.File
	case NoneKind:
		return "no database: files in " + c.File
	case "dump":
		return "dump " + c.File
	}
	at := c.Host
	if c.Socket != "" {
		at = c.Socket
	} else if c.Port != 0 {
		at = net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
	}
	return fmt.Sprintf("database %s at %s", c.Name, at)
}

// The failures that a user can do something about.
var (
	ErrDenied  = errors.New("the database refused the user name or password")
	ErrAbsent  = errors.New("the database is not there")
	ErrBeside  = errors.New("what SQLite would write beside the file is no regular file")
	ErrLocked  = errors.New("another run holds the lock on this database")
	ErrRefused = errors.New("the database refused the value") // a rule of the table: uniqueness, a check, a trigger; whatever it says no to
	ErrWhole   = errors.New("the database took the batch back because of one of its rows")
	ErrChanged = errors.New("somebody changed the row in between")
	ErrRights  = errors.New("the database user may not do that")
	ErrClear   = errors.New("the connection is not known to be safe for the password")
	ErrAgain   = errors.New("others write to the same rows") // the transaction was taken back, and may be tried again
	ErrFrozen  = errors.New("the server takes no changes: it is read-only")
	ErrTLS     = errors.New("the database offers no TLS that can be trusted")
	ErrName    = errors.New("this cannot be used")

	errNoSteps     = errors.New("the table's engine takes back no part of a transaction")
	errNoCatalogue = errors.New("the server has no such part of the catalogue")
	errUnprepared  = errors.New("the database does not keep the statement")
)

// Kind is how the values of a column are read and written.
type Kind uint8

// The kinds of columns.
const (
	Other   Kind = iota // neither holds text nor bytes: numbers, dates
	Integer             // whole numbers
	Text                // characters
	Binary              // bytes
	Form                // text that the database keeps in a form of its own, as binary JSON
	List                // arrays, enumerations and the like: looked at, never written
)

// Column is one column.
type Column struct {
	Name     string
	Kind     Kind
	Type     string // PostgreSQL: the type's full name
	MaxChars int64  // longest value in characters; 0: no such limit
	MaxBytes int64  // longest value in bytes; 0: no such limit

	odd      bool   // SQLite: of a type for numbers, and all the same it may hold text
	unsigned bool   // MariaDB: never negative
	charset  string // MariaDB: of its text, lower case; "": it has none
}

// Index is one unique index over whole columns.
type Index struct {
	Name    string
	Columns []string
}

// Table is one table: what of it can hold text, and how its rows are found.
type Table struct {
	Name     string
	Key      []Column // empty: rows cannot be distinguished
	Columns  []Column // those that can hold text or bytes
	All      []Column // all that can be written, in order
	Stamps   []string // columns that stamp themselves on update
	Unique   []Index  // unique indexes with a column of Columns in them
	Triggers []string // triggers that run when a row is updated
	Emptied  []Follow // what the database would empty if a column changed
	Hidden   bool     // the database may keep rows from this user: row-level security

	primary  bool  // MariaDB: Key is the primary key
	loose    bool  // its engine knows no transactions: nobody holds a row that was read
	about    int64 // estimated number of rows; negative if unknown
	children bool  // PostgreSQL: read what inherits from it too, as partitions do
	upkeep   bool  // its triggers write to nothing but full-text indexes
}

// Follow is a column that rows of another table refer to, and that those would lose if it changed: ON UPDATE SET NULL or
// SET DEFAULT.
type Follow struct{ Column, Table, By string }

// Loose reports whether the table's engine knows no transactions: nobody holds a row that was read.
func (t Table) Loose() bool { return t.loose }

// Column returns the column of that name among those that can hold text.
func (t Table) Column(name string) (Column, bool) {
	for _, c := range t.Columns {
		if c.Name == name {
			return c, true
		}
	}
	return Column{}, false
}

// InKey reports whether a column is part of the table's key.
func (t Table) InKey(column string) bool {
	for _, k := range t.Key {
		if k.Name == column {
			return true
		}
	}
	return false
}

// Value is the value of one cell.
type Value struct {
	Bytes []byte
	Null  bool
	// Lossy: the connection's charset cannot represent the column's bytes, so writing the value
	// back would change them. Such a cell must not be written.
	Lossy bool
	As    byte // SQLite, which types values and not columns: 't' (or 0) text, 'b' blob, 'i' integer, 'r' real
}

// Row is one row that may hold references.
type Row struct {
	Key    [][]byte
	Values []Value // in the order of the table's columns
	May    []bool  // which of them may hold one; nil: nobody has looked yet
}

// Pick is what a reading looks for: the first, coarse selection.
type Pick uint8

// What can be looked for.
const (
	References Pick = iota // insecure references, in whatever envelope
	Serialized             // values that may be, or hold, serialized ones
	Everything             // all rows
)

// Database is what the jobs need of a database.
type Database interface {
	// Identity names server and database, without secrets; sheets carry it.
	Identity() string
	// Tables lists the tables whose names begin with prefix, in order of name.
	Tables(ctx context.Context, prefix string) ([]Table, error)
	// Count returns how many rows a table has: about, where Candidates comes past every
	// row, and exactly elsewhere.
	Count(ctx context.Context, t Table) (rows int64, exact bool, err error)
	// CountRows counts the rows of a table one by one.
	CountRows(ctx context.Context, t Table) (int64, error)
	// Candidates calls visit for each row in which a column may hold what is looked
	// for, in the order of the key, and read with how many rows it has come past.
	Candidates(ctx context.Context, t Table, pick Pick, visit func(Row) error, read func(rows int64)) error
	// Rows returns some columns of all rows of a small table, limit at the most.
	Rows(ctx context.Context, t Table, columns []string, limit int) ([][]Value, error)
	// Lookup returns the value of column in the first row where whereColumn equals
	// where, and the row's key; found is false where there is none.
	Lookup(ctx context.Context, t Table, column, whereColumn, where string) (v Value, key [][]byte, found bool, err error)
	// Taken reports whether a row other than that of key has the value in column, and
	// in the other columns of the unique index the same as the row of key.
	Taken(ctx context.Context, t Table, index Index, key [][]byte, column string, v Value) (bool, error)
	// Objects lists what the catalogue has beside the rows of tables.
	Objects(ctx context.Context) ([]Object, error)
	// Refresh brings in line what the database derives from tables and does not keep up by itself: full-text indexes,
	// which are checked by their own module then. Others have nothing of that kind.
	Refresh(ctx context.Context, tables []string) error
	// Begin starts a transaction for writing.
	Begin(ctx context.Context) (Batch, error)
	// Lock takes the advisory lock of this tool, or returns ErrLocked.
	Lock(ctx context.Context) (release func(), err error)
	// OneNode reports whether the lock that is held holds on one node of a cluster alone, since the user may not
	// make the table that carries it to the others.
	OneNode() bool
	// Concurrent reports whether two transactions can write at the same time.
	Concurrent() bool
	// Script returns what writes changes as SQL for this system's own client.
	Script() Script
	Close() error
}

// Update is one row to be changed.
type Update struct {
	Key     [][]byte
	Columns []string
	Values  []Value
	Was     []Value // of a table that is Loose: what was read, which is compared once more
}

// Batch is one transaction.
type Batch interface {
	// Read returns values of rows and holds the rows until the end of the batch. The
	// result has a value list for each key, nil where there is no such row.
	Read(ctx context.Context, t Table, keys [][][]byte, columns []string) ([][]Value, error)
	// Write sets values of rows; nothing else of a row changes. The result has for
	// each update nil, or why it was not made (ErrRefused, ErrChanged); such a row stays. ErrWhole: one row is why
	// the batch is lost, and it is uncertain which.
	Write(ctx context.Context, t Table, updates []Update) (refused []error, err error)
	// Digests returns what the database itself says of columns of rows; see Digest. The result has a
	// list for each key, nil where there is no such row.
	Digests(ctx context.Context, t Table, keys [][][]byte, columns []string) ([][]Digest, error)
	// Converts reports whether the connection reads a column in another charset than it has, so that
	// its own bytes are others.
	Converts(c Column) bool
	// Normal returns a value as a column of kind Form will give it back.
	Normal(ctx context.Context, c Column, v Value) (Value, error)
	// Image returns a whole row, in the order of t.All, or nil where it is gone.
	Image(ctx context.Context, t Table, key [][]byte) ([]Value, error)
	// Delete removes a row; Insert puts one back from its image.
	Delete(ctx context.Context, t Table, key [][]byte) error
	Insert(ctx context.Context, t Table, columns []string, image []Value) error
	Commit() error
	Rollback() error
}

// local reports whether the database is on this machine, so that no network is in between.
func local(c Config) bool {
	if c.Socket != "" || c.Host == "localhost" {
		return true
	}
	ip := net.ParseIP(c.Host)
	return ip != nil && ip.IsLoopback()
}

// guarded returns the settings with which a server is asked: to another machine a password goes only after TLS whose
// certificate was verified, unless the user says otherwise with TLS. Whoever is in between could strip TLS off, or show a
// certificate of their own, and ask for the password.
func guarded(c Config) (_ Config, unsaid bool) {
	if unsaid = c.TLS == "" && !local(c) && (c.Kind == "mysql" || c.Kind == "postgres"); unsaid {
		c.TLS = "verify"
	}
	return c, unsaid
}

// checkNames refuses names that a program would take for options, like a database called -A. They may come from the settings
// of another user.
func checkNames(c Config) error {
	for _, n := range [][2]string{{"database", c.Name}, {"user", c.User}, {"host", c.Host}, {"socket", c.Socket}} {
		if strings.HasPrefix(n[1], "-") || strings.ContainsAny(n[1], "\x00\n\r") {
			return fmt.Errorf("%w: %q as the name of the %s", ErrName, n[1], n[0])
		}
	}
	return nil
}

// Open connects, and fails with one of the errors above where it can be told.
func Open(ctx context.Context, c Config) (db Database, err error) {
	verbose.Secret(c.Password)
	began := time.Now()
	defer func() { verbose.Took(ctx, began, "database opened", err, "kind", c.Kind, "at", c.Where()) }()
	if err := checkNames(c); err != nil {
		return nil, err
	}
	c, unsaid := guarded(c)
	defer func() {
		if unsaid && errors.Is(err, ErrTLS) {
			err = fmt.Errorf("%w: %w", ErrClear, err)
		}
	}()
	defer func() {
		if s, ok := db.(*sqlDatabase); ok && err == nil {
			s.effects, s.wrote, s.times = c.Effects, map[string]error{}, map[string]int{}
		}
	}()
	switch c.Kind {
	case "sqlite":
		return openSQLite(ctx, c)
	case "mysql":
		return openMySQL(ctx, c)
	case "postgres":
		return openPostgres(ctx, c)
	case NoneKind:
		return none{"files:" + c.File}, nil
	}
	return nil, fmt.Errorf("unknown kind of database %q; known are mysql, postgres and sqlite", c.Kind)
}

// Find returns the table of that name.
func Find(tables []Table, name string) (Table, bool) {
	for _, t := range tables {
		if t.Name == name {
			return t, true
		}
	}
	return Table{}, false
}
