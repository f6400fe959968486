package work

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/reference"
	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/files"
	"trimlantern/site/layout"
)

// Origin is one place that can produce a reference.
type Origin struct {
	Table  string         `json:"table,omitempty"`
	Key    []sheet.Value  `json:"key,omitempty"`
	Column string         `json:"column,omitempty"`
	Label  string         `json:"label,omitempty"` // what the row is called: "setting logo_url"
	Path   string         `json:"path,omitempty"`  // inside the value
	Page   string         `json:"page,omitempty"`  // the page that the row is shown on
	File   string         `json:"file,omitempty"`
	Line   int            `json:"line,omitempty"`
	Col    int            `json:"col,omitempty"`
	Text   string         `json:"text,omitempty"` // the line of the file
	Match  Match          `json:"match"`
	Reason rewrite.Reason `json:"reason,omitempty"` // why preview leaves it; "" where it changes it
	Count  int            `json:"count"`            // references in this place
	Do     string         `json:"do"`

	score int
	slug  string
}

// Match is how a place and a reference belong together.
type Match string

// The matches.
const (
	Exact   Match = "exact"   // the same address
	Scaled  Match = "scaled"  // the picture that it is a smaller copy of
	Address Match = "address" // the site's own address, from which it is made
)

// Traced is where one reference lives.
type Traced struct {
	URL    string   `json:"url"`
	Places []Origin `json:"places"`
	Rows   int64    `json:"rows_read"`
	Files  int      `json:"files_read"`

	Skipped []files.Skipped `json:"skipped_files,omitempty"`
}

// Code is the exit code that it comes to.
func (t *Traced) Code() int {
	if len(t.Places) > 0 {
		return Remain
	}
	return Clean
}

// maxPlaces is how many places of one reference are kept.
const maxPlaces = 200

// scaled is what content-managed systems put behind the name of a smaller copy.
var scaled = regexp.MustCompile(`-(\d{2,5}x\d{2,5}|scaled)(\.[A-Za-z0-9]{2,5})$`)

// target is one reference whose origins are looked for.
type target struct {
	url    *url.URL
	ours   bool
	page   string // one page that it is on
	pages  int
	places []Origin
}

// tracing looks for all targets in one pass.
type tracing struct {
	job     *Job
	rules   *rewrite.Rules
	by      map[string][]*target // by the address's key
	smaller map[string][]*target // by the key of the picture that it is a copy of
	targets []*target
	rows    int64
	files   int
	skipped []files.Skipped
	found   []rewrite.Finding // of the value that is looked at
}

// key brings an address into the one form in which addresses are compared: without
// scheme and fragment, decoded.
func key(u *url.URL) string {
	host, err := address.CanonicalHost(u.Hostname())
	if err != nil {
		host = u.Hostname()
	}
	if p := u.Port(); p != "" && p != "80" {
		host += ":" + p
	}
	k := host + strings.TrimRight(u.Path, "/")
	if u.RawQuery != "" {
		q, err := url.QueryUnescape(u.RawQuery)
		if err != nil {
			q = u.RawQuery
		}
		k += "?" + strings.ReplaceAll(q, "&amp;", "&")
	}
	return k
}

func (j *Job) tracing() *tracing {
	t := &tracing{job: j, by: map[string][]*target{}, smaller: map[string][]*target{}}
	t.rules = &rewrite.Rules{Site: j.Site, Hashed: j.Layout.Hashed(j.conn), Rewritten: func(f rewrite.Finding) { t.found = append(t.found, f) }}
	return t
}

// want adds a reference to look for.
func (t *tracing) want(raw, page string, pages int) error {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return misuse(err, fmt.Sprintf("%q is no address", raw), "write one like http://ternrock.example/media/lens.png, as scan lists it")
	}
	one := &target{url: u, page: page, pages: pages}
	one.ours = t.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours
	t.targets = append(t.targets, one)
	t.by[key(u)] = append(t.by[key(u)], one)
	if m := scaled.FindStringSubmatchIndex(u.Path); m != nil {
		whole := *u
		whole.Path = u.Path[:m[0]] + u.Path[m[4]:m[5]]
		t.smaller[key(&whole)] = append(t.smaller[key(&whole)], one)
	}
	return nil
}

