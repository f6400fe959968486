package dumps

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strings"
	"sync"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
	"trimlantern/outside/system"
	"trimlantern/work"
	"trimlantern/work/judge"
)

// known is what the system descriptions know of a table of the dump.
type known struct {
	system.Known
	system *system.System
}

// look reads the dump once or twice before anything is written: its schema, the system it is of, the site's
// own addresses and its sister sites, and where a change would break a unique key.
func (f *filtering) look(ctx context.Context) error {
	var err error
	if f.o.Tables != "" {
		if f.defined, err = f.definitions(ctx); err != nil {
			return err
		}
	}
	if f.survey, err = f.surveyed(ctx); err != nil {
		return err
	}
	s := f.survey.Schema
	f.out.Dialect, f.out.BytesIn = s.Dialect.String(), f.survey.Bytes
	f.out.Makes, f.out.Drops, f.out.CutOff = s.Makes, s.Drops, f.survey.CutOff
	f.recognise(s)
	return f.learn(ctx)
}

// definitions reads the dump that defines the tables.
func (f *filtering) definitions(ctx context.Context) (*dump.Schema, error) {
	name := f.o.Tables
	other := &filtering{o: Options{In: name, Dialect: f.o.Dialect, Row: f.o.Row}, p: f.p}
	var err error
	if other.in, err = openInput(other.o); err != nil {
		return nil, other.failed(err, true)
	}
	defer other.in.close()
	s, err := other.surveyed(ctx)
	if err != nil {
		return nil, other.failed(err, true)
	}
	if !s.Schema.Makes {
		return nil, work.BadUse(nil, name+" defines no tables", "give a dump with the structure of the tables")
	}
	return s.Schema, nil
}

// dialects are the names of the dialects for users.
var dialects = map[string]dump.Dialect{"": dump.Unknown, "mysql": dump.MySQL, "mariadb": dump.MySQL, "postgres": dump.Postgres, "sqlite": dump.SQLite}

// surveyed surveys the dump. Where nothing tells its dialect, it is the only one in which the dump can be read,
// or any where it reads the same in all.
func (f *filtering) surveyed(ctx context.Context) (*dump.Survey, error) {
	is := dialects[f.o.Dialect]
	if is == dump.Unknown {
		is = dump.Sniff(f.in.head)
	}
	if is != dump.Unknown {
		return f.surveyAs(ctx, is)
	}
	var fits []*dump.Survey
	var first error
	for _, d := range []dump.Dialect{dump.MySQL, dump.Postgres, dump.SQLite} {
		s, err := f.surveyAs(ctx, d)
		if err == nil && len(s.Schema.Tables) > 0 {
			fits = append(fits, s)
		} else if first == nil {
			first = err
		}
	}
	if len(fits) == 0 && first != nil && !errors.Is(first, dump.ErrStatement) {
		return nil, first
	}
	if len(fits) == 0 {
		return nil, dump.ErrDialect
	}
	if len(fits) > 1 {
		same, err := f.without(ctx, "\\\"`$")
		if err != nil {
			return nil, err
		}
		if !same {
			return nil, work.BadUse(nil, "nothing in this dump tells whose SQL it is", "say it: --dialect mysql, --dialect postgres or --dialect sqlite")
		}
	}
	return fits[0], nil
}

func (f *filtering) surveyAs(ctx context.Context, d dump.Dialect) (*dump.Survey, error) {
	in, end, err := f.in.text()
	if err != nil {
		return nil, err
	}
	defer end()
	size, done := f.in.size(), int64(0)
	read := func(n int64) {
		done += n
		f.p.At("reading", done>>20, size>>20)
	}
	return dump.Look(ctx, in, dump.Options{Dialect: d, Known: f.defined, Charset: strings.ToLower(f.o.Charset), MaxUnit: f.o.Row << 20, Read: read})
}

