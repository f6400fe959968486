package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"trimlantern/site/database"
	"trimlantern/site/disk"
	"trimlantern/site/layout"
	"trimlantern/site/sitefile"
)

// isLayoutFile tells a file of the user's own from the name of a built-in layout.
func isLayoutFile(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// layoutsNamed returns the built-in layout of a name, or the one in a file of the user's own; without a name
// all that are built in.
func layoutsNamed(name string) ([]*layout.Layout, error) {
	if isLayoutFile(name) {
		b, err := disk.ReadTrusted(name, maxSettings)
		if err != nil {
			return nil, err
		}
		l, err := layout.Parse(b)
		return []*layout.Layout{l}, err
	}
	names := layout.Names()
	if name != "" {
		names = []string{name}
	}
	var out []*layout.Layout
	for _, n := range names {
		l, err := layout.Get(n)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// unknownLayout says in a user's words why a layout cannot be used.
func unknownLayout(err error) error {
	if refused := untrusted(err); refused != nil {
		return refused
	}
	return misuse(err, "the layout", "name one of: --layout "+strings.Join(layout.Names(), ", ")+", or a FILE.yaml of your own")
}

// Layouts is what the layout command shows: all layouts, or one.
type Layouts struct {
	All    []LayoutName   `json:"all,omitempty"`
	One    *layout.Layout `json:"one,omitempty"`
	Source string         `json:"source,omitempty"` // "built in", or the user's file
	Checks []LayoutCheck  `json:"checks,omitempty"` // held against the site's database
}

// LayoutName is one built-in layout.
type LayoutName struct {
	Name  string `json:"name"`
	Title string `json:"title"`
}

// LayoutCheck is one thing that a layout says of a database.
type LayoutCheck struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Note string `json:"note,omitempty"`
}

// Code is the exit code that it comes to.
func (l *Layouts) Code() int {
	if slices.ContainsFunc(l.Checks, func(c LayoutCheck) bool { return !c.OK }) {
		return Remain
	}
	return Clean
}

// ShowLayouts lists the built-in layouts, or reads the one called name, which may
// be a file.
func ShowLayouts(name string) (*Layouts, error) {
	if name == "" {
		out := &Layouts{}
		for _, n := range layout.Names() {
			l, err := layout.Get(n)
			if err != nil {
				return nil, misuse(err, "a built-in layout", "report this")
			}
			out.All = append(out.All, LayoutName{n, l.Title})
		}
		return out, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return nil, world(err, "cannot determine the current folder", "change to a folder that exists")
	}
	l, err := layoutOf(&sitefile.File{Layout: name, Dir: dir})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, misuse(nil, "there is no file "+name, "name a layout, or a file that ends in .yaml")
	}
	if err != nil {
		return nil, misuse(err, name, "fix the file; docs/layouts.md says what may stand in it")
	}
	out := &Layouts{One: l, Source: "built in"}
	if strings.HasSuffix(name, ".yaml") {
		out.Source = name
	}
	return out, nil
}

// CheckLayout holds a layout against the site's database: are the tables, columns
// and settings there that it names? name is a layout or a file; "": the site's own.
func (j *Job) CheckLayout(ctx context.Context, name string) (*Layouts, error) {
	defer j.Progress.End()
	if name == "" {
		name = j.File.Layout
		if strings.HasSuffix(name, ".yaml") {
			name = j.File.Abs(name)
		}
	}
	out, err := ShowLayouts(name)
	if err != nil {
		return nil, err
	}
	c, err := j.config()
	if err != nil {
		return nil, err
	}
	c.ReadOnly = true
	db, err := j.connect(ctx, c)
	if err != nil {
		return nil, dbFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, j.File.Database.Prefix)
	if err != nil {
		return nil, dbFault(err, c)
	}
	checks := layoutChecks{job: j, tables: tables, out: out, seen: map[string]bool{}}
	checks.all(ctx, db)
	return out, nil
}

// layoutChecks holds what a layout names against the tables of a database.
type layoutChecks struct {
	job    *Job
	tables []database.Table
	out    *Layouts
	seen   map[string]bool
}

// all checks every table, column and setting that the layout names.
func (c *layoutChecks) all(ctx context.Context, db database.Database) {
	l := c.out.One
	for _, t := range l.Tables {
		c.columns(t)
	}
	for _, a := range l.Addresses {
		c.columns(a.Table, a.Column, a.Where)
		t, ok := database.Find(c.tables, c.job.File.Database.Prefix+a.Table)
		if !ok {
			continue
		}
		v, _, found, err := db.Lookup(ctx, t, a.Column, a.Where, a.Equals)
		check := LayoutCheck{What: fmt.Sprintf("%s: %s %q", a.Title, a.Where, a.Equals), OK: found && err == nil}
		switch {
		case err != nil:
			check.Note = "cannot be read"
		case !found:
			check.Note = "no such row"
		default:
			check.Note = string(v.Bytes)
		}
		c.out.Checks = append(c.out.Checks, check)
	}
	for _, i := range l.Identifiers {
		c.columns(i.Table, i.Column)
	}
	for _, k := range l.Caches {
		c.columns(k.Table, k.Column)
	}
	for _, lb := range l.Labels {
		c.columns(lb.Table, lb.Column)
	}
	if s := l.Sites; s != nil {
		c.columns(s.Table, s.ID, s.Host, s.Folder)
	}
}

// columns checks a table and columns of it, each once; "" is none.
func (c *layoutChecks) columns(table string, columns ...string) {
	t, ok := database.Find(c.tables, c.job.File.Database.Prefix+table)
	// A part that is not installed is no fault, but for what tells the system.
	note := ""
	if !ok {
		note = "not there"
	}
	c.once("table "+table, ok || !slices.Contains(c.out.One.Tables, table), note)
	if !ok {
		return
	}
	for _, name := range columns {
		if name == "" {
			continue
		}
		note := ""
		ok := slices.ContainsFunc(t.All, func(c database.Column) bool { return c.Name == name })
		if !ok {
			note = "the table has no such column"
		}
		c.once(table+"."+name, ok, note)
	}
}

func (c *layoutChecks) once(what string, ok bool, note string) {
	if !c.seen[what] {
		c.seen[what] = true
		c.out.Checks = append(c.out.Checks, LayoutCheck{what, ok, note})
	}
}
