package decide

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/outside/disk"
	"trimlantern/outside/fetch"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// keptFolder is where copies of other hosts' things lie in the site's own folder, unless the user says another.
const keptFolder = "kept"

// Bounds of what adopt fetches.
const (
	maxAdopted     = 500      // files
	maxAdoptedSize = 64 << 20 // bytes of all of them
	maxSheetDepth  = 5        // style sheets that pull in style sheets
)

// AdoptOptions say what to keep a copy of, and where.
type AdoptOptions struct {
	What    string // a URL, a host, or the number of an item
	Into    string // the folder; "": the site file's, or the usual one
	At      string // the address at which the web server serves it; "": told from the folder
	Scripts bool   // copy scripts too
}

// Adopted is what adopt fetched.
type Adopted struct {
	Copies  []AdoptedCopy     `json:"copies"`
	Refused []findings.Unread `json:"refused"` // URLs of which there is no copy, and why
	Folder  string            `json:"folder"`
	Address string            `json:"address"`
	Path    string            `json:"path"` // of the site file
}

// AdoptedCopy is one copy.
type AdoptedCopy struct {
	From string `json:"from"`
	To   string `json:"to"`
	File string `json:"file"` // that apply writes
	Type string `json:"type"`
	Size int    `json:"size"`
	By   string `json:"by,omitempty"` // the style sheet that pulls it in
}

// Code is the exit code that it comes to.
func (a *Adopted) Code() int {
	if len(a.Refused) > 0 {
		return work.Remain
	}
	return work.Clean
}

// adopting is one run of adopt.
type adopting struct {
	job     *work.Job
	ctx     context.Context
	client  *fetch.Client
	o       AdoptOptions
	out     *Adopted
	entries []sitefile.Replaced
	known   map[string]string // URLs that have a copy: its file below the folder
	files   map[string]string // files: the hash of what they hold
	size    int
}

// Adopt fetches a copy of something that another host serves over HTTP, and of what a style sheet pulls in. The
// copies wait in the logbook; the site file says what they stand in for, so that the next preview points to them,
// and apply puts them into the site's folder.
func Adopt(ctx context.Context, j *work.Job, o AdoptOptions) (*Adopted, error) {
	defer j.Progress.End()
	if j.IsDump() {
		return nil, work.BadUse(nil, "this site is known by an exported database alone: there is no folder for copies",
			"upload a copy yourself, then: trimlantern decide replace URL https://"+j.Site.Host+"/PATH")
	}
	urls, err := toAdopt(j, o.What)
	if err != nil {
		return nil, err
	}
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	copies, err := copiesAt(j, o)
	if err != nil {
		return nil, err
	}
	a := &adopting{job: j, ctx: ctx, client: client, o: o, known: map[string]string{}, files: map[string]string{},
		out: &Adopted{Copies: []AdoptedCopy{}, Refused: []findings.Unread{}, Folder: j.File.Abs(copies.Folder), Address: copies.Address, Path: j.File.Path}}
	for _, r := range j.File.Replaced {
		if r.Copy != "" {
			a.known[work.SameURL(r.From)], a.files[r.File] = r.File, r.Copy
		}
	}
	for _, u := range urls {
		if a.known[work.SameURL(u)] != "" {
			a.refuse(u, "there is a copy already, named under replaced in the site file")
			continue
		}
		if _, err := a.fetch(u, "", 0); err != nil {
			return nil, err
		}
	}
	if len(a.entries) == 0 {
		return a.out, nil
	}
	for _, set := range [][2]string{{"folder", copies.Folder}, {"address", copies.Address}} {
		if err := j.File.Set("copies", set[0], set[1]); err != nil {
			return nil, j.DecisionFault(err)
		}
	}
	for _, e := range a.entries {
		if err := j.File.Add("replaced", e); err != nil {
			return nil, j.DecisionFault(err)
		}
	}
	return a.out, nil
}

