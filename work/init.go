package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/disk"
	"trimlantern/site/layout"
	"trimlantern/site/sitefile"
)

// InitOptions are what the user said; empty fields are found out.
type InitOptions struct {
	Site     string
	Also     []string
	Sisters  []string
	Folder   string // where to look for the system
	Path     string // where to write the site file; "": into the site's folder in Home
	Here     bool   // write it into the working folder
	Home     string // see sitefile.Home
	Layout   string
	Database sitefile.Database
	Files    []string
	Sites    []int // of several sites in one database; empty: all
	Network  sitefile.Network
}

// Inited is what init wrote, and from where it took it.
type Inited struct {
	Path     string   `json:"path"`
	Site     string   `json:"site"`
	Layout   string   `json:"layout"`
	Database string   `json:"database"`
	Prefix   string   `json:"prefix"`
	Tables   int      `json:"tables"`
	Files    []string `json:"files"`
	Used     []string `json:"used"`            // where things were found
	Locked   []string `json:"locked"`          // addresses that the configuration holds
	Others   []string `json:"others"`          // prefixes of other systems in the same database
	Sites    []Place  `json:"sites,omitempty"` // of several sites in the database, those that are taken
}

// Code is the exit code that init comes to.
func (*Inited) Code() int { return Clean }

// Init finds the system below a folder and writes the site file.
func Init(ctx context.Context, o InitOptions, p Progress) (*Inited, error) {
	defer p.End()
	named := sitefile.Named(o.Site, o.Also, o.Sisters)
	site, err := named.Address()
	if err != nil {
		return nil, misuse(err, "the site's address", "give the site's HTTPS address: --site https://HOST")
	}
	path, dir, err := o.where(site)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(path); err == nil {
		return nil, misuse(nil, path+" is there already", "remove it first, or write another one with --config FILE")
	}
	in := &initing{o: o, p: p, dir: dir, out: &Inited{Path: path, Site: site.String()},
		file: &sitefile.File{Site: site.String(), Also: site.Also, Sisters: named.Sisters, Layout: o.Layout, Database: o.Database, Files: o.Files, Choose: sheet.Choice{Sites: o.Sites}, Network: o.Network}}
	in.file.Dir = in.dir
	if filepath.Dir(path) != in.dir {
		in.file.Folder = in.dir
	}
	for i, f := range in.file.Files {
		in.file.Files[i] = in.relative(f)
	}
	in.file.Network.CA = in.relative(in.file.Network.CA)
	in.file.Database.File = in.relative(in.file.Database.File)
	in.file.Database.TLSCA = in.relative(in.file.Database.TLSCA)
	if err := in.find(); err != nil {
		return nil, err
	}
	if err := in.connect(ctx); err != nil {
		return nil, err
	}
	if o.Path == "" && !o.Here {
		err = disk.PrivateFolder(filepath.Dir(path))
	}
	if refused := untrusted(err); refused != nil {
		return nil, refused
	}
	if err == nil {
		err = in.file.Write(path)
	}
	if err != nil {
		return nil, world(err, "the site file cannot be written", "make the folder writable, or write elsewhere with --config FILE")
	}
	return in.out, nil
}

// where tells the path of the site file, and the folder that paths in it are relative to. A folder
// that a web server serves is refused: it would hand out the old values of the whole site.
func (o *InitOptions) where(site address.Site) (path, dir string, err error) {
	if o.Path == "" && !o.Here {
		home, err := sitefile.Home(o.Home)
		if err != nil {
			return "", "", world(err, "cannot determine your data folder", "name one: --home FOLDER")
		}
		dir, err = filepath.Abs(cmp.Or(o.Folder, "."))
		if err != nil {
			return "", "", world(err, "cannot determine the current folder", "change to a folder that exists")
		}
		return sitefile.InHome(home, site.String()), dir, nil
	}
	if path, err = filepath.Abs(cmp.Or(o.Path, sitefile.Name)); err != nil {
		return "", "", world(err, "cannot determine the current folder", "change to a folder that exists")
	}
	dir = filepath.Dir(path)
	if why, yes := sitefile.InWebRoot(dir); yes {
		return "", "", misuse(nil, fmt.Sprintf("%s is served by a web server (%s), which could hand out the site file, the logbook and all old values", dir, why),
			"leave out --here and --config: init keeps them in your data folder; or change to a folder that no web server serves")
	}
	return path, dir, nil
}

type initing struct {
	o    InitOptions
	p    Progress
	dir  string // where the site file will lie
	file *sitefile.File
	out  *Inited
}

