// Package trace says where insecure references are stored, or what builds them.
package trace

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
	"strconv"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/mixed"
	"trimlantern/core/pieces"
	"trimlantern/core/reference"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/files"
	"trimlantern/outside/system"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
)

// Traced is where one reference lives.
type Traced struct {
	URL    string            `json:"url"`
	Places []findings.Origin `json:"places"`
	Rows   int64             `json:"rows_read"`
	Files  int               `json:"files_read"`
	Scan   string            `json:"scan,omitempty"`   // the newest that has it
	On     string            `json:"on,omitempty"`     // a page that has it, by that scan
	Line   int               `json:"line,omitempty"`   // there
	Around string            `json:"around,omitempty"` // the markup there

	Skipped []files.Skipped `json:"skipped_files,omitempty"`
	Folders []string        `json:"folders"` // of files that were searched
	Kinds   []string        `json:"kinds"`   // endings of such files, besides those of code
	Others  []string        `json:"tables_not_searched"`
}

// Code is the exit code: something is insecure, or was not found.
func (t *Traced) Code() int { return work.Remain }

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
	seen   findings.Culprit // what the scan has of it; empty: nothing
	wanted *pieces.Wanted
	places []candidate
}

// candidate is a place that may hold a reference, and how likely it is.
type candidate struct {
	findings.Origin
	score int
	slug  string // of the row, where its page is known by one
}

// origins are the places that were found, the likeliest first.
func (one *target) origins() []findings.Origin {
	out := make([]findings.Origin, len(one.places))
	for i, p := range one.places {
		out[i] = p.Origin
	}
	return out
}

// tracing looks for all targets in one pass.
type tracing struct {
	job     *work.Job
	rules   *rewrite.Rules
	by      map[string][]*target // by the address's key
	smaller map[string][]*target // by the key of the picture that it is a copy of
	targets []*target
	rows    int64
	files   int
	skipped []files.Skipped
	found   []rewrite.Finding // of the value that is looked at
	byHost  map[string][]*target
	sheet   *newestSheet
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

func newTracing(j *work.Job) *tracing {
	t := &tracing{job: j, by: map[string][]*target{}, byHost: map[string][]*target{}, smaller: map[string][]*target{}}
	t.rules = &rewrite.Rules{Site: j.Site, Hashed: j.Hashed(), Rewritten: func(f rewrite.Finding) { t.found = append(t.found, f) }}
	return t
}

// want adds a reference to look for; seen is what a scan has of it, if it has.
func (t *tracing) want(raw string, seen findings.Culprit) error {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return work.BadUse(err, fmt.Sprintf("%q is not an address", raw), "write one like http://ternrock.example/media/lens.png, as scan lists it, or its number there")
	}
	one := &target{url: u, page: seen.On, pages: seen.Pages, seen: seen, wanted: pieces.New(u, seen.Around)}
	one.ours = t.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours
	t.targets = append(t.targets, one)
	k := key(u)
	t.by[k] = append(t.by[k], one)
	host, _, _ := strings.Cut(k, "/")
	host, _, _ = strings.Cut(host, "?")
	t.byHost[host] = append(t.byHost[host], one)
	if m := scaled.FindStringSubmatchIndex(u.Path); m != nil {
		whole := *u
		whole.Path = u.Path[:m[0]] + u.Path[m[4]:m[5]]
		t.smaller[key(&whole)] = append(t.smaller[key(&whole)], one)
	}
	return nil
}

// Run says where a reference lives: table, row, path inside the value, file and line. It is an
// address, or the number under which the last scan lists it.
func Run(ctx context.Context, j *work.Job, raw string) (*Traced, error) {
	defer j.Progress.End()
	scan, err := findings.Last(j)
	if err != nil {
		scan = nil // it only helps
	}
	seen := findings.Culprit{}
	if n, err := strconv.Atoi(raw); err == nil {
		if scan == nil {
			return nil, work.BadUse(nil, "there is no scan whose findings have numbers", "trimlantern scan makes one; or write the address")
		}
		i := slices.IndexFunc(scan.Culprits, func(c findings.Culprit) bool { return c.Number == n })
		switch {
		case i >= 0:
			raw = scan.Culprits[i].URL
		case n > 0 && n <= len(scan.Culprits) && scan.Culprits[n-1].Number == 0: // a scan of before there were numbers
			raw = scan.Culprits[n-1].URL
		default:
			return nil, work.BadUse(nil, fmt.Sprintf("the last scan has no finding %d", n), "trimlantern scan and trimlantern show number the findings; or write an address")
		}
	}
	if scan != nil {
		for _, c := range scan.Culprits {
			if c.URL == raw && c.Pages > seen.Pages {
				seen = c
			}
		}
	}
	t := newTracing(j)
	if err := t.want(raw, seen); err != nil {
		return nil, err
	}
	if err := t.run(ctx); err != nil {
		return nil, err
	}
	out := &Traced{URL: raw, Places: t.targets[0].origins(), Rows: t.rows, Files: t.files, Skipped: t.skipped, On: seen.On, Line: seen.Line, Around: seen.Around,
		Folders: append([]string{}, j.File.Files...), Kinds: append([]string{}, j.System.Kinds...), Others: append([]string{}, j.Elsewhere()...)}
	if seen.On != "" {
		out.Scan = scan.ID
	}
	return out, nil
}