// Trace says where a reference lives: table, row, path inside the value, file and line.
func (j *Job) Trace(ctx context.Context, raw string) (*Traced, error) {
	defer j.Progress.End()
	t := j.tracing()
	page, pages := "", 0
	if scan, err := j.lastScan(); err == nil && scan != nil { // what the last scan saw helps to rank
		for _, c := range scan.Culprits {
			if c.URL == raw && c.Pages > pages {
				page, pages = c.On, c.Pages
			}
		}
	}
	if err := t.want(raw, page, pages); err != nil {
		return nil, err
	}
	if err := t.run(ctx); err != nil {
		return nil, err
	}
	return &Traced{URL: raw, Places: t.targets[0].places, Rows: t.rows, Files: t.files, Skipped: t.skipped}, nil
}

// traceScan names the places of all culprits of a scan, in one pass.
func (j *Job) traceScan(ctx context.Context, s *Scan) error {
	if j.Book == nil || !j.Stored() {
		return misuse(nil, "--trace needs a site file, which says where database and files are", "make one: trimlantern init --site https://HOST FOLDER")
	}
	t := j.tracing()
	for _, c := range s.Culprits {
		if err := t.want(c.URL, c.On, c.Pages); err != nil {
			t.targets = append(t.targets, &target{url: &url.URL{}}) // what is no address lives nowhere
		}
	}
	if len(t.targets) == 0 {
		return nil
	}
	if err := t.run(ctx); err != nil {
		return err
	}
	for i := range s.Culprits {
		if s.Culprits[i].Places = t.targets[i].places; s.Culprits[i].Places == nil {
			s.Culprits[i].Places = []Origin{}
		}
	}
	return nil
}

// run reads database and files once and ranks what was found.
func (t *tracing) run(ctx context.Context) error {
	j := t.job
	db, tables, err := j.open(ctx, true)
	if err != nil {
		return err
	}
	defer db.Close()
	asked, err := j.verdicts(ctx)
	if err != nil {
		return err
	}
	t.rules.Verdict = func(host, _ string) rewrite.Verdict { // what is known; tracing asks nobody
		return asked.known[host].Meaning()
	}
	for i, table := range tables {
		if err := t.table(ctx, db, table, i, len(tables)); err != nil {
			return err
		}
	}
	if err := t.codes(); err != nil {
		return err
	}
	t.locks()
	for _, one := range t.targets {
		shared := slices.ContainsFunc(one.places, func(o Origin) bool { return o.Match == Exact && o.everywhere() })
		for i := range one.places {
			o := &one.places[i]
			if o.rank(one); o.Match == Address && one.pages > 3 && !shared {
				o.score += 60 // many pages have it, and no setting and no file holds it: they make it
			}
		}
		slices.SortStableFunc(one.places, func(a, b Origin) int { return b.score - a.score })
	}
	return nil
}

// table looks through one table.
func (t *tracing) table(ctx context.Context, db database.Database, table database.Table, i, of int) error {
	j := t.job
	short := j.short(table.Name)
	label, labelled := j.Layout.LabelOf(short)
	for _, need := range label.Needs() { // numbers too, which no reference is in
		if _, ok := table.Column(need); ok || table.InKey(need) {
			continue
		}
		for _, c := range table.All {
			if c.Name == need {
				table.Columns = append(slices.Clone(table.Columns), c)
			}
		}
	}
	j.Progress.At("tracing in "+table.Name, int64(i), int64(of))
	err := db.Candidates(ctx, table, database.References, func(row database.Row) error {
		t.rows++
		get := func(name string) string {
			for i, c := range table.Columns {
				if c.Name == name {
					return string(row.Values[i].Bytes)
				}
			}
			for i, k := range table.Key {
				if k.Name == name {
					return string(row.Key[i])
				}
			}
			return ""
		}
		cached, _ := j.Layout.IsCache(short, get)
		idle := j.Layout.IsIdle(short, get)
		for i, c := range table.Columns {
			found := t.value(row.Values[i].Bytes)
			if len(found) == 0 {
				continue
			}
			o := Origin{Table: table.Name, Key: values(row.Key), Column: c.Name}
			if labelled {
				if name := get(label.Column); name != "" {
					o.Label = label.Word + " " + name
				}
				if p := label.PageOf(get); p != "" {
					o.Page = j.Site.String() + p
				}
				o.slug = get(label.Slug)
			}
			switch {
			case j.Layout.IsIdentifier(short, c.Name):
				o.Reason = rewrite.Identifier
			case cached:
				o.Reason = rewrite.Cached
			case len(table.Key) == 0:
				o.Reason = rewrite.NoKey
			}
			if idle {
				o.score -= 30
			}
			isAddress := slices.ContainsFunc(j.Layout.Addresses, func(a layout.Address) bool {
				return a.Table == short && a.Column == c.Name && get(a.Where) == a.Equals
			})
			t.place(o, found, isAddress)
		}
		return nil
	}, func(int64) {})
	if err != nil {
		return (&survey{}).failed(err, table)
	}
	return nil
}

