// Package work holds the jobs: init, ready, certificates, backup, preview, apply, undo, scan, status. Each
// joins the computation of core with the outside world of site. It prints
// nothing: results are values, progress goes to a Progress.
package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/envelope"
	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/fetch"
	"trimlantern/outside/logbook"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
)

// Exit codes: what a run came to.
const (
	Clean  = 0 // done, nothing insecure or undone remains
	Remain = 1 // done, but something remains
	Misuse = 2 // wrong use or input; nothing was changed
	World  = 3 // the outside world failed; the same command goes on from there
)

// Fault is an error that says what went wrong, and what to do.
type Fault struct {
	Code int    // Remain, Misuse or World
	What string // what went wrong, and where
	Do   string // what to do next
	Err  error  // the cause, may be nil

	noSite bool // there is no site file
}

// NoSiteFile reports whether an error says that there is no site file yet.
func NoSiteFile(err error) bool {
	var f *Fault
	return errors.As(err, &f) && f.noSite
}

// Error gives what went wrong with its cause.
func (f *Fault) Error() string {
	if f.Err != nil {
		return f.What + ": " + f.Err.Error()
	}
	return f.What
}

// Unwrap gives the cause.
func (f *Fault) Unwrap() error { return f.Err }

// BadUse is the fault of who called, or of what they gave: nothing was changed.
func BadUse(err error, what, do string) error {
	return &Fault{Code: Misuse, What: what, Do: do, Err: err}
}

// Refused says that a check failed, and that for this reason nothing was changed.
func Refused(what, do string) error { return &Fault{Code: Remain, What: what, Do: do} }

// Failed is the fault of the world outside; the same command goes on from there.
func Failed(err error, what, do string) error {
	return &Fault{Code: World, What: what, Do: do, Err: err}
}

// Progress is told how a long job goes on. total is 0 where nobody knows it.
type Progress interface {
	At(what string, done, total int64)
	End()
}

// Tool is the program's name and version, as sheets and journals carry it.
var Tool = "trimlantern"

// Job is one site with all that the jobs need.
type Job struct {
	File     *sitefile.File
	Site     address.Site
	System   *system.System
	Book     *logbook.Logbook
	Progress Progress
	Now      func() time.Time
	Offline  bool     // ask no other host
	Resolve  []string // besides those of the site file
	CA       string   // instead of the site file's
	Effects  bool     // apply: also change rows with which triggers write what cannot be taken back
	Rate     int      // apply and undo: at most so many cells a second; 0: as fast as it goes

	Timeout time.Duration // for one answer; 0: the usual
	Secrets string        // file with the headers of a staging site, instead of the site file's

	FailOn []string      // see FailKinds
	Choice change.Choice // over the site file's: what preview reads
	Judge  string        // the PHP that preview asks for a second opinion; "": the one that is installed; NoJudge

	conn   *system.Connection // what the system's own configuration says
	sites  map[int]Place      // of several sites in one database, by number
	others []string           // prefixes of other systems below ours

	elsewhere []string // tables of the database that are not the site's, by their names
	client    *fetch.Client
	links     map[string][]string // of front pages that were asked for

	// Guard, where not nil, starts a process that settles the site's trial if this one dies, or at a time; dismiss ends it.
	Guard func(ctx context.Context, until time.Time) (dismiss func(), err error)

	Cookies bool // the client keeps those of the site
	Patient bool // and asks again for what fails

	Edited []string // lines of the site file that were changed outside of this program since it wrote the file
}

// OpenAddress makes a job of an address alone, without site file, database and
// logbook: enough to scan.
func OpenAddress(site string, also, sisters []string, p Progress) (*Job, error) {
	file := sitefile.Named(site, also, sisters)
	s, err := file.Address()
	if err != nil {
		return nil, BadUse(err, "the site's address", "write --site https://HOST, and --sister https://HOST for another site of its network")
	}
	file.Site = s.String()
	return &Job{File: file, Site: s, System: &system.System{}, Progress: p, Now: time.Now}, nil
}

// Keep gives a job of OpenAddress a logbook in home, beside where a site file of the site would be, so
// that scans can go on and be compared. Where that cannot be had, the job does without.
func (j *Job) Keep(home string) {
	home, err := sitefile.Home(home)
	if err != nil || j.Book != nil {
		return
	}
	path := sitefile.InHome(home, j.Site.String())
	if disk.PrivateFolder(filepath.Dir(path)) == nil {
		j.Book = logbook.Open(path)
	}
}

// Stored reports whether the site has a database that the job knows of.
func (j *Job) Stored() bool { return j.File.Database.Kind != "" }

