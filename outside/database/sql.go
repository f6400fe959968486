package database

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
	"trimlantern/outside/verbose"
)

// dialect is what differs between the systems.
type dialect struct {
	quote     func(name string) string
	place     func(n int, c Column) string       // the n-th parameter, from 1, as a value of the column
	read      func(c Column) string              // what gives the column's value, from its quoted name
	param     func(c Column, v Value) any        // a value as a parameter
	whole     func(c Column) string              // condition: the column's bytes survive the connection's charset; "": always; nil: of all
	digest    digester                           // nil: what is read is hashed here
	coarse    func(column string, p Pick) string // condition: may hold it; nil: it is looked at here
	forUpdate string                             // what locks a row that is read
	byKey     string                             // behind the name of a table: find rows by the primary key alone
	insert    string                             // between the columns and VALUES
	typed     bool                               // values have types, and not columns
	cases     bool                               // many rows are changed fastest with one statement
	apart     bool                               // large values go apart from a prepared statement, without being copied into it
	raw       rawExec                            // runs a statement with large values, without the copies that database/sql makes; nil: nothing does
	savepoint bool                               // an error spoils a transaction
	ruled     string                             // has rules looked at that would be looked at last of all; "": there are none
	writes    string                             // numbers of rows that were written so far, to be added up
	only      string                             // before the name of a table: without what inherits from it
	tables    func(ctx context.Context, db *sql.DB, prefix string) ([]Table, error)
	objects   []string // queries for the catalogue's other objects: kind, name, text; a text that is NULL is not read
	script    Script
}

// rawExec runs a statement on the driver's own connection. It returns how many rows it changed.
type rawExec func(ctx context.Context, conn *sql.Conn, text string, args []any) (int64, error)

// query is a statement in the making.
type query struct {
	strings.Builder
	d    *dialect
	args []any
	size int // of their values, in bytes
}

func (q *query) add(parts ...string) {
	for _, p := range parts {
		q.WriteString(p)
	}
}

// value adds a parameter.
func (q *query) value(c Column, v Value) {
	q.args, q.size = append(q.args, q.d.param(c, v)), q.size+len(v.Bytes)
	q.WriteString(q.d.place(len(q.args), c))
}

// is adds the condition that finds the row of a key.
func (q *query) is(t Table, key [][]byte) {
	for i, k := range t.Key {
		if i > 0 {
			q.add(" AND ")
		}
		q.add(q.d.quote(k.Name), " = ")
		q.value(k, Value{Bytes: key[i]})
	}
}

// behind adds the keyset pagination condition: rows after key.
func (q *query) behind(t Table, key [][]byte) {
	for i := range t.Key {
		q.add([]string{"(", " OR ("}[min(i, 1)])
		for j := range i {
			q.add(q.d.quote(t.Key[j].Name), " = ")
			q.value(t.Key[j], Value{Bytes: key[j]})
			q.add(" AND ")
		}
		q.add(q.d.quote(t.Key[i].Name), " > ")
		q.value(t.Key[i], Value{Bytes: key[i]})
		q.add(")")
	}
}

// columns adds what reads columns, parted by commas.
func (q *query) columns(columns []Column) {
	for i, c := range columns {
		if i > 0 {
			q.add(", ")
		}
		q.add(q.d.read(c))
	}
}

// survives adds, for each column whose bytes may not survive the connection's charset, an expression
// that tells whether they do. It returns the indexes of those columns.
func (q *query) survives(columns []Column) (asked []int) {
	if q.d.whole == nil {
		return nil
	}
	for i, c := range columns {
		if cond := q.d.whole(c); cond != "" {
			q.add(", ", cond)
			asked = append(asked, i)
		}
	}
	return asked
}

// mark sets Lossy by the answers to the expressions that survives added, and returns the row without
// those answers.
func mark(row []Value, first int, asked []int) []Value {
	answers := row[len(row)-len(asked):]
	for n, i := range asked {
		row[first+i].Lossy = !row[first+i].Null && string(answers[n].Bytes) != "1"
	}
	return row[:len(row)-len(asked)]
}

