package database

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"time"

	"trimlantern/outside/verbose"
)

// sqlBatch is a Batch over database/sql. It has a connection to itself, since
// some drivers run several statements in one go only outside of database/sql.
type sqlBatch struct {
	s    *sqlDatabase
	conn *sql.Conn
	tx   *sql.Tx
}

func (s *sqlDatabase) Begin(ctx context.Context) (Batch, error) {
	// A lock goes with its connection; other connections may be as good as new.
	if s.held != nil && s.held.still != nil {
		if err := s.held.still(ctx); err != nil {
			return nil, s.failure(fmt.Errorf("the connection that holds the lock is gone: %w", err))
		}
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, s.failure(err)
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		conn.Close()
		return nil, s.failure(err)
	}
	return &sqlBatch{s: s, conn: conn, tx: tx}, nil
}

func (b *sqlBatch) Commit() error {
	defer b.conn.Close()
	began := time.Now()
	err := b.s.failure(b.tx.Commit())
	verbose.Took(context.Background(), began, "batch committed", err)
	if errors.Is(err, ErrRefused) { // a rule that is looked at last of all
		err = fmt.Errorf("%w: %w", ErrWhole, err)
	}
	return err
}

func (b *sqlBatch) Rollback() error {
	err := b.tx.Rollback()
	b.conn.Close()
	return err
}

// keyed refuses a table or a key that finds no row.
func keyed(t Table, keys ...[][]byte) error {
	for _, k := range keys {
		if len(t.Key) == 0 || len(k) != len(t.Key) {
			return fmt.Errorf("table %s: the key has %d columns, not %d", t.Name, len(t.Key), len(k))
		}
	}
	return nil
}

// readAtOnce is how many rows one query asks for.
const readAtOnce = 500

func (b *sqlBatch) Read(ctx context.Context, t Table, keys [][][]byte, columns []string) ([][]Value, error) {
	if err := keyed(t, keys...); err != nil {
		return nil, err
	}
	list, err := pickColumns(t, columns)
	if err != nil {
		return nil, err
	}
	out := make([][]Value, 0, len(keys))
	for part := range slices.Chunk(keys, readAtOnce) {
		q := b.s.query()
		q.add("SELECT ")
		for _, k := range t.Key {
			q.add(b.s.d.read(k), ", ")
		}
		q.columns(list)
		asked := q.survives(list)
		q.add(" FROM ", b.s.d.tableByKey(t), " WHERE ")
		q.in(t, part)
		q.add(b.s.d.forUpdate)
		rows, err := all(ctx, b.tx, q, len(t.Key)+len(list)+len(asked))
		if err != nil {
			return nil, b.s.failure(err)
		}
		at := make(map[string][]Value, len(rows))
		for _, r := range rows {
			r = mark(r, len(t.Key), asked)
			at[joined(bytesOf(r[:len(t.Key)]))] = r[len(t.Key):]
		}
		for _, key := range part {
			out = append(out, at[joined(key)])
		}
	}
	return out, nil
}

// joined makes a key something to look up by.
func joined(key [][]byte) string {
	if len(key) == 1 {
		return string(key[0])
	}
	var out bytes.Buffer
	for _, k := range key {
		fmt.Fprintf(&out, "%d:", len(k))
		out.Write(k)
	}
	return out.String()
}

// update makes the statement of one update.
func (b *sqlBatch) update(q *query, t Table, u Update) error {
	if err := keyed(t, u.Key); err != nil {
		return err
	}
	columns, err := pickColumns(t, u.Columns)
	if err != nil {
		return err
	}
	q.add("UPDATE ", b.s.d.table(t), " SET ")
	for i, c := range columns {
		if i > 0 {
			q.add(", ")
		}
		q.add(b.s.d.quote(c.Name), " = ")
		q.value(c, u.Values[i])
	}
	q.stamps(t)
	q.add(" WHERE ")
	q.is(t, u.Key)
	if t.loose {
		for i, v := range u.Was {
			sum := sha256.Sum256(v.Bytes)
			q.add(" AND ", b.s.d.script.same(columns[i], hex.EncodeToString(sum[:]), v.Bytes))
		}
	}
	return nil
}