// errNoDatabase says that a job needs one.
func (j *Job) errNoDatabase() error {
	return BadUse(nil, "this needs the site's database, and no site file says where it is", "make one: trimlantern init --site "+j.Site.String()+" FOLDER")
}

// Open reads the site file at path. Where path is empty, it is the nearest one at or above the
// working folder, or else the one in home whose site lies there, or the only one in home.
func Open(path, home string, p Progress) (*Job, error) {
	if path == "" {
		found, err := nearest(home)
		if err != nil {
			return nil, err
		}
		path = found
	}
	f, err := sitefile.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, BadUse(nil, "there is no site file "+path, "make one: trimlantern init --site https://HOST FOLDER")
	}
	if refused := Untrusted(err); refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, BadUse(err, "the site file cannot be read", "fix the file, or make a new one with trimlantern init")
	}
	j := &Job{File: f, Book: logbook.Open(f.Path), Progress: p, Now: time.Now}
	if err := disk.TrustedFolder(j.Book.Path()); Untrusted(err) != nil {
		return nil, Untrusted(err)
	}
	f.Guard = j.guard
	if kept, ok, err := j.Book.SiteFile(); err == nil && ok { // a damaged one is found by history --check
		j.Edited = f.ChangedLines(kept)
	}
	if j.Site, err = f.Address(); err != nil {
		return nil, BadUse(err, path, "fix site, also and sisters in the site file")
	}
	j.System, err = SystemOf(f)
	if refused := Untrusted(err); refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, BadUse(err, path, "fix system in the site file")
	}
	return j, nil
}

