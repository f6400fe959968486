// Package setup finds out what there is to know of a site, and writes its site file.
package setup

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/logbook"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
	"trimlantern/work"
	"trimlantern/work/preview"
)

// Options are what the user said; empty fields are found out.
type Options struct {
	Site     string
	Also     []string
	Sisters  []string
	Folder   string // where to look for the system
	Path     string // where to write the site file; "": into the site's folder in Home
	Here     bool   // write it into the working folder
	Home     string // see sitefile.Home
	System   string
	Database sitefile.Database
	Files    []string
	Sites    []int // of several sites in one database; empty: all
	Network  sitefile.Network
}

// Inited is what init wrote, and from where it took it.
type Inited struct {
	Path     string       `json:"path"`
	Old      string       `json:"old,omitempty"` // where the site file of before is kept
	Site     string       `json:"site"`
	System   string       `json:"system"`
	Database string       `json:"database"`
	Prefix   string       `json:"prefix"`
	Tables   int          `json:"tables"`
	Files    []string     `json:"files"`
	Used     []string     `json:"used"`            // where things were found
	Locked   []string     `json:"locked"`          // addresses that the configuration holds
	Others   []string     `json:"others"`          // prefixes of other systems in the same database
	Sites    []work.Place `json:"sites,omitempty"` // of several sites in the database, those that are taken

	Addresses []preview.AddressState `json:"addresses"` // as the database has them
}

// Code is the exit code that init comes to.
func (*Inited) Code() int { return work.Clean }

// Init finds the system below a folder and writes the site file.
func Init(ctx context.Context, o Options, p work.Progress) (*Inited, error) {
	defer p.End()
	found := ""
	if o.Site == "" {
		var err error
		if found, err = discover(ctx, o, p); err != nil {
			return nil, err
		}
		o.Site = found
	}
	named := sitefile.Named(o.Site, o.Also, o.Sisters)
	site, err := named.Address()
	if err != nil {
		return nil, work.BadUse(err, "the site's address", "give the site's HTTPS address: --site https://HOST")
	}
	path, dir, err := o.where(site)
	if err != nil {
		return nil, err
	}
	old, err := o.decided(path, site)
	if err != nil {
		return nil, err
	}
	in := &initing{o: o, p: p, dir: dir, out: &Inited{Path: path, Site: site.String()},
		file: &sitefile.File{Site: site.String(), Also: site.Also, Sisters: named.Sisters, System: o.System, Database: o.Database, Files: o.Files, Choose: change.Choice{Sites: o.Sites}, Network: o.Network}}
	if found != "" {
		in.out.Used = append(in.out.Used, "site: the address that the database has, over HTTPS")
	}
	in.file.Dir = in.dir
	if work.IsSystemFile(o.System) {
		in.file.System = in.relative(o.System)
	}
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
	if err := in.check(); err != nil {
		return nil, err
	}
	if old != nil { // what the owner decided stays
		in.file.Hosts, in.file.Accepted, in.file.Replaced, in.file.Copies = old.Hosts, old.Accepted, old.Replaced, old.Copies
		in.file.Relative, in.file.Edited = old.Relative, old.Edited
		in.out.Old = path + ".old"
		if err := os.Rename(path, in.out.Old); err != nil {
			return nil, work.Failed(err, "the old site file cannot be kept", "make the folder writable, or write elsewhere with --config FILE")
		}
	}
	if o.Path == "" && !o.Here {
		err = disk.PrivateFolder(filepath.Dir(path))
	}
	if refused := work.Untrusted(err); refused != nil {
		return nil, refused
	}
	if err == nil {
		err = in.file.Write(path)
	}
	if err == nil {
		err = logbook.Open(path).KeepSiteFile(in.file.Text())
	}
	if err != nil {
		return nil, work.Failed(err, "the site file cannot be written", "make the folder writable, or write elsewhere with --config FILE")
	}
	return in.out, nil
}