// Scan names the places of all culprits of a scan, in one pass.
func Scan(ctx context.Context, j *work.Job, s *findings.Scan) error {
	if j.Book == nil || !j.Stored() {
		return work.BadUse(nil, "--trace needs a site file, which says where database and files are", "make one: trimlantern init --site https://HOST FOLDER")
	}
	t := newTracing(j)
	for _, c := range s.Culprits {
		if err := t.want(c.URL, c); err != nil {
			t.targets = append(t.targets, &target{url: &url.URL{}}) // what is no address has no place
		}
	}
	if len(t.targets) == 0 {
		return nil
	}
	if err := t.run(ctx); err != nil {
		return err
	}
	for i := range s.Culprits {
		s.Culprits[i].Places = t.targets[i].origins()
	}
	return nil
}

// run reads database and files once and ranks what was found.
func (t *tracing) run(ctx context.Context) error {
	j := t.job
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return err
	}
	defer db.Close()
	asked, err := j.Verdicts(ctx)
	if err != nil {
		return err
	}
	t.rules.Verdict = func(host, _ string) rewrite.Verdict { // what is known; tracing asks nobody
		return asked.Of(host).Meaning()
	}
	for i, table := range tables {
		if err := t.table(ctx, db, table, i, len(tables)); err != nil {
			return err
		}
	}
	if err := t.codes(t.code); err != nil {
		return err
	}
	t.locks()
	if err := t.pieces(ctx, db, tables); err != nil {
		return err
	}
	t.documents()
	if t.sheet, err = findNewestSheet(j); err != nil {
		return err
	}
	for _, one := range t.targets {
		shared := slices.ContainsFunc(one.places, func(o candidate) bool { return o.Match == findings.Exact && o.everywhere() })
		for i := range one.places {
			o := &one.places[i]
			if o.rank(one, t.sheet); o.Match == findings.Address && one.pages > 3 && !shared {
				o.score += 60 // many pages have it, and no setting and no file holds it: they make it
			}
		}
		slices.SortStableFunc(one.places, func(a, b candidate) int { return b.score - a.score })
		one.places = one.places[:min(len(one.places), maxPlaces)]
	}
	return nil
}

// tracedRow is a row with what the system description says of it.
type tracedRow struct {
	t       *tracing
	table   database.Table
	short   string
	row     database.Row
	label   system.Label
	labeled bool
	cached  bool
	idle    bool
}

// get returns a column's value.
func (r *tracedRow) get(name string) string {
	for i, c := range r.table.Columns {
		if c.Name == name {
			return string(r.row.Values[i].Bytes)
		}
	}
	for i, k := range r.table.Key {
		if k.Name == name {
			return string(r.row.Key[i])
		}
	}
	return ""
}

// origin is a place in the row.
func (r *tracedRow) origin(column string) candidate {
	o := candidate{Origin: findings.Origin{Table: r.table.Name, Key: change.Values(r.row.Key), Column: column}}
	if r.labeled {
		if name := r.get(r.label.Column); name != "" {
			o.Label = r.label.Word + " " + name
		}
		if p := r.label.PageOf(r.get); p != "" {
			o.Page = r.t.job.Site.String() + p
		}
		o.slug = r.get(r.label.Slug)
	}
	switch {
	case r.t.job.System.IsIdentifier(r.short, column):
		o.Reason = rewrite.Identifier
	case r.cached:
		o.Reason = rewrite.Cached
	case len(r.table.Key) == 0:
		o.Reason = rewrite.NoKey
	}
	if r.idle {
		o.score -= 30
	}
	return o
}