// value finds all insecure references of one value, in every envelope.
func (t *tracing) value(b []byte) []rewrite.Finding {
	if !rewrite.MayHold(b) {
		return nil
	}
	t.found = t.found[:0]
	res := t.rules.Value(b)
	all := append(slices.Clone(t.found), res.Left...)
	for _, f := range res.Left {
		if f.URL != "" {
			continue
		}
		// What cannot be opened is looked through as it stands.
		reference.Find(b, func(ref reference.Reference) bool {
			all = append(all, rewrite.Finding{Reason: f.Reason, URL: ref.Text(b), Path: f.Path, Host: ref.Host})
			return true
		})
		break
	}
	return all
}

// place gives what was found in one place to those that look for it.
func (t *tracing) place(o Origin, found []rewrite.Finding, isAddress bool) {
	for _, f := range found {
		if f.URL == "" {
			continue
		}
		u, err := url.Parse(f.URL)
		if err != nil {
			continue
		}
		here := o
		here.Path = f.Path
		here.Reason = cmp.Or(o.Reason, f.Reason)
		here.Count = 1
		k := key(u)
		for _, one := range t.by[k] {
			one.add(here, Exact)
		}
		for _, one := range t.smaller[k] {
			one.add(here, Scaled)
		}
		if !isAddress {
			continue
		}
		for _, one := range t.targets {
			if one.ours && key(one.url) != k && strings.HasPrefix(key(one.url), k) {
				one.add(here, Address)
			}
		}
	}
}

func (one *target) add(o Origin, m Match) {
	o.Match = m
	for i, p := range one.places {
		if p.Table == o.Table && p.Column == o.Column && p.Path == o.Path && p.File == o.File && p.Line == o.Line && p.Match == m &&
			slices.EqualFunc(p.Key, o.Key, func(a, b sheet.Value) bool { return bytes.Equal(a, b) }) {
			one.places[i].Count++
			return
		}
	}
	if len(one.places) < maxPlaces {
		one.places = append(one.places, o)
	}
}

// codes looks through the files, and through what is cached of pages.
func (t *tracing) codes() error {
	j := t.job
	look := func(dir string, cached bool) error {
		j.Progress.At("tracing in "+dir, 0, 0)
		skipped, err := files.Walk(dir, func(name string, _ fs.FileInfo, b []byte) error {
			t.files++
			if !rewrite.MayHold(b) {
				return nil
			}
			rel, err := filepath.Rel(j.File.Dir, name)
			if err != nil {
				rel = name
			}
			t.found = t.found[:0]
			res := t.rules.File(rel, b)
			for _, f := range append(slices.Clone(t.found), res.Left...) {
				o := Origin{File: rel, Line: files.Line(b, f.Offset), Col: files.Column(b, f.Offset), Text: files.Text(b, f.Offset)}
				if o.Reason = f.Reason; cached {
					o.Reason = rewrite.Cached
				}
				t.place(o, []rewrite.Finding{f}, false)
			}
			return nil
		})
		if errors.Is(err, fs.ErrNotExist) {
			return nil // preview says so
		}
		if !cached {
			t.skipped = append(t.skipped, j.named(skipped)...)
		}
		return err
	}
	for _, dir := range j.File.Files {
		if err := look(j.File.Abs(dir), false); err != nil {
			return world(err, "reading files in "+dir, "look at the folder; then run the same command again")
		}
	}
	folders, err := j.cacheFolders()
	if err != nil {
		return err
	}
	for _, f := range folders {
		if err := look(f.Path, true); err != nil {
			return world(err, "reading files in "+f.Path, "look at the folder; then run the same command again")
		}
	}
	return nil
}