// toAdopt returns the URLs that are meant: one, or all of a host that wait for a decision.
func toAdopt(j *work.Job, what string) ([]string, error) {
	if strings.HasPrefix(what, "https://") {
		return nil, work.BadUse(nil, what+" is secure already", "adopt is for what a host serves over HTTP alone: write it as the pages do, http://…")
	}
	if strings.HasPrefix(what, "http://") {
		u, err := url.Parse(what)
		if err != nil || u.Host == "" {
			return nil, work.BadUse(nil, what+" is not a URL", "write it as the pages do: http://HOST/PATH")
		}
		if j.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours {
			return nil, work.BadUse(nil, what+" is the site's own: it needs no copy", "trimlantern preview makes its references secure")
		}
		return []string{what}, nil
	}
	item, err := item(j, what)
	if err != nil {
		return nil, err
	}
	if item != nil {
		if item.URL == "" || !slices.Contains(item.Choices, "adopt") {
			return nil, work.BadUse(nil, fmt.Sprintf("item %s is not something that can be copied", what), "trimlantern show says how it can be decided")
		}
		return []string{item.URL}, nil
	}
	host, err := otherHost(j, what)
	if err != nil {
		return nil, err
	}
	list, err := WorkList(j)
	if err != nil {
		return nil, err
	}
	var urls []string
	for _, i := range list.Items {
		if i.Host == host && slices.Contains(i.Choices, "adopt") && !slices.Contains(urls, i.URL) {
			urls = append(urls, i.URL)
		}
	}
	if len(urls) == 0 {
		return nil, work.BadUse(nil, "nothing of "+host+" waits for a decision", "trimlantern show lists what does; or name one URL: http://"+host+"/PATH")
	}
	return urls, nil
}

// copiesAt returns where copies are kept, and at which address they are served.
func copiesAt(j *work.Job, o AdoptOptions) (sitefile.Copies, error) {
	c := j.File.Copies
	if o.Into != "" {
		into, err := filepath.Abs(o.Into)
		if err != nil {
			return c, work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
		}
		if err := work.FolderThere(filepath.Dir(into)); err != nil {
			return c, work.BadUse(nil, "there is no folder "+filepath.Dir(into)+" to put "+filepath.Base(into)+" into", "make it, or name another one: --into FOLDER")
		}
		c = sitefile.Copies{Folder: into}
		if rel, ok := disk.Inside(j.File.Dir, into); ok {
			c.Folder = rel
		}
	}
	root := j.WebRoot()
	if c.Folder == "" {
		if root == "" {
			return c, work.BadUse(nil, "cannot determine which folder the web server serves", "name one, and its address: --into FOLDER --at https://"+j.Site.Host+"/PATH")
		}
		c.Folder = j.Relative(filepath.Join(root, keptFolder))
	}
	if o.At != "" {
		c.Address = ""
		if rest, ok := strings.CutPrefix(o.At, "https://"); ok && rest != "" {
			c.Address = strings.TrimRight(o.At, "/")
		}
		u, err := url.Parse(c.Address)
		if c.Address == "" || err != nil || u.RawQuery != "" || j.Site.Relate(u.Hostname(), "", u.EscapedPath()+"/") != address.Ours {
			return c, work.BadUse(nil, "--at "+o.At+" is not an HTTPS address of the site", "write https://"+j.Site.Host+"/PATH, at which the web server serves the folder")
		}
	}
	if c.Address == "" {
		rel, ok := disk.Inside(root, j.File.Abs(c.Folder))
		if root == "" || !ok {
			return c, work.BadUse(nil, "cannot determine at which address "+c.Folder+" is served", "name it: --at https://"+j.Site.Host+"/PATH")
		}
		c.Address = strings.TrimRight(j.Site.String(), "/") + "/" + (&url.URL{Path: rel}).EscapedPath()
	}
	used := j.File.Copies
	if used.Folder != "" && (filepath.Clean(j.File.Abs(used.Folder)) != filepath.Clean(j.File.Abs(c.Folder)) || used.Address != c.Address) &&
		slices.ContainsFunc(j.File.Replaced, func(r sitefile.Replaced) bool { return r.Copy != "" }) {
		return c, work.BadUse(nil, "copies are kept in "+used.Folder+" already, served at "+used.Address, "keep this one there too; or forget those first: trimlantern decide forget HOST")
	}
	return c, nil
}

func (a *adopting) refuse(u, why string) {
	a.out.Refused = append(a.out.Refused, findings.Unread{URL: u, Why: why})
}