func (b *sqlBatch) Write(ctx context.Context, t Table, updates []Update) ([]error, error) {
	refused := make([]error, len(updates))
	done := 0
	err := b.saved(ctx, t, func() (err error) {
		if done, err = b.together(ctx, t, updates); err == nil {
			err = b.ruled(ctx)
		}
		return err
	})
	if err == nil {
		return refused, nil
	}
	if !spared(err) {
		return nil, err
	}
	if b.steps(t) {
		done = 0 // taken back
	}
	// One of the others was refused. One by one tells which.
	rights, most := error(nil), 0
	for i, u := range updates[done:] {
		err := b.saved(ctx, t, func() error {
			if err := b.one(ctx, t, u); err != nil {
				return err
			}
			return b.ruled(ctx)
		})
		if err != nil && !spared(err) {
			return nil, err
		}
		if refused[done+i] = err; errors.Is(err, ErrRights) {
			rights, most = err, most+1
		}
	}
	if most == len(updates) { // it is not about a row
		return nil, rights
	}
	return refused, nil
}

// spared reports whether an error is about one row, which then stays: all that the database says, unless it is about itself or
// its connection.
func spared(err error) bool {
	return (errors.Is(err, ErrRefused) || errors.Is(err, ErrChanged) || errors.Is(err, ErrRights)) && !errors.Is(err, ErrWhole)
}

// ruled has the database look now at the rules that it would look at last of all, so that a row is known that breaks one.
func (b *sqlBatch) ruled(ctx context.Context) error {
	if b.s.d.ruled == "" {
		return nil
	}
	_, err := b.tx.ExecContext(ctx, b.s.d.ruled)
	return b.s.failure(err)
}

// steps reports whether a part of a transaction is taken back when it fails: where
// an error would spoil the transaction, or a trigger may have written.
func (b *sqlBatch) steps(t Table) bool { return b.s.d.savepoint || len(t.Triggers) > 0 }

// saved runs a step, and takes it back where it fails and steps are.
func (b *sqlBatch) saved(ctx context.Context, t Table, step func() error) error {
	if !b.steps(t) {
		return step()
	}
	if _, err := b.tx.ExecContext(ctx, "SAVEPOINT step"); err != nil {
		if err = b.s.failure(err); errors.Is(err, errNoSteps) {
			return step()
		}
		return err
	}
	err := step()
	if err == nil {
		_, err = b.tx.ExecContext(ctx, "RELEASE SAVEPOINT step")
		return b.s.failure(err)
	}
	if _, back := b.tx.ExecContext(ctx, "ROLLBACK TO SAVEPOINT step"); back != nil {
		if spared(err) { // a trigger that takes back the whole transaction: SQLite's RAISE(ROLLBACK)
			return fmt.Errorf("%w: %w", ErrWhole, err)
		}
		return b.s.failure(back)
	}
	return err
}

// togetherBytes and togetherRows bound what one statement changes.
const (
	togetherBytes = 1 << 20
	togetherRows  = 128
)

// together writes all updates, many rows with one statement where the system is
// the faster for it. It returns how many were done before an error.
func (b *sqlBatch) together(ctx context.Context, t Table, updates []Update) (done int, err error) {
	for len(updates) > 0 {
		n := 1
		if b.s.d.cases && len(t.Triggers) == 0 && !t.loose && !touchesKey(t, updates[0]) { // a trigger must not run twice
			size := 0
			for n < len(updates) && n < togetherRows && slices.Equal(updates[n].Columns, updates[0].Columns) && size < togetherBytes {
				for _, v := range updates[n].Values {
					size += len(v.Bytes)
				}
				n++
			}
			n = 1 << (bits.Len(uint(n)) - 1) // few numbers of rows, so that few statements are prepared
		}
		if n == 1 {
			err = b.one(ctx, t, updates[0])
		} else {
			err = b.many(ctx, t, updates[:n])
		}
		if err != nil {
			return done, err
		}
		updates, done = updates[n:], done+n
	}
	return done, nil
}

func touchesKey(t Table, u Update) bool {
	return slices.ContainsFunc(u.Columns, t.InKey)
}

// many sets the same columns of several rows with one statement: the key chooses
// the value.
func (b *sqlBatch) many(ctx context.Context, t Table, updates []Update) error {
	columns, err := pickColumns(t, updates[0].Columns)
	if err != nil {
		return err
	}
	q := b.s.query()
	q.add("UPDATE ", b.s.d.tableByKey(t), " SET ")
	for i, c := range columns {
		if i > 0 {
			q.add(", ")
		}
		q.add(b.s.d.quote(c.Name), " = CASE")
		if len(t.Key) == 1 {
			q.add(" ", b.s.d.quote(t.Key[0].Name))
		}
		for _, u := range updates {
			q.add(" WHEN ")
			if err := keyed(t, u.Key); err != nil {
				return err
			}
			if len(t.Key) == 1 {
				q.value(t.Key[0], Value{Bytes: u.Key[0]})
			} else {
				q.is(t, u.Key)
			}
			q.add(" THEN ")
			q.value(c, u.Values[i])
		}
		q.add(" END")
	}
	q.stamps(t)
	q.add(" WHERE ")
	keys := make([][][]byte, len(updates))
	for i, u := range updates {
		keys[i] = u.Key
	}
	q.in(t, keys)
	if st := b.s.prepared(ctx, q.String()); st != nil {
		res, err := b.tx.StmtContext(ctx, st).ExecContext(ctx, q.args...)
		if !errors.Is(b.s.failure(err), errUnprepared) {
			return b.did(res, err, t, len(updates))
		}
	}
	return b.exec(ctx, q, t, len(updates))
}