// without reports whether the dump has none of some bytes.
func (f *filtering) without(ctx context.Context, set string) (bool, error) {
	return f.search(ctx, func(b []byte) bool { return !bytes.ContainsAny(b, set) })
}

// search reads the dump in pieces that overlap, for as long as each passes.
func (f *filtering) search(ctx context.Context, passes func([]byte) bool) (all bool, err error) {
	in, end, err := f.in.text()
	if err != nil {
		return false, err
	}
	defer end()
	const overlap = 300
	buf := make([]byte, 0, 1<<20)
	for ctx.Err() == nil {
		n, err := io.ReadFull(in, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if !passes(buf) {
			return false, nil
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		buf = buf[:copy(buf, buf[max(0, len(buf)-overlap):])]
	}
	return false, ctx.Err()
}

// recognise tells the system by the tables of the dump.
func (f *filtering) recognise(s *dump.Schema) {
	var seen []system.Seen
	for _, t := range s.Tables {
		one := system.Seen{Name: t.String(), Width: t.Width}
		columns := t.Columns
		if len(columns) == 0 {
			columns = t.Listed
		}
		for _, c := range columns {
			one.Columns = append(one.Columns, c.Name)
		}
		seen = append(seen, one)
	}
	f.known = map[string]known{}
	for _, l := range f.systems {
		for name, k := range l.Recognise(seen) {
			if _, ok := f.known[name]; !ok {
				f.known[name] = known{k, l}
				f.out.System = cmp.Or(f.out.System, l.Name)
			}
		}
	}
}

// learning is what the second reading finds out.
type learning struct {
	f         *filtering
	lock      sync.Mutex
	addresses []address.Site
	sisters   []address.Site
	listed    bool // the site is one of those that the dump lists
	uniques   map[*dump.Table]*uniques
}

// learn reads the rows of those tables that say something of all others.
func (f *filtering) learn(ctx context.Context) error {
	l := &learning{f: f, uniques: map[*dump.Table]*uniques{}}
	asked := map[*dump.Table]bool{}
	for _, t := range f.survey.Schema.Tables {
		k := f.known[t.String()]
		if u := newUniques(f.site, t); u != nil && t.Rows {
			l.uniques[t] = u
		}
		asked[t] = t.Rows && (l.uniques[t] != nil || k.system != nil && (isSites(k) || isAddresses(k)))
	}
	any := false
	for _, a := range asked {
		any = any || a
	}
	if !any {
		return nil
	}
	in, end, err := f.in.text()
	if err != nil {
		return err
	}
	defer end()
	h := dump.Handler{Row: l.row, Only: func(t *dump.Table) bool { return asked[t] }}
	if err := f.survey.Rewrite(ctx, in, io.Discard, h, dump.Output{}); err != nil {
		return err
	}
	if l.listed {
		slices.SortFunc(l.sisters, func(a, b address.Site) int { return strings.Compare(a.String(), b.String()) })
		f.site = f.site.WithSisters(append(f.site.Sisters, l.sisters...)...)
		f.out.Sisters = work.SistersOf(f.site)
	}
	f.taken = map[place]bool{}
	for _, u := range l.uniques {
		u.collisions(f.taken)
	}
	if err := l.rightSite(); err != nil {
		return err
	}
	return l.allDefined()
}

// allDefined refuses references in tables that nobody defines: their columns may be too short, of fixed values,
// or unique, and then the database cuts or loses what is changed.
func (l *learning) allDefined() error {
	if l.f.o.Rows {
		return nil
	}
	var names []string
	for t, u := range l.uniques {
		if len(t.Columns) == 0 && u.edits > 0 {
			names = append(names, t.String())
		}
	}
	if len(names) == 0 {
		return nil
	}
	slices.Sort(names)
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("%d more", len(names)-4))
	}
	return work.BadUse(nil, "the dump has rows of "+strings.Join(names, ", ")+" and does not define these tables, so nobody knows what fits into their columns",
		"export structure and data; or name a dump of the structure: --tables FILE; or change them all the same: --rows-only")
}

