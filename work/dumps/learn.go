package dumps

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"trimlantern/core/address"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
	"trimlantern/outside/system"
	"trimlantern/work"
)

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