// fetch fetches one URL, and returns the file of its copy below the folder; "": there is none, and why is noted.
func (a *adopting) fetch(u, by string, depth int) (file string, err error) {
	if file, ok := a.known[work.SameURL(u)]; ok {
		return file, nil
	}
	a.known[work.SameURL(u)] = "" // a style sheet may pull in itself
	if len(a.entries) >= maxAdopted || a.size > maxAdoptedSize {
		a.refuse(u, fmt.Sprintf("more than %d files or %d MB at once", maxAdopted, maxAdoptedSize>>20))
		return "", nil
	}
	a.job.Progress.At("fetching "+u, int64(len(a.entries)), 0)
	r, err := a.client.Get(a.ctx, u, nil)
	if err != nil {
		if a.ctx.Err() != nil {
			return "", work.Failed(nil, "interrupted; nothing was decided", "run the same command again")
		}
		a.refuse(u, err.Error())
		return "", nil
	}
	defer r.Done()
	ending, why := a.fits(u, r)
	if why != "" {
		a.refuse(u, why)
		return "", nil
	}
	body := bytes.Clone(r.Body)
	if r.Type == "text/css" {
		if body, err = a.style(u, r.URL, body, depth); err != nil {
			return "", err
		}
	}
	hash := change.Hash(body)
	file = a.name(u, ending, hash)
	if err := a.job.Book.KeepCopy(hash, body); err != nil {
		return "", work.Failed(err, "the copy cannot be kept in the logbook", "free some disk space and make the logbook writable")
	}
	a.known[work.SameURL(u)], a.files[file] = file, hash
	a.size += len(body)
	to := a.out.Address + "/" + file
	a.entries = append(a.entries, sitefile.Replaced{From: u, To: to, Copy: hash, File: file, Date: a.job.Today()})
	a.out.Copies = append(a.out.Copies, AdoptedCopy{From: u, To: to, File: a.job.Relative(filepath.Join(a.out.Folder, filepath.FromSlash(file))), Type: r.Type, Size: len(body), By: by})
	return file, nil
}

// copied are the media types of which a copy may be kept, with the endings that a web server knows them by.
// sniff says that the content tells it, as browsers look at it (MIME Sniffing).
var copied = map[string]struct {
	endings []string
	sniff   string // how what http.DetectContentType says of it begins
}{
	"image/png": {[]string{".png"}, "image/png"}, "image/jpeg": {[]string{".jpg", ".jpeg"}, "image/jpeg"}, "image/gif": {[]string{".gif"}, "image/gif"},
	"image/webp": {[]string{".webp"}, "image/webp"}, "image/bmp": {[]string{".bmp"}, "image/bmp"}, "image/avif": {[]string{".avif"}, ""},
	"image/x-icon": {[]string{".ico"}, "image/x-icon"}, "image/vnd.microsoft.icon": {[]string{".ico"}, "image/x-icon"}, "image/svg+xml": {[]string{".svg"}, "text/"},
	"font/woff": {[]string{".woff"}, "font/woff"}, "font/woff2": {[]string{".woff2"}, "font/woff2"}, "font/ttf": {[]string{".ttf"}, "font/ttf"}, "font/otf": {[]string{".otf"}, "font/otf"},
	"application/font-woff": {[]string{".woff"}, "font/woff"}, "application/font-woff2": {[]string{".woff2"}, "font/woff2"}, "application/x-font-ttf": {[]string{".ttf"}, "font/ttf"},
	"text/css": {[]string{".css"}, "text/plain"}, "video/mp4": {[]string{".mp4"}, "video/mp4"}, "video/webm": {[]string{".webm"}, "video/webm"},
	"audio/mpeg": {[]string{".mp3"}, "audio/mpeg"}, "audio/wav": {[]string{".wav"}, "audio/wave"}, "audio/ogg": {[]string{".ogg", ".oga"}, "application/ogg"}, "video/ogg": {[]string{".ogv"}, "application/ogg"},
	"application/pdf": {[]string{".pdf"}, "application/pdf"},
	"text/javascript": {[]string{".js"}, "text/plain"}, "application/javascript": {[]string{".js"}, "text/plain"}, "application/x-javascript": {[]string{".js"}, "text/plain"},
}

