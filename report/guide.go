package report

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/cert"
	"trimlantern/work/decide"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
	"trimlantern/work/guide"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/status"
)

// steps are the words of the guided run's steps: the title, and what is about to happen.
var steps = map[guide.Step][2]string{
	guide.Site:     {"Your site", "Looking for the system, its database, addresses and files."},
	guide.Ready:    {"Certificate and server", "Checking names, certificate, redirects and both schemes."},
	guide.Backup:   {"Backup", "Database and files, read back and counted."},
	guide.Look:     {"The pages today", "Reading the pages to see what browsers would block or warn about."},
	guide.Preview:  {"Preview", "Reading everything that is stored. Nothing is changed."},
	guide.Apply:    {"Change", "Journal first, then the change, then the proof."},
	guide.Redirect: {"Redirect", "Following every address that a visitor may type."},
	guide.Check:    {"Every page over HTTPS", "Reading all pages, and finding where each problem is stored."},
	guide.Summary:  {"Summary", ""},
}

// BeginStep writes the head of a step.
func (t *Text) BeginStep(s guide.Step) {
	n := slices.Index(guide.Steps, s) + 1
	t.printf("\n%s\n", t.paint(fmt.Sprintf("%d of %d  %s", n, len(guide.Steps), steps[s][0]), 1))
	if said := steps[s][1]; said != "" {
		t.printf("%s\n", t.faint(said))
	}
}

// StepNames lists the steps with their titles, for help.
func StepNames() string {
	var names []string
	for _, s := range guide.Steps {
		names = append(names, string(s))
	}
	return strings.Join(names, ", ")
}

// Asked is a question in words.
type Asked struct {
	Title   string
	About   string // what it is about, in a line or two; may be empty
	Explain string
	Choices []string // in the order of the question's; none: a text is asked for
}

// choices are the words of answers, by question and answer; those without a question go for all.
var answers = map[string]string{
	"yes": "Yes", "no": "No", "stop": "Stop here; the same command goes on later", "again": "Look again", "later": "Decide later",
	"ready on": "Go on; this can be fixed later", "ready obtain": "Obtain a certificate now", "ready support": "Show a text for the people who run the server",
	"unfinished finish": "Finish it", "unfinished undo": "Take it back",
	"backup yes": "Back up now", "backup no": "Go on without a backup", "backup-failed without": "Go on without a backup",
	"loaded yes": "Yes, it is loaded: go on", "loaded no": "Not yet", "loaded again": "Look at the export again",
	"write patch": "A patch: only what changes, in files that a panel takes", "write dump": "A new dump of everything",
	"apply yes": "Make these changes", "apply no": "Not now", "mend yes": "Correct these lengths", "mend no": "Leave them",
	"terms yes": "I have read and accept the terms", "terms no": "No",
	"many yes":   "Go through them one by one",
	"item adopt": "Keep a copy on the site itself", "item replace": "Put another address in its place", "item secure": "Its host does serve HTTPS: make it secure",
	"item leave": "Leave everything of this host as it is", "item accept": "Accept it: it stays and no longer counts", "item edit": "Edit the text", "item mend": "Correct the length, as far as that can be told",
	"redirect apache": "Put the rules into .htaccess (Apache)", "redirect nginx": "Put the rules into nginx's configuration", "redirect php": "Put the rules into the first PHP file",
	"redirect later": "Not now", "redirect again": "It is in place now: look again",
	"site yes": "Yes, this is the site", "site no": "No, something is wrong",
}