func isSites(k known) bool { return k.system.Sites != nil && k.Short == k.system.Sites.Table }

func isAddresses(k known) bool {
	return slices.ContainsFunc(k.system.Addresses, func(a system.Address) bool { return a.Table == k.Short })
}

// rightSite holds the site against the addresses that the dump has.
func (l *learning) rightSite() error {
	if len(l.addresses) == 0 {
		return nil
	}
	ours := l.f.site.Hosts()
	for _, s := range l.f.site.Sisters {
		ours = append(ours, s.Hosts()...)
	}
	for _, a := range l.addresses {
		if slices.Contains(ours, a.Host) {
			return nil
		}
	}
	other := l.addresses[0].Host
	return work.BadUse(nil, fmt.Sprintf("this dump belongs to another site: its address is %s", other), fmt.Sprintf("name that one: --site https://%s; or, where both are names of one site: --also %s", other, other))
}

// row reads one row.
func (l *learning) row(_ int, r *dump.Row) {
	k := l.f.known[r.Table.String()]
	get := func(name string) string {
		i := columnOf(r, k, name)
		if i < 0 {
			return ""
		}
		v, _ := r.Value(i)
		return string(v)
	}
	if k.system != nil && isSites(k) {
		s := k.system.Sites
		if one, err := address.Parse("https://" + strings.TrimSuffix(get(s.Host)+get(s.Folder), "/")); err == nil {
			l.lock.Lock()
			l.listed = l.listed || slices.Contains(l.f.site.Hosts(), one.Host)
			l.sisters = append(l.sisters, one)
			l.lock.Unlock()
		}
	}
	if k.system != nil {
		for _, a := range k.system.Addresses {
			if a.Table != k.Short || get(a.Where) != a.Equals {
				continue
			}
			if one, err := address.Parse(secured(get(a.Column))); err == nil {
				l.lock.Lock()
				l.addresses = append(l.addresses, one)
				l.lock.Unlock()
			}
		}
	}
	if u := l.uniques[r.Table]; u != nil && !r.More {
		u.add(r)
	}
}

// secured returns an address with the secure scheme, which address.Parse asks for.
func secured(u string) string {
	if rest, ok := strings.CutPrefix(strings.TrimSpace(u), "http://"); ok {
		return "https://" + strings.TrimSuffix(rest, "/")
	}
	return strings.TrimSuffix(strings.TrimSpace(u), "/")
}

// columnOf returns the place of a column in a row, or -1.
func columnOf(r *dump.Row, k known, name string) int {
	if r.Columns != nil {
		return slices.IndexFunc(r.Columns, func(c dump.Column) bool { return strings.EqualFold(c.Name, name) })
	}
	if len(k.Columns) == r.Len() {
		return slices.Index(k.Columns, name)
	}
	return -1
}

// place is one value of the dump: its row's place and its number in the row.
type place struct {
	row    int64
	column int
}

// uniques finds rows of one table whose change would make two keys equal that are not.
type uniques struct {
	lock  sync.Mutex
	judge judge.Judge
	keys  []dump.Unique // where the dump defines the table
	seed  maphash.Seed
	edits int               // values that change, where the dump does not define the table
	found map[string]*keyed // by key; of a table that the dump does not define, by column
}

// keyed are the values of one key.
type keyed struct {
	before map[uint64]bool
	twice  bool // a value is there twice: it is no key
	change map[uint64][]changedKey
}

// changedKey is a key that a change makes another one.
type changedKey struct {
	before  uint64
	row     int64
	columns []int // of the row
}