// nearest looks for the site file in the working folder and those above it, then in home.
func nearest(home string) (string, error) {
	dir, err := os.Getwd()
	if err != nil {
		return "", Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	for at := dir; ; at = filepath.Dir(at) {
		path := filepath.Join(at, sitefile.Name)
		if _, err := os.Lstat(path); err == nil {
			return path, nil
		}
		if filepath.Dir(at) == at {
			break
		}
	}
	if home, err = sitefile.Home(home); err != nil {
		return "", Failed(err, "cannot determine your data folder", "name one: --home FOLDER")
	}
	all, err := sitefile.AllInHome(home)
	if refused := Untrusted(err); refused != nil {
		return "", refused
	}
	if err != nil {
		return "", Failed(err, "the folder "+home+" cannot be read", "make it readable, or name another one: --home FOLDER")
	}
	if here := holding(all, dir); len(here) > 0 {
		all = here
	}
	switch len(all) {
	case 0:
		return "", &Fault{Code: Misuse, What: "there is no " + sitefile.Name + " here, in a folder above, or in " + home,
			Do: "make one: trimlantern init --site https://HOST FOLDER, or name one with --config FILE", noSite: true}
	case 1:
		return all[0], nil
	}
	return "", BadUse(nil, fmt.Sprintf("there are %d site files in %s: %s", len(all), home, strings.Join(sitesOf(all), ", ")),
		"change to the folder of the site, or name its file: --config "+all[0])
}

// holding returns the site files whose site lies in or above a folder.
func holding(all []string, dir string) (here []string) {
	for _, path := range all {
		f, err := sitefile.Read(path)
		if err != nil || f.Folder == "" {
			continue // whoever opens it says what is wrong
		}
		if _, inside := disk.Inside(f.Folder, dir); inside || filepath.Clean(f.Folder) == dir {
			here = append(here, path)
		}
	}
	return here
}

// SiteFileOf returns the site file in a home whose site lies in a folder; "" where there is none, or more than one.
func SiteFileOf(folder, home string) string {
	dir, err := filepath.Abs(folder)
	if err == nil {
		dir, err = filepath.EvalSymlinks(dir)
	}
	if home, herr := sitefile.Home(home); err == nil && herr == nil {
		if all, err := sitefile.AllInHome(home); err == nil {
			if here := holding(all, dir); len(here) == 1 {
				return here[0]
			}
		}
	}
	return ""
}

// SummaryPath returns where the summary of a guided run is kept.
func (j *Job) SummaryPath() string {
	return filepath.Join(j.Book.Path(), "switch-"+j.RunID()+".html")
}

// sitesOf names site files in a home by their folders.
func sitesOf(all []string) (names []string) {
	for _, path := range all {
		names = append(names, filepath.Base(filepath.Dir(path)))
	}
	return names
}

// OpenKnown opens the site file in home that is of the given address, or returns nil.
func OpenKnown(site, home string, p Progress) (*Job, error) {
	address, err := address.Parse(site)
	if err != nil {
		return nil, nil // OpenAddress says what is wrong
	}
	if home, err = sitefile.Home(home); err != nil {
		return nil, nil // then it holds nothing
	}
	path := sitefile.InHome(home, address.String())
	if _, err := os.Lstat(path); err != nil {
		return nil, nil
	}
	return Open(path, home, p)
}

// MaxSettings bounds the files that settings and secrets are read from.
const MaxSettings = 1 << 20

// SystemOf returns a built-in system description, or the user's own where a path is named.
func SystemOf(f *sitefile.File) (*system.System, error) {
	switch {
	case f.System == "":
		return system.Get("generic")
	case IsSystemFile(f.System):
		b, err := disk.ReadTrusted(f.Abs(f.System), MaxSettings)
		if err != nil {
			return nil, err
		}
		return system.Parse(b)
	}
	return system.Get(f.System)
}

// Config puts together how the database is reached: the system's own
// configuration, over it the site file, and the password from where it lies.
func (j *Job) Config() (database.Config, error) {
	d := j.File.Database
	c := database.Config{Kind: d.Kind, File: j.File.Abs(d.File), Host: d.Host, Port: d.Port, Socket: d.Socket, User: d.User, Name: d.Name,
		Schema: d.Schema, Charset: d.Charset, TLS: d.TLS, CA: j.File.Abs(d.TLSCA), Identity: d.Identity}
	if d.Config != "" && j.System.Config != nil {
		conn, err := j.System.Config.Connect(j.File.Abs(d.Config))
		if d.Kind == "sqlite" && err != nil { // where its server would be does not matter
			conn, err = &system.Connection{File: j.File.Abs(d.Config)}, nil
		}
		if err != nil {
			return c, BadUse(err, "the system's configuration cannot be read", "fix database.config in the site file")
		}
		j.conn = conn
		set := func(to *string, from string) {
			if *to == "" {
				*to = from
			}
		}
		c.Password = conn.Password
		if owner, other := disk.OwnerOf(j.File.Abs(d.Config)); other && c.User == "" {
			c.Owner = &owner
		}
		set(&c.User, conn.User)
		set(&c.Name, conn.Database)
		set(&c.Charset, conn.Charset)
		if c.Host == "" && c.Socket == "" {
			c.Host, c.Socket, c.Port = conn.Host, conn.Socket, conn.Port
		}
	}
	if j.File.SystemConfig != "" && d.Config == "" && j.System.Config != nil {
		if conn, err := j.System.Config.Connect(j.File.Configuration()); err == nil {
			j.conn = conn // for its keys; where the database is was said
		}
	}
	switch {
	case d.PasswordEnv != "":
		c.Password = os.Getenv(d.PasswordEnv)
	case d.PasswordFile != "":
		b, err := disk.ReadTrusted(j.File.Abs(d.PasswordFile), MaxSettings)
		if refused := Untrusted(err); refused != nil {
			return c, refused
		}
		if err != nil {
			return c, BadUse(err, "the password file cannot be read", "fix database.password-file in the site file")
		}
		c.Password = strings.TrimRight(string(b), "\r\n")
	}
	if !slices.Contains(database.TLSModes, c.TLS) {
		return c, BadUse(nil, fmt.Sprintf("database.tls: %q is not known", c.TLS), "write off, encrypt or verify")
	}
	// What the system's own software does for this name.
	if (c.Host == "localhost" || c.Host == "" && c.Kind == "postgres") && c.Socket == "" && c.Port == 0 {
		c.Socket = usualSocket(c.Kind)
	}
	if c.File == "" && c.Host == "" && c.Socket == "" {
		c.Host = "127.0.0.1"
	}
	return c, nil
}

// Connection returns what the system's own configuration says; nil before the database was opened, or where nothing
// says it.
func (j *Job) Connection() *system.Connection { return j.conn }

// Hashed returns the values of the system that have a hash beside them.
func (j *Job) Hashed() []envelope.Hashed { return j.System.Hashed(j.conn) }

// usualSocket finds the local socket that client libraries use for localhost;
// PostgreSQL names its folder.
func usualSocket(kind string) string {
	for _, s := range map[string][]string{
		"mysql":    {"/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"},
		"postgres": {"/run/postgresql/.s.PGSQL.5432", "/tmp/.s.PGSQL.5432"},
	}[kind] {
		if info, err := os.Stat(s); err == nil && info.Mode()&fs.ModeSocket != 0 {
			if kind == "postgres" {
				return filepath.Dir(s)
			}
			return s
		}
	}
	return ""
}

// Open connects to the database and lists the site's tables.
func (j *Job) Open(ctx context.Context, readOnly bool) (database.Database, []database.Table, error) {
	if !j.Stored() {
		return nil, nil, j.errNoDatabase()
	}
	c, err := j.Config()
	if err != nil {
		return nil, nil, err
	}
	c.ReadOnly, c.Effects = readOnly, j.Effects
	db, err := j.Connect(ctx, c)
	if err != nil {
		return nil, nil, DatabaseFault(err, c)
	}
	tables, err := db.Tables(ctx, "")
	if err != nil {
		db.Close()
		return nil, nil, DatabaseFault(err, c)
	}
	j.elsewhere = []string{}
	isOther := func(t database.Table) bool {
		other := !strings.HasPrefix(t.Name, j.File.Database.Prefix) || j.Foreign(t.Name)
		if other {
			j.elsewhere = append(j.elsewhere, t.Name)
		}
		return other
	}
	j.others = nil
	tables = slices.DeleteFunc(tables, isOther)
	if err := j.checkTables(ctx, db, tables, c); err != nil {
		db.Close()
		return nil, nil, err
	}
	if err := j.FindSites(ctx, db, tables); err != nil {
		db.Close()
		return nil, nil, DatabaseFault(err, c)
	}
	return db, slices.DeleteFunc(tables, isOther), nil
}

// Elsewhere returns the tables of the database that are not the site's, by their names.
func (j *Job) Elsewhere() []string { return j.elsewhere }

// DatabaseFault says in a user's words why the database failed.
func DatabaseFault(err error, c database.Config) error {
	if f := dumpFault(err, c); f != nil {
		return f
	}
	do := "check the database server's log, then continue with the same command"
	if c.Kind == "sqlite" {
		do = "check that the file and its folder can be read and written, then continue with the same command"
	}
	switch {
	case errors.Is(err, database.ErrBeside):
		do = "find out who made it, then remove it; SQLite makes its own"
	case errors.Is(err, database.ErrDenied):
		do = fmt.Sprintf("check the user name %q and where the password comes from (database.config, password-env or password-file in the site file)", c.User)
	case errors.Is(err, database.ErrAbsent):
		do = "check database in the site file, and that the server runs"
	case errors.Is(err, database.ErrRights):
		do = "give the user the right to read the site's tables, and for apply to change them"
	case errors.Is(err, database.ErrClear):
		do = "have the server show a certificate that can be verified (database.tls-ca names its authority); if you trust the network in between, write tls: off under database in the site file, or --database '…?tls=off' with init"
	case errors.Is(err, database.ErrName):
		return BadUse(err, c.Where(), "correct the system's configuration, or database in the site file")
	case errors.Is(err, database.ErrFrozen):
		do = "name the server that takes changes under database in the site file, or have it made writable"
	case errors.Is(err, database.ErrTLS):
		do = "check database.tls and database.tls-ca in the site file"
	case errors.Is(err, database.ErrLocked):
		do = "wait until the other run has ended"
	}
	return Failed(err, c.Where(), do)
}

// checkTables refuses a prefix that no table has, or a system description that does not fit.
func (j *Job) checkTables(ctx context.Context, db database.Database, tables []database.Table, c database.Config) error {
	if c.Kind == database.NoneKind {
		return nil
	}
	prefix := j.File.Database.Prefix
	names := TableNames(tables)
	for _, p := range j.System.Prefix(names) {
		if p == prefix {
			return nil
		}
	}
	if len(tables) > 0 && len(j.System.Tables) == 0 {
		return nil
	}
	all, err := db.Tables(ctx, "")
	if err != nil {
		return DatabaseFault(err, c)
	}
	what := fmt.Sprintf("%s has no table whose name begins with %q", c.Where(), prefix)
	if len(tables) > 0 {
		what = fmt.Sprintf("%s has no tables of %s with the prefix %q", c.Where(), j.System.Title, prefix)
	}
	do := "check database.prefix and system in the site file"
	if fit := j.System.Prefix(TableNames(all)); len(fit) > 0 {
		do = "set database.prefix in the site file; a prefix that fits: " + strings.Join(fit, ", ")
	}
	return BadUse(nil, what, do)
}

// TableNames returns the names of tables.
func TableNames(tables []database.Table) []string {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	return names
}

// Web returns the client for the network.
func (j *Job) Web() (*fetch.Client, error) {
	if j.client != nil {
		return j.client, nil
	}
	ca := j.CA
	if ca == "" {
		ca = j.File.Abs(j.File.Network.CA)
	}
	secrets, err := j.secrets()
	if err != nil {
		return nil, err
	}
	c, err := fetch.New(fetch.Options{
		Resolve: append(j.Resolve, j.File.Network.Resolve...), CA: ca, Own: j.Site.NetworkHosts(), Secrets: secrets, Timeout: j.Timeout, Cookies: j.Cookies, Patient: j.Patient,
	})
	if err != nil {
		return nil, BadUse(err, "the network options cannot be used", "check --resolve and --ca, or network in the site file")
	}
	j.client = c
	return c, nil
}

// LinksOf returns the links of a front page, where it was asked for in this run.
func (j *Job) LinksOf(front string) (links []string, asked bool) {
	links, asked = j.links[front]
	return links, asked
}

// KeepLinks keeps the links of a front page for the rest of this run.
func (j *Job) KeepLinks(front string, links []string) {
	if j.links == nil {
		j.links = map[string][]string{}
	}
	j.links[front] = links
}

// secrets reads what a staging site wants to be shown: from a file, so that it is
// never an argument that others see.
func (j *Job) secrets() (http.Header, error) {
	path := j.Secrets
	if path == "" {
		path = j.File.Abs(j.File.Network.Credentials)
	}
	if path == "" {
		return nil, nil
	}
	b, err := disk.ReadTrusted(path, MaxSettings)
	if refused := Untrusted(err); refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, BadUse(err, "the credentials cannot be read", "name a readable file with --credentials, or network.credentials in the site file")
	}
	h, err := fetch.Credentials(string(b))
	if err != nil {
		return nil, BadUse(err, path, "write one header a line")
	}
	return h, nil
}

