package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
)

// dialect is what differs between the systems.
type dialect struct {
	quote     func(name string) string
	coarse    func(column string, pick Pick) string // condition: may hold it
	key       func(raw []byte) any                  // a key value as a parameter
	value     func(v Value) any                     // a cell value as a parameter
	scanned   func(raw any) (Value, error)          // a cell as the driver gives it
	forUpdate string                                // what locks a row that is read
	tables    func(ctx context.Context, db *sql.DB, prefix string) ([]Table, error)
}

// sqlDatabase is a Database over database/sql.
type sqlDatabase struct {
	db       *sql.DB
	d        dialect
	identity string
	lock     func(ctx context.Context, db *sql.DB) (func(), error)
	failure  func(error) error // gives driver errors their names
}

func (s *sqlDatabase) Identity() string { return s.identity }
func (s *sqlDatabase) Close() error     { return s.db.Close() }

func (s *sqlDatabase) Tables(ctx context.Context, prefix string) ([]Table, error) {
	t, err := s.d.tables(ctx, s.db, prefix)
	return t, s.failure(err)
}

func (s *sqlDatabase) Count(ctx context.Context, t Table) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+s.d.quote(t.Name)).Scan(&n)
	return n, s.failure(err)
}

// pageRows is how many rows one query of Candidates returns: few enough that no
// query stays open for long, many enough that the round trip does not matter.
const pageRows = 500

func (s *sqlDatabase) Candidates(ctx context.Context, t Table, pick Pick, visit func(Row) error) error {
	if len(t.Columns) == 0 {
		return nil
	}
	var list, coarse []string
	for _, k := range t.Key {
		list = append(list, s.d.quote(k))
	}
	for _, c := range t.Columns {
		list = append(list, s.d.quote(c.Name))
		coarse = append(coarse, s.d.coarse(s.d.quote(c.Name), pick))
	}
	head := "SELECT " + strings.Join(list, ", ") + " FROM " + s.d.quote(t.Name) + " WHERE (" + strings.Join(coarse, " OR ") + ")"
	if len(t.Key) == 0 {
		_, _, err := s.page(ctx, t, head, nil, visit)
		return err
	}
	tail := fmt.Sprintf(" ORDER BY %s LIMIT %d", strings.Join(list[:len(t.Key)], ", "), pageRows)
	after, at := keyAfter(t.Key, s.d.quote)
	var last [][]byte
	for {
		query, args := head+tail, []any(nil)
		if last != nil {
			query = head + " AND " + after + tail
			for _, i := range at {
				args = append(args, s.d.key(last[i]))
			}
		}
		n, key, err := s.page(ctx, t, query, args, visit)
		if err != nil || n < pageRows {
			return err
		}
		last = key
	}
}

// page runs one query and visits its rows; it returns how many and the last key.
func (s *sqlDatabase) page(ctx context.Context, t Table, query string, args []any, visit func(Row) error) (n int, last [][]byte, err error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return 0, nil, s.failure(err)
	}
	defer rows.Close()
	for rows.Next() {
		row, err := s.scan(rows.Scan, len(t.Key), len(t.Columns))
		if err != nil {
			return n, nil, s.failure(err)
		}
		n, last = n+1, row.Key
		if err := visit(row); err != nil {
			return n, last, err
		}
	}
	return n, last, s.failure(rows.Err())
}

func (s *sqlDatabase) scan(scan func(...any) error, keys, columns int) (Row, error) {
	row := Row{Key: make([][]byte, keys), Values: make([]Value, columns)}
	raw := make([]any, columns)
	dest := make([]any, 0, keys+columns)
	for i := range row.Key {
		dest = append(dest, &row.Key[i])
	}
	for i := range raw {
		dest = append(dest, &raw[i])
	}
	if err := scan(dest...); err != nil {
		return row, err
	}
	for i, v := range raw {
		var err error
		if row.Values[i], err = s.d.scanned(v); err != nil {
			return row, err
		}
	}
	return row, nil
}

func (s *sqlDatabase) Lookup(ctx context.Context, t Table, column, whereColumn, where string) (Value, [][]byte, bool, error) {
	var list []string
	for _, k := range t.Key {
		list = append(list, s.d.quote(k))
	}
	list = append(list, s.d.quote(column))
	query := "SELECT " + strings.Join(list, ", ") + " FROM " + s.d.quote(t.Name) + " WHERE " + s.d.quote(whereColumn) + " = ?"
	row, err := s.scan(s.db.QueryRowContext(ctx, query, where).Scan, len(t.Key), 1)
	if errors.Is(err, sql.ErrNoRows) {
		return Value{}, nil, false, nil
	}
	return row.Values[0], row.Key, err == nil, s.failure(err)
}

func (s *sqlDatabase) Lock(ctx context.Context) (func(), error) {
	if s.lock == nil {
		return func() {}, nil
	}
	release, err := s.lock(ctx, s.db)
	return release, s.failure(err)
}

func (s *sqlDatabase) Begin(ctx context.Context) (Batch, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, s.failure(err)
	}
	return &sqlBatch{s: s, tx: tx}, nil
}

type sqlBatch struct {
	s  *sqlDatabase
	tx *sql.Tx
}

func (b *sqlBatch) where(t Table, key [][]byte) (string, []any, error) {
	if len(t.Key) == 0 || len(key) != len(t.Key) {
		return "", nil, fmt.Errorf("table %s: the key has %d columns, not %d", t.Name, len(t.Key), len(key))
	}
	var ands []string
	var args []any
	for i, k := range t.Key {
		ands = append(ands, b.s.d.quote(k)+" = ?")
		args = append(args, b.s.d.key(key[i]))
	}
	return " WHERE " + strings.Join(ands, " AND "), args, nil
}

func (b *sqlBatch) Read(ctx context.Context, t Table, key [][]byte, columns []string) ([]Value, bool, error) {
	where, args, err := b.where(t, key)
	if err != nil {
		return nil, false, err
	}
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = b.s.d.quote(c)
	}
	query := "SELECT " + strings.Join(list, ", ") + " FROM " + b.s.d.quote(t.Name) + where + b.s.d.forUpdate
	row, err := b.s.scan(b.tx.QueryRowContext(ctx, query, args...).Scan, 0, len(columns))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, false, nil
	}
	return row.Values, err == nil, b.s.failure(err)
}

func (b *sqlBatch) Write(ctx context.Context, t Table, key [][]byte, columns []string, values []Value) error {
	where, keyArgs, err := b.where(t, key)
	if err != nil {
		return err
	}
	var sets []string
	var args []any
	for i, c := range columns {
		sets = append(sets, b.s.d.quote(c)+" = ?")
		args = append(args, b.s.d.value(values[i]))
	}
	for _, c := range t.Stamps { // a column set to itself does not stamp itself
		sets = append(sets, b.s.d.quote(c)+" = "+b.s.d.quote(c))
	}
	res, err := b.tx.ExecContext(ctx, "UPDATE "+b.s.d.quote(t.Name)+" SET "+strings.Join(sets, ", ")+where, append(args, keyArgs...)...)
	if err != nil {
		return b.s.failure(err)
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return fmt.Errorf("table %s: one row should have changed, %d did", t.Name, n)
	}
	return nil
}

func (b *sqlBatch) Commit() error   { return b.s.failure(b.tx.Commit()) }
func (b *sqlBatch) Rollback() error { return b.tx.Rollback() }
