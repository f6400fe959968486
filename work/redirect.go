package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/hops"
	"trimlantern/core/sheet"
	"trimlantern/site/probe"
)

// RedirectTest is what a visitor meets who types any of the site's addresses.
type RedirectTest struct {
	Site     string        `json:"site"`
	Time     time.Time     `json:"time"`
	Journeys []JourneySeen `json:"journeys"`
	Do       []string      `json:"do"`                // what to do, the gravest first
	Stale    []string      `json:"returning_visitor"` // what returning visitors may still see, and why
}

// JourneySeen is one journey and what is wrong with it.
type JourneySeen struct {
	hops.Journey
	Landing  string         `json:"landing"`
	Problems []hops.Problem `json:"problems"`
}

// Code is the exit code that the test comes to.
func (r *RedirectTest) Code() int {
	if slices.ContainsFunc(r.Journeys, func(j JourneySeen) bool { return len(j.Problems) > 0 }) {
		return Remain
	}
	return Clean
}

const redirectsFile = "redirects.json"

// TestRedirects goes the way of each address of the matrix, and of those given.
func (j *Job) TestRedirects(ctx context.Context, more []string) (*RedirectTest, error) {
	defer j.Progress.End()
	matrix := hops.Matrix(j.Site.Hosts(), j.Site.Path)
	for _, u := range more {
		if !strings.HasPrefix(u, "http://") && !strings.HasPrefix(u, "https://") {
			return nil, misuse(nil, "the address "+u+" has no scheme", "write it as a visitor's browser would: http://"+u)
		}
		matrix = append(matrix, hops.Journey{Typed: u, Method: "GET"})
	}
	out := &RedirectTest{Site: j.Site.String(), Time: j.Now()}
	for i, journey := range matrix {
		if ctx.Err() != nil {
			return nil, world(nil, "interrupted", "run the same command again")
		}
		j.Progress.At("asking "+journey.Typed, int64(i), int64(len(matrix)))
		if err := j.travel(ctx, &journey); err != nil {
			return nil, err
		}
		out.Journeys = append(out.Journeys, JourneySeen{journey, journey.Landing(), journey.Judge(j.Site.Host, j.Site.Also)})
	}
	for _, p := range hops.Order {
		if slices.ContainsFunc(out.Journeys, func(s JourneySeen) bool { return slices.Contains(s.Problems, p) }) {
			out.Do = append(out.Do, p.Do())
		}
	}
	j.stale(ctx, out)
	if j.Book != nil {
		if err := j.Book.WriteJSON(redirectsFile, out); err != nil {
			return nil, world(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
		}
	}
	return out, nil
}

// stale says in plain words what a visitor who was here before may still see.
func (j *Job) stale(ctx context.Context, out *RedirectTest) {
	add := func(format string, args ...any) { out.Stale = append(out.Stale, fmt.Sprintf(format, args...)) }
	if slices.ContainsFunc(out.Journeys, func(s JourneySeen) bool {
		return len(s.Hops) > 1 && (s.Hops[0].Status == 301 || s.Hops[0].Status == 308)
	}) {
		add("Browsers remember a permanent redirect and keep following it after you remove it, until their cache is cleared.")
	}
	client, err := j.web()
	if err != nil {
		return
	}
	res, _, err := client.Step(ctx, "GET", j.Site.String()+"/")
	if err != nil {
		return
	}
	age := 0
	for _, part := range strings.Split(strings.ToLower(res.Header.Get("Cache-Control")), ",") {
		if n, ok := strings.CutPrefix(strings.TrimSpace(part), "max-age="); ok {
			age, _ = strconv.Atoi(n) // what is no number does not count
		}
	}
	if age > 0 {
		add("Browsers may show the front page as it was for up to %s (Cache-Control); a reload shows the new one.", (time.Duration(min(age, 1<<31)) * time.Second).String())
	}
	if seen := res.Header.Get("Age"); seen != "" {
		add("A cache in front of the server holds a copy that is %s seconds old: empty it there.", seen)
	}
	if res.Header.Get("Cache-Control") == "" && res.Header.Get("Expires") == "" {
		add("The pages do not say how long they may be kept: browsers decide for themselves, and a reload shows the new one.")
	}
}

// maxTravel is after how many hops a visitor's browser gives up.
const maxTravel = 20

// travel follows a journey hop by hop as a browser does: 301, 302 and 303 turn what
// was sent into a question (RFC 9110 §15.4).
func (j *Job) travel(ctx context.Context, journey *hops.Journey) error {
	client, err := j.web()
	if err != nil {
		return err
	}
	method, at := journey.Method, journey.Typed
	seen := map[string]bool{}
	for range maxTravel {
		res, location, err := client.Step(ctx, method, at)
		if err != nil {
			journey.Err = probe.Failure(err)
			if len(journey.Hops) == 0 {
				return nil
			}
			journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method})
			return nil
		}
		journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method, Status: res.StatusCode, Location: location})
		if location == "" {
			return nil
		}
		if seen[method+at] {
			return nil
		}
		seen[method+at] = true
		if method == "POST" && res.StatusCode <= 303 {
			method = "GET"
		}
		at = location
	}
	return nil
}