// keptStatements is how many prepared statements are kept.
const keptStatements = 64

// prepared returns a statement that the system has read already: one for many rows is
// long, comes again and again, and its values need no quoting then. It returns nil where
// there is none to be had; the text itself does as well.
func (s *sqlDatabase) prepared(ctx context.Context, text string) *sql.Stmt {
	s.preparing.Lock()
	defer s.preparing.Unlock()
	st, ok := s.statements[text]
	if !ok && s.statements != nil && len(s.statements) < keptStatements {
		st, _ = s.db.PrepareContext(ctx, text) // some proxies and settings do not allow it
		s.statements[text] = st
	}
	return st
}

// in adds the condition that finds the rows of several keys.
func (q *query) in(t Table, keys [][][]byte) {
	if len(t.Key) == 1 {
		q.add(q.d.quote(t.Key[0].Name), " IN (")
		for i, key := range keys {
			if i > 0 {
				q.add(", ")
			}
			q.value(t.Key[0], Value{Bytes: key[0]})
		}
		q.add(")")
		return
	}
	for i, key := range keys {
		q.add([]string{"(", " OR ("}[min(i, 1)])
		q.is(t, key)
		q.add(")")
	}
}

// stamps adds that columns which stamp themselves keep their value: one set to
// itself does not.
func (q *query) stamps(t Table) {
	for _, c := range t.Stamps {
		q.add(", ", q.d.quote(c), " = ", q.d.quote(c))
	}
}

func (b *sqlBatch) one(ctx context.Context, t Table, u Update) error {
	q := b.s.query()
	if err := b.update(q, t, u); err != nil {
		return err
	}
	if len(t.Triggers) == 0 {
		return b.exec(ctx, q, t, 1)
	}
	if err := b.s.wrote[t.Name]; err != nil {
		return err
	}
	err := b.watched(ctx, q, t, u)
	if more := (*moreWritten)(nil); errors.As(err, &more) {
		if b.s.times[t.Name]++; b.s.times[t.Name] == alwaysMore { // one by one would be slow, and come to the same
			b.s.wrote[t.Name] = err
		}
	} else {
		delete(b.s.times, t.Name)
	}
	return err
}

// moreWritten says that a trigger writes more with a row: an ErrRefused of our own.
type moreWritten struct{ what string }

func (e *moreWritten) Error() string {
	return "a trigger of the table changes " + e.what + " with it, which undo could not take back (apply --with-triggers changes it all the same)"
}

func (e *moreWritten) Is(target error) bool { return target == ErrRefused }

// alwaysMore is after how many rows in a row it is taken for granted that the triggers of a table write elsewhere.
const alwaysMore = 20

// watched changes one row of a table with triggers, and refuses what they add.
func (b *sqlBatch) watched(ctx context.Context, q *query, t Table, u Update) error {
	// Triggers may write something else than was asked for, or more; without transactions nothing could be reverted.
	effects := b.s.effects || t.loose
	before, err := b.Image(ctx, t, u.Key)
	if err != nil {
		return err
	}
	first, err := b.writes(ctx)
	if err != nil {
		return err
	}
	wrote, err := b.writes(ctx) // to ask may count as well
	if err != nil {
		return err
	}
	if err := b.exec(ctx, q, t, 1); err != nil {
		return err
	}
	more, err := b.writes(ctx)
	if err != nil {
		return err
	}
	now, err := b.Image(ctx, t, u.KeyAfter(t))
	if err != nil {
		return err
	}
	for i, c := range t.All {
		k := slices.Index(u.Columns, c.Name)
		switch {
		case now == nil || before == nil || k >= 0 && c.Kind != Form && !bytes.Equal(now[i].Bytes, u.Values[k].Bytes):
			return fmt.Errorf("%w: a trigger of the table writes something else", ErrRefused)
		case k < 0 && !effects && (before[i].Null != now[i].Null || !bytes.Equal(before[i].Bytes, now[i].Bytes)):
			return &moreWritten{"its column " + c.Name}
		}
	}
	if more-wrote-(wrote-first) > 1 && !t.upkeep && !effects {
		return &moreWritten{"other rows"}
	}
	return nil
}