// runForm is how a run's time is written in its name.
const runForm = "20060102-150405.000"

// RunID names a run by its time, so that names sort by age. Where the clock was ahead once, and the
// logbook holds a later name, the new one comes behind it all the same.
func (j *Job) RunID() string {
	now := j.Now().UTC()
	if j.Book != nil {
		for _, list := range []func() ([]string, error){j.Book.Sheets, j.Book.Journals, j.Book.Scans} {
			all, err := list()
			if err != nil || len(all) == 0 {
				continue // whoever writes there says what is wrong
			}
			last := all[len(all)-1]
			if k := strings.LastIndexByte(last, '-'); k > 0 {
				if t, err := time.Parse(runForm, last[:k]+"."+last[k+1:]); err == nil && !now.After(t) {
					now = t.Add(time.Millisecond)
				}
			}
		}
		if next, err := j.Book.NextTime(now); err == nil { // otherwise whoever writes there says what is wrong
			now = next
		}
	}
	return strings.ReplaceAll(now.Format(runForm), ".", "-")
}

// IsFault reports whether an error says already what to do.
func IsFault(err error) bool {
	var f *Fault
	return errors.As(err, &f)
}

// BookFault says in a user's words why the logbook cannot be read.
func BookFault(err error) error {
	do := "make its folder readable"
	var u *disk.Untrusted
	var damaged *change.Damaged
	switch {
	case errors.As(err, &damaged):
		do = "put the journal back from a backup; what else can be done says: trimlantern history --check"
	case errors.As(err, &u):
		return Untrusted(err)
	case errors.Is(err, logbook.ErrDamaged):
		do = "put that file back from a backup, or remove it and run again what made it; trimlantern history --check looks at all of them"
	case errors.Is(err, fs.ErrPermission):
		do = "make the folder of the logbook readable and writable, or run the command as its owner"
	}
	return Failed(err, "the logbook cannot be read", do)
}

// LockFault says in a user's words why the logbook could not be locked.
func LockFault(err error) error {
	if errors.Is(err, logbook.ErrBusy) {
		return Failed(err, "the logbook is locked", "wait until that run has ended, then run the same command again")
	}
	return Failed(err, "the logbook cannot be written", "make the folder of the site file writable; nothing was changed")
}

// guard does a change of the site file while no other run makes one, and keeps in the logbook what was written.
func (j *Job) guard(change func() ([]byte, error)) error {
	return j.Book.Change(func() error {
		written, err := change()
		if err != nil {
			return err
		}
		if kept, ok, err := j.Book.SiteFile(); err == nil && ok && bytes.Equal(kept, written) {
			return nil
		}
		return j.Book.KeepSiteFile(written)
	})
}

// SistersOf returns the addresses of the other sites of a network.
func SistersOf(site address.Site) []string {
	out := []string{}
	for _, s := range site.Sisters {
		out = append(out, s.String())
	}
	return out
}