// questions are the words of the guided run's questions: what is asked, and what ? explains.
var questions = map[string][2]string{
	"item": {"What should become of it?",
		"Nothing is changed before you agree to the changes. What you decide is kept in the site file and can be taken back: trimlantern decide forget. To decide later leaves it as it is."},
	"site": {"Is this the site?",
		"The site file says which address, database and files belong to it. If something is wrong, name it: trimlantern switch --site https://HOST --also www.HOST FOLDER. The site file itself can be edited."},
	"ready": {"What now?",
		"What is marked [-] would stop visitors once everything leads to HTTPS: the switch waits for it. What is marked [!] needs attention and can wait. A certificate comes from your host's panel, or from any authority that speaks the open protocol."},
	"directory": {"The address of the authority's directory",
		"Any certificate authority that speaks the open protocol (RFC 8555) publishes one, like https://authority.example/directory. Leave it empty to go back."},
	"chain": {"Which file does the web server read the certificate from?",
		"The file that the server's configuration names. It is replaced when the new certificate was checked, and comes back if anything shows worse. Leave it empty to keep the certificate beside the site file only."},
	"key": {"And the private key?",
		"The file that the server's configuration names for the private key."},
	"reload": {"Which command has the server read the files?",
		"Like: systemctl reload apache2. Leave it empty if the server does so by itself."},
	"terms": {"Do you accept the authority's terms of service?",
		"The authority publishes them at its address. Without accepting them it issues nothing."},
	"unfinished": {"A change was interrupted. What should become of it?",
		"What was done is in the journal. Finishing goes on where it stopped; taking it back restores what stood there before."},
	"backup": {"Make a backup first?",
		"The journal takes back what this program changes. A backup is for everything else. It is written to a folder that only you can enter, and read back."},
	"backup-failed": {"There is no backup. What now?",
		"You can fix what is named above and try again, or go on without: what this program changes can be taken back all the same."},
	"many": {"Go through them now?",
		"What is put off stays as it is, and is listed by: trimlantern show."},
	"replace-by": {"Which HTTPS address takes its place?",
		"It is put wherever exactly this address is stored. Leave it empty to go back."},
	"edit-file": {"Edit that file and save it. Then press Enter",
		"The file holds the one stored text, decoded. Open it in any editor, here or in another window. The text is sealed again when the changes are made; if it is as it was, nothing is decided. To take the text from another file, write its name."},
	"because": {"Why? (for whoever looks after the site next)",
		"The site file keeps the reason. Leave it empty to go back."},
	"mend": {"Correct these lengths now?",
		"An earlier replacement changed texts without their lengths. Only values that become sound all the way down are corrected. undo takes it back."},
	"apply": {"Make these changes now?",
		"Each value is compared with what the preview saw, and goes into the journal before it is changed. trimlantern undo takes all of it back. Everybody who is logged in has to log in again if the site's own addresses change."},
	"write": {"What should be written?",
		"The site is known by an exported database, which stays as it is. A patch is small, leaves rows that were edited since the export, and comes with another one that takes it back. A new dump replaces all tables."},
	"write-to": {"To which file?",
		"Leave it empty for the name that is suggested. Large patches are split into several files, which are loaded in order."},
	"loaded": {"Is it loaded into the database?",
		"Load it in your host's database panel: Import, then the file. Then this goes on: redirect, and every page over HTTPS. Whether it is loaded, only the pages show."},
	"redirect": {"Put the redirect in place?",
		"Rules go into a file between two marking lines, and every address is followed afterwards. If any answers worse than before, the file is put back at once. If your host's panel has a switch for it, use that, then look again."},
	"rule-file": {"Into which file?",
		"For Apache the .htaccess in the site's folder, for PHP the first file that runs, for nginx the file with the site's server blocks. Leave it empty to see the rules, to put them in by hand."},
	"rule-reload": {"Which command has the server read the file?",
		"Like: nginx -s reload."},
}

