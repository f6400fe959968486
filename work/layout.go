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
	"trimlantern/site/layout"
	"trimlantern/site/sitefile"
)

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
		return nil, world(err, "the working folder cannot be told", "change to a folder that exists")
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
			name = j.File.Path(name)
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
	db, err := database.Open(ctx, c)
	if err != nil {
		return nil, dbFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, j.File.Database.Prefix)
	if err != nil {
		return nil, dbFault(err, c)
	}
	l := out.One
	seen := map[string]bool{}
	column := func(table string, columns ...string) {
		t, ok := database.Find(tables, j.File.Database.Prefix+table)
		if what := "table " + table; !seen[what] {
			seen[what] = true
			note := ""
			if !ok {
				note = "not there"
			}
			// A part that is not installed is no fault, but for what tells the system.
			out.Checks = append(out.Checks, LayoutCheck{what, ok || !slices.Contains(l.Tables, table), note})
		}
		if !ok {
			return
		}
		for _, name := range columns {
			what := table + "." + name
			if name == "" || seen[what] {
				continue
			}
			seen[what] = true
			ok := slices.ContainsFunc(t.All, func(c database.Column) bool { return c.Name == name })
			note := ""
			if !ok {
				note = "the table has no such column"
			}
			out.Checks = append(out.Checks, LayoutCheck{what, ok, note})
		}
	}
	for _, t := range l.Tables {
		column(t)
	}
	for _, a := range l.Addresses {
		column(a.Table, a.Column, a.Where)
		t, ok := database.Find(tables, j.File.Database.Prefix+a.Table)
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
		out.Checks = append(out.Checks, check)
	}
	for _, c := range l.Identifiers {
		column(c.Table, c.Column)
	}
	for _, c := range l.Caches {
		column(c.Table, c.Column)
	}
	for _, lb := range l.Labels {
		column(lb.Table, lb.Column)
	}
	if s := l.Sites; s != nil {
		column(s.Table, s.ID, s.Host, s.Folder)
	}
	return out, nil
}