// active is what makes a picture run code in the page's own name.
var active = regexp.MustCompile(`(?i)<\s*(script|foreignobject|iframe|embed|object)|\son[a-z]+\s*=|javascript:`)

// fits checks an answer, and returns the ending that its copy's name needs, or why there is none.
func (a *adopting) fits(u string, r *fetch.Response) (ending, why string) {
	kind, known := copied[r.Type]
	switch {
	case r.Status != http.StatusOK:
		return "", fmt.Sprintf("answered %d", r.Status)
	case r.Coding != "":
		return "", "sent compressed as " + r.Coding + ", which cannot be decoded"
	case r.Cut:
		return "", "larger than 16 MB"
	case len(r.Body) == 0:
		return "", "empty"
	case !known:
		return "", "it is " + r.Type + ", of which no copy is kept"
	case strings.Contains(r.Type, "javascript") && !a.o.Scripts:
		return "", "a script, which came over an insecure connection and would run on the site's pages: read it, then add --scripts"
	}
	if sniffed := http.DetectContentType(r.Body); kind.sniff != "" && !strings.HasPrefix(sniffed, kind.sniff) && !(strings.HasPrefix(kind.sniff, "text/") && strings.HasPrefix(sniffed, "text/plain")) {
		sniffed, _, _ = strings.Cut(sniffed, ";")
		return "", "it says that it is " + r.Type + ", and looks like " + sniffed
	}
	if r.Type == "image/svg+xml" && active.Match(r.Body) {
		return "", "an SVG picture with code in it, which would run in the site's own name"
	}
	if r.Type == "image/avif" && (len(r.Body) < 12 || string(r.Body[4:8]) != "ftyp") {
		return "", "it says that it is image/avif, and is not"
	}
	if parsed, err := url.Parse(u); err == nil {
		for _, e := range kind.endings {
			if strings.EqualFold(path.Ext(parsed.Path), e) {
				return e, ""
			}
		}
	}
	return kind.endings[0], ""
}

// oddName is what the name of a copy does not have.
var oddName = regexp.MustCompile(`[^a-z0-9._-]+`)

// name returns the name of a copy below the folder: host, path, and what tells queries apart.
func (a *adopting) name(u, ending, hash string) string {
	parsed, err := url.Parse(u)
	if err != nil {
		return hash[:16] + ending
	}
	var parts []string
	for _, p := range strings.Split(strings.ToLower(parsed.Host+"/"+strings.Trim(parsed.Path, "/")), "/") {
		p = strings.Trim(oddName.ReplaceAllString(p, "-"), ".-")
		if p = p[:min(len(p), 80)]; p != "" {
			parts = append(parts, p)
		}
	}
	if len(parts) < 2 {
		parts = append(parts, "index")
	}
	last := strings.TrimSuffix(parts[len(parts)-1], ending)
	if parsed.RawQuery != "" {
		last += "-" + change.Hash([]byte(parsed.RawQuery))[:8]
	}
	parts[len(parts)-1] = last + ending
	name := strings.Join(parts[max(0, len(parts)-8):], "/")
	if other := a.files[name]; other != "" && other != hash {
		name = strings.TrimSuffix(name, ending) + "-" + hash[:8] + ending
	}
	return name
}

// style fetches what a style sheet pulls in, and points it to the copies.
func (a *adopting) style(u string, base *url.URL, css []byte, depth int) ([]byte, error) {
	var found []markup.StyleURL
	markup.WalkCSS(css, func(s markup.StyleURL) { found = append(found, s) })
	slices.SortFunc(found, func(x, y markup.StyleURL) int { return x.Start - y.Start })
	up := strings.Repeat("../", strings.Count(a.name(u, ".css", strings.Repeat("0", 64)), "/"))
	var out bytes.Buffer
	done := 0
	for _, s := range found {
		raw := string(css[s.Start:s.End])
		ref, err := url.Parse(raw)
		if err != nil || strings.ContainsAny(raw, `\"'`) || strings.HasPrefix(raw, "#") || ref.Scheme != "" && ref.Scheme != "http" && ref.Scheme != "https" {
			continue // data:, escapes, and what is no URL stay as they are
		}
		target := base.ResolveReference(ref)
		fragment := target.Fragment
		target.Fragment = ""
		to := ""
		switch {
		case depth < maxSheetDepth:
			file, err := a.fetch(target.String(), u, depth+1)
			if err != nil {
				return nil, err
			}
			if file != "" {
				to = up + file
			}
		default:
			a.refuse(target.String(), "style sheets nested too deep")
		}
		if to == "" { // it stays where it is, by its whole address
			target.Scheme = "https"
			to = target.String()
		}
		if fragment != "" {
			to += "#" + fragment
		}
		out.Write(css[done:s.Start])
		out.WriteString(to)
		done = s.End
	}
	out.Write(css[done:])
	return out.Bytes(), nil
}

