package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/hops"
	"trimlantern/core/sheet"
	"trimlantern/site/disk"
	"trimlantern/site/files"
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
		if f, err := j.Book.OpenSheet(ids[len(ids)-1]); err == nil {
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
			scan, err := j.weightiest()
			if err != nil {
				return nil, err
			}
			if scan != nil && scan.Proven() {
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
	place, err := placeOf(file)
	if err != nil {
		return nil, err
	}
	defer place.tree.Close()
	before, info, err := place.tree.Read(place.name, maxRuleFile)
	missing := errors.Is(err, fs.ErrNotExist)
	if missing && (remove || r.Server == "php") {
		return nil, misuse(nil, "there is no file "+file, "name the file that the server reads")
	}
	if err != nil && !missing {
		return nil, world(err, "the file cannot be read", "name a regular file that you may read")
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
	id, err := j.changeFile(place, before, info, []byte(after))
	out.Journal, out.Changed = id, err == nil
	return out, err
}

// maxRuleFile bounds a file that rules are put into.
const maxRuleFile = 8 << 20

// filePlace is a file in its folder.
type filePlace struct {
	path string // absolute, links followed
	tree *disk.Tree
	name string // in tree
}

// placeOf opens the folder of a file that the user names. A link stays a link: what it leads to is
// the file.
func placeOf(file string) (*filePlace, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return nil, world(err, "cannot determine the current folder", "change to a folder that exists")
	}
	if path, err = disk.Followed(path); err != nil {
		return nil, world(err, "the file cannot be used", "name the file itself, not a link to it")
	}
	tree, err := disk.OpenTree(filepath.Dir(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, misuse(nil, "there is no folder "+filepath.Dir(file), "name the file that the server reads")
	}
	if err != nil {
		return nil, world(err, "the folder of the file cannot be opened", "make the folder; nothing was changed")
	}
	return &filePlace{path, tree, filepath.Base(path)}, nil
}

// changeFile replaces one file, or removes it where nothing is left in it; its old content goes
// into a journal of its own first. It returns the journal's name. info is nil where there is no file.
func (j *Job) changeFile(at *filePlace, before []byte, info fs.FileInfo, after []byte) (string, error) {
	entry := &sheet.File{Path: at.path, Before: before, Missing: info == nil, After: sheet.Hash(after), Mode: 0o644}
	if len(after) == 0 {
		entry.After = ""
	}
	if info != nil {
		entry.Mode, entry.Time = uint32(info.Mode().Perm()), info.ModTime().UTC().Format(time.RFC3339Nano)
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
	if len(after) == 0 {
		err = at.tree.Remove(at.name)
	} else {
		err = at.tree.Write(at.name, after, disk.Looks{Mode: fs.FileMode(entry.Mode)})
	}
	if err != nil {
		return "", world(err, "the file cannot be written", "make its folder writable, or run the command as the file's owner; it was not changed")
	}
	if err := journal.Append(sheet.Record{Mark: sheet.Finished, Time: j.Now().UTC().Format(time.RFC3339)}); err != nil {
		return "", world(err, "the file is changed, but the journal cannot be ended", "make room on the disk; trimlantern undo takes the change back")
	}
	return id, nil
}

// undoFiles puts back the files of a journal; one that somebody changed since is
// left and named.
func (j *Job) undoFiles(st *journalState, blocks []sheet.Block, in *siteFiles) (*Undone, error) {
	out := &Undone{Site: j.Site.String(), Journal: st.ID, Tables: map[string]int{}}
	f, err := j.Book.OpenJournal(st.ID)
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
			if err := j.undoFile(r.File, in, out); err != nil {
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

// undoFile puts back one file, in one of the given folders.
func (j *Job) undoFile(e *sheet.File, in *siteFiles, out *Undone) error {
	left := func(why string) error {
		out.Left = append(out.Left, sheet.Skip{Table: e.Path, Why: why})
		return nil
	}
	tree, name, err := in.of(e.Path)
	switch {
	case errors.Is(err, errUndeclared):
		return left("the site file names no folder that holds it; if it is the site's, run undo with --file " + e.Path)
	case errors.Is(err, fs.ErrNotExist):
		return left("its folder is gone")
	case err != nil:
		return world(err, "the folder of "+e.Path+" cannot be opened", "make it readable; then run the same command again")
	}
	tree.ClearPart(name)
	now, _, err := tree.Read(name, max(files.MaxSize, maxRuleFile))
	gone := errors.Is(err, fs.ErrNotExist)
	if errors.Is(err, disk.ErrLink) || errors.Is(err, disk.ErrNotRegular) || errors.Is(err, disk.ErrTooLarge) {
		return left("changed by somebody since: " + whyNot(err))
	}
	if err != nil && !gone {
		return world(err, "the file cannot be read", "make it readable; then run the same command again")
	}
	switch {
	case gone == e.Missing && bytes.Equal(now, e.Before):
		out.Already++
		return nil
	case gone && e.After != "" || !gone && sheet.Hash(now) != e.After:
		return left("changed by somebody since")
	}
	if e.Missing {
		err = tree.Remove(name)
	} else {
		when, _ := time.Parse(time.RFC3339Nano, e.Time) // none: now
		err = tree.Write(name, e.Before, disk.Looks{Mode: fs.FileMode(e.Mode), Time: when})
	}
	if errors.Is(err, disk.ErrOwner) {
		return left(whyNot(err))
	}
	if err != nil {
		return world(err, "the file cannot be put back", "make its folder writable; then run the same command again")
	}
	out.Files = append(out.Files, e.Path)
	return nil
}

// ownFolders are the folders in which undo may put back files: those of the site, of its
// configuration, and those of the files that the user names.
func (j *Job) ownFolders(named []string) (*siteFiles, error) {
	s := j.declaredFiles()
	s.folders = append(s.folders, filepath.Clean(j.File.Dir))
	if c := j.File.Database.Config; c != "" {
		s.folders = append(s.folders, filepath.Dir(j.File.Abs(c)))
	}
	for _, file := range named {
		path, err := filepath.Abs(file)
		if err != nil {
			return nil, world(err, "cannot determine the current folder", "change to a folder that exists")
		}
		s.single = append(s.single, path)
	}
	return s, nil
}
