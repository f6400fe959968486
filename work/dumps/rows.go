package dumps

import (
	"cmp"
	"context"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
	"trimlantern/outside/system"
	"trimlantern/work"
	"trimlantern/work/judge"
	"trimlantern/work/preview"
)

// tally is what one worker counted; workers share nothing.
type tally struct {
	f                 *filtering
	judge             judge.Judge
	tables            map[string]*change.TableCount
	nameless          map[string]bool
	known             map[knownKey]*knownTable
	last              knownKey    // the table of the row before
	lastIs            *knownTable // what is known of it
	hosts             map[string]int
	counts            map[rewrite.Reason]int
	left              []finding
	inCode, addresses int
	kept              map[rewrite.Reason]int
	err               error
	_                 [64]byte // each on a cache line of its own
}

// knownKey names a table with its columns in the order of one statement.
type knownKey struct {
	table   *dump.Table
	columns *dump.Column
}

// knownTable is what a worker knows of a table.
type knownTable struct {
	count   *change.TableCount
	short   string
	system  *system.System
	columns []database.Column
	kept    bool // its rows are never changed
	blind   bool // nobody can tell its columns apart, and some are not to be changed
	address int  // the column that holds addresses of the site; -1: none
}

// dump goes through the dump and writes it.
func (f *filtering) dump(ctx context.Context, out *output) error {
	workers := make([]*tally, runtime.GOMAXPROCS(0))
	for i := range workers {
		workers[i] = newTally(f)
	}
	// What is kept is small: collect seldom, and before much has gathered.
	defer debug.SetGCPercent(debug.SetGCPercent(800))
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(64 << 20))
	in, end, err := f.in.text()
	if err != nil {
		return err
	}
	defer end()
	size, done := f.in.size(), int64(0)
	read := func(n int64) {
		done += n
		f.p.At("filtering", done>>20, size>>20)
	}
	h := dump.Handler{
		Row:    func(n int, r *dump.Row) { workers[n].row(r) },
		Beside: func(n int, p *dump.Passage) { workers[n].beside(p) },
	}
	if err := f.survey.Rewrite(ctx, in, out, h, dump.Output{Cuts: f.in.cuts(), Next: out.Next, Read: read}); err != nil {
		return err
	}
	for _, t := range workers {
		if t.err != nil {
			return t.err
		}
	}
	return f.sum(ctx, workers)
}

// sum puts together what the workers counted.
func (f *filtering) sum(ctx context.Context, workers []*tally) error {
	tables := map[string]*change.TableCount{}
	nameless := map[string]bool{}
	var found []finding
	for _, t := range workers {
		for name, c := range t.tables {
			sum := tables[name]
			if sum == nil {
				sum = &change.TableCount{Table: name}
				tables[name] = sum
			}
			sum.Rows, sum.Read, sum.Cells, sum.References = sum.Rows+c.Rows, sum.Read+c.Read, sum.Cells+c.Cells, sum.References+c.References
		}
		for name := range t.nameless {
			nameless[name] = true
		}
		for h, n := range t.hosts {
			f.out.Hosts[h] += n
		}
		for r, n := range t.counts {
			f.out.Counts[r] += n
		}
		found = append(found, t.left...)
		f.out.InCode += t.inCode
		f.out.Addresses += t.addresses
	}
	f.out.References = f.out.InCode
	for _, c := range tables {
		f.out.Tables = append(f.out.Tables, *c)
		f.out.Rows, f.out.Cells, f.out.References = f.out.Rows+c.Rows, f.out.Cells+c.Cells, f.out.References+c.References
	}
	for name := range nameless {
		f.out.Nameless = append(f.out.Nameless, name)
	}
	slices.Sort(f.out.Nameless)
	slices.SortFunc(f.out.Tables, func(a, b change.TableCount) int { return strings.Compare(a.Table, b.Table) })
	if err := f.lines(ctx, found); err != nil {
		return err
	}
	slices.SortStableFunc(found, func(a, b finding) int {
		return cmp.Or(strings.Compare(string(a.Reason), string(b.Reason)), cmp.Compare(a.offset, b.offset))
	})
	for _, l := range found {
		f.out.Left = append(f.out.Left, l.Left)
	}
	return nil
}

// lines finds the line of each finding.
func (f *filtering) lines(ctx context.Context, found []finding) error {
	if len(found) == 0 {
		return ctx.Err()
	}
	in, end, err := f.in.text()
	if err != nil {
		return err
	}
	defer end()
	places := make([]int64, len(found))
	for i, l := range found {
		places[i] = l.offset
	}
	lines, err := dump.Lines(in, places)
	for i, n := range lines {
		found[i].Line = n
	}
	return err
}

// finding is something that was left, with its place.
type finding struct {
	change.Left
	offset int64
}

func newTally(f *filtering) *tally {
	t := &tally{f: f, judge: judge.Judge{Rules: &rewrite.Rules{Site: f.site}, Lean: true}, tables: map[string]*change.TableCount{}, nameless: map[string]bool{},
		known: map[knownKey]*knownTable{}, hosts: map[string]int{}, counts: map[rewrite.Reason]int{}, kept: map[rewrite.Reason]int{}}
	t.judge.Wants = t.keeps
	return t
}