// Ask puts a question into words.
func Ask(q guide.Question) Asked {
	a := Asked{Title: questions[q.ID][0], Explain: questions[q.ID][1]}
	switch about := q.About.(type) {
	case guide.Items:
		a.About = plural(about.Count, "item") + " need a decision."
	case guide.ItemAbout:
		switch q.ID {
		case "item":
			a.About = aboutItem(about.Item)
		case "edit-file":
			a.About = "The text is in " + Clean(q.Default)
		}
	case string:
		switch q.ID {
		case "terms":
			a.About = Clean(about)
		case "write-to":
			a.About = "Suggested: " + Clean(about)
		}
	case *dumps.Applied:
		a.About = "Written on " + clock(about.Time) + ": " + Clean(fileList(about.Wrote))
	}
	for _, c := range q.Choices {
		said, ok := answers[q.ID+" "+c]
		if !ok {
			said = answers[c]
		}
		if c == "adopt-host" {
			if about, ok := q.About.(guide.ItemAbout); ok {
				said = fmt.Sprintf("Keep copies of all %d from %s", about.SameHost+1, Clean(about.Host))
			}
		}
		a.Choices = append(a.Choices, said)
	}
	return a
}

// aboutItem says in a few lines what an item is about.
func aboutItem(i decide.Item) string {
	var lines []string
	switch {
	case i.URL != "":
		lines = append(lines, clip(i.URL, 76))
	case i.What != "":
		lines = append(lines, clip(i.What, 76))
	case len(i.Places) > 0:
		lines = append(lines, clip(i.Places[0], 76))
	}
	if said := words.Reason(rewrite.Reason(i.Reason)); said != "" {
		lines = append(lines, said)
	} else if i.Class != "" {
		lines = append(lines, shortClass[i.Class]+" on "+plural(i.Pages, "page"))
	}
	if i.URL != "" && len(i.Places) > 0 {
		lines = append(lines, clip("in "+strings.Join(i.Places, "; "), 76))
	}
	return strings.Join(lines, "\n")
}

// Asking shows what a question is about.
func (t *Text) Asking(a Asked) {
	t.printf("\n")
	for line := range strings.Lines(a.About) {
		t.printf("  %s\n", strings.TrimRight(line, "\n"))
	}
}

// Explained explains a question.
func (t *Text) Explained(a Asked) {
	t.printf("\n")
	t.wrap("  ", a.Explain)
}

// Answered keeps a question with its answer on the screen.
func (t *Text) Answered(a Asked, q guide.Question, answer string) {
	said := answer
	if i := slices.Index(q.Choices, answer); i >= 0 {
		said = a.Choices[i]
	}
	t.printf("  %s %s\n", a.Title, t.paint(t.clip(said, 74-len(a.Title)), 1))
}

// Questions lists what the guided run asks, for whoever answers from a file.
func Questions() []string {
	var list []string
	for _, q := range []struct{ id, choices string }{{"site", "yes, no"}, {"ready", "on, obtain, support, again, stop"}, {"backup", "yes, no"}, {"item URL", "adopt, replace, secure, leave, accept, mend, later"},
		{"apply", "yes, no"}, {"write", "patch, dump, stop: of an exported database"}, {"write-to", "a file"}, {"loaded", "yes, no, again"}, {"redirect", "apache, nginx, php, again, later"}, {"rule-file", "a file"}} {
		list = append(list, q.id+" ("+q.choices+")")
	}
	return list
}

