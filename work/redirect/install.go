package redirect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/core/rules"
	"trimlantern/outside/disk"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/reach"
	"trimlantern/work/run"
)

// Rules are the rules for a server, as text.
type Rules struct {
	Server string   `json:"server"`
	Text   string   `json:"text"`
	Note   string   `json:"note,omitempty"`
	Below  []string `json:"names_below,omitempty"` // that includeSubDomains would touch
}

// Code is the exit code that it comes to.
func (*Rules) Code() int { return work.Clean }

// Rules of HSTS: browsers remember it, so it begins short.
const (
	shortHSTS = 300
	longHSTS  = 31536000
)

// maxBelow is how many names namesBelow returns.
const maxBelow = 20

// namesBelow returns the names below the site's that the newest sheet and the newest scan
// mention. What cannot be read mentions none: it is a hint.
func namesBelow(j *work.Job) (out []string) {
	add := func(host string) {
		odd := strings.IndexFunc(host, func(c rune) bool { return !(c == '.' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z') }) >= 0
		if !odd && strings.HasSuffix(host, "."+j.Site.Host) && !slices.Contains(j.Site.Hosts(), host) && !slices.Contains(out, host) && len(out) < maxBelow {
			out = append(out, host)
		}
	}
	if scan, err := findings.Last(j); err == nil && scan != nil {
		for _, c := range scan.Culprits {
			add(work.HostOf(c.URL))
		}
	}
	if ids, err := j.Book.Sheets(); err == nil && len(ids) > 0 {
		if f, err := j.Book.OpenSheet(ids[len(ids)-1]); err == nil {
			defer f.Close()
			_ = change.EachLeft(f, func(l *change.Left) { add(l.Host) }) // the same
		}
	}
	slices.Sort(out)
	return out
}

// secondsOfHSTS returns for how many seconds browsers are told to remember: long only where a clean scan of the whole
// site is newer than the last change.
func secondsOfHSTS(j *work.Job) (int, error) {
	if j.Book == nil {
		return shortHSTS, nil
	}
	scan, err := findings.Weightiest(j)
	if err != nil || scan == nil || !scan.Proven() {
		return shortHSTS, err
	}
	changed, err := j.LastChange()
	if err != nil || !scan.Time.After(changed) {
		return shortHSTS, err
	}
	return longHSTS, nil
}

// RulesFor writes the rules for a server. hsts asks for HSTS: it is long only
// where the last scan in the logbook is clean.
func RulesFor(j *work.Job, r rules.Rule, hsts bool) (*Rules, error) {
	r.Targets = rules.TargetsOf(j.Site)
	out := &Rules{Server: r.Server}
	if hsts {
		var err error
		if r.HSTS, err = secondsOfHSTS(j); err != nil {
			return nil, err
		}
		out.Note = "Browsers remember HSTS and there is no way back while they do: five minutes for a start. It grows to a year once a scan in the logbook is clean and newer than the last change."
		if r.HSTS == longHSTS {
			out.Note = "The last scan is clean, so browsers are told to remember for a year. Names below the site's are left out: with includeSubDomains each of them would need HTTPS too."
		}
	}
	for _, name := range reach.OtherName(j, j.Site) {
		out.Note = strings.TrimSpace(out.Note + " The rules leave " + name + " alone: if visitors reach the site by that name too, add --also " + name + ".")
	}
	if len(r.HeaderNames()) > 0 && r.Server == "nginx" {
		out.Note = strings.TrimSpace(out.Note + " nginx drops these headers in each location that has an add_header of its own: repeat the add_header lines there, or let redirect install do it.")
	}
	if r.Proxy && r.Server == "nginx" {
		out.Note = strings.TrimSpace(out.Note + " PHP must know that the visitor came over HTTPS: write fastcgi_param HTTPS $told_https if_not_empty; into each location with a fastcgi_pass, or let redirect install do it.")
	}
	if hsts && j.Book != nil {
		if out.Below = namesBelow(j); len(out.Below) > 0 {
			out.Note += " Names below the site's that its content mentions, and that includeSubDomains would touch: " + strings.Join(out.Below, ", ") + "."
		}
	}
	text, err := r.Text()
	if err != nil {
		return nil, work.BadUse(err, "the rules cannot be written", "see trimlantern redirect show --help")
	}
	out.Text = text
	return out, nil
}

// InstallOptions say how rules are put into a file.
type InstallOptions struct {
	HSTS   bool
	Anyway bool   // without looking first, and without testing afterwards
	After  string // a command that makes the server read the file; through the shell
}

// File is the result of putting rules into a file, or taking them out.
type File struct {
	File    string           `json:"file"`
	Changed bool             `json:"changed"`
	Journal string           `json:"journal,omitempty"` // holds the file of before
	Refused []point.Point    `json:"refused"`           // why nothing was done
	Back    string           `json:"back,omitempty"`    // why the change was taken back at once
	Faults  []point.Point    `json:"faults"`            // what the test found while the rules were there, where they were taken back
	Others  []rules.Redirect `json:"others"`            // redirects in the file besides ours
	Tested  int              `json:"tested"`            // addresses that were followed afterwards
	Right   int              `json:"right"`             // those of them that lead where they should
	Stayed  []string         `json:"stayed"`            // addresses that answer as before: the rules do not reach them
	Why     string           `json:"why,omitempty"`     // they do not
	Do      string           `json:"do,omitempty"`      // what covers them
	Note    string           `json:"note,omitempty"`
	After   string           `json:"after,omitempty"` // the command that makes the server read the file
}

// Code is the exit code: Remain if the planned change was not made, was taken back, or does not reach every address.
func (r *File) Code() int {
	if len(r.Refused)+len(r.Stayed) > 0 || r.Back != "" || len(r.Faults) > 0 {
		return work.Remain
	}
	return work.Clean
}

// Install puts the rules into a file. It first checks that the site is ready for them, then tests the
// redirect, and restores the file at once if any address answers worse than before. The old content goes into
// a journal for undo; mode and owner stay.
func Install(ctx context.Context, j *work.Job, r rules.Rule, file string, o InstallOptions) (*File, error) {
	defer j.Progress.End()
	r.Targets = rules.TargetsOf(j.Site)
	if o.HSTS {
		var err error
		if r.HSTS, err = secondsOfHSTS(j); err != nil {
			return nil, err
		}
	}
	f, err := openRuleFile(j, file, r.Server == "apache")
	if err != nil {
		return nil, err
	}
	defer f.close()
	after, err := r.Install(string(f.before))
	var misplaced *rules.Misplaced
	if errors.As(err, &misplaced) && misplaced.Line > 0 {
		return nil, work.BadUse(nil, fmt.Sprintf("%s %s (line %d)", file, misplaced.Why, misplaced.Line), "nothing was changed; trimlantern redirect show prints the rules")
	}
	if err != nil {
		return nil, work.BadUse(nil, file+" "+err.Error(), "nothing was changed; trimlantern redirect show prints the rules")
	}
	out := &File{File: file, Refused: []point.Point{}, Faults: []point.Point{}, Others: []rules.Redirect{}, Stayed: []string{}}
	if r.Server == "apache" {
		out.Others = append(out.Others, r.Others(string(f.before))...)
	}
	out.After = o.After
	if after == string(f.before) {
		return out, stillGood(ctx, j, r, o, out)
	}
	if o.Anyway {
		if out.Journal, err = changeFile(j, f, []byte(after), o.After); err != nil {
			return out, err
		}
		out.Changed = true
		return out, work.Reload(ctx, o.After)
	}
	g := &guard{job: j, ctx: ctx, rule: r, o: o, file: f, out: out}
	if err := g.look(); err != nil || len(out.Refused) > 0 {
		return out, err
	}
	return out, g.install([]byte(after))
}

// stillGood tests rules that are there already: an earlier installation may have been killed before its test.
func stillGood(ctx context.Context, j *work.Job, r rules.Rule, o InstallOptions, out *File) error {
	if o.Anyway {
		return nil
	}
	test, err := journeys(ctx, j, Options{Paths: r.Paths})
	if err != nil {
		return err
	}
	for _, p := range test.Points {
		if p.Grade == point.Stop {
			out.Faults = append(out.Faults, p)
		}
	}
	if len(out.Faults) == 0 {
		out.Tested, out.Right = len(test.Journeys), test.right()
	}
	return nil
}

// Remove takes the rules out of a file.
func Remove(ctx context.Context, j *work.Job, file string, o InstallOptions) (*File, error) {
	f, err := openRuleFile(j, file, false)
	if err != nil {
		return nil, err
	}
	defer f.close()
	after, _, err := rules.Remove(string(f.before))
	if err != nil {
		return nil, work.BadUse(nil, file+" "+err.Error(), "nothing was changed")
	}
	out := &File{File: file, Refused: []point.Point{}, Faults: []point.Point{}, Others: []rules.Redirect{}, Stayed: []string{}}
	if after == string(f.before) {
		return out, nil
	}
	if out.Journal, err = changeFile(j, f, []byte(after), o.After); err != nil {
		return out, err
	}
	out.Changed, out.After = true, o.After
	return out, work.Reload(ctx, o.After)
}

// ruleFile is a file that is changed, locked against other runs.
type ruleFile struct {
	*filePlace
	before []byte
	info   fs.FileInfo // nil: there is none
	close  func()
}

// openRuleFile opens the file that the user names, with the logbook locked.
func openRuleFile(j *work.Job, file string, may bool) (*ruleFile, error) {
	release, err := j.Book.Lock("redirect")
	if err != nil {
		return nil, work.LockFault(err)
	}
	place, err := placeOf(file)
	if err != nil {
		release()
		return nil, err
	}
	f := &ruleFile{filePlace: place, close: func() { place.tree.Close(); release() }}
	f.before, f.info, err = place.tree.Read(place.name, run.MaxRuleFile)
	missing := errors.Is(err, fs.ErrNotExist)
	if missing {
		f.info = nil
	}
	switch {
	case missing && !may:
		f.close()
		return nil, work.BadUse(nil, "there is no file "+file, "name the file that the server reads")
	case err != nil && !missing:
		f.close()
		return nil, work.Failed(err, "the file cannot be read", "name a regular file that you may read")
	}
	return f, nil
}

// guard is one guarded installation.
type guard struct {
	job    *work.Job
	ctx    context.Context
	rule   rules.Rule
	o      InstallOptions
	file   *ruleFile
	after  []byte // what it holds with the rules
	out    *File
	change *ruleChange
	before *Tested
	server string // what the server calls itself
}

func (g *guard) refuse(p point.Point) {
	if p.About == nil {
		p.About = []string{}
	}
	g.out.Refused = append(g.out.Refused, p)
}

// look checks what visitors get now, and refuses rules that would break the site for them.
func (g *guard) look() error {
	for _, other := range g.out.Others {
		if other.Clash {
			g.refuse(words.RedirectClash.Point(nil, other.Line, other.To))
		}
	}
	twins, err := reach.Twins(g.ctx, g.job, nil)
	if err != nil {
		return err
	}
	reached := slices.ContainsFunc(twins, func(t reach.Twin) bool {
		return t.Plain.Err == "" || t.Secure.Err == "" || t.Plain.Loop || t.Secure.Loop
	})
	if !reached {
		g.refuse(words.SiteSilent.Point(nil, twins[0].Secure.Err))
		return nil
	}
	if g.rule.Proxy || strings.Contains(string(g.file.before), "trimlantern redirect:") {
		// These rules may be what ends a loop: a system that is not told how visitors came sends them round, or back.
		twins = slices.DeleteFunc(twins, func(t reach.Twin) bool { return t.Secure.Loop || t.Stands == reach.Back })
	}
	for _, p := range reach.TwinPoints(twins) {
		switch {
		case p.Grade == point.Stop:
			g.refuse(p)
		case p.ID == "downgrade":
			p.Grade, p.Why = point.Stop, words.EndlessLoop
			g.refuse(p)
		}
	}
	if g.before, err = g.test(); err != nil {
		return err
	}
	if client, err := g.job.Web(); err == nil {
		if res, _, err := client.Step(g.ctx, http.MethodGet, "http://"+g.job.Site.Host+g.job.Site.Path+"/"); err == nil {
			g.server = strings.ToLower(res.Header.Get("Server"))
		}
	}
	return nil
}

// test follows all addresses, including paths that the file's own directives mention and the folders beside it.
func (g *guard) test() (*Tested, error) {
	o := Options{Paths: g.rule.Paths}
	add := func(path string) {
		if rest, ok := strings.CutPrefix(path, g.job.Site.Path); ok && len(o.places) < 2*reach.MaxFolders {
			o.places = append(o.places, hops.Place{Path: rest, Kind: hops.Probe})
		}
	}
	for _, p := range g.rule.Named(string(g.file.before)) {
		add(p)
	}
	entries, _ := g.file.tree.List(".") // a folder that cannot be listed names none
	for _, e := range entries {
		if e.IsDir() && g.rule.Server == "apache" && !strings.HasPrefix(e.Name(), ".") {
			add("/" + url.PathEscape(e.Name()) + "/")
		}
	}
	return journeys(g.ctx, g.job, o)
}

// seenWithin is how long a change may take to show: Apache reads .htaccess on each request, PHP's cache checks
// files every two seconds, and nginx lets old workers finish after a reload.
var seenWithin = map[string]time.Duration{"apache": time.Second, "php": 4 * time.Second, "nginx": 8 * time.Second}

const lookAgain = 500 * time.Millisecond

// install writes the file for a trial, which a process of its own guards: it puts the file back if this one dies.
func (g *guard) install(after []byte) error {
	j := g.job
	g.after = after
	var err error
	if g.change, err = planChange(j, g.file, after, g.o.After); err != nil {
		return err
	}
	defer g.change.close()
	trial, err := j.Begin(g.ctx, work.Trial{Journal: g.change.id, File: g.file.path})
	if err != nil {
		return errors.Join(err, g.change.undone())
	}
	g.out.Note = trial.Note
	if err := g.change.write(); err != nil {
		return errors.Join(err, trial.End())
	}
	g.out.Journal = g.change.id
	if err := g.tried(); err != nil {
		trial.Leave() // the next command of any kind puts it back
		return err
	}
	return trial.End()
}

// tried has the server read the file, tests the redirect, and restores the file if the test fails.
func (g *guard) tried() error {
	j := g.job
	if err := work.Reload(g.ctx, g.o.After); err != nil {
		return g.takeBack("the server does not take the file: "+err.Error(), nil)
	}
	g.settle()
	began := time.Now()
	for {
		test, err := g.test()
		if err != nil {
			if back := g.takeBack("interrupted before the test was done", nil); back != nil {
				return back
			}
			return err
		}
		worse, idle := g.compare(test)
		switch {
		case len(worse) > 0:
			return g.takeBack(g.reason(test, worse), g.faults(test))
		case len(idle) == 0:
			g.out.Changed, g.out.Tested, g.out.Right = true, len(test.Journeys), test.right()
			return g.change.confirm()
		case time.Since(began) > seenWithin[g.rule.Server] && g.reaches(test) && !slices.ContainsFunc(idle, isAnother):
			g.out.Changed, g.out.Tested, g.out.Right = true, len(test.Journeys), test.right()
			for _, s := range idle {
				g.out.Stayed = append(g.out.Stayed, s.Typed)
			}
			g.out.Why, g.out.Do = words.Stays(g.rule.Server)
			return g.change.confirm()
		case time.Since(began) > seenWithin[g.rule.Server]:
			return g.takeBack(g.idleReason(test, idle), g.faults(test))
		}
		j.Progress.At("waiting for the server to read the file", 0, 0)
		select {
		case <-time.After(lookAgain):
		case <-g.ctx.Done():
		}
	}
}

// settle gives a server that was reloaded time to replace its workers.
func (g *guard) settle() {
	if g.o.After != "" {
		time.Sleep(lookAgain)
	}
}

// compare returns the journeys that are worse than before, and those that are still not redirected.
func (g *guard) compare(now *Tested) (worse, idle []Journey) {
	for i, s := range now.Journeys {
		was := g.before.Journeys[i]
		for _, p := range s.Problems {
			switch {
			case p.Grade() != point.Stop:
			case p != hops.Insecure && !slices.Contains(was.Problems, p):
				worse = append(worse, s)
			case p != hops.Missing && p != hops.Broken: // it was so before, and still is
				idle = append(idle, s)
			}
		}
		if status(s) >= 500 && status(was) < 500 && !slices.ContainsFunc(worse, func(o Journey) bool { return o.Typed == s.Typed && o.Method == s.Method }) {
			worse = append(worse, s)
		}
	}
	return worse, idle
}

// isAnother reports whether a journey has a fault besides ending on HTTP.
func isAnother(s Journey) bool {
	return slices.ContainsFunc(s.Problems, func(p hops.Problem) bool { return p.Grade() == point.Stop && p != hops.Insecure })
}

// reaches reports whether pages under the site's own name have become secure: other names are redirected even where nothing
// tells the server how visitors came.
func (g *guard) reaches(now *Tested) bool {
	for i, s := range now.Journeys {
		if was := g.before.Journeys[i]; g.own(s) && slices.Contains(was.Problems, hops.Insecure) && !slices.Contains(s.Problems, hops.Insecure) {
			return true
		}
	}
	return false
}

// own reports whether a journey begins on HTTP under the site's own name.
func (g *guard) own(s Journey) bool {
	return strings.HasPrefix(s.Typed, "http://"+g.job.Site.Host+"/") && s.Kind != hops.Proof
}

func status(s Journey) int {
	if len(s.Hops) == 0 {
		return 0
	}
	return s.Hops[len(s.Hops)-1].Status
}

// faults are what the test found that was not there before.
func (g *guard) faults(now *Tested) []point.Point {
	var out []point.Point
	for _, p := range now.Points {
		if p.Grade.Fault() {
			out = append(out, p)
		}
	}
	return out
}

// reason says why the site answered worse, as far as it can be told.
func (g *guard) reason(now *Tested, worse []Journey) string {
	errs, loops := 0, 0
	var page hops.Hop // that sends back by itself
	for _, s := range now.Journeys {
		if status(s) >= 500 {
			errs++
		}
		if slices.Contains(s.Problems, hops.Loop) {
			loops++
			for _, h := range s.Hops {
				if h.By != "" {
					page = h
				}
			}
		}
	}
	switch {
	case page.By != "":
		return words.Fill(words.LoopsByPage, words.Count(loops, "address"), page.URL, page.By)
	case errs > len(now.Journeys)/2 && g.rule.Server == "apache":
		return words.ErrorsForbidden
	case errs > len(now.Journeys)/2:
		return words.ErrorsEverywhere
	case loops > 0 && g.rule.Proxy:
		return words.Fill(words.LoopsBehind, words.Count(loops, "address"))
	case loops > 0:
		if other := g.redirectOf(); other != "" {
			return words.Fill(words.LoopsByRule, words.Count(loops, "address"), other)
		}
		return words.Fill(words.Loops, words.Count(loops, "address"))
	}
	s := worse[0]
	what := ""
	for _, p := range s.Problems {
		if p.Grade() == point.Stop {
			what = words.Problem(p)
			break
		}
	}
	if what == "" {
		what = words.Fill(words.GetsError, status(s))
	}
	why := words.Fill(words.VisitorGets, s.Typed, what)
	if other := g.redirectOf(); other != "" {
		why = words.Fill(words.AnotherRedirect, why, other)
	}
	return why
}

// redirectOf names another redirect in the file.
func (g *guard) redirectOf() string {
	if len(g.out.Others) == 0 {
		return ""
	}
	return words.Fill(words.RuleInFile, g.out.Others[0].Line, g.out.Others[0].To)
}

// idleReason says why the rules had no effect, as far as it can be told.
func (g *guard) idleReason(now *Tested, idle []Journey) string {
	plain, stayed := 0, 0
	for _, s := range now.Journeys {
		if g.own(s) {
			plain++
			if slices.Contains(s.Problems, hops.Insecure) {
				stayed++
			}
		}
	}
	switch {
	case slices.ContainsFunc(idle, func(s Journey) bool { return !slices.Contains(s.Problems, hops.Insecure) }):
		return g.reason(now, slices.DeleteFunc(slices.Clone(idle), func(s Journey) bool { return slices.Contains(s.Problems, hops.Insecure) }))
	case stayed < plain:
		return fmt.Sprintf("%s stayed on HTTP, the first %s: a folder with rules of its own, or another server, answers there", words.Count(len(idle), "address"), idle[0].Typed)
	case g.rule.Server == "apache" && strings.Contains(g.server, "nginx"):
		return "the rules had no effect: an nginx answers, which reads no .htaccess; use trimlantern redirect show nginx, or php"
	case g.rule.Proxy:
		return "the rules had no effect: the proxy does not tell the server how visitors came (X-Forwarded-Proto, Forwarded and the like are missing; if it says so in a header of its own, name that with --proxy-header), or the server does not read the file; redirect at the proxy itself"
	case g.rule.Server == "apache":
		return "the rules had no effect: the server reads no .htaccess in that folder (AllowOverride None, or another folder is served), or mod_rewrite is off"
	case g.rule.Server == "nginx":
		return "the rules had no effect: nginx did not read the file again (--after \"nginx -s reload\"), or another server block answers"
	}
	return "the rules had no effect: this is not the first PHP file that runs"
}

// takeBack restores the file and records why.
func (g *guard) takeBack(why string, faults []point.Point) error {
	g.out.Back, g.out.Changed = why, false
	g.out.Faults = append(g.out.Faults, faults...)
	var err error
	ours := func(now []byte) bool { return bytes.Equal(now, g.after) }
	if g.file.info == nil {
		err = g.file.tree.RemoveIf(g.file.name, ours)
	} else {
		err = g.file.tree.Write(g.file.name, g.file.before, disk.Looks{Mode: g.file.info.Mode().Perm(), Time: g.file.info.ModTime(), Was: ours})
	}
	if errors.Is(err, disk.ErrMeanwhile) {
		return work.Failed(err, "the rules harm the site ("+why+"), and somebody changed "+g.file.path+" meanwhile: it is left as it is now", "take the lines of the redirect out of it by hand, or: trimlantern redirect remove "+g.out.File)
	}
	if err != nil {
		return work.Failed(err, "the rules harm the site ("+why+"), and the file cannot be put back", "put it back by hand: trimlantern undo "+g.out.Journal)
	}
	ctx, stop := context.WithTimeout(context.WithoutCancel(g.ctx), time.Minute)
	defer stop()
	if err := work.Reload(ctx, g.o.After); err != nil {
		g.out.Note = "after the file was put back: " + err.Error()
	}
	if err := g.change.undone(); err != nil {
		return err
	}
	g.ctx = ctx
	for began := time.Now(); !g.asBefore(); {
		if time.Since(began) > seenWithin[g.rule.Server] {
			g.out.Note = "the file is as it was, but the site does not answer as before yet: test it again (trimlantern redirect test)"
			break
		}
		time.Sleep(lookAgain)
	}
	return nil
}

// asBefore reports whether every address leads to where it led before.
func (g *guard) asBefore() bool {
	g.settle()
	now, err := g.test()
	if err != nil || len(now.Journeys) != len(g.before.Journeys) {
		return false
	}
	for i, s := range now.Journeys {
		was := g.before.Journeys[i]
		if s.Landing != was.Landing || status(s) != status(was) || len(s.Hops) != len(was.Hops) {
			return false
		}
	}
	return true
}