// locks adds the configuration that holds an address against the database.
func (t *tracing) locks() {
	conn := t.job.conn
	if conn == nil {
		return
	}
	for _, lock := range conn.Locks {
		u, err := url.Parse(lock.Value)
		if err != nil || u.Scheme != "http" {
			continue
		}
		rel, err := filepath.Rel(t.job.File.Dir, conn.File)
		if err != nil {
			rel = conn.File
		}
		o := Origin{File: rel, Line: lock.Line, Text: lock.Constant, Count: 1, Do: "change it in this file: the database does not count while " + lock.Constant + " is set"}
		for _, one := range t.targets {
			switch k := key(u); {
			case key(one.url) == k:
				one.add(o, Exact)
			case one.ours && strings.HasPrefix(key(one.url), k):
				o.score = 15 // it counts, and the setting in the database does not
				one.add(o, Address)
			}
		}
	}
}

// rank says how likely a place is the one that produces a reference, and what to do
// about it.
func (o *Origin) rank(one *target) {
	switch o.Match {
	case Exact:
		o.score += 100
	case Scaled:
		o.score += 70
	case Address:
		o.score += 40
	}
	switch o.Reason {
	case rewrite.Identifier:
		o.score -= 60 // shown nowhere but in feeds
	case rewrite.Cached:
		o.score -= 40
	case rewrite.Standard:
		o.score -= 50
	}
	onPage := one.page != "" && o.slug != "" && path.Base(strings.TrimRight(pathOf(one.page), "/")) == o.slug
	switch {
	case onPage:
		o.score += 25 // the row of the very page
	case one.pages > 3 && o.everywhere():
		o.score += 12 // what stands on many pages comes from what they share
	case one.pages == 1 && o.Page != "":
		o.score += 6
	}
	if o.Do == "" {
		o.Do = o.remedy()
	}
}

// everywhere reports whether a place is one that many pages share.
func (o *Origin) everywhere() bool { return o.File != "" || strings.HasPrefix(o.Label, "setting ") }

func pathOf(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	return u.Path
}

// remedies says what to do about what preview leaves.
var remedies = map[rewrite.Reason]string{
	rewrite.Identifier: "leave it: a permanent identifier, which no page loads",
	rewrite.Cached:     "a cached copy: fix its source, then empty the cache (apply --drop-caches, or the system's own way)",
	rewrite.NoHTTPS:    "its host has no HTTPS: keep a copy of it with the site, or take it from somewhere else",
	rewrite.NoVerdict:  "its host could not be asked: run preview when it answers, or decide under hosts in the site file",
	rewrite.Possible:   "look at the script: does it load this? Then decide under hosts in the site file",
	rewrite.Linked:     "only a link to another host: it may stay",
	rewrite.Kept:       "left by your decision in the site file",
	rewrite.Unsound:    "the value is not sound: trimlantern mend, or edit it in the system itself",
	rewrite.Opaque:     "a class's own format: edit it in the system itself",
	rewrite.TooDeep:    "nested too deep: edit it in the system itself",
	rewrite.NoKey:      "its table has no key: edit it in the database",
	rewrite.Subdomain:  "a name below the site's: is it yours? Then name it under also in the site file",
	rewrite.LookAlike:  "another host, whose name only looks like the site's",
	rewrite.OtherPort:  "another port is another origin: edit it in the system itself",
	rewrite.Outside:    "outside of the site's folder: it belongs to somebody else",
	rewrite.Private:    "left from development: edit it in the system itself",
	rewrite.Standard:   "leave it: the name of a standard",
	rewrite.Unsealed:   "a length or an encoding around it cannot be made to fit: edit it in the system itself",
	rewrite.Protected:  "a hash or a signature covers it: save it again in the system itself",
	rewrite.Binary:     "inside binary data: replace the file in the system itself",
	rewrite.Unread:     "compressed or encoded in a way that is not read: edit it in the system itself",
	rewrite.Unclear:    "letters stand directly behind the host: put a blank between them",
	rewrite.Hidden:     "row-level security keeps rows from this database user: name one under database that sees all of them",
	rewrite.Charset:    "the connection's charset would change its text: set charset under database in the site file to that of the column",
	rewrite.Malformed:  "not a well-formed address: correct it in the system itself",
}

func (o *Origin) remedy() string {
	if o.Reason == "" {
		return "trimlantern preview changes it"
	}
	if do := remedies[o.Reason]; do != "" {
		return do
	}
	return o.Reason.Words()
}
