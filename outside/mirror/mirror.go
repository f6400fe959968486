// Package mirror makes an exported database a store like any other: it keeps a working copy of a dump in an
// SQLite file and shows that as a database.Database, with the columns, limits and keys that the dump defines.
// The dump itself is never changed.
package mirror

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
	"trimlantern/outside/pack"
)

// Config says what is mirrored, and where to.
type Config struct {
	Dump     string // the file
	Copy     string // the SQLite file, in a folder of ours
	Dialect  dump.Dialect
	Charset  string                               // of the dump's text, where it does not say
	MaxUnit  int                                  // see dump.Options
	Rows     func(table string) bool              // of which tables the rows are copied; nil: of all
	Rules    string                               // what Unsound and Beside depend on
	Unsound  func(value []byte) bool              // whether lengths in a value do not fit, so that it is read in another way
	Beside   func(p *dump.Passage) []change.Left  // what is found outside of rows
	Progress func(what string, done, total int64) // in bytes
}

// ErrRows says that a dump has rows of tables that it does not define.
var ErrRows = errors.New("it has rows of tables that it does not define")

// ErrUpdates says that a dump changes rows instead of holding them.
var ErrUpdates = errors.New("it changes rows (UPDATE) instead of holding them")

// ErrValues says that a row of a dump has more or fewer values than its table columns.
var ErrValues = errors.New("it has a row that does not fit its table")

// Store is the working copy of a dump.
type Store struct {
	database.Database
	About About
	path  string
	db    *sql.DB
	keys  map[string]map[[32]byte]bool // those of each unique key, as a collation may compare them
}

// About is what a copy knows of its dump.
type About struct {
	Version int // of the copy's own form
	Source  Source
	Sum     string // SHA-256 of the text, in hexadecimal digits; "" where some of its rows alone are copied
	Dialect dump.Dialect
	Tables  []dump.Table
	Left    []change.Left // found outside of rows
}

// aboutVersion changes whenever copies are made in another way.
const aboutVersion = 4

// Source is what a copy is made of: another source asks for another copy.
type Source struct {
	Dump    string // its whole path
	Size    int64
	Time    time.Time
	Charset string
	Rules   string
}

func (s Source) equal(o Source) bool {
	same := s.Time.Equal(o.Time)
	s.Time = o.Time
	return same && s == o
}

// Open opens the copy, which it makes, or makes anew, where the dump has changed since.
func Open(ctx context.Context, c Config) (*Store, error) {
	info, err := os.Stat(c.Dump)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: no file %s", database.ErrAbsent, c.Dump)
	}
	if err != nil {
		return nil, err
	}
	source := Source{Size: info.Size(), Time: info.ModTime(), Charset: c.Charset, Rules: c.Rules}
	if source.Dump, err = filepath.Abs(c.Dump); err != nil {
		return nil, err
	}
	s, err := open(ctx, c.Copy)
	if err == nil && c.Rows == nil && s.About.Sum != "" && s.About.Version == aboutVersion && s.About.Source.equal(source) {
		return s, nil
	}
	if s != nil {
		s.Close()
	}
	if err := build(ctx, c, source); err != nil {
		return nil, err
	}
	return open(ctx, c.Copy)
}

