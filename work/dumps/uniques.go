package dumps

import (
	"bytes"
	"cmp"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"
	"sync"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
	"trimlantern/outside/dump"
	"trimlantern/outside/system"
	"trimlantern/work/judge"
)

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
