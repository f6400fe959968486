package work

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/outside/system"
)

// Place is one of several sites in a database.
type Place struct {
	Site    int    `json:"site"`
	Address string `json:"address"` // host and folder
}

// maxSites bounds how many sites of one database are listed.
const maxSites = 100_000

// FindSites reads which sites the database holds, and which longer prefixes are
// those of other systems.
func (j *Job) FindSites(ctx context.Context, db database.Database, tables []database.Table) error {
	prefix := j.File.Database.Prefix
	j.sites = map[int]Place{}
	if s := j.System.Sites; s != nil {
		if t, ok := database.Find(tables, prefix+s.Table); ok {
			columns := []string{s.ID, s.Host}
			if s.Folder != "" {
				columns = append(columns, s.Folder)
			}
			rows, err := db.Rows(ctx, t, columns, maxSites)
			if err != nil {
				return err
			}
			for _, r := range rows {
				if n, err := strconv.Atoi(string(r[0].Bytes)); err == nil {
					p := Place{Site: n, Address: string(r[1].Bytes)}
					if len(r) > 2 {
						p.Address += strings.TrimSuffix(string(r[2].Bytes), "/")
					}
					j.sites[n] = p
				}
			}
		}
	}
	j.others = nil
	for _, p := range j.System.Prefix(TableNames(tables)) {
		if site, rest := j.Set(p); p != prefix && strings.HasPrefix(p, prefix) && (rest != "" || j.sites[site].Site == 0) {
			j.others = append(j.others, p)
		}
	}
	return nil
}

// Set tells to which site of the database a table belongs, and its name in the
// system description.
func (j *Job) Set(table string) (site int, short string) {
	return j.System.Set(strings.TrimPrefix(table, j.File.Database.Prefix), func(n int) bool { _, ok := j.sites[n]; return ok })
}

// Short returns a table's name as system descriptions know it.
func (j *Job) Short(table string) string {
	_, short := j.Set(table)
	return short
}

// Foreign reports whether a table belongs to another system, whose prefix only
// begins like ours.
func (j *Job) Foreign(table string) bool {
	return slices.ContainsFunc(j.others, func(p string) bool { return strings.HasPrefix(table, p) })
}

// Place returns the site of a number, of several in the database.
func (j *Job) Place(n int) (Place, bool) { p, ok := j.sites[n]; return p, ok }

// HasSite reports whether the database lists a site of that number.
func (j *Job) HasSite(n int) bool { _, ok := j.sites[n]; return ok }

// Places lists the sites of the database, by number.
func (j *Job) Places() []Place {
	var out []Place
	for _, p := range j.sites {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Place) int { return a.Site - b.Site })
	return out
}

// JoinedChoice joins what the site file and the flags choose, and refuses patterns that
// cannot be read and sites that are not there.
func (j *Job) JoinedChoice() (change.Choice, error) {
	c, o := j.File.Choose, j.Choice
	if len(o.Tables) > 0 {
		c.Tables = o.Tables
	}
	c.Except = append(slices.Clone(c.Except), o.Except...)
	if len(o.Sites) > 0 {
		c.Sites = o.Sites
	}
	if o.Address != "" {
		c.Address = o.Address
	}
	for _, p := range slices.Concat(c.Tables, c.Except) {
		if _, err := path.Match(p, ""); err != nil {
			return c, BadUse(nil, fmt.Sprintf("the pattern %q cannot be read", p), "write a name, with * for any letters and ? for one")
		}
	}
	for _, n := range c.Sites {
		if _, ok := j.sites[n]; !ok {
			return c, BadUse(nil, fmt.Sprintf("the database lists no site %d", n), "trimlantern init lists the sites of a database")
		}
	}
	if c.Address != "" && !slices.ContainsFunc(j.System.Addresses, func(a system.Address) bool { return a.Name == c.Address }) {
		var names []string
		for _, a := range j.System.Addresses {
			names = append(names, a.Name)
		}
		return c, BadUse(nil, fmt.Sprintf("the system description %s knows no address %q", j.System.Name, c.Address), "it knows: "+strings.Join(names, ", "))
	}
	return c, nil
}

// Chosen picks the tables of a choice. A pattern that fits no table is refused: it
// is a slip.
func (j *Job) Chosen(c change.Choice, tables []database.Table) ([]database.Table, error) {
	for _, p := range slices.Concat(c.Tables, c.ExceptTables()) {
		if !slices.ContainsFunc(tables, func(t database.Table) bool { return j.Fits(p, t.Name) }) {
			return nil, BadUse(nil, fmt.Sprintf("no table matches %q", p), "check the name; it may be given with or without the prefix")
		}
	}
	for _, p := range c.ExceptColumns() {
		if !slices.ContainsFunc(tables, func(t database.Table) bool {
			return slices.ContainsFunc(t.All, func(c database.Column) bool { return j.FitsColumn(p, t.Name, c.Name) })
		}) {
			return nil, BadUse(nil, fmt.Sprintf("no column matches %q", p), "write TABLE.COLUMN, or *.COLUMN for every table")
		}
	}
	return slices.DeleteFunc(slices.Clone(tables), func(t database.Table) bool {
		fits := func(p string) bool { return j.Fits(p, t.Name) }
		site, _ := j.Set(t.Name)
		return len(c.Tables) > 0 && !slices.ContainsFunc(c.Tables, fits) || slices.ContainsFunc(c.ExceptTables(), fits) ||
			len(c.Sites) > 0 && !slices.Contains(c.Sites, site)
	}), nil
}

// Fits reports whether a pattern means a table: with the prefix, without, or as
// the system description calls it.
func (j *Job) Fits(pattern, table string) bool {
	for _, name := range []string{table, strings.TrimPrefix(table, j.File.Database.Prefix), j.Short(table)} {
		if ok, err := path.Match(pattern, name); ok && err == nil {
			return true
		}
	}
	return false
}

// FitsColumn reports whether a pattern means a column: TABLE.COLUMN, or COLUMN alone for that of any table.
func (j *Job) FitsColumn(pattern, table, column string) bool {
	if i := strings.LastIndexByte(pattern, '.'); i >= 0 {
		if !j.Fits(pattern[:i], table) {
			return false
		}
		pattern = pattern[i+1:]
	}
	ok, err := path.Match(pattern, column)
	return ok && err == nil
}
