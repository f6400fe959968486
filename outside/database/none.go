package database

import (
	"context"
	"errors"
)

// NoneKind is the kind of a site without a database: its content is files.
const NoneKind = "none"

// none is the database of a site that has none: it has no tables.
type none struct{ identity string }

// errNone says that there is nothing to be written to.
var errNone = errors.New("the site has no database")

func (n none) Identity() string                                { return n.identity }
func (none) Tables(context.Context, string) ([]Table, error)   { return nil, nil }
func (none) Count(context.Context, Table) (int64, bool, error) { return 0, true, nil }
func (none) Objects(context.Context) ([]Object, error)         { return nil, nil }
func (none) Refresh(context.Context, []string) error           { return nil }
func (none) OneNode() bool                                     { return false }
func (none) CountRows(context.Context, Table) (int64, error)   { return 0, nil }
func (none) Begin(context.Context) (Batch, error)              { return nil, errNone }
func (none) Lock(context.Context) (func(), error)              { return func() {}, nil }
func (none) Concurrent() bool                                  { return false }
func (none) Script() Script                                    { return sqliteScript() }
func (none) Close() error                                      { return nil }
func (none) Candidates(context.Context, Table, Pick, func(Row) error, func(int64)) error {
	return nil
}
func (none) Rows(context.Context, Table, []string, int) ([][]Value, error) { return nil, nil }
func (none) Lookup(context.Context, Table, string, string, string) (Value, [][]byte, bool, error) {
	return Value{}, nil, false, nil
}
func (none) Taken(context.Context, Table, Index, [][]byte, string, Value) (bool, error) {
	return false, nil
}