// discover finds the site's secure address in its database.
func discover(ctx context.Context, o Options, p work.Progress) (string, error) {
	const do = "give the site's HTTPS address: --site https://HOST"
	if o.Folder == "" && o.Database.Kind == "" && o.Database.Config == "" {
		return "", work.BadUse(address.ErrEmpty, "the site's address", do)
	}
	dir, err := filepath.Abs(cmp.Or(o.Folder, "."))
	if err != nil {
		return "", work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	in := &initing{o: o, p: p, dir: dir, out: &Inited{}, file: &sitefile.File{Dir: dir, System: o.System, Database: o.Database}}
	if err := in.find(); err != nil {
		return "", err
	}
	in.file.System = cmp.Or(in.file.System, "generic")
	if work.IsSystemFile(o.System) {
		in.file.System = in.relative(o.System)
	}
	l, err := work.SystemOf(in.file)
	if err != nil {
		return "", work.UnknownSystem(err)
	}
	j := &work.Job{File: in.file, System: l, Progress: p}
	c, err := j.Config()
	if err != nil {
		return "", err
	}
	c.ReadOnly = true
	db, err := j.Connect(ctx, c)
	if err != nil {
		return "", work.DatabaseFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, "")
	if err != nil {
		return "", work.DatabaseFault(err, c)
	}
	if _, err := in.fit(j, tables, c.Where()); err != nil {
		return "", err
	}
	for _, a := range j.System.Addresses {
		t, ok := database.Find(tables, in.file.Database.Prefix+a.Table)
		if !ok {
			continue
		}
		v, _, ok, err := db.Lookup(ctx, t, a.Column, a.Where, a.Equals)
		if err != nil {
			return "", work.DatabaseFault(err, c)
		}
		if _, rest, scheme := strings.Cut(string(v.Bytes), "://"); ok && scheme {
			return "https://" + strings.TrimSuffix(strings.TrimRight(rest, "/"), ":80"), nil
		}
	}
	return "", work.BadUse(nil, "the database does not say the site's address", do)
}

// decided reads the site file that is there already, if it is of the same site: running init again corrects
// it. nil: there is none.
func (o *Options) decided(path string, site address.Site) (*sitefile.File, error) {
	if _, err := os.Lstat(path); err != nil {
		return nil, nil
	}
	old, err := sitefile.Read(path)
	if refused := work.Untrusted(err); refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, work.BadUse(err, path+" already exists, and cannot be read", "remove it first, or write another one with --config FILE")
	}
	if was, err := old.Address(); err != nil || was.Host != site.Host {
		return nil, work.BadUse(nil, path+" already exists, for another site ("+old.Site+")", "remove it first, or write another one with --config FILE")
	}
	return old, nil
}

// check tries what else the site file will say: nothing in it may fail later.
func (in *initing) check() error {
	for _, f := range in.file.Files {
		if info, err := os.Stat(in.file.Abs(f)); err != nil || !info.IsDir() {
			return work.BadUse(nil, "there is no folder "+in.file.Abs(f), "name folders that are there: --files FOLDER")
		}
	}
	j := &work.Job{File: in.file, System: &system.System{}, Progress: in.p}
	var err error
	if j.Site, err = in.file.Address(); err != nil {
		return work.BadUse(err, "the site's address", "write --site https://HOST")
	}
	_, err = j.Web()
	return err
}