// Replace records that another URL stands in the place of one, wherever that is stored.
func Replace(j *work.Job, what, to string) (*Decision, error) {
	from := what
	if !strings.Contains(what, "://") {
		item, err := item(j, what)
		if err != nil {
			return nil, err
		}
		if item == nil || item.URL == "" {
			return nil, work.BadUse(nil, what+" is neither a URL nor the number of one", "write the URL as it is stored: http://…")
		}
		from = item.URL
	}
	u, err := url.Parse(from)
	if err != nil || u.Host == "" || u.Scheme != "http" {
		return nil, work.BadUse(nil, from+" is not an insecure URL", "write it as it is stored: http://HOST/PATH")
	}
	by, err := url.Parse(to)
	if err != nil || by.Host == "" || by.Scheme != "https" || by.User != nil || strings.ContainsAny(to, " \"'<>\\`{}|^") {
		return nil, work.BadUse(nil, to+" is not an address that can replace it", "write an HTTPS address: https://HOST/PATH")
	}
	to = by.String()
	if reference.MayHave([]byte(to)) {
		return nil, work.BadUse(nil, to+" holds an insecure address itself", "write one that does not")
	}
	for _, r := range j.File.Replaced {
		if work.SameURL(r.From) == work.SameURL(from) {
			return nil, work.BadUse(nil, from+" is replaced already, by "+r.To, "take that back first: trimlantern decide forget "+from)
		}
	}
	if err := j.File.Add("replaced", sitefile.Replaced{From: from, To: to, Date: j.Today()}); err != nil {
		return nil, j.DecisionFault(err)
	}
	return &Decision{Finding: "replaced", About: []string{from}, What: from, Because: to, Path: j.File.Path}, nil
}

// Forget takes decisions about a host, a URL or an accepted finding back.
func Forget(j *work.Job, what string) (*Decision, error) {
	d := &Decision{Finding: "forgotten", About: []string{}, What: what, Path: j.File.Path}
	same := func(v string) bool { return v == what || work.SameURL(v) == work.SameURL(what) }
	had := len(Decisions(j).Decisions)
	for host := range j.File.Hosts {
		if strings.EqualFold(host, what) {
			if err := decideHost(j, host, ""); err != nil {
				return nil, err
			}
			d.About = append(d.About, host)
			break
		}
	}
	field := func(entry *yaml.Node, key string) (values []string) {
		for i := 0; i+1 < len(entry.Content); i += 2 {
			if entry.Content[i].Value == key {
				values = append(values, entry.Content[i+1].Value)
				for _, v := range entry.Content[i+1].Content {
					values = append(values, v.Value)
				}
			}
		}
		return values
	}
	for _, list := range [][2]string{{"replaced", "from"}, {"accepted", "about"}, {"accepted", "finding"}} {
		err := j.File.Drop(list[0], func(entry *yaml.Node) bool {
			gone := slices.ContainsFunc(field(entry, list[1]), same) || list[0] == "replaced" && strings.EqualFold(work.HostOf(strings.Join(field(entry, "from"), "")), what)
			if gone {
				d.About = append(d.About, strings.Join(field(entry, list[1]), ", "))
			}
			return gone
		})
		if err != nil {
			return nil, j.DecisionFault(err)
		}
	}
	if err := forgetPlace(j, what, d); err != nil {
		return nil, err
	}
	if had == len(Decisions(j).Decisions) {
		return nil, work.BadUse(nil, "nothing was decided about "+what, "trimlantern show decided lists what was; write a host, a URL, or the name of a finding")
	}
	return d, nil
}