// newUniques returns what looks for collisions in a table; nil where none can be. Of a table that the dump does
// not define each column may be a key.
func newUniques(site address.Site, t *dump.Table) *uniques {
	u := &uniques{judge: judge.Judge{Rules: &rewrite.Rules{Site: site}, System: &system.System{}}, seed: maphash.MakeSeed(), found: map[string]*keyed{}}
	if len(t.Columns) == 0 {
		return u
	}
	for _, key := range t.Unique {
		if slices.ContainsFunc(key.Columns, func(name string) bool { c, ok := t.Column(name); return ok && c.Text }) {
			u.keys = append(u.keys, key)
		}
	}
	if len(u.keys) == 0 {
		return nil
	}
	return u
}

// longestKey is how long a value of an index is at the most, in bytes.
const longestKey = 3072

// add reads the keys of a row, before and after its change.
func (u *uniques) add(r *dump.Row) {
	u.lock.Lock()
	defer u.lock.Unlock()
	for _, key := range u.keys {
		columns := make([]int, len(key.Columns))
		for k, name := range key.Columns {
			columns[k] = columnOf(r, known{}, name)
		}
		if !slices.Contains(columns, -1) {
			u.key(r, strings.Join(key.Columns, "\x00"), columns, key.Prefixes)
		}
	}
	if u.keys != nil {
		return
	}
	for i := range r.Len() {
		if v, ok := r.Value(i); ok && r.May(i) && len(u.judge.Rules.Value(v).Edits) > 0 {
			u.edits++
		}
	}
	for i := range r.Len() { // only addresses can become equal to addresses
		if v, ok := r.Value(i); ok && len(v) <= longestKey && (r.May(i) || bytes.Contains(v, []byte("https"))) {
			name := fmt.Sprint(i)
			if r.Columns != nil {
				name = r.Columns[i].Name
			}
			u.key(r, name, []int{i}, []int{0})
		}
	}
}

// key notes one key of a row.
func (u *uniques) key(r *dump.Row, name string, columns, prefixes []int) {
	var was, is maphash.Hash
	was.SetSeed(u.seed)
	is.SetSeed(u.seed)
	changed := false
	for k, i := range columns {
		v, ok := r.Value(i)
		if !ok {
			if v, ok = r.Bare(i); !ok || strings.EqualFold(string(v), "NULL") || string(v) == `\N` {
				return // equal to nothing
			}
		}
		after := v
		if r.May(i) {
			if res := u.judge.Rules.Value(v); len(res.Edits) > 0 {
				if b, err := rewrite.Apply(v, res.Edits); err == nil {
					after, changed = b, true
				}
			}
		}
		was.Write(dump.Folded(v, prefixes[k]))
		is.Write(dump.Folded(after, prefixes[k]))
		was.WriteByte(0)
		is.WriteByte(0)
	}
	f := u.found[name]
	if f == nil {
		f = &keyed{before: map[uint64]bool{}, change: map[uint64][]changedKey{}}
		u.found[name] = f
	}
	b := was.Sum64()
	f.twice = f.twice || f.before[b]
	f.before[b] = true
	if changed {
		a := is.Sum64()
		f.change[a] = append(f.change[a], changedKey{b, r.Offset(), columns})
	}
}

// collisions adds the values of rows whose changed key another row has already, or gets too.
func (u *uniques) collisions(taken map[place]bool) {
	for _, f := range u.found {
		if f.twice && u.keys == nil {
			continue
		}
		for after, rows := range f.change {
			slices.SortFunc(rows, func(a, b changedKey) int { return cmp.Compare(a.row, b.row) })
			free := !f.before[after]
			for _, c := range rows {
				if c.before == after {
					continue
				}
				if free { // the first has it
					free = false
					continue
				}
				for _, i := range c.columns {
					taken[place{c.row, i}] = true
				}
			}
		}
	}
}

func dumpColumns(r *dump.Row) []database.Column {
	columns := make([]database.Column, max(r.Len(), len(r.Columns)))
	for i, c := range r.Columns {
		columns[i] = database.Column{Name: c.Name, MaxChars: c.MaxChars, MaxBytes: c.MaxBytes}
		if c.List {
			columns[i].Kind = database.List
		}
	}
	return columns
}