// Brief tells a result of a job in a few lines, as the guided run does.
func (t *Text) Brief(result any) {
	switch r := result.(type) {
	case error:
		var f *work.Fault
		t.wrap("  ", t.care(Clean(r.Error())))
		if errors.As(r, &f) && f.Do != "" {
			t.wrap("  ", "What to do: "+Clean(f.Do))
		}
	case *setup.Inited:
		t.briefSite(r)
	case *ready.Result:
		t.briefReady(r)
	case guide.Support:
		t.printf("\n")
		for line := range strings.Lines(string(r)) {
			t.printf("    %s\n", Clean(strings.TrimSuffix(line, "\n")))
		}
	case *cert.Obtained:
		for _, c := range r.Certificates {
			t.printf("  %s: %s\n", Clean(strings.Join(c.Names, ", ")), string(c.State))
			if c.Do != "" {
				t.wrap("  ", "What to do: "+Clean(c.Do))
			}
		}
	case *backup.BackedUp:
		said := fmt.Sprintf("Backup of %s: %s with %s, %s, read back", clock(r.Time.Format("2006-01-02T15:04:05Z")), plural(r.Tables, "table"), plural(r.Rows, "row"), plural(r.Files, "file"))
		if r.Code() == work.Clean {
			t.tick(said + ".")
		} else {
			t.mark(t.care("[!]"), fmt.Sprintf("%s; %s with another number of rows than the database, %s not in it.", said, plural(len(r.Differs), "table"), plural(len(r.Left), "file")))
		}
		t.printf("      %s\n", t.faint(t.clip(r.Folder, 74)))
		for _, w := range r.Without {
			t.mark(t.care("[!]"), "not in it: "+Clean(w))
		}
	case *findings.Scan:
		t.briefScan(r)
	case *preview.Result:
		t.briefPreview(r)
	case guide.Nothing:
		t.tick("Nothing is left to change.")
	case *run.Applied:
		t.briefApplied(r)
	case guide.Exported:
		t.tick("The export is the backup: keep it.")
		t.printf("      %s\n", t.faint(t.clip(r.File, 74)))
	case *dumps.Applied:
		t.briefWritten(r)
		t.wrap("  ", "Load it into the database, in the order of the names; then go on here.")
	case guide.Loaded:
		t.tick("Every page is clean since the export was changed and written.")
		if r.Made.Code() != work.Clean || r.Made.Files > 0 { // which the pages do not show
			t.briefWritten(r.Made)
		}
	case *run.Undone:
		t.tick(fmt.Sprintf("Taken back: %s.", plural(r.Back+r.Already, "cell")))
	case *redirect.Tested:
		t.briefRedirects(r)
	case *redirect.File:
		t.briefRules(r)
	case *redirect.Rules:
		t.Rules(r)
	case *decide.Decision:
		t.tick("Decided, and kept in the site file.")
	case *decide.Adopted:
		if n := len(r.Copies); n > 0 {
			t.tick(plural2(n, "copy", "copies") + " fetched. They are put in place with the other changes.")
		}
		for _, one := range r.Refused {
			t.mark(t.care("[!]"), "not copied: "+Clean(one.URL+": "+one.Why))
		}
	}
}

// briefWritten tells what was written of an exported database, and what of it is not in there.
func (t *Text) briefWritten(r *dumps.Applied) {
	mark := t.good("[x]")
	if r.Code() != work.Clean {
		mark = t.care("[!]")
	}
	t.mark(mark, fmt.Sprintf("Written: %s of %s in %s.", plural(r.Changed, "cell"), number(r.Planned), Clean(fileList(r.Wrote))))
	if len(r.Back) > 0 {
		t.printf("      %s\n", t.faint(t.clip("takes it back: "+fileList(r.Back), 74)))
	}
	if r.Files > 0 {
		t.mark(t.care("[!]"), plural(r.Files, "file")+" of the site stay as they are: upload them changed.")
	}
}

// briefRules tells what became of a file with redirect rules.
func (t *Text) briefRules(r *redirect.File) {
	if r.Code() == work.Clean && r.Changed && r.Right == r.Tested {
		t.tick(fmt.Sprintf("Rules put into %s; all %s lead where they should.", t.clip(r.File, 40), plural2(r.Tested, "address", "addresses")))
		t.printf("      %s\n", t.faint("trimlantern undo "+r.Journal+" takes it back"))
		return
	}
	t.RedirectFile(r, false)
}

// tick writes a line of good news.
func (t *Text) tick(said string) { t.mark(t.good("[x]"), said) }

func (t *Text) briefSite(r *setup.Inited) {
	rows := [][]string{{"address", r.Site}, {"system", r.System}, {"database", t.clip(r.Database, 60)}}
	for _, a := range r.Addresses {
		rows = append(rows, []string{a.Title, t.clip(a.Value, 60)})
	}
	if len(r.Files) > 0 {
		rows = append(rows, []string{"files", t.clip(strings.Join(r.Files, ", "), 60)})
	}
	t.rows(nil, rows)
	for _, l := range r.Locked {
		t.mark(t.care("[!]"), "held by the configuration: "+Clean(l))
	}
	t.printf("  %s\n", t.faint("kept in "+t.clip(r.Path, 66)))
}

