// Package mirror makes an exported database a store like any other: it keeps a working copy of a dump in an
// SQLite file and shows that as a database.Database, with the columns, limits and keys that the dump defines.
// The dump itself is never changed.
package mirror

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"trimlantern/core/sheet"
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
	Unsound  func(value []byte) bool              // whether lengths in a value do not fit, so that it is read in another way
	Beside   func(p *dump.Passage) []sheet.Left   // what is found outside of rows
	Progress func(what string, done, total int64) // in bytes
}

// ErrRows says that a dump has rows of tables that it does not define.
var ErrRows = errors.New("it has rows of tables that it does not define")

// ErrUpdates says that a dump changes rows instead of holding them.
var ErrUpdates = errors.New("it changes rows (UPDATE) instead of holding them")

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
	Size    int64
	Time    time.Time // of the file
	Sum     string    // SHA-256 of the text, in hexadecimal digits
	Dialect dump.Dialect
	Tables  []dump.Table
	Left    []sheet.Left // found outside of rows
}

// aboutVersion changes whenever copies are made in another way.
const aboutVersion = 3

// Open opens the copy, which it makes, or makes anew, where the dump has changed since.
func Open(ctx context.Context, c Config) (*Store, error) {
	info, err := os.Stat(c.Dump)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: no file %s", database.ErrAbsent, c.Dump)
	}
	if err != nil {
		return nil, err
	}
	s, err := open(ctx, c.Copy)
	if err == nil && s.About.Version == aboutVersion && s.About.Size == info.Size() && s.About.Time.Equal(info.ModTime()) {
		return s, nil
	}
	if s != nil {
		s.Close()
	}
	if err := build(ctx, c, info); err != nil {
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
func (s *Store) Key(t dump.Table, r *dump.Row) (key []sheet.Value, ok bool) {
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
	return []sheet.Value{strconv.AppendInt(nil, r.Offset(), 10)}, true
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

// look surveys the dump and sums it up.
func look(ctx context.Context, in *pack.Source, c Config) (*dump.Survey, string, error) {
	r, end, err := in.Text()
	if err != nil {
		return nil, "", err
	}
	defer end()
	sum := sha256.New()
	done := int64(0)
	survey, err := dump.Look(ctx, io.TeeReader(r, sum), dump.Options{Dialect: c.Dialect, Charset: c.Charset, MaxUnit: c.MaxUnit, Read: func(n int64) {
		done += n
		if c.Progress != nil {
			c.Progress("reading the dump", done, in.Size())
		}
	}})
	return survey, digits(sum), err
}

func digits(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

// build makes the copy, under its name only when it is whole.
func build(ctx context.Context, c Config, info os.FileInfo) error {
	in, err := pack.Open(c.Dump, nil)
	if err != nil {
		return err
	}
	defer in.Close()
	survey, sum, err := look(ctx, in, c)
	if err != nil {
		return err
	}
	for _, t := range survey.Schema.Tables {
		if t.Rows && len(t.Columns) == 0 {
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
	b := &builder{ctx: ctx, about: About{Version: aboutVersion, Size: info.Size(), Time: info.ModTime(), Sum: sum, Dialect: survey.Schema.Dialect}, config: c, inserts: map[string]*sql.Stmt{}}
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
	config  Config
	about   About
	lock    sync.Mutex
	tx      *sql.Tx
	inserts map[string]*sql.Stmt
	places  []int64 // of about.Left, in the dump
	err     error
}

func (b *builder) fill(path string, in *pack.Source, survey *dump.Survey) error {
	abs, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+abs+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if b.tx, err = db.BeginTx(b.ctx, nil); err != nil {
		return err
	}
	defer b.tx.Rollback()
	for _, t := range b.about.Tables {
		if len(t.Columns) > 0 {
			if _, err := b.tx.ExecContext(b.ctx, definition(&t)); err != nil {
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
	h := dump.Handler{Row: func(_ int, r *dump.Row) { b.row(r) }, Beside: func(_ int, p *dump.Passage) { b.beside(p) }, Only: func(*dump.Table) bool { return true }}
	read := func(n int64) {
		done += n
		if b.config.Progress != nil {
			b.config.Progress("copying the dump", done, survey.Bytes)
		}
	}
	if err := survey.Rewrite(b.ctx, r, io.Discard, h, dump.Output{Read: read}); err != nil {
		return err
	}
	if b.err != nil {
		return b.err
	}
	if err := b.lines(in); err != nil {
		return err
	}
	slices.SortStableFunc(b.about.Left, func(x, y sheet.Left) int { return x.Line - y.Line })
	about, err := json.Marshal(b.about)
	if err != nil {
		return err
	}
	if _, err := b.tx.ExecContext(b.ctx, "CREATE TABLE "+aboutTable+" (about BLOB)"); err != nil {
		return err
	}
	if _, err := b.tx.ExecContext(b.ctx, "INSERT INTO "+aboutTable+" VALUES (?)", about); err != nil {
		return err
	}
	return b.tx.Commit()
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

// row copies one row.
func (b *builder) row(r *dump.Row) {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.err != nil {
		return
	}
	if r.More {
		return // of what is set where the row is there, beside counts the references
	}
	if r.Assigns {
		b.err = fmt.Errorf("%w: %s", ErrUpdates, r.Table)
		return
	}
	if len(r.Columns) != r.Len() {
		b.err = fmt.Errorf("a row of %s has %d values and the table %d columns", r.Table, r.Len(), len(r.Table.Columns))
		return
	}
	stmt, err := b.insert(r)
	if err == nil {
		args := []any{r.Offset()}
		for i := range r.Columns {
			args = append(args, b.value(r, i))
		}
		_, err = stmt.ExecContext(b.ctx, args...)
	}
	if err != nil {
		b.err = fmt.Errorf("a row of %s: %w", r.Table, err)
	}
}

// insert returns the statement for rows with these columns.
func (b *builder) insert(r *dump.Row) (*sql.Stmt, error) {
	names := make([]string, len(r.Columns))
	for i, c := range r.Columns {
		names[i] = quote(c.Name)
	}
	text := "INSERT INTO " + quote(r.Table.String()) + " (_rowid_, " + strings.Join(names, ", ") + ") VALUES (?" + strings.Repeat(", ?", len(names)) + ")"
	if s := b.inserts[text]; s != nil {
		return s, nil
	}
	s, err := b.tx.PrepareContext(b.ctx, text)
	b.inserts[text] = s
	return s, err
}

// value returns a value for the copy.
func (b *builder) value(r *dump.Row, i int) any {
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