// Rules are the rules for a server, as text.
type Rules struct {
	Server string   `json:"server"`
	Text   string   `json:"text"`
	Note   string   `json:"note,omitempty"`
	Below  []string `json:"names_below,omitempty"` // that includeSubDomains would touch
}

// Code is the exit code that it comes to.
func (*Rules) Code() int { return Clean }

// Rules of HSTS: browsers remember it, so it begins short.
const (
	shortHSTS = 300
	longHSTS  = 31536000
)

// maxBelow is how many names namesBelow returns.
const maxBelow = 20

// namesBelow returns the names below the site's that the newest sheet and the newest scan
// mention. What cannot be read mentions none: it is a hint.
func (j *Job) namesBelow() (out []string) {
	add := func(host string) {
		odd := strings.IndexFunc(host, func(c rune) bool { return !(c == '.' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z') }) >= 0
		if !odd && strings.HasSuffix(host, "."+j.Site.Host) && !slices.Contains(j.Site.Hosts(), host) && !slices.Contains(out, host) && len(out) < maxBelow {
			out = append(out, host)
		}
	}
	if scan, err := j.lastScan(); err == nil && scan != nil {
		for _, c := range scan.Culprits {
			add(hostOf(c.URL))
		}
	}
	if ids, err := j.Book.Sheets(); err == nil && len(ids) > 0 {
		if f, err := os.Open(j.Book.SheetPath(ids[len(ids)-1])); err == nil {
			defer f.Close()
			_ = sheet.EachLeft(f, func(l *sheet.Left) { add(l.Host) }) // the same
		}
	}
	slices.Sort(out)
	return out
}

// RedirectRules writes the rules for a server. hsts asks for HSTS: it is long only
// where the last scan in the logbook is clean.
func (j *Job) RedirectRules(r hops.Rule, hsts bool) (*Rules, error) {
	r.Host = j.Site.Host
	out := &Rules{Server: r.Server}
	if hsts {
		r.HSTS = shortHSTS
		out.Note = "Browsers remember HSTS and there is no way back while they do: five minutes for a start. It grows to a year once a scan in the logbook is clean."
		if j.Book != nil {
			scan, err := j.lastScan()
			if err != nil {
				return nil, err
			}
			if scan != nil && scan.Code() == Clean {
				r.HSTS = longHSTS
				out.Note = "The last scan is clean, so browsers are told to remember for a year. Names below the site's are left out: with includeSubDomains each of them would need HTTPS too."
			}
		}
	}
	if hsts && j.Book != nil {
		if out.Below = j.namesBelow(); len(out.Below) > 0 {
			out.Note += " Names below the site's that its content mentions, and that includeSubDomains would touch: " + strings.Join(out.Below, ", ") + "."
		}
	}
	text, err := r.Text()
	if err != nil {
		return nil, misuse(err, "the rules cannot be written", "see trimlantern redirect show --help")
	}
	out.Text = text
	return out, nil
}

// RedirectFile is what became of a file with rules.
type RedirectFile struct {
	File    string `json:"file"`
	Changed bool   `json:"changed"`
	Journal string `json:"journal,omitempty"` // holds the file of before
	Others  []int  `json:"others,omitempty"`  // lines that redirect to HTTPS besides ours
}

// Code is the exit code that it comes to.
func (r *RedirectFile) Code() int {
	if len(r.Others) > 0 {
		return Remain
	}
	return Clean
}

// InstallRules puts the rules into a file, or with remove takes them out. The file
// of before goes into a journal, which undo takes back; mode and owner stay.
func (j *Job) InstallRules(r hops.Rule, file string, remove bool) (*RedirectFile, error) {
	r.Host = j.Site.Host
	release, err := j.Book.Lock()
	if err != nil {
		return nil, lockFault(err)
	}
	defer release()
	before, err := os.ReadFile(file)
	missing := errors.Is(err, fs.ErrNotExist)
	if missing && (remove || r.Server == "php") {
		return nil, misuse(nil, "there is no file "+file, "name the file that the server reads")
	}
	if err != nil && !missing {
		return nil, world(err, "the file cannot be read", "make it readable")
	}
	out := &RedirectFile{File: file}
	var after string
	if remove {
		after, _, err = hops.Remove(string(before))
	} else {
		after, err = r.Install(string(before))
	}
	if err != nil {
		return nil, misuse(err, file, "nothing was changed; trimlantern redirect show prints the rules")
	}
	out.Others = hops.Others(after)
	if after == string(before) {
		return out, nil
	}
	id, err := j.changeFile(file, before, missing, []byte(after))
	out.Journal, out.Changed = id, err == nil
	return out, err
}

// changeFile replaces one file, or removes it where nothing is left in it, its old content into a journal of its own first, and
// returns the journal's name.
func (j *Job) changeFile(file string, before []byte, missing bool, after []byte) (string, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return "", world(err, "cannot determine the current folder", "change to a folder that exists")
	}
	entry := &sheet.File{Path: path, Before: before, Missing: missing, After: sheet.Hash(after), Mode: 0o644}
	if len(after) == 0 {
		entry.After = ""
	}
	if info, err := os.Stat(file); err == nil {
		entry.Mode = uint32(info.Mode().Perm())
	} else if _, err := os.Stat(filepath.Dir(path)); err != nil {
		return "", world(err, "the file cannot be written", "make its folder; nothing was changed")
	}
	id := j.runID()
	journal, err := j.Book.CreateJournal(sheet.JournalHeader{Tool: Tool, ID: id, Time: j.Now().UTC().Format(time.RFC3339), Site: j.Site.String()})
	if err != nil {
		return "", world(err, "the journal cannot be written", "make room on the disk and the logbook writable; nothing was changed")
	}
	defer journal.Close()
	if err := journal.Append(sheet.Record{File: entry}); err != nil {
		return "", world(err, "the journal cannot be written", "make room on the disk; nothing was changed")
	}
	change := func() error { return replaceFile(path, after, fs.FileMode(entry.Mode)) }
	if len(after) == 0 {
		change = func() error { return os.Remove(path) }
	}
	if err := change(); err != nil {
		return "", world(err, "the file cannot be written", "make its folder writable; it was not changed")
	}
	if err := journal.Append(sheet.Record{Mark: sheet.Finished, Time: j.Now().UTC().Format(time.RFC3339)}); err != nil {
		return "", world(err, "the file is changed, but the journal cannot be ended", "make room on the disk; trimlantern undo takes the change back")
	}
	return id, nil
}

// undoFiles puts back the files of a journal; one that somebody changed since is
// left and named.
func (j *Job) undoFiles(st *journalState, blocks []sheet.Block) (*Undone, error) {
	out := &Undone{Site: j.Site.String(), Journal: st.ID, Tables: map[string]int{}}
	f, err := os.Open(j.Book.JournalPath(st.ID))
	if err != nil {
		return nil, world(err, "the journal cannot be read", "check the folder "+j.Book.Path())
	}
	defer f.Close()
	for i := len(blocks) - 1; i >= 0; i-- {
		records, err := blocks[i].ReadAt(f)
		if err != nil {
			return nil, world(err, "the journal cannot be read", "keep the file")
		}
		for _, r := range records {
			if r.File == nil {
				continue
			}
			if err := j.undoFile(r.File, out); err != nil {
				return nil, err
			}
		}
	}
	journal, err := j.Book.ReopenJournal(st.ID, st.End)
	if err == nil {
		defer journal.Close()
		err = journal.Append(sheet.Record{Mark: sheet.Undone, Time: j.Now().UTC().Format(time.RFC3339), Left: len(out.Left)})
	}
	if err != nil {
		return nil, world(err, "everything is put back, but the journal cannot be written", "make room on the disk; then run the same command again")
	}
	return out, nil
}

func (j *Job) undoFile(e *sheet.File, out *Undone) error {
	clearPart(e.Path)
	now, err := os.ReadFile(e.Path)
	gone := errors.Is(err, fs.ErrNotExist)
	if err != nil && !gone {
		return world(err, "the file cannot be read", "make it readable; then run the same command again")
	}
	switch {
	case gone == e.Missing && bytes.Equal(now, e.Before):
		out.Already++
		return nil
	case gone && e.After != "" || !gone && sheet.Hash(now) != e.After:
		out.Left = append(out.Left, sheet.Skip{Table: e.Path, Why: "changed by somebody since"})
		return nil
	}
	if e.Missing {
		err = os.Remove(e.Path)
	} else {
		err = replaceFile(e.Path, e.Before, fs.FileMode(e.Mode))
	}
	if err != nil {
		return world(err, "the file cannot be put back", "make its folder writable; then run the same command again")
	}
	out.Files = append(out.Files, e.Path)
	return nil
}

// partOf names the file that is written beside another before it takes its place.
func partOf(file string) string {
	return filepath.Join(filepath.Dir(file), ".trimlantern-"+filepath.Base(file)+".part")
}

// clearPart removes what a run that was killed left beside a file.
func clearPart(file string) {
	_ = os.Remove(partOf(file)) // it is the rule that there is none
}

// replaceFile writes a file beside the old one and renames it; owner and links stay.
func replaceFile(file string, b []byte, mode fs.FileMode) error {
	if to, err := filepath.EvalSymlinks(file); err == nil {
		file = to // the link stays a link
	}
	clearPart(file)
	f, err := os.OpenFile(partOf(file), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // renamed already where all went well
	_, err = f.Write(b)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return err
	}
	keepOwner(file, f.Name())
	return os.Rename(f.Name(), file)
}