func (t *Text) briefReady(r *ready.Result) {
	accepted, shown := 0, 0
	for _, p := range r.Points {
		if !p.Counts() {
			if p.Accepted != "" {
				accepted++
			}
			continue
		}
		if shown++; shown <= 6 {
			t.mark(t.pointMark(p), Clean(p.What))
			if p.Do != "" {
				t.printf("      %s\n", t.faint(t.clip(p.Do, 74)))
			}
		}
	}
	if shown > 6 {
		t.printf("      %s\n", t.faint("and "+number(shown-6)+" more"))
	}
	switch r.Worst() {
	case point.Stop:
		t.printf("  %s\n", t.bad("Not ready: what is marked [-] would stop visitors."))
	case point.Care:
		t.printf("  %s\n", t.care("Ready to switch; what is marked [!] needs attention."))
	default:
		said := fmt.Sprintf("Ready to switch; the certificate is good for %s", plural(r.Days, "more day"))
		if accepted > 0 {
			said += "; " + plural(accepted, "fault") + " that you accepted"
		}
		t.tick(said + ".")
	}
}

func (t *Text) briefScan(s *findings.Scan) {
	read := readWords(s.Coverage)
	if len(s.Culprits) == 0 {
		if s.Proven() {
			t.tick(verdict(s) + ": " + read + ".")
		} else {
			t.mark(t.care("[!]"), except(asFarAsRead(s), s)+".")
		}
	} else {
		t.mark(t.care("[!]"), verdict(s)+".")
		var rows [][]string
		for _, c := range mixed.Classes {
			if n := s.Classes[c]; n > 0 {
				rows = append(rows, []string{t.class(c), number(n), number(s.On[c])})
			}
		}
		t.rows([]string{"", ">findings", ">pages"}, rows)
		t.printf("  %s\n", t.faint("read: "+read))
	}
	for _, l := range s.Coverage.Blocking() {
		t.printf("      %s\n", t.care(t.clip("not looked at: "+countWords(l), 74)))
	}
}

func (t *Text) briefPreview(p *preview.Result) {
	if p.Kind == preview.Lengths {
		t.mark(t.care("[!]"), fmt.Sprintf("%s can be corrected.", plural2(p.Cells, "value has a length that does not fit and", "values have lengths that do not fit and")))
		return
	}
	if p.Changes() == 0 {
		t.tick("Nothing is left to change.")
	} else {
		said := fmt.Sprintf("%s in %s", plural(p.Refs, "reference"), plural(p.Cells, "cell"))
		if len(p.Files) > 0 {
			said += fmt.Sprintf(", %s in %s", number(p.FileRefs), plural(len(p.Files), "file"))
		}
		if n := len(p.Copies); n > 0 {
			said += ", " + plural2(n, "copy", "copies") + " to put in place"
		}
		t.mark("[i]", said+".")
		for i, s := range p.Samples {
			if i == 2 {
				break
			}
			t.printf("      %s\n", t.faint(t.clip(s.Where, 72)))
			t.change("      ", s.Before, s.After)
		}
	}
	if n := p.Person(); n > 0 {
		t.mark(t.care("[!]"), sentence(plural(n, "finding"), n, " needs a decision.", " need a decision."))
	}
	for _, a := range p.Addresses {
		if a.Locked != "" {
			t.mark(t.care("[!]"), "The "+a.Title+" is held by "+Clean(a.Locked)+": change it there.")
		}
	}
}