func (q *query) names(columns []Column) {
	for i, c := range columns {
		if i > 0 {
			q.add(", ")
		}
		q.add(q.d.quote(c.Name))
	}
}

// from returns the table as a part of a query.
func (d *dialect) from(t Table) string {
	return " FROM " + d.table(t)
}

// table returns the table as a statement names it.
func (d *dialect) table(t Table) string {
	if t.children {
		return d.quote(t.Name)
	}
	return d.only + d.quote(t.Name)
}

// tableByKey returns the table as a statement names it that holds rows of many keys. Without
// a word on how to find them, all rows of a small table would be read and held.
func (d *dialect) tableByKey(t Table) string {
	if t.primary {
		return d.table(t) + d.byKey
	}
	return d.table(t)
}

// picks is the first look at a value, where the database does not take it.
func picks(p Pick, b []byte) bool {
	switch p {
	case Serialized:
		_, ok := envelope.NextHead(b, 0)
		return ok
	case Everything:
		return true
	}
	return rewrite.MayHold(b)
}

// sqlDatabase is a Database over database/sql.
type sqlDatabase struct {
	db       *sql.DB
	d        dialect
	identity string // told from the server
	stated   string // by the user
	lock     func(ctx context.Context, db *sql.DB) (held, error)
	held     *held             // the lock, while somebody has it
	failure  func(error) error // gives driver errors their names
	effects  bool              // triggers may write more than undo can revert
	wrote    map[string]error  // the tables whose triggers always do
	times    map[string]int    // how often in a row they did

	preparing  sync.Mutex
	statements map[string]*sql.Stmt // those that are prepared, by their text; without the map none are
}

func (s *sqlDatabase) Identity() string { return cmp.Or(s.stated, s.identity) }
func (s *sqlDatabase) Script() Script   { return s.d.script }
func (s *sqlDatabase) Concurrent() bool { return !s.d.typed } // SQLite has one writer at a time
func (s *sqlDatabase) Close() error     { return s.db.Close() }
func (s *sqlDatabase) query() *query    { return &query{d: &s.d} }

func (s *sqlDatabase) Tables(ctx context.Context, prefix string) ([]Table, error) {
	tables, err := s.d.tables(ctx, s.db, prefix)
	for i, t := range tables { // of unique indexes, those that a rewriting can touch
		tables[i].Unique = slices.DeleteFunc(t.Unique, func(ix Index) bool {
			return !slices.ContainsFunc(ix.Columns, func(c string) bool { _, ok := t.Column(c); return ok })
		})
	}
	return tables, s.failure(err)
}

func (s *sqlDatabase) Count(ctx context.Context, t Table) (n int64, exact bool, err error) {
	if s.d.coarse == nil && len(t.Columns) > 0 && t.about >= 0 {
		return t.about, false, nil
	}
	n, err = s.CountRows(ctx, t)
	return n, true, err
}

func (s *sqlDatabase) CountRows(ctx context.Context, t Table) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*)"+s.d.from(t)).Scan(&n)
	return n, s.failure(err)
}

// A page is what one query of Candidates reads: few enough bytes that no query
// stays open for long, many enough that the round trip does not matter.
const (
	firstPage = 500
	pageRows  = 20_000
	pageBytes = 8 << 20
)

