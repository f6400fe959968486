// Package database reads and writes the tables of a site: MariaDB and MySQL,
// and SQLite. It knows SQL and nothing of references.
package database

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Config says where a database is and who asks.
type Config struct {
	Kind     string // "mysql" (MariaDB too) or "sqlite"
	File     string // SQLite: the file
	Host     string // MySQL: host name or address; empty with Socket
	Port     int    // 0: the usual one
	Socket   string // MySQL: path of the local socket
	User     string
	Password string // never printed
	Name     string // the database's name
	Charset  string // as the site's own software connects; empty: utf8mb4
	ReadOnly bool   // refuse to write
}

// Where names the database without secrets.
func (c Config) Where() string {
	if c.Kind == "sqlite" {
		return "SQLite file " + c.File
	}
	at := c.Host
	if c.Socket != "" {
		at = c.Socket
	} else if c.Port != 0 {
		at = fmt.Sprintf("%s:%d", c.Host, c.Port)
	}
	return fmt.Sprintf("database %s at %s", c.Name, at)
}

// The failures that a user can do something about.
var (
	ErrDenied = errors.New("the database refused the user name or password")
	ErrAbsent = errors.New("the database is not there")
	ErrLocked = errors.New("another run holds the lock on this database")
)

// Column is one column that can hold text.
type Column struct {
	Name     string
	MaxChars int64 // longest value in characters; 0: no such limit
	MaxBytes int64 // longest value in bytes; 0: no such limit
}

// Table is one table: what of it can hold text, and how its rows are found.
type Table struct {
	Name    string
	Key     []string // empty: rows cannot be told apart
	Columns []Column
	Stamps  []string // columns that stamp themselves on update
}

// Value is the value of one cell.
type Value struct {
	Bytes []byte
	Null  bool
	Blob  bool // SQLite: stored as BLOB, and to be written as one
}

// Row is one row that may hold references.
type Row struct {
	Key    [][]byte
	Values []Value // in the order of the table's columns
}

// Pick is what a reading looks for: the first, coarse selection.
type Pick uint8

// What can be looked for.
const (
	References Pick = iota // insecure references, in whatever envelope
	Serialized             // values that begin like serialized ones
)

// Database is what the jobs need of a database.
type Database interface {
	// Identity names server and database, without secrets; sheets carry it.
	Identity() string
	// Tables lists the tables whose names begin with prefix, in order of name.
	Tables(ctx context.Context, prefix string) ([]Table, error)
	// Count returns the number of rows of a table.
	Count(ctx context.Context, t Table) (int64, error)
	// Candidates calls visit for each row in which a column may hold what is looked
	// for, in the order of the key.
	Candidates(ctx context.Context, t Table, pick Pick, visit func(Row) error) error
	// Lookup returns the value of column in the first row where whereColumn equals
	// where, and the row's key; found is false where there is none.
	Lookup(ctx context.Context, t Table, column, whereColumn, where string) (v Value, key [][]byte, found bool, err error)
	// Begin starts a transaction for writing.
	Begin(ctx context.Context) (Batch, error)
	// Lock takes the advisory lock of this tool, or returns ErrLocked.
	Lock(ctx context.Context) (release func(), err error)
	Close() error
}

// Batch is one transaction.
type Batch interface {
	// Read returns values of one row and holds the row until the end of the batch.
	Read(ctx context.Context, t Table, key [][]byte, columns []string) (values []Value, found bool, err error)
	// Write sets values of one row; nothing else of the row changes.
	Write(ctx context.Context, t Table, key [][]byte, columns []string, values []Value) error
	Commit() error
	Rollback() error
}

// Open connects, and fails with one of the errors above where it can be told.
func Open(ctx context.Context, c Config) (Database, error) {
	switch c.Kind {
	case "sqlite":
		return openSQLite(ctx, c)
	case "mysql":
		return openMySQL(ctx, c)
	}
	return nil, fmt.Errorf("unknown kind of database %q; known are mysql and sqlite", c.Kind)
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

// keyAfter returns the condition for rows behind a key in key order, with how
// many times each key value is a parameter, in order.
func keyAfter(key []string, quote func(string) string) (cond string, params []int) {
	var ors []string
	for i := range key {
		var ands []string
		for j := range i {
			ands = append(ands, quote(key[j])+" = ?")
			params = append(params, j)
		}
		ands = append(ands, quote(key[i])+" > ?")
		params = append(params, i)
		ors = append(ors, "("+strings.Join(ands, " AND ")+")")
	}
	return "(" + strings.Join(ors, " OR ") + ")", params
}