// each goes through the rows of a table.
func (t *tracing) each(ctx context.Context, db database.Database, table database.Table, pick database.Pick, visit func(*tracedRow)) error {
	j := t.job
	r := &tracedRow{t: t, short: j.Short(table.Name)}
	r.label, r.labeled = j.System.LabelOf(r.short)
	for _, need := range r.label.Needs() { // numbers too, which no reference is in
		if _, ok := table.Column(need); ok || table.InKey(need) {
			continue
		}
		for _, c := range table.All {
			if c.Name == need {
				table.Columns = append(slices.Clone(table.Columns), c)
			}
		}
	}
	r.table = table
	err := db.Candidates(ctx, table, pick, func(row database.Row) error {
		r.row = row
		r.cached, _ = j.System.IsCache(r.short, r.get)
		r.idle = j.System.IsIdle(r.short, r.get)
		visit(r)
		return nil
	}, func(int64) {})
	if err != nil {
		return preview.TableFault(err, table)
	}
	return nil
}

// table looks through one table.
func (t *tracing) table(ctx context.Context, db database.Database, table database.Table, i, of int) error {
	t.job.Progress.At("tracing in "+table.Name, int64(i), int64(of))
	return t.each(ctx, db, table, database.References, func(r *tracedRow) {
		t.rows++
		for i, c := range table.Columns {
			found := t.value(r.row.Values[i].Bytes)
			if len(found) == 0 {
				continue
			}
			isAddress := slices.ContainsFunc(t.job.System.Addresses, func(a system.Address) bool {
				return a.Table == r.short && a.Column == c.Name && r.get(a.Where) == a.Equals
			})
			t.place(r.origin(c.Name), found, isAddress, r.row.Values[i].Bytes)
		}
	})
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

// place gives what was found in one place to those that look for it; b is the value or the file.
func (t *tracing) place(o candidate, found []rewrite.Finding, isAddress bool, b []byte) {
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
			here := here
			at := one.wanted.Locate(b, f.Offset)
			here.score += one.wanted.Near(b, at)
			if o.File != "" && at > f.Offset && !bytes.HasPrefix(bytes.ToLower(b[min(f.Offset, len(b)):]), []byte("http")) { // inside JSON or the like: the offset is that of the whole
				here.Line, here.Col, here.Text = files.Line(b, at), files.Column(b, at), files.Text(b, at)
			}
			one.add(here, findings.Exact)
		}
		for _, one := range t.smaller[k] {
			one.add(here, findings.Scaled)
		}
		t.beginning(here, k, isAddress)
	}
}

// beginning gives a place to the targets of which it holds the beginning k: the rest is added by code.
func (t *tracing) beginning(o candidate, k string, isAddress bool) {
	host, rest, _ := strings.Cut(k, "/")
	for _, one := range t.byHost[host] {
		whole := key(one.url)
		switch {
		case whole == k || !strings.HasPrefix(whole, k):
		case isAddress && one.ours:
			one.add(o, findings.Address)
		case rest != "" || o.File != "" || !one.ours && o.everywhere(): // content that only names the host makes nothing of it
			o := o
			o.score = min(len(rest), 20)
			one.add(o, findings.Prefix)
		}
	}
}

func (one *target) add(o candidate, m findings.Match) {
	o.Match = m
	for i, p := range one.places {
		if p.Table == o.Table && p.Column == o.Column && p.Path == o.Path && p.File == o.File && p.Line == o.Line && p.Match == m &&
			slices.EqualFunc(p.Key, o.Key, func(a, b change.Value) bool { return bytes.Equal(a, b) }) {
			one.places[i].Count++
			return
		}
	}
	if len(one.places) < maxPlaces {
		one.places = append(one.places, o)
	}
}

// codes looks through the files, and through what is cached of pages.
func (t *tracing) codes(visit func(rel string, b []byte, cached bool)) error {
	j := t.job
	look := func(dir string, cached bool) error {
		j.Progress.At("tracing in "+dir, 0, 0)
		skipped, err := files.Walk(dir, j.System.Kinds, func(name string, _ fs.FileInfo, b []byte) error {
			rel, err := filepath.Rel(j.File.Dir, name)
			if err != nil {
				rel = name
			}
			visit(rel, b, cached)
			return nil
		})
		if errors.Is(err, fs.ErrNotExist) {
			return nil // preview says so
		}
		if !cached {
			t.skipped = append(t.skipped, j.Named(skipped)...)
		}
		return err
	}
	for _, dir := range j.File.Files {
		if err := look(j.File.Abs(dir), false); err != nil {
			return work.Failed(err, "reading files in "+dir, "check the folder, then run the same command again")
		}
	}
	folders, err := j.CacheFolders()
	if err != nil {
		return err
	}
	for _, f := range folders {
		if err := look(f.Path, true); err != nil {
			return work.Failed(err, "reading files in "+f.Path, "check the folder, then run the same command again")
		}
	}
	return nil
}