// open opens a copy that is there.
func open(ctx context.Context, path string) (*Store, error) {
	inner, err := database.Open(ctx, database.Config{Kind: "sqlite", File: path, ReadOnly: true})
	if err != nil {
		return nil, err
	}
	s := &Store{Database: inner, path: path, keys: map[string]map[[32]byte]bool{}}
	if s.db, err = sql.Open("sqlite", "file:"+path+"?mode=ro"); err == nil {
		var b []byte
		if err = s.db.QueryRowContext(ctx, "SELECT about FROM "+aboutTable).Scan(&b); err == nil {
			err = json.Unmarshal(b, &s.About)
		}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

const aboutTable = `"trimlantern about"`

// Close closes the copy.
func (s *Store) Close() error {
	if s.db != nil {
		s.db.Close()
	}
	return s.Database.Close()
}

// Identity names the dump by what it holds.
func (s *Store) Identity() string { return "dump:" + s.About.Sum }

// Tables lists the tables as the dump defines them.
func (s *Store) Tables(ctx context.Context, prefix string) ([]database.Table, error) {
	tables, err := s.Database.Tables(ctx, prefix)
	if err != nil {
		return nil, err
	}
	var out []database.Table
	for _, t := range tables {
		i := slices.IndexFunc(s.About.Tables, func(d dump.Table) bool { return d.String() == t.Name })
		if i < 0 {
			continue // our own
		}
		d := &s.About.Tables[i]
		for _, columns := range [][]database.Column{t.Columns, t.All} {
			for k := range columns {
				if c, ok := d.Column(columns[k].Name); ok {
					columns[k].MaxChars, columns[k].MaxBytes = c.MaxChars, c.MaxBytes
					if c.List {
						columns[k].Kind = database.List
					}
				}
			}
		}
		t.Unique = nil
		for n, u := range d.Unique {
			if slices.ContainsFunc(u.Columns, func(c string) bool { _, ok := t.Column(c); return ok }) {
				t.Unique = append(t.Unique, database.Index{Name: strconv.Itoa(n), Columns: u.Columns})
			}
		}
		out = append(out, t)
	}
	return out, nil
}

// Taken reports whether a row other than that of key has the value, as a collation may compare it.
func (s *Store) Taken(ctx context.Context, t database.Table, index database.Index, key [][]byte, column string, v database.Value) (bool, error) {
	d, _ := s.Table(t.Name)
	n, err := strconv.Atoi(index.Name)
	if err != nil || n >= len(d.Unique) {
		return false, fmt.Errorf("table %s has no unique key %s", t.Name, index.Name)
	}
	u := d.Unique[n]
	names := make([]string, len(u.Columns))
	for i, c := range u.Columns {
		names[i] = "CAST(" + quote(c) + " AS BLOB)"
	}
	query := "SELECT " + strings.Join(names, ", ") + " FROM " + quote(t.Name)
	id := t.Name + "\x00" + index.Name
	if s.keys[id] == nil {
		keys := map[[32]byte]bool{}
		if err := s.tuples(ctx, query, nil, func(tuple [][]byte) {
			if sum, ok := folded(u, tuple); ok {
				keys[sum] = true
			}
		}); err != nil {
			return false, err
		}
		s.keys[id] = keys
	}
	where, args := s.where(t, key)
	taken := false
	err = s.tuples(ctx, query+" WHERE "+where, args, func(tuple [][]byte) {
		was, _ := folded(u, tuple)
		for i, c := range u.Columns {
			if c == column {
				tuple[i] = v.Bytes
			}
		}
		is, ok := folded(u, tuple)
		taken = ok && is != was && s.keys[id][is]
	})
	return taken, err
}

// tuples calls a function for each row of a query.
func (s *Store) tuples(ctx context.Context, query string, args []any, visit func(tuple [][]byte)) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	for rows.Next() {
		tuple := make([][]byte, len(columns))
		to := make([]any, len(columns))
		for i := range tuple {
			to[i] = &tuple[i]
		}
		if err := rows.Scan(to...); err != nil {
			return err
		}
		visit(tuple)
	}
	return rows.Err()
}

// folded returns the hash of a key as a collation may compare it; a key with NULL is equal to none.
func folded(u dump.Unique, tuple [][]byte) (sum [32]byte, ok bool) {
	h := sha256.New()
	for i, v := range tuple {
		if v == nil {
			return sum, false
		}
		f := dump.Folded(v, u.Prefixes[i])
		fmt.Fprintf(h, "%d:", len(f))
		h.Write(f)
	}
	return [32]byte(h.Sum(nil)), true
}

// where returns the condition that finds the row of a key.
func (s *Store) where(t database.Table, key [][]byte) (string, []any) {
	var where []string
	var args []any
	for i, k := range t.Key {
		where = append(where, quote(k.Name)+" = ?")
		switch {
		case k.Kind == database.Integer: // the number of the row
			n, _ := strconv.ParseInt(string(key[i]), 10, 64) // another text is no row
			args = append(args, n)
		case k.Kind == database.Binary:
			args = append(args, key[i])
		default:
			args = append(args, string(key[i]))
		}
	}
	return strings.Join(where, " AND "), args
}

// Key returns the key by which the copy knows a row of the dump.
func (s *Store) Key(t dump.Table, r *dump.Row) (key []change.Value, ok bool) {
	for _, u := range t.Unique {
		if !u.Primary {
			continue
		}
		for _, name := range u.Columns {
			i := slices.IndexFunc(r.Columns, func(c dump.Column) bool { return c.Name == name })
			if i < 0 {
				return nil, false
			}
			v, ok := r.Value(i)
			if !ok {
				v, _ = r.Bare(i)
			}
			key = append(key, bytes.Clone(v))
		}
		return key, true
	}
	return []change.Value{strconv.AppendInt(nil, r.Offset(), 10)}, true
}

// Table returns a table as the dump defines it.
func (s *Store) Table(name string) (dump.Table, bool) {
	i := slices.IndexFunc(s.About.Tables, func(d dump.Table) bool { return d.String() == name })
	if i < 0 {
		return dump.Table{}, false
	}
	return s.About.Tables[i], true
}

func quote(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` }

// look surveys the dump.
func look(ctx context.Context, in *pack.Source, c Config) (*dump.Survey, error) {
	r, end, err := in.Text()
	if err != nil {
		return nil, err
	}
	defer end()
	done := int64(0)
	return dump.Look(ctx, r, dump.Options{Dialect: c.Dialect, Charset: c.Charset, MaxUnit: c.MaxUnit, Read: func(n int64) {
		done += n
		if c.Progress != nil {
			c.Progress("reading the dump", done, in.Size())
		}
	}})
}

// build makes the copy, under its name only when it is whole.
func build(ctx context.Context, c Config, source Source) error {
	in, err := pack.Open(c.Dump, nil)
	if err != nil {
		return err
	}
	defer in.Close()
	survey, err := look(ctx, in, c)
	if err != nil {
		return err
	}
	for _, t := range survey.Schema.Tables {
		switch {
		case t.Catalogue():
		case t.Updates:
			return fmt.Errorf("%w: %s", ErrUpdates, t)
		case t.Rows && len(t.Columns) == 0:
			return fmt.Errorf("%w: %s", ErrRows, t)
		}
	}
	part := c.Copy + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	b := &builder{about: About{Version: aboutVersion, Source: source, Dialect: survey.Schema.Dialect}, config: c, inserts: map[string]statement{},
		gather: make([]gathering, runtime.GOMAXPROCS(0)), batches: make(chan []gathered, 1)}
	b.ctx, b.stop = context.WithCancelCause(ctx)
	defer b.stop(nil)
	for _, t := range survey.Schema.Tables {
		b.about.Tables = append(b.about.Tables, *t)
	}
	err = b.fill(part, in, survey)
	if err == nil {
		err = os.Rename(part, c.Copy)
	}
	if err != nil {
		_ = os.Remove(part) // it is ours and not all there
	}
	return err
}

// builder fills a copy.
type builder struct {
	ctx     context.Context
	stop    context.CancelCauseFunc // of ctx
	config  Config
	about   About
	gather  []gathering // one for each worker
	batches chan []gathered
	conn    driver.Conn
	inserts map[string]statement // by their text
	lock    sync.Mutex
	places  []int64 // of about.Left, in the dump
}

// fill fills the file at path. It works on the driver itself: what lies between costs as much as SQLite.
func (b *builder) fill(path string, in *pack.Source, survey *dump.Survey) error {
	abs, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	// A larger cache makes it no faster.
	db, err := sql.Open("sqlite", "file:"+abs+"?_pragma=page_size(16384)&_pragma=cache_size(-4000)&_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)&_pragma=locking_mode(EXCLUSIVE)")
	if err != nil {
		return err
	}
	defer db.Close()
	conn, err := db.Conn(b.ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(c any) error {
		b.conn = c.(driver.Conn)
		if err := b.exec("BEGIN"); err != nil {
			return err
		}
		err := b.copy(in, survey)
		for _, s := range b.inserts {
			err = errors.Join(err, s.Close())
		}
		if err != nil {
			return err
		}
		return b.exec("COMMIT")
	})
}

// exec runs one statement.
func (b *builder) exec(query string, args ...driver.NamedValue) error {
	_, err := b.conn.(driver.ExecerContext).ExecContext(b.ctx, query, args)
	return err
}

// copy makes the tables and copies the rows.
func (b *builder) copy(in *pack.Source, survey *dump.Survey) error {
	for _, t := range b.about.Tables {
		if len(t.Columns) > 0 {
			if err := b.exec(definition(&t)); err != nil {
				return fmt.Errorf("table %s: %w", t.String(), err)
			}
		}
	}
	r, end, err := in.Text()
	if err != nil {
		return err
	}
	defer end()
	done := int64(0)
	row := func(worker int, r *dump.Row) {
		if err := b.row(worker, r); err != nil {
			b.stop(err)
		}
	}
	h := dump.Handler{Row: row, Beside: func(_ int, p *dump.Passage) { b.beside(p) }, Only: func(t *dump.Table) bool {
		return !t.Shadow && !t.Catalogue() && (b.config.Rows == nil || b.config.Rows(t.String()))
	}}
	read := func(n int64) {
		done += n
		if b.config.Progress != nil {
			b.config.Progress("copying the dump", done, survey.Bytes)
		}
	}
	sum := sha256.New() // of the text that is copied
	if b.config.Rows == nil {
		r = io.TeeReader(r, sum)
	}
	written := make(chan error, 1)
	go func() { written <- b.write() }()
	err = survey.Rewrite(b.ctx, r, io.Discard, h, dump.Output{Read: read})
	for _, g := range b.gather {
		b.batches <- g.rows
	}
	close(b.batches)
	err = errors.Join(err, <-written)
	if why := context.Cause(b.ctx); why != nil {
		err = why // the rest follows from it
	}
	if err != nil {
		return err
	}
	if b.config.Rows == nil {
		b.about.Sum = hex.EncodeToString(sum.Sum(nil))
	}
	if err := b.lines(in); err != nil {
		return err
	}
	for _, t := range survey.Schema.Tables {
		if t.Shadow && t.Rows { // whose rows are not copied
			b.about.Left = append(b.about.Left, change.Left{Reason: rewrite.NotRead, Table: t.String(), Note: "of a virtual table", Count: 1})
		}
	}
	slices.SortStableFunc(b.about.Left, func(x, y change.Left) int { return x.Line - y.Line })
	about, err := json.Marshal(b.about)
	if err != nil {
		return err
	}
	if err := b.exec("CREATE TABLE " + aboutTable + " (about BLOB)"); err != nil {
		return err
	}
	return b.exec("INSERT INTO "+aboutTable+" VALUES (?)", driver.NamedValue{Ordinal: 1, Value: about})
}

// lines finds the lines of what was found outside of rows.
func (b *builder) lines(in *pack.Source) error {
	r, end, err := in.Text()
	if err != nil {
		return err
	}
	defer end()
	lines, err := dump.Lines(r, b.places)
	for i, n := range lines {
		b.about.Left[i].Line = n
	}
	return err
}

// definition returns what makes a table of the copy. The number of each row is its place in the dump, so no
// column may be SQLite's own number of the row.
func definition(t *dump.Table) string {
	var out strings.Builder
	out.WriteString("CREATE TABLE " + quote(t.String()) + " (")
	for i, c := range t.Columns {
		if i > 0 {
			out.WriteString(", ")
		}
		typ := "TEXT" // numbers too, so that they stay as they are written
		if c.Bytes {
			typ = "BLOB"
		}
		out.WriteString(quote(c.Name) + " " + typ)
	}
	for _, u := range t.Unique {
		if u.Primary {
			names := make([]string, len(u.Columns))
			for i, n := range u.Columns {
				names[i] = quote(n)
			}
			out.WriteString(", PRIMARY KEY (" + strings.Join(names, ", ") + ")")
			break
		}
	}
	return out.String() + ")"
}

// gathering is what one worker has read of the dump and not handed on yet.
type gathering struct {
	shape *shape // of the row before
	rows  []gathered
	size  int
}

// gathered is a row for the copy: the arguments of its INSERT.
type gathered struct {
	shape *shape
	args  []driver.NamedValue
}

// shape is a table and the columns that rows of it have.
type shape struct {
	table   *dump.Table
	columns []string
	insert  string
}

// of reports whether a row has the shape.
func (s *shape) of(r *dump.Row) bool {
	return s != nil && s.table == r.Table && slices.EqualFunc(s.columns, r.Columns, func(n string, c dump.Column) bool { return n == c.Name })
}

func shapeOf(r *dump.Row) *shape {
	s := &shape{table: r.Table}
	var names strings.Builder
	for _, c := range r.Columns {
		s.columns = append(s.columns, c.Name)
		names.WriteString(", " + quote(c.Name))
	}
	s.insert = "INSERT INTO " + quote(r.Table.String()) + " (_rowid_" + names.String() + ") VALUES (?" + strings.Repeat(", ?", len(s.columns)) + ")"
	return s
}

// Rows go to the one writer in batches of about this size, in bytes, or this many: those of one stretch of the dump stay
// together, so that SQLite adds them at the end of its tree.
const batchSize, batchRows = 1 << 18, 1000

// row takes one row for the copy.
func (b *builder) row(worker int, r *dump.Row) error {
	if r.More {
		return nil // of what is set where the row is there, beside counts the references
	}
	if len(r.Columns) != r.Len() {
		return fmt.Errorf("%w: %s has %d columns, and a row %d values", ErrValues, r.Table, len(r.Table.Columns), r.Len())
	}
	g := &b.gather[worker]
	if !g.shape.of(r) {
		g.shape = shapeOf(r)
	}
	args := append(make([]driver.NamedValue, 0, 1+r.Len()), driver.NamedValue{Ordinal: 1, Value: r.Offset()})
	for i := range r.Columns {
		args = append(args, driver.NamedValue{Ordinal: 2 + i, Value: b.value(r, i)})
		g.size += r.Size(i)
	}
	if g.rows = append(g.rows, gathered{g.shape, args}); g.size > batchSize || len(g.rows) >= batchRows {
		b.batches <- g.rows
		g.rows, g.size = nil, 0
	}
	return nil
}

// write writes batches into the copy until there are no more.
func (b *builder) write() (err error) {
	for batch := range b.batches {
		for _, row := range batch {
			if err != nil {
				break // and the rest goes by
			}
			if err = b.put(row); err != nil {
				err = fmt.Errorf("a row of %s: %w", row.shape.table, err)
				b.stop(err)
			}
		}
	}
	return err
}

// put writes one row into the copy.
func (b *builder) put(row gathered) error {
	insert, ok := b.inserts[row.shape.insert]
	if !ok {
		s, err := b.conn.(driver.ConnPrepareContext).PrepareContext(b.ctx, row.shape.insert)
		if err != nil {
			return err
		}
		insert = s.(statement)
		b.inserts[row.shape.insert] = insert
	}
	_, err := insert.ExecContext(b.ctx, row.args)
	return err
}

// statement is a statement of the driver.
type statement interface {
	driver.Stmt
	driver.StmtExecContext
}

// value returns a value for the copy.
func (b *builder) value(r *dump.Row, i int) driver.Value {
	v, ok := r.Value(i)
	if !ok {
		v, _ = r.Bare(i)
		if text := string(v); !strings.EqualFold(text, "NULL") && text != `\N` && !strings.EqualFold(text, "DEFAULT") {
			return text
		}
		return nil
	}
	v = Reading(r, i, v, b.config.Unsound)
	if r.Blob(i) {
		return bytes.Clone(v)
	}
	return string(v)
}

// Reading returns a value as the site's software sees it: read in the way in which its lengths fit.
func Reading(r *dump.Row, i int, v []byte, unsound func([]byte) bool) []byte {
	if unsound == nil || !r.May(i) || !slices.ContainsFunc(v, func(c byte) bool { return c >= 0x80 }) || !unsound(v) {
		return v
	}
	for other, ok := r.Again(i); ok; other, ok = r.Again(i) {
		if !unsound(other) {
			return other
		}
	}
	r.First(i)
	v, _ = r.Value(i)
	return v
}

// beside notes what stands outside of rows.
func (b *builder) beside(p *dump.Passage) {
	if b.config.Beside == nil {
		return
	}
	found := b.config.Beside(p)
	b.lock.Lock()
	for _, l := range found {
		b.about.Left, b.places = append(b.about.Left, l), append(b.places, p.Offset)
	}
	b.lock.Unlock()
}