// row decides over one row of the dump.
func (t *tally) row(r *dump.Row) {
	known := t.of(r)
	if !r.More {
		known.count.Rows++
	}
	if known.kept {
		t.leave(change.Left{Reason: rewrite.Immutable, Table: r.Table.String(), Count: 1}, 0)
		return
	}
	may := false
	for i := range r.Len() {
		may = may || r.May(i)
	}
	if !may {
		return
	}
	known.count.Read++
	if r.Table.Shadow {
		t.leave(change.Left{Reason: rewrite.NotRead, Table: r.Table.String(), Note: "of a virtual table", Count: 1}, r.Offset())
		return
	}
	columns := known.columns
	if len(columns) != r.Len() {
		columns = dumpColumns(r)
	}
	t.judge.System = known.system
	t.judge.Again, t.judge.First, t.judge.Size = r.Again, r.First, r.Size
	label, outcomes, err := t.judge.Row(known.short, columns, r.Value, r.May, true, t.refuse(known, r))
	if err != nil {
		t.err = err
		return
	}
	for _, o := range outcomes {
		for _, l := range o.Left {
			l.Table, l.Column, l.Label = r.Table.String(), columns[o.Column].Name, label
			t.leave(l, r.Offset())
		}
		if len(o.Edits) == 0 {
			continue
		}
		r.Edit(o.Column, o.Edits)
		for _, seal := range o.Seals {
			r.Edit(seal.Column, seal.Edits)
		}
		known.count.Cells += 1 + len(o.Seals)
		known.count.References += o.References
		for _, h := range o.Hosts {
			t.hosts[h.Host] += h.Count
		}
		if o.Column == known.address && t.f.isAddress(known, columns, r) {
			t.addresses++
		}
	}
}

// refuse returns why columns of a row are to be left; nil where nothing is known against any.
func (t *tally) refuse(k *knownTable, r *dump.Row) func(i int) rewrite.Reason {
	if !k.blind && len(t.f.taken) == 0 {
		return nil
	}
	return func(i int) rewrite.Reason {
		switch {
		case k.blind && r.Columns == nil:
			return rewrite.Nameless
		case t.f.taken[place{r.Offset(), i}]:
			return rewrite.Taken
		}
		return ""
	}
}

// leave counts something that was left, and keeps it where it is asked for.
func (t *tally) leave(l change.Left, offset int64) {
	t.counts[l.Reason] += l.Count
	keep := t.keeps(l.Reason)
	if t.kept[l.Reason]++; keep {
		t.left = append(t.left, finding{l, offset})
	}
}

// beside decides over text that is no value.
func (t *tally) beside(p *dump.Passage) {
	if p.Code && !p.Digits && t.f.o.Code {
		res := t.judge.Rules.Value(p.Text)
		p.Edits = res.Edits
		t.inCode += res.References
		for _, h := range res.Hosts {
			t.hosts[h.Host] += h.Count
		}
		for _, l := range res.Left {
			t.leave(change.Left{Reason: l.Reason, Host: l.Host, URL: l.URL, Path: l.Path, Note: l.Note, Count: 1}, p.Offset)
		}
		return
	}
	for _, l := range work.BesideRows(t.judge.Rules, p) {
		t.leave(l, p.Offset)
	}
}

// keeps reports whether one more finding of that reason is kept, and not only counted.
func (t *tally) keeps(r rewrite.Reason) bool {
	if r.NeedsPerson() {
		return t.kept[r] < preview.MaxLeft
	}
	return t.kept[r] < preview.KeepLeft
}

// of returns what is known of a row's table.
func (t *tally) of(r *dump.Row) *knownTable {
	key := knownKey{r.Table, nil}
	if r.Columns != nil {
		key.columns = &r.Columns[0]
	}
	if t.lastIs != nil && key == t.last {
		return t.lastIs
	}
	k := t.known[key]
	if k == nil {
		if len(t.known) > 1000 { // a dump that alternates between tables, row by row
			clear(t.known)
		}
		k = t.know(r)
		t.known[key] = k
	}
	t.last, t.lastIs = key, k
	return k
}

// know finds out once what is known of a table.
func (t *tally) know(r *dump.Row) *knownTable {
	name := r.Table.String()
	count := t.tables[name]
	if count == nil {
		count = &change.TableCount{Table: name}
		t.tables[name] = count
	}
	k := &knownTable{count: count, short: name, system: &system.System{}, address: -1}
	if seen, ok := t.f.known[name]; ok {
		k.short, k.system, k.blind, k.kept = seen.Short, seen.system, seen.Blind, seen.system.IsKept(seen.Short)
		if r.Columns == nil {
			for _, c := range seen.Columns {
				k.columns = append(k.columns, database.Column{Name: c})
			}
		}
	}
	if r.Columns != nil {
		k.columns = dumpColumns(r)
	} else if k.columns == nil {
		t.nameless[name] = true
	}
	for i, c := range k.columns {
		for _, a := range k.system.Addresses {
			if a.Table == k.short && a.Column == c.Name {
				k.address = i
			}
		}
	}
	return k
}

// isAddress reports whether a row is one of the site's own addresses.
func (f *filtering) isAddress(k *knownTable, columns []database.Column, r *dump.Row) bool {
	for _, a := range k.system.Addresses {
		for i, c := range columns {
			if a.Table == k.short && c.Name == a.Where {
				if v, ok := r.Value(i); ok && string(v) == a.Equals {
					return true
				}
			}
		}
	}
	return false
}