// code looks for whole references in one file.
func (t *tracing) code(rel string, b []byte, cached bool) {
	t.files++
	if !rewrite.MayHold(b) {
		return
	}
	t.found = t.found[:0]
	res := t.rules.File(rel, b)
	for _, f := range append(slices.Clone(t.found), res.Left...) {
		o := candidate{Origin: findings.Origin{File: rel, Line: files.Line(b, f.Offset), Col: files.Column(b, f.Offset), Text: files.Text(b, f.Offset)}}
		if o.Reason = f.Reason; cached {
			o.Reason = rewrite.Cached
		}
		t.place(o, []rewrite.Finding{f}, false, b)
	}
}

// locks adds the configuration that holds an address against the database.
func (t *tracing) locks() {
	conn := t.job.Connection()
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
		o := candidate{Origin: findings.Origin{File: rel, Line: lock.Line, Text: lock.Constant, Count: 1, Do: "change it in this file: the database does not count while " + lock.Constant + " is set"}}
		for _, one := range t.targets {
			switch k := key(u); {
			case key(one.url) == k:
				one.add(o, findings.Exact)
			case one.ours && strings.HasPrefix(key(one.url), k):
				o.score = 15 // it counts, and the setting in the database does not
				one.add(o, findings.Address)
			}
		}
	}
}

// rank says how likely a place is the one that produces a reference, and what to do
// about it.
func (o *candidate) rank(one *target, newest *newestSheet) {
	switch o.Match {
	case findings.Exact:
		o.score += 100
	case findings.Document:
		o.score += 95
	case findings.Scaled:
		o.score += 70
	case findings.Joined: // on top of what its pieces count
		o.score += 15
	case findings.Prefix:
		if o.score += 45; o.Table != "" && !o.everywhere() {
			o.score -= 20 // a row of content that only names the same host
		}
	case findings.Address:
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
		o.Do = o.remedy(one, newest)
	}
}

// everywhere reports whether a place is one that many pages share.
func (o *candidate) everywhere() bool { return o.File != "" || strings.HasPrefix(o.Label, "setting ") }

func pathOf(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	return u.Path
}

// idle are the reasons that say that no page loads what stands here: the scan has seen one that does.
var idle = map[rewrite.Reason]bool{rewrite.Linked: true, rewrite.LookAlike: true, rewrite.Identifier: true, rewrite.Standard: true}

func (o *candidate) remedy(one *target, newest *newestSheet) string {
	switch {
	case idle[o.Reason] && one.seen.Class != "" && one.seen.Class != mixed.Link:
		return words.RemedyLoaded // whatever it is here, a page does more with it
	case o.Match == findings.Joined:
		return words.RemedyJoined
	case o.Match == findings.Piece:
		return words.RemedyPiece
	case o.Reason != "":
		return words.Remedy(o.Reason)
	case newest.changes(o):
		return words.Fill(words.RemedySheet, newest.id)
	}
	return words.RemedyPreview
}

// StoredPages calls visit with the address of each page that the database knows of, over HTTPS. A site without a
// database, or whose system description tells no pages, has none.
func StoredPages(ctx context.Context, j *work.Job, visit func(page string)) error {
	if !j.Stored() || len(j.System.Pages) == 0 {
		return nil
	}
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return err
	}
	defer db.Close()
	t := newTracing(j)
	for _, table := range tables {
		site, short := j.Set(table.Name)
		if !slices.ContainsFunc(j.System.Pages, func(p system.Cache) bool { return p.Table == short }) {
			continue
		}
		base := j.Site.String()
		if place, ok := j.Place(site); ok && site > 1 {
			base = "https://" + place.Address
		}
		// Only what tells the page is read, and not its text.
		needs := j.System.Needs(short)
		table.Columns = slices.DeleteFunc(slices.Clone(table.All), func(c database.Column) bool { return !slices.Contains(needs, c.Name) })
		j.Progress.At("reading which pages there are in "+table.Name, 0, 0)
		err := t.each(ctx, db, table, database.Everything, func(r *tracedRow) {
			if r.idle || !j.System.IsPage(short, r.get) {
				return
			}
			if page := r.label.PageOf(r.get); page != "" {
				visit(base + page)
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}