// where tells the path of the site file, and the folder that paths in it are relative to. A folder
// that a web server serves is refused: it would hand out the old values of the whole site.
func (o *Options) where(site address.Site) (path, dir string, err error) {
	if o.Path == "" && !o.Here {
		home, err := sitefile.Home(o.Home)
		if err != nil {
			return "", "", work.Failed(err, "cannot determine your data folder", "name one: --home FOLDER")
		}
		dir, err = filepath.Abs(cmp.Or(o.Folder, "."))
		if err != nil {
			return "", "", work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
		}
		return sitefile.InHome(home, site.String()), dir, nil
	}
	if path, err = filepath.Abs(cmp.Or(o.Path, sitefile.Name)); err != nil {
		return "", "", work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	dir = filepath.Dir(path)
	if why, yes := sitefile.InWebRoot(dir); yes {
		return "", "", work.BadUse(nil, fmt.Sprintf("%s is served by a web server (%s), which could hand out the site file, the logbook and all old values", dir, why),
			"leave out --here and --config: init keeps them in your data folder; or change to a folder that no web server serves")
	}
	return path, dir, nil
}

type initing struct {
	o    Options
	p    work.Progress
	dir  string // where the site file will lie
	file *sitefile.File
	out  *Inited

	config string // the system's configuration that was named beside a database
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

// connect tries the database, and finds system description and prefix by looking.
func (in *initing) connect(ctx context.Context) error {
	if in.file.System == "" {
		in.file.System = "generic"
	}
	l, err := work.SystemOf(in.file)
	if err != nil {
		return work.UnknownSystem(err)
	}
	site, err := in.file.Address()
	if err != nil {
		return work.BadUse(err, "the site's address", "write --site https://HOST")
	}
	j := &work.Job{File: in.file, Site: site, System: l, Progress: in.p}
	c, err := j.Config()
	if err != nil {
		return err
	}
	c.ReadOnly = true
	db, err := j.Connect(ctx, c)
	if err != nil {
		return work.DatabaseFault(err, c)
	}
	defer db.Close()
	tables, err := db.Tables(ctx, "")
	if err != nil {
		return work.DatabaseFault(err, c)
	}
	fit, err := in.fit(j, tables, c.Where())
	if err != nil {
		return err
	}
	if err := in.beside(j.System); err != nil {
		return err
	}
	d := &in.file.Database
	var own []database.Table
	for _, t := range tables {
		if strings.HasPrefix(t.Name, d.Prefix) {
			own = append(own, t)
		}
	}
	if err := j.FindSites(ctx, db, own); err != nil {
		return work.DatabaseFault(err, c)
	}
	for _, p := range fit {
		if site, rest := j.Set(p); p != d.Prefix && (rest != "" || !j.HasSite(site)) {
			in.out.Others = append(in.out.Others, p)
		}
	}
	for _, t := range own {
		if !j.Foreign(t.Name) {
			in.out.Tables++
		}
	}
	if err := in.sites(j); err != nil {
		return err
	}
	if err := in.addresses(ctx, j, db, own); err != nil {
		return err
	}
	if in.out.Tables == 0 && d.Kind != database.NoneKind {
		return work.BadUse(nil, fmt.Sprintf("%s has no table whose name begins with %q", c.Where(), d.Prefix), "check --prefix")
	}
	in.out.System, in.out.Database, in.out.Prefix, in.out.Files = in.file.System, c.Where(), d.Prefix, in.file.Files
	return nil
}

// fit finds system description and prefix by the tables, unless they were given, and returns all
// prefixes that fit.
func (in *initing) fit(j *work.Job, tables []database.Table, where string) ([]string, error) {
	if in.o.System == "" && in.file.System == "generic" {
		systems, err := work.SystemsNamed("")
		if err != nil {
			return nil, work.BadUse(err, "a built-in system description", "report this")
		}
		for _, other := range systems {
			if len(fitting(other, tables)) > 0 {
				in.file.System, j.System = other.Name, other
				in.out.Used = append(in.out.Used, "system: "+other.Name+", told from the tables and their columns")
				break
			}
		}
	}
	fit := fitting(j.System, tables)
	d := &in.file.Database
	if d.Kind == database.NoneKind {
		return nil, nil
	}
	switch {
	case d.Prefix == "" && len(fit) > 0:
		d.Prefix = fit[0]
		in.out.Used = append(in.out.Used, fmt.Sprintf("prefix: %q, told from the tables", d.Prefix))
	case len(j.System.Tables) > 0 && !slices.Contains(fit, d.Prefix):
		do := "check the prefix and the system description"
		if len(fit) > 0 {
			do = "a prefix that fits: " + strings.Join(fit, ", ")
		}
		return nil, work.BadUse(nil, fmt.Sprintf("%s has no tables of %s with the prefix %q", where, j.System.Title, d.Prefix), do)
	}
	return fit, nil
}

// fitting returns the prefixes behind which the database has all tables of a system description, with its columns.
func fitting(l *system.System, tables []database.Table) (prefixes []string) {
	seen := make([]system.Seen, 0, len(tables))
	for _, t := range tables {
		one := system.Seen{Name: t.Name}
		for _, c := range slices.Concat(t.Key, t.Columns, t.All) {
			one.Columns = append(one.Columns, c.Name)
		}
		seen = append(seen, one)
	}
	known := l.Recognise(seen)
	for _, p := range l.Prefix(work.TableNames(tables)) {
		if !slices.ContainsFunc(l.Tables, func(t string) bool { return known[p+t].Short != t }) {
			prefixes = append(prefixes, p)
		}
	}
	return prefixes
}

// addresses holds the site's address against those that the database has. Where these are the same site under
// its other common name, with www or without, that is a name of the site too.
func (in *initing) addresses(ctx context.Context, j *work.Job, db database.Database, tables []database.Table) error {
	if len(j.System.Addresses) == 0 {
		return nil
	}
	for {
		own, err := preview.OwnAddresses(ctx, j, db, tables)
		in.out.Addresses = own
		if err == nil {
			return nil
		}
		partner := "www." + j.Site.Host
		if bare, ok := strings.CutPrefix(j.Site.Host, "www."); ok {
			partner = bare
		}
		named := slices.ContainsFunc(own, func(a preview.AddressState) bool { return strings.EqualFold(work.HostOf(a.Value), partner) })
		if !named || slices.Contains(in.file.Also, partner) {
			return err
		}
		in.file.Also = append(in.file.Also, partner)
		in.out.Used = append(in.out.Used, "also "+partner+": the database calls the site by that name")
		if j.Site, err = in.file.Address(); err != nil {
			return work.BadUse(err, "the site's address", "write --site https://HOST")
		}
	}
}

// sites takes over the sites that the database lists: all, or those chosen. Each that has a name of its
// own is a sister site, and stays at its own address.
func (in *initing) sites(j *work.Job) error {
	chosen := in.file.Choose.Sites
	for _, n := range chosen {
		if !j.HasSite(n) {
			return work.BadUse(nil, fmt.Sprintf("the database lists no site %d", n), "leave --sites out, and init lists them")
		}
	}
	for _, p := range j.Places() {
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
			return work.BadUse(err, "the site's address", "write --site https://HOST")
		}
		in.out.Used = append(in.out.Used, fmt.Sprintf("sister site %s: site %d in the same database", sister, p.Site))
	}
	return nil
}

// Known describes the site as its site file does.
func Known(j *work.Job) *Inited {
	where := "none"
	if c, err := j.Config(); err == nil {
		where = c.Where()
	}
	return &Inited{Path: j.File.Path, Site: j.Site.String(), System: j.System.Name, Database: where, Prefix: j.File.Database.Prefix, Files: j.File.Files, Used: []string{}, Locked: []string{}, Others: []string{}, Addresses: []preview.AddressState{}}
}