// relative makes a path relative to the site file's folder where it lies below.
func (in *initing) relative(p string) string {
	if p == "" {
		return ""
	}
	abs, err := filepath.Abs(p)
	if err != nil {
		return p
	}
	if rel, err := filepath.Rel(in.dir, abs); err == nil && !strings.HasPrefix(rel, "..") {
		return rel
	}
	return abs
}

// maxFindDepth is how deep below the folder the system's configuration is
// looked for.
const maxFindDepth = 4

// find looks below the folder for a system's own configuration or an SQLite
// database, where the flags do not say.
func (in *initing) find() error {
	d := &in.file.Database
	if d.Kind != "" && d.Config == "" {
		return nil
	}
	configs := map[string]*layout.Layout{}
	for _, name := range layout.Names() {
		l, err := layout.Get(name)
		if err != nil {
			return misuse(err, "a built-in layout", "report this")
		}
		if l.Config != nil && (in.o.Layout == "" || in.o.Layout == name) {
			configs[l.Config.File] = l
		}
	}
	if d.Config != "" { // named by a flag
		for file, l := range configs { // by its name, or else the only one there is
			if file == filepath.Base(d.Config) || len(configs) == 1 {
				return in.take(d.Config, l)
			}
		}
		return misuse(nil, "no layout knows a configuration file called "+filepath.Base(d.Config), "name the layout too: --layout wordpress")
	}
	if in.o.Folder == "" {
		return misuse(nil, "nothing says where the site's database is",
			"name the folder of the site: trimlantern init --site https://HOST FOLDER; or the database: --database sqlite:FILE or mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
	}
	var found []string
	var sqlite []string
	err := filepath.WalkDir(in.o.Folder, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil && path == in.o.Folder:
			return err
		case err != nil:
			return nil // a folder we may not read holds nothing for us
		case e.IsDir() && strings.Count(strings.TrimPrefix(path, in.o.Folder), string(filepath.Separator)) > maxFindDepth:
			return fs.SkipDir
		case e.IsDir():
			return nil
		case configs[e.Name()] != nil:
			found = append(found, path)
		case e.Type().IsRegular() && slices.Contains([]string{".db", ".sqlite", ".sqlite3"}, strings.ToLower(filepath.Ext(path))) && database.IsSQLite(path):
			sqlite = append(sqlite, path)
		}
		return nil
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return misuse(nil, "there is no folder "+in.o.Folder, "name the folder that the site's files are in")
	case err != nil:
		return world(err, "looking through "+in.o.Folder, "make the folder readable")
	case len(found) > 1 || len(found) == 0 && len(sqlite) > 1:
		return misuse(nil, "there is more than one site below "+in.o.Folder+": "+strings.Join(append(found, sqlite...), ", "), "name the folder of one of them")
	case len(found) == 1:
		return in.take(found[0], configs[filepath.Base(found[0])])
	case len(sqlite) == 1:
		d.Kind, d.File = "sqlite", in.relative(sqlite[0])
		in.out.Used = append(in.out.Used, "database: the SQLite file "+d.File)
		return nil
	}
	return misuse(nil, "there is no configuration of a known system and no SQLite database below "+in.o.Folder,
		"name the database: --database sqlite:FILE or mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
}

// take reads the system's configuration file.
func (in *initing) take(path string, l *layout.Layout) error {
	conn, err := l.Config.Connect(path)
	if err != nil {
		return misuse(err, "the system's configuration cannot be read", "name the database instead: --database mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
	}
	d := &in.file.Database
	d.Kind, d.Config = l.Config.Kind, in.relative(path)
	if d.Prefix == "" {
		d.Prefix = conn.Prefix
	}
	in.file.Layout = l.Name
	in.out.Used = append(in.out.Used, "database, user, password and prefix: "+d.Config)
	for name, lock := range conn.Locks {
		where := in.relative(lock.File)
		how := ""
		if lock.How != layout.Literally {
			how = ", " + lock.How.Words()
		}
		in.out.Locked = append(in.out.Locked, fmt.Sprintf("%s address: %s in %s, line %d%s", name, lock.Constant, where, lock.Line, how))
	}
	slices.Sort(in.out.Locked)
	if len(in.file.Files) == 0 {
		for _, f := range l.Files {
			dir := filepath.Join(filepath.Dir(path), f)
			if info, err := os.Stat(dir); err == nil && info.IsDir() {
				in.file.Files = append(in.file.Files, in.relative(dir))
			}
		}
	}
	return nil
}

// connect tries the database, and finds layout and prefix by looking.
func (in *initing) connect(ctx context.Context) error {
	if in.file.Layout == "" {
		in.file.Layout = "generic"
	}
	l, err := layoutOf(in.file)
	if err != nil {
		return misuse(err, "the layout", "name one of: --layout "+strings.Join(layout.Names(), ", "))
	}
	site, err := in.file.Address()
	if err != nil {
		return misuse(err, "the site's address", "write --site https://HOST")
	}
	j := &Job{File: in.file, Site: site, Layout: l, Progress: in.p}
	c, err := j.config()
	if err != nil {
		return err
	}
	c.ReadOnly = true
	db, err := database.Open(ctx, c)
	if err != nil {
		return dbFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, "")
	if err != nil {
		return dbFault(err, c)
	}
	fit, err := in.fit(j, tables, c.Where())
	if err != nil {
		return err
	}
	d := &in.file.Database
	var own []database.Table
	for _, t := range tables {
		if strings.HasPrefix(t.Name, d.Prefix) {
			own = append(own, t)
		}
	}
	if err := j.findSites(ctx, db, own); err != nil {
		return dbFault(err, c)
	}
	for _, p := range fit {
		if site, rest := j.set(p); p != d.Prefix && (rest != "" || j.sites[site].Site == 0) {
			in.out.Others = append(in.out.Others, p)
		}
	}
	for _, t := range own {
		if !j.foreign(t.Name) {
			in.out.Tables++
		}
	}
	if err := in.sites(j); err != nil {
		return err
	}
	if in.out.Tables == 0 {
		return misuse(nil, fmt.Sprintf("%s has no table whose name begins with %q", c.Where(), d.Prefix), "check --prefix")
	}
	in.out.Layout, in.out.Database, in.out.Prefix, in.out.Files = in.file.Layout, c.Where(), d.Prefix, in.file.Files
	return nil
}

// fit finds layout and prefix by the tables, unless they were given, and returns all
// prefixes that fit.
func (in *initing) fit(j *Job, tables []database.Table, where string) ([]string, error) {
	names := tableNames(tables)
	if in.o.Layout == "" && in.file.Layout == "generic" {
		for _, name := range layout.Names() {
			other, err := layout.Get(name)
			if err != nil {
				return nil, misuse(err, "a built-in layout", "report this")
			}
			if fit := other.Prefix(names); len(fit) > 0 {
				in.file.Layout, j.Layout = name, other
				in.out.Used = append(in.out.Used, "layout: "+name+", told from the tables")
				break
			}
		}
	}
	fit := j.Layout.Prefix(names)
	d := &in.file.Database
	switch {
	case d.Prefix == "" && len(fit) > 0:
		d.Prefix = fit[0]
		in.out.Used = append(in.out.Used, fmt.Sprintf("prefix: %q, told from the tables", d.Prefix))
	case len(j.Layout.Tables) > 0 && !slices.Contains(fit, d.Prefix):
		do := "check the prefix and the layout"
		if len(fit) > 0 {
			do = "a prefix that fits: " + strings.Join(fit, ", ")
		}
		return nil, misuse(nil, fmt.Sprintf("%s has no tables of %s with the prefix %q", where, j.Layout.Title, d.Prefix), do)
	}
	return fit, nil
}

// sites takes over the sites that the database lists: all, or those chosen. Each that has a name of its
// own is a sister site, and stays at its own address.
func (in *initing) sites(j *Job) error {
	chosen := in.file.Choose.Sites
	for _, n := range chosen {
		if _, ok := j.sites[n]; !ok {
			return misuse(nil, fmt.Sprintf("the database lists no site %d", n), "leave --sites out, and init lists them")
		}
	}
	for _, p := range j.places() {
		if len(chosen) > 0 && !slices.Contains(chosen, p.Site) {
			continue
		}
		in.out.Sites = append(in.out.Sites, p)
		sister, err := address.Parse("https://" + p.Address)
		if err != nil {
			in.out.Used = append(in.out.Used, fmt.Sprintf("site %d: its address %q cannot be read and was left out", p.Site, p.Address))
			continue
		}
		if j.Site.Relate(sister.Host, "", sister.Path+"/") == address.Ours {
			continue
		}
		in.file.Sisters = append(in.file.Sisters, sitefile.Sister{Site: sister.String()})
		if j.Site, err = in.file.Address(); err != nil {
			return misuse(err, "the site's address", "write --site https://HOST")
		}
		in.out.Used = append(in.out.Used, fmt.Sprintf("sister site %s: site %d in the same database", sister, p.Site))
	}
	return nil
}