// KeyAfter returns the key of a row of t after the update, which may change it.
func (u Update) KeyAfter(t Table) [][]byte {
	key := slices.Clone(u.Key)
	for i, k := range t.Key {
		if n := slices.Index(u.Columns, k.Name); n >= 0 {
			key[i] = u.Values[n].Bytes
		}
	}
	return key
}

// writes returns how many rows this connection has written so far, those of triggers included.
func (b *sqlBatch) writes(ctx context.Context) (n int64, err error) {
	if b.s.d.writes == "" {
		return 0, nil
	}
	rows, err := b.tx.QueryContext(ctx, b.s.d.writes)
	if err != nil {
		return 0, b.s.failure(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return 0, err
	}
	for rows.Next() {
		var name string
		var of int64
		into := []any{&of}
		if len(columns) > 1 {
			into = []any{&name, &of}
		}
		if err := rows.Scan(into...); err != nil {
			return 0, err
		}
		n += of
	}
	return n, b.s.failure(rows.Err())
}

// exec runs a statement that changes exactly n rows.
func (b *sqlBatch) exec(ctx context.Context, q *query, t Table, n int) error {
	if q.size > largeArguments && b.s.d.raw != nil {
		did, err := b.s.d.raw(ctx, b.conn, q.String(), q.args)
		return b.did(driver.RowsAffected(did), err, t, n)
	}
	if q.size > largeArguments && b.s.d.apart {
		if st, err := b.tx.PrepareContext(ctx, q.String()); err == nil { // some proxies and settings do not allow it
			defer st.Close()
			res, err := st.ExecContext(ctx, q.args...)
			if !errors.Is(b.s.failure(err), errUnprepared) {
				return b.did(res, err, t, n)
			}
		}
	}
	res, err := b.tx.ExecContext(ctx, q.String(), q.args...)
	return b.did(res, err, t, n)
}

// largeArguments is from how many bytes on values are sent apart from their statement.
const largeArguments = 4 << 20

// did checks that a statement changed exactly n rows.
func (b *sqlBatch) did(res sql.Result, err error, t Table, n int) error {
	if err != nil {
		return b.s.failure(err)
	}
	did, err := res.RowsAffected()
	if t.loose && err == nil && did == 0 {
		return ErrChanged
	}
	if err != nil {
		return b.s.failure(err)
	}
	if did != int64(n) {
		return fmt.Errorf("%w: a trigger or a rule of the table lets it change %d rows in place of %d", ErrRefused, did, n)
	}
	return nil
}

func (b *sqlBatch) Normal(ctx context.Context, c Column, v Value) (Value, error) {
	if c.Kind != Form || v.Null {
		return v, nil
	}
	q := b.s.query()
	c.Name = "v"
	q.add("SELECT ", b.s.d.read(c), " FROM (SELECT ")
	q.value(c, v)
	q.add(" AS ", b.s.d.quote("v"), ") n")
	rows, err := all(ctx, b.tx, q, 1)
	if err != nil {
		return v, b.s.failure(err)
	}
	return rows[0][0], nil
}

func (b *sqlBatch) Image(ctx context.Context, t Table, key [][]byte) ([]Value, error) {
	if err := keyed(t, key); err != nil {
		return nil, err
	}
	q := b.s.query()
	q.add("SELECT ")
	q.columns(t.All)
	asked := q.survives(t.All)
	q.add(b.s.d.from(t), " WHERE ")
	q.is(t, key)
	q.add(b.s.d.forUpdate)
	rows, err := all(ctx, b.tx, q, len(t.All)+len(asked))
	if err != nil || len(rows) == 0 {
		return nil, b.s.failure(err)
	}
	return mark(rows[0], 0, asked), nil
}

func (b *sqlBatch) Delete(ctx context.Context, t Table, key [][]byte) error {
	if err := keyed(t, key); err != nil {
		return err
	}
	q := b.s.query()
	q.add("DELETE", b.s.d.from(t), " WHERE ")
	q.is(t, key)
	return b.saved(ctx, t, func() error { return b.exec(ctx, q, t, 1) })
}

func (b *sqlBatch) Insert(ctx context.Context, t Table, names []string, image []Value) error {
	columns, err := pickColumns(t, names)
	if err != nil {
		return err
	}
	q := b.s.query()
	q.add("INSERT INTO ", b.s.d.quote(t.Name), " (")
	q.names(columns)
	q.add(")", b.s.d.insert, " VALUES (")
	for i, c := range columns {
		if i > 0 {
			q.add(", ")
		}
		q.value(c, image[i])
	}
	q.add(")")
	return b.saved(ctx, t, func() error { return b.exec(ctx, q, t, 1) })
}