func (t *Text) briefApplied(a *run.Applied) {
	said := fmt.Sprintf("%s changed", plural(a.Changed, "cell"))
	if n := len(a.Files); n > 0 {
		said += fmt.Sprintf(", %s", plural(n, "file"))
	}
	if n := len(a.Copies); n > 0 {
		said += ", " + plural2(n, "copy", "copies") + " put in place"
	}
	if len(a.Skipped) == 0 {
		t.tick(said + ", as planned.")
	} else {
		t.mark(t.care("[!]"), said+", "+plural(len(a.Skipped), "change")+" left out:")
		t.skips(a.Skipped)
	}
	if a.Proven > 0 {
		t.tick("The database holds " + plural(a.Proven, "cell") + " as planned.")
	}
	if a.Addresses {
		t.mark("[i]", "The site's own addresses changed: log in again.")
	}
	for _, c := range a.After {
		t.mark("[i]", "Run, as the system needs it: "+Clean(c))
	}
	t.printf("      %s\n", t.faint("trimlantern undo takes all of it back; the journal is "+a.Journal))
}

func (t *Text) briefRedirects(r *redirect.Tested) {
	faulty, accepted := r.Faulty()
	all, far := len(r.Journeys), r.Unfollowed()
	if r.Code() == work.Clean {
		if far+accepted == 0 {
			t.tick("All " + plural2(all, "address leads", "addresses lead") + " to the secure one.")
			return
		}
		said := fmt.Sprintf("%d of %s lead to the secure one", all-far-accepted, plural2(all, "address", "addresses"))
		if far > 0 {
			said += fmt.Sprintf("; %d could not be reached from this machine", far)
		}
		if accepted > 0 {
			said += fmt.Sprintf("; the faults of %d are accepted", accepted)
		}
		t.mark(t.care("[!]"), said+".")
		return
	}
	faulty -= accepted
	t.mark(t.care("[!]"), fmt.Sprintf("%d of %s not lead where they should.", faulty, plural2(all, "address does", "addresses do")))
	shown := 0
	for _, p := range r.Points {
		if !p.Counts() {
			continue
		}
		if shown++; shown <= 3 {
			t.mark(t.pointMark(p), Clean(p.What))
		}
	}
}

// Full shows all of a result: what a guided run told in a few lines.
func (t *Text) Full(result any) {
	switch r := result.(type) {
	case *setup.Inited:
		t.Inited(r)
	case *ready.Result:
		t.Ready(r)
	case *findings.Scan:
		t.Scan(r)
	case *preview.Result:
		t.Preview(r)
	case *run.Applied:
		t.Applied(r)
	case *dumps.Applied:
		t.DumpApplied(r)
	case *redirect.Tested:
		t.RedirectTest(r)
	case *backup.BackedUp:
		t.BackedUp(r)
	case *decide.Adopted:
		t.Adopted(r)
	case *decide.List:
		t.WorkList(r)
	default:
		t.Brief(result)
	}
}

// Walked ends a guided run.
func (t *Text) Walked(w *status.Status, done *guide.Walked) {
	open := 0
	if done.Left != nil {
		open = done.Left.Open()
	}
	if w.Clean {
		t.tick(t.good("The site is " + onHTTPS(w) + "."))
	} else {
		if done.Stopped != "" {
			t.printf("Stopped at: %s. The same command continues from there.\n", strings.ToLower(steps[done.Stopped][0]))
		}
		t.printf("%s\n", t.care("The site is not done yet. What is left:"))
		for _, s := range w.Steps {
			if s.State != "done" {
				t.mark(t.care("[ ]"), s.Name+": "+Clean(s.What))
			}
		}
	}
	if open > 0 {
		t.mark(t.care("[!]"), sentence(plural(open, "item"), open, " needs a decision: trimlantern show", " need a decision: trimlantern show"))
	}
	if done.Report != "" {
		t.printf("  Summary to keep: %s\n", t.clip(done.Report, 60))
	}
	if w.Clean {
		t.next("trimlantern checkup, once a month: editors paste http:// links")
	} else if w.Next != "" {
		t.next(w.Next)
	}
}
