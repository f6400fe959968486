package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
)

// IsSystemFile tells a file of the user's own from the name of a built-in system description.
func IsSystemFile(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// SystemsNamed returns the built-in system description of a name, or the one in a file of the user's own; without a name
// all that are built in.
func SystemsNamed(name string) ([]*system.System, error) {
	if IsSystemFile(name) {
		b, err := disk.ReadTrusted(name, MaxSettings)
		if err != nil {
			return nil, err
		}
		l, err := system.Parse(b)
		return []*system.System{l}, err
	}
	names := system.Names()
	if name != "" {
		names = []string{name}
	}
	var out []*system.System
	for _, n := range names {
		l, err := system.Get(n)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// UnknownSystem says in a user's words why a system description cannot be used.
func UnknownSystem(err error) error {
	if refused := Untrusted(err); refused != nil {
		return refused
	}
	return BadUse(err, "the system description", "name one of: --system "+strings.Join(system.Names(), ", ")+", or a FILE.yaml of your own")
}

// Systems is what the systems command shows: all system descriptions, or one.
type Systems struct {
	All    []SystemName   `json:"all,omitempty"`
	One    *system.System `json:"one,omitempty"`
	Source string         `json:"source,omitempty"` // "built in", or the user's file
	Checks []SystemCheck  `json:"checks,omitempty"` // held against the site's database
}

// SystemName is one built-in system description.
type SystemName struct {
	Name  string `json:"name"`
	Title string `json:"title"`
}

// SystemCheck is one thing that a system description says of a database.
type SystemCheck struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Note string `json:"note,omitempty"`
}

// Code is the exit code that it comes to.
func (l *Systems) Code() int {
	if slices.ContainsFunc(l.Checks, func(c SystemCheck) bool { return !c.OK }) {
		return Remain
	}
	return Clean
}

// ShowSystems lists the built-in system descriptions, or reads the one called name, which may
// be a file.
func ShowSystems(name string) (*Systems, error) {
	if name == "" {
		out := &Systems{}
		for _, n := range system.Names() {
			l, err := system.Get(n)
			if err != nil {
				return nil, BadUse(err, "a built-in system description", "report this")
			}
			out.All = append(out.All, SystemName{n, l.Title})
		}
		return out, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return nil, Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	l, err := SystemOf(&sitefile.File{System: name, Dir: dir})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, BadUse(nil, "there is no file "+name, "name a system description, or a file that ends in .yaml")
	}
	if err != nil {
		return nil, BadUse(err, name, "fix the file; docs/systems.md says what may stand in it")
	}
	out := &Systems{One: l, Source: "built in"}
	if strings.HasSuffix(name, ".yaml") {
		out.Source = name
	}
	return out, nil
}

// CheckSystem holds a system description against the site's database: are the tables, columns
// and settings there that it names? name is a system or a file; "": the site's own.
func (j *Job) CheckSystem(ctx context.Context, name string) (*Systems, error) {
	defer j.Progress.End()
	if name == "" {
		name = j.File.System
		if strings.HasSuffix(name, ".yaml") {
			name = j.File.Abs(name)
		}
	}
	out, err := ShowSystems(name)
	if err != nil {
		return nil, err
	}
	c, err := j.Config()
	if err != nil {
		return nil, err
	}
	c.ReadOnly = true
	db, err := j.Connect(ctx, c)
	if err != nil {
		return nil, DatabaseFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, j.File.Database.Prefix)
	if err != nil {
		return nil, DatabaseFault(err, c)
	}
	checks := systemChecks{job: j, tables: tables, out: out, seen: map[string]bool{}}
	checks.all(ctx, db)
	return out, nil
}

// systemChecks holds what a system description names against the tables of a database.
type systemChecks struct {
	job    *Job
	tables []database.Table
	out    *Systems
	seen   map[string]bool
}

// all checks every table, column and setting that the system description names.
func (c *systemChecks) all(ctx context.Context, db database.Database) {
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
		check := SystemCheck{What: fmt.Sprintf("%s: %s %q", a.Title, a.Where, a.Equals), OK: found && err == nil}
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
	for _, d := range l.Derived {
		c.columns(d.Table, d.Column, d.Of)
	}
	if s := l.Sites; s != nil {
		c.columns(s.Table, s.ID, s.Host, s.Folder)
	}
}

// columns checks a table and columns of it, each once; "" is none.
func (c *systemChecks) columns(table string, columns ...string) {
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

func (c *systemChecks) once(what string, ok bool, note string) {
	if !c.seen[what] {
		c.seen[what] = true
		c.out.Checks = append(c.out.Checks, SystemCheck{what, ok, note})
	}
}