func (s *sqlDatabase) Candidates(ctx context.Context, t Table, pick Pick, visit func(Row) error, read func(int64)) (err error) {
	if len(t.Columns) == 0 {
		return nil
	}
	began, found, looked := time.Now(), 0, int64(0)
	defer func() {
		verbose.Took(ctx, began, "table read", err, "table", t.Name, "rows", looked, "candidates", found)
	}()
	see, count := visit, read
	visit = func(r Row) error { found++; return see(r) }
	read = func(n int64) { looked = n; count(n) }
	// Reading and looking go on while the rows found before are worked on.
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type page struct {
		rows []Row
		read int64
		done chan struct{} // of a large page: closed when nobody needs it any more
	}
	pages := make(chan page, 1)
	failed := make(chan error, 1)
	go func() {
		defer close(pages)
		failed <- s.pages(ctx, t, pick, func(rows []Row, read int64, large bool) error {
			p := page{rows: rows, read: read}
			if large { // nothing is read meanwhile
				p.done = make(chan struct{})
			}
			select {
			case pages <- p:
			case <-ctx.Done():
				return ctx.Err()
			}
			rows, p.rows = nil, nil
			if !large {
				return nil
			}
			select {
			case <-p.done:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	for p := range pages {
		for _, row := range p.rows {
			if err := visit(row); err != nil {
				cancel()
				for range pages { // let the reader end
				}
				return err
			}
		}
		read(p.read)
		if p.rows = nil; p.done != nil {
			close(p.done)
		}
	}
	return <-failed
}

// pages reads a table page by page.
func (s *sqlDatabase) pages(ctx context.Context, t Table, pick Pick, give func(rows []Row, read int64, large bool) error) error {
	r := &reading{s: s, t: t, pick: pick, give: give}
	head := s.query()
	head.add("SELECT ")
	for i, k := range t.Key {
		if i > 0 {
			head.add(", ")
		}
		head.add(s.d.read(k))
	}
	if len(t.Key) > 0 {
		head.add(", ")
	}
	head.columns(t.Columns)
	r.asked = head.survives(t.Columns)
	head.add(s.d.from(t))
	if s.d.coarse != nil {
		head.add(" WHERE (")
		for i, c := range t.Columns {
			if i > 0 {
				head.add(" OR ")
			}
			if c.odd {
				head.add("typeof(", s.d.quote(c.Name), ") IN ('text', 'blob') AND ")
			}
			head.add(s.d.coarse(s.d.quote(c.Name), pick))
		}
		head.add(")")
	}
	if len(t.Key) == 0 {
		_, _, err := r.page(ctx, head)
		return err
	}
	and := " WHERE "
	if s.d.coarse != nil {
		and = " AND "
	}
	var last [][]byte
	limit := firstPage
	for {
		q := s.query()
		q.add(head.String())
		if last != nil {
			q.add(and, "(")
			q.behind(t, last)
			q.add(")")
		}
		q.add(" ORDER BY ")
		for i, k := range t.Key { // with the table's name, since what is read may be called so too
			if i > 0 {
				q.add(", ")
			}
			q.add(s.d.quote(t.Name), ".", s.d.quote(k.Name))
		}
		q.add(fmt.Sprintf(" LIMIT %d", limit))
		n, key, err := r.page(ctx, q)
		if err != nil || n < limit {
			return err
		}
		last = key
		limit = min(pageRows, max(firstPage/10, int(int64(n)*pageBytes/max(r.bytes, 1))))
	}
}

// reading is one pass over a table.
type reading struct {
	s     *sqlDatabase
	t     Table
	pick  Pick
	give  func(rows []Row, read int64, large bool) error
	asked []int // the columns that may not survive the connection's charset
	total int64
	bytes int64 // of the last page
}

// page runs one query and hands over the rows that may hold what is looked for;
// it returns how many it read and the last key.
func (r *reading) page(ctx context.Context, q *query) (n int, last [][]byte, err error) {
	s, t := r.s, r.t
	rows, err := s.db.QueryContext(ctx, q.String(), q.args...)
	if err != nil {
		return 0, nil, s.failure(err)
	}
	defer rows.Close()
	r.bytes = 0
	held := 0 // bytes of found, which a table without a key may pile up
	var found []Row
	into := newScanner(&s.d, len(t.Key)+len(t.Columns)+len(r.asked))
	may := make([]bool, len(t.Columns))
	for rows.Next() {
		if err := rows.Scan(into.dest...); err != nil {
			return n, nil, s.failure(err)
		}
		n++
		values := mark(into.values(), len(t.Key), r.asked)
		hit, size := s.d.coarse != nil, 0
		clear(may)
		for i, v := range values[len(t.Key):] {
			size += len(v.Bytes)
			if s.d.coarse == nil && !v.Null && t.Columns[i].Kind != Other && picks(r.pick, v.Bytes) {
				may[i], hit = true, true
			}
		}
		r.bytes += int64(size)
		if !hit && len(t.Key) == 0 {
			continue
		}
		key := make([][]byte, len(t.Key))
		for i := range key {
			key[i] = slices.Clone(values[i].Bytes)
		}
		last = key
		if !hit {
			continue
		}
		row := Row{Key: key, Values: make([]Value, len(t.Columns))}
		if s.d.coarse == nil {
			row.May = slices.Clone(may)
		}
		large := size > 2*pageBytes // it is worked on before the next is read, where the driver left it
		var all []byte
		if !large {
			all = make([]byte, 0, size)
		}
		for i, v := range values[len(t.Key):] {
			if !v.Null && !large {
				from := len(all)
				all = append(all, v.Bytes...)
				v.Bytes = all[from:len(all):len(all)]
			}
			row.Values[i] = v
		}
		held += size
		found = append(found, row)
		if held > pageBytes {
			rows := found
			found = nil // what is given is not held here
			if err := r.give(rows, r.total+int64(n), large); err != nil {
				return n, last, err
			}
			held = 0
		}
	}
	if err := rows.Err(); err != nil {
		return n, last, s.failure(err)
	}
	r.total += int64(n)
	return n, last, r.give(found, r.total, false)
}

// cell takes a value as the driver gives it, without copying bytes.
type cell struct {
	Value
	plain bool // columns have types, values need none
}

// Scan is what database/sql calls. The bytes are the driver's, valid until the next
// row.
func (c *cell) Scan(raw any) error {
	switch v := raw.(type) {
	case nil:
		c.Value = Value{Null: true}
	case []byte:
		c.Value = Value{Bytes: v, As: 'b'}
	case string:
		c.Value = Value{Bytes: unsafe.Slice(unsafe.StringData(v), len(v))} // nobody writes into a value that was read
	case int64:
		c.Value = Value{Bytes: strconv.AppendInt(nil, v, 10), As: 'i'}
	case uint64:
		c.Value = Value{Bytes: strconv.AppendUint(nil, v, 10), As: 'i'}
	case float32:
		c.Value = Value{Bytes: strconv.AppendFloat(nil, float64(v), 'g', -1, 32), As: 'r'}
	case float64:
		c.Value = Value{Bytes: strconv.AppendFloat(nil, v, 'g', -1, 64), As: 'r'}
	default:
		return fmt.Errorf("a value came as %T", raw)
	}
	if c.plain {
		c.As = 0
	}
	return nil
}

// scanner takes rows apart.
type scanner struct {
	cells []cell
	dest  []any
	out   []Value
}

func newScanner(d *dialect, columns int) *scanner {
	s := &scanner{cells: make([]cell, columns), out: make([]Value, columns)}
	for i := range s.cells {
		s.cells[i].plain = !d.typed
		s.dest = append(s.dest, &s.cells[i])
	}
	return s
}

// values returns the row that was scanned; its bytes are valid until the next.
func (s *scanner) values() []Value {
	for i, c := range s.cells {
		s.out[i] = c.Value
	}
	return s.out
}

// clone returns the row that was scanned, to be kept.
func (s *scanner) clone() []Value {
	out := slices.Clone(s.values())
	for i := range out {
		out[i].Bytes = slices.Clone(out[i].Bytes)
	}
	return out
}

// all runs a query and returns its rows.
func all(ctx context.Context, db interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, q *query, columns int) ([][]Value, error) {
	rows, err := db.QueryContext(ctx, q.String(), q.args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out [][]Value
	s := newScanner(q.d, columns)
	for rows.Next() {
		if err := rows.Scan(s.dest...); err != nil {
			return nil, err
		}
		out = append(out, s.clone())
	}
	return out, rows.Err()
}

func (s *sqlDatabase) Rows(ctx context.Context, t Table, columns []string, limit int) ([][]Value, error) {
	list, err := pickColumns(t, columns)
	if err != nil {
		return nil, err
	}
	q := s.query()
	q.add("SELECT ")
	q.columns(list)
	q.add(s.d.from(t), fmt.Sprintf(" LIMIT %d", limit))
	rows, err := all(ctx, s.db, q, len(list))
	return rows, s.failure(err)
}

// pickColumns finds columns by name among all of a table.
func pickColumns(t Table, names []string) ([]Column, error) {
	out := make([]Column, len(names))
	for i, n := range names {
		at := slices.IndexFunc(t.All, func(c Column) bool { return c.Name == n })
		if at < 0 {
			return nil, fmt.Errorf("table %s has no column %s", t.Name, n)
		}
		out[i] = t.All[at]
	}
	return out, nil
}

func (s *sqlDatabase) Lookup(ctx context.Context, t Table, column, whereColumn, where string) (Value, [][]byte, bool, error) {
	list, err := pickColumns(t, []string{column, whereColumn})
	if err != nil {
		return Value{}, nil, false, err
	}
	q := s.query()
	q.add("SELECT ")
	for _, k := range t.Key {
		q.add(s.d.read(k), ", ")
	}
	q.columns(list[:1])
	q.add(s.d.from(t), " WHERE ", s.d.quote(whereColumn), " = ")
	q.value(list[1], Value{Bytes: []byte(where)})
	rows, err := all(ctx, s.db, q, len(t.Key)+1)
	if err != nil || len(rows) == 0 {
		return Value{}, nil, false, s.failure(err)
	}
	return rows[0][len(t.Key)], bytesOf(rows[0][:len(t.Key)]), true, nil
}

func bytesOf(values []Value) [][]byte {
	out := make([][]byte, len(values))
	for i, v := range values {
		out[i] = v.Bytes
	}
	return out
}

func (s *sqlDatabase) Taken(ctx context.Context, t Table, index Index, key [][]byte, column string, v Value) (bool, error) {
	if len(t.Key) == 0 || len(key) != len(t.Key) {
		return false, nil
	}
	columns, err := pickColumns(t, index.Columns)
	if err != nil {
		return false, err
	}
	q := s.query()
	q.add("SELECT 1", s.d.from(t), " a WHERE ")
	for i, c := range columns {
		if i > 0 {
			q.add(" AND ")
		}
		q.add("a.", s.d.quote(c.Name), " = ")
		if c.Name == column {
			q.value(c, v)
			continue
		}
		q.add("(SELECT b.", s.d.quote(c.Name), s.d.from(t), " b WHERE ")
		q.is(t, key)
		q.add(")")
	}
	q.add(" AND NOT (")
	q.is(t, key)
	q.add(") LIMIT 1")
	var one int
	err = s.db.QueryRowContext(ctx, q.String(), q.args...).Scan(&one)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, s.failure(err)
}

func (s *sqlDatabase) Lock(ctx context.Context) (func(), error) {
	h, err := s.lock(ctx, s.db)
	if err != nil {
		return nil, s.failure(err)
	}
	s.held = &h
	return func() {
		s.held = nil
		h.release()
	}, nil
}

func (s *sqlDatabase) OneNode() bool { return s.held != nil && s.held.oneNode }

// held is a lock that somebody has.
type held struct {
	oneNode bool // see OneNode
	release func()
	still   func(ctx context.Context) error // fails where it was lost; nil: it cannot be
}

// sessionLock takes a lock that lives as long as its connection: try takes it,
// holder asks for the connection that has it, release gives it back.
func sessionLock(ctx context.Context, db *sql.DB, try, holder, release string) (held, error) {
	conn, err := db.Conn(ctx)
	if err != nil {
		return held{}, err
	}
	var got sql.NullBool
	if err := conn.QueryRowContext(ctx, try).Scan(&got); err != nil {
		conn.Close()
		return held{}, err
	}
	if !got.Bool {
		var id sql.NullInt64
		err := conn.QueryRowContext(ctx, holder).Scan(&id)
		conn.Close()
		if err != nil && !errors.Is(err, sql.ErrNoRows) { // given back meanwhile
			return held{}, err
		}
		return held{}, fmt.Errorf("%w (database connection %d)", ErrLocked, id.Int64)
	}
	return held{
		release: func() {
			_, _ = conn.ExecContext(context.WithoutCancel(ctx), release) // else the end of the connection does it
			conn.Close()
		},
		still: conn.PingContext,
	}, nil
}
