package work

import (
	"bytes"
	"context"
	"io"
	"os"
	"slices"
	"strings"
	"sync"

	"trimlantern/core/address"
	"trimlantern/site/dump"
	"trimlantern/site/layout"
)

// learnBlock is how much of a dump is searched at once for the table that lists sites.
const learnBlock = 1 << 20

// learn reads the sister sites from the table of the dump that lists them, if the site itself is listed there.
// The dump is read twice for this, so it must be a file; dumps that do not mention such a table are not.
func (f *filtering) learn(ctx context.Context, o FilterOptions) error {
	if info, err := os.Stat(o.In); err != nil || !info.Mode().IsRegular() {
		return nil
	}
	if names, err := f.listsSites(o); err != nil || !names {
		return err
	}
	in, _, closeIn, err := openInput(o)
	if err != nil {
		return err
	}
	defer closeIn()
	var lock sync.Mutex
	var sisters []address.Site
	listed := false
	collect := func(_ int, r *dump.Row) {
		s := f.sitesOf(r.Table.Name)
		if s == nil || r.Columns == nil || r.Len() == 0 {
			return
		}
		at := ""
		for _, name := range []string{s.Host, s.Folder} {
			i := slices.IndexFunc(r.Columns, func(c dump.Column) bool { return c.Name == name })
			if i < 0 {
				continue
			}
			if v, ok := r.Value(i); ok {
				at += string(v)
			}
		}
		one, err := address.Parse("https://" + strings.TrimSuffix(at, "/"))
		if err != nil {
			return // what is no address names no site
		}
		lock.Lock()
		defer lock.Unlock()
		listed = listed || slices.Contains(f.site.Hosts(), one.Host)
		sisters = append(sisters, one)
	}
	_, err = dump.Rewrite(ctx, in, io.Discard, collect, dump.Options{MaxUnit: o.Row << 20, Whole: func(table string) bool { return f.sitesOf(table) != nil }})
	if err != nil || !listed {
		return err
	}
	slices.SortFunc(sisters, func(a, b address.Site) int { return strings.Compare(a.String(), b.String()) })
	f.site = f.site.WithSisters(append(f.site.Sisters, sisters...)...)
	f.out.Sisters = sistersOf(f.site)
	return nil
}

// sistersOf returns the addresses of the other sites of a network.
func sistersOf(site address.Site) []string {
	out := []string{}
	for _, s := range site.Sisters {
		out = append(out, s.String())
	}
	return out
}

// sitesOf returns how the table lists the sites of a network; nil where it does not.
func (f *filtering) sitesOf(table string) *layout.Sites {
	for _, l := range f.layouts {
		if s := l.Sites; s != nil && (table == s.Table || strings.HasSuffix(table, "_"+s.Table)) {
			return s
		}
	}
	return nil
}

// listsSites reports whether the dump names a table that lists sites.
func (f *filtering) listsSites(o FilterOptions) (bool, error) {
	in, _, closeIn, err := openInput(o)
	if err != nil {
		return false, err
	}
	defer closeIn()
	longest := 0
	for _, l := range f.layouts {
		if l.Sites != nil {
			longest = max(longest, len(l.Sites.Table))
		}
	}
	buf := make([]byte, 0, learnBlock)
	for {
		n, err := io.ReadFull(in, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		for _, l := range f.layouts {
			if l.Sites != nil && bytes.Contains(buf, []byte(l.Sites.Table)) {
				return true, nil
			}
		}
		if err != nil {
			return false, nil // the end; what is broken is said when it is filtered
		}
		buf = buf[:copy(buf, buf[max(0, len(buf)-longest):])]
	}
}
