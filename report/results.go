package report

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/outside/files"
	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/preview"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/status"
)

// Moved reports where the site file is now.
func (t *Text) Moved(r *work.Moved) {
	t.printf("Moved the site file and the logbook:\n  from  %s\n  to    %s\n\nNext: trimlantern status\n", Clean(r.From), Clean(r.Path))
}

// Inited reports what init wrote.
func (t *Text) Inited(r *setup.Inited) {
	t.printf("Wrote %s\n", t.clip(r.Path, 74))
	if r.Old != "" {
		t.printf("%s\n", t.faint("the one of before is kept: "+t.clip(r.Old, 52)))
	}
	t.printf("\n")
	rows := [][]string{{"site", r.Site}, {"system", r.System}, {"database", t.clip(r.Database, 60)},
		{"tables", fmt.Sprintf("%d with the prefix \"%s\"", r.Tables, t.clip(r.Prefix, 30))}, {"files", t.clip(strings.Join(r.Files, ", "), 60)}}
	if len(r.Files) == 0 {
		rows[4][1] = "none named; add folders of themes and plugins under files"
	}
	t.rows(nil, rows)
	if len(r.Used) > 0 {
		t.heading("Found")
		for _, u := range r.Used {
			t.wrap("  ", Clean(u))
		}
	}
	for i, a := range r.Addresses {
		if i == 0 {
			t.heading("Addresses in the database")
		}
		if i == 8 {
			t.printf("  and %s\n", plural(len(r.Addresses)-8, "more address"))
			break
		}
		t.printf("  %s  %s\n", t.clip(a.Value, 50), t.faint(t.clip(a.Title, 26)))
	}
	if len(r.Locked) > 0 {
		t.heading("Locked in the configuration; a change in the database does nothing there")
		for _, l := range r.Locked {
			t.wrap("  ", Clean(l))
		}
	}
	if len(r.Sites) > 1 {
		t.heading("Sites in this database; --sites chooses some of them")
		for i, s := range r.Sites {
			if i == 12 {
				t.printf("  and %s\n", plural(len(r.Sites)-12, "more site"))
				break
			}
			t.printf("  %4d  %s\n", s.Site, t.clip(s.Address, 70))
		}
	}
	if len(r.Others) > 0 {
		t.heading("Other systems in the same database, left alone")
		t.wrap("  ", "prefixes "+Clean(strings.Join(r.Others, ", ")))
	}
	t.next("trimlantern preview")
}

// Preview reports what would change.
func (t *Text) Preview(p *preview.Result) {
	if p.Kind == preview.Lengths {
		t.printf("Mending serialized values of %s: nothing was changed.\n", p.Site)
	} else {
		t.printf("Preview of %s: nothing was changed.\n", p.Site)
	}
	t.addresses(p)
	t.heading("To change")
	var rows [][]string
	var idle int
	for _, c := range p.Tables {
		if c.Cells == 0 {
			idle++
			continue
		}
		rows = append(rows, []string{t.clip(c.Table, 34), number(c.Rows), number(c.Cells), number(c.References)})
	}
	rows = append(rows, []string{t.paint("all tables", text.Bold), number(p.Rows), number(p.Cells), number(p.Refs)})
	header := []string{"table", ">rows", ">cells", ">references"}
	if p.Kind == preview.Lengths { // lengths are no references
		header = header[:3]
		for i := range rows {
			rows[i] = rows[i][:3]
		}
	}
	t.rows(header, rows)
	if idle > 0 {
		t.printf("  %s\n", t.faint(plural(idle, "more table")+" with nothing to change"))
	}
	if n := len(p.Elsewhere); n > 0 {
		t.wrap("  ", "Not looked at: "+plural(n, "other table")+" of the database, by the names not the site's: "+t.clip(strings.Join(p.Elsewhere, ", "), 60))
	}
	if len(p.Hosts) > 0 {
		var hosts [][]string
		for _, h := range byCount(p.Hosts) {
			hosts = append(hosts, []string{number(p.Hosts[h]), t.clip(h, 60)})
		}
		t.printf("\n")
		t.rows([]string{">references", "to host"}, hosts[:min(10, len(hosts))])
	}
	t.decided(p)
	t.files(p)
	t.part(p)
	if len(p.Samples) > 0 {
		t.heading("Examples: the first change in each table")
		for _, s := range p.Samples {
			t.printf("  %s\n", t.faint(t.clip(s.Where, 76)))
			t.printf("    %s %s\n    %s %s\n", t.bad("-"), clipEnd(s.Before, 72), t.good("+"), clipEnd(s.After, 72))
		}
	}
	t.left(p)
	t.opinion(p.Opinion)
	switch {
	case p.Changes() > 0:
		t.printf("\nSheet %s holds exactly these changes.\n", p.Sheet)
		if strings.HasPrefix(p.Database, "dump:") {
			t.next("trimlantern apply --write FILE for a new dump, or trimlantern apply --patch FILE for what changes alone")
			return
		}
		t.next("trimlantern apply")
	case p.Person() == 0:
		t.printf("\n%s\n", t.good("Nothing is left to change."))
		t.next("trimlantern scan")
	default:
		t.next("trimlantern show, which lists what needs a decision")
	}
}

// decided shows what the owner's decisions come to.
func (t *Text) decided(p *preview.Result) {
	if p.Edited > 0 {
		t.heading("Edited by your decision")
		t.printf("  %s\n", plural(p.Edited, "text"))
	}
	if len(p.Replaced) > 0 {
		t.heading("Replaced by your decision")
		for i, r := range p.Replaced {
			if i == 10 {
				t.printf("  %s\n", t.faint(fmt.Sprintf("and %d more; --format json lists them", len(p.Replaced)-i)))
				break
			}
			t.printf("  %s %s\n    %s\n", t.clip(r.From, 64), t.faint(times(r.Count)), t.clip(r.To, 74))
		}
	}
	if len(p.Copies) > 0 {
		total := 0
		for _, c := range p.Copies {
			total += c.Size
		}
		t.heading("Copies to put in place, before anything points to them")
		t.printf("  %s, %s\n", plural(len(p.Copies), "file"), size(int64(total)))
		for i, c := range p.Copies {
			if i == 6 {
				t.printf("  %s\n", t.faint(fmt.Sprintf("and %d more; trimlantern show changes lists them", len(p.Copies)-i)))
				break
			}
			t.printf("  %s\n", t.clip(c.Path, 76))
		}
	}
}

// opinion says whom else the serialized values were shown to.
func (t *Text) opinion(o *preview.Opinion) {
	switch {
	case o == nil || o.Values == 0 && o.Unjudged == 0:
	case o.Unjudged > 0:
		t.printf("\n")
		t.wrap("", t.care(fmt.Sprintf("%s to change not tried with PHP: %s.", plural(o.Unjudged, "serialized value"), Clean(o.Why))))
	case o.Refused > 0:
		t.printf("\n")
		t.wrap("", t.care(fmt.Sprintf("Second opinion: PHP %s would not load %s of %s after the change. They are left as they are.", Clean(o.Version), number(o.Refused), plural(o.Values, "serialized value"))))
	case o.Loaded < o.Values:
		t.printf("\n")
		t.wrap("", fmt.Sprintf("Second opinion: PHP %s loads %s of %s after the change. The others need a class of the site's own, before and after.", Clean(o.Version), number(o.Loaded), plural(o.Values, "serialized value")))
	default:
		t.printf("\n")
		t.wrap("", fmt.Sprintf("Second opinion: PHP %s loads %s of %s after the change, as before.", Clean(o.Version), number(o.Loaded), plural(o.Values, "serialized value")))
	}
}

// files shows the files that would change, each line before and after.
func (t *Text) files(p *preview.Result) {
	if len(p.Files) == 0 {
		return
	}
	const mostFiles, mostLines = 8, 3
	t.heading(fmt.Sprintf("Files: %s in %s", plural(p.FileRefs, "reference"), plural(len(p.Files), "file")))
	for i, f := range p.Files {
		if i == mostFiles {
			t.printf("  %s\n", t.faint(plural(len(p.Files)-i, "more file")+"; --format json lists them"))
			break
		}
		for k, l := range f.Lines {
			if k == mostLines {
				t.printf("    %s\n", t.faint(fmt.Sprintf("and %s in this file", plural(f.References-k, "more"))))
				break
			}
			t.printf("  %s\n", t.faint(t.clip(fmt.Sprintf("%s:%d", f.Path, l.Line), 76)))
			t.printf("    %s %s\n    %s %s\n", t.bad("-"), clipEnd(l.Before, 72), t.good("+"), clipEnd(l.After, 72))
		}
	}
}

// part says what was chosen, what runs with the changes and what can be dropped.
func (t *Text) part(p *preview.Result) {
	c := p.Choice
	var words []string
	for _, one := range []struct {
		what string
		list []string
	}{{"only the tables", c.Tables}, {"except", c.Except}} {
		if len(one.list) > 0 {
			words = append(words, one.what+" "+strings.Join(one.list, ", "))
		}
	}
	for _, n := range c.Sites {
		words = append(words, fmt.Sprintf("site %d", n))
	}
	if c.Address != "" {
		words = append(words, "of the addresses only the "+c.Address+" one")
	}
	if len(words) > 0 {
		t.heading("A part, as you chose")
		t.wrap("  ", Clean(strings.Join(words, "; ")))
	}
	if len(p.Sites) > 1 {
		t.heading("Sites in this database")
		var rows [][]string
		for i, s := range p.Sites {
			if i == 12 {
				rows = append(rows, []string{"", "and " + plural(len(p.Sites)-12, "more site")})
				break
			}
			rows = append(rows, []string{fmt.Sprint(s.Site), t.clip(s.Address, 66)})
		}
		t.rows(nil, rows)
	}
	if len(p.Triggers) > 0 {
		t.heading("Triggers that will run with the changes")
		for _, s := range p.Triggers {
			t.wrap("  ", Clean(s))
		}
	}
	if p.Drops > 0 || len(p.Folders) > 0 {
		t.heading("Cached copies")
	}
	for _, f := range p.Folders {
		what := "left alone"
		if f.Safe {
			what = "trimlantern apply --drop-caches empties it, and undo fills it again"
		}
		t.wrap("  ", fmt.Sprintf("%s: %s; %s.", t.clip(f.Path, 60), plural(f.Files, "file"), what))
	}
	if p.Drops > 0 && strings.HasPrefix(p.Database, "dump:") {
		t.wrap("  ", plural(p.Drops, "cached row")+" with references stays in the dump: empty the caches once it is loaded.")
		return
	}
	if p.Drops > 0 {
		t.wrap("  ", plural(p.Drops, "cached row")+" with references can be removed without loss: trimlantern apply --drop-caches does it, and undo puts back what it removed.")
	}
}

func (t *Text) addresses(p *preview.Result) {
	if len(p.Addresses) == 0 || p.Kind == preview.Lengths {
		return
	}
	t.heading("The site's own addresses")
	var rows [][]string
	change := false
	for _, a := range p.Addresses {
		what := "stays"
		if a.Change {
			what, change = "becomes secure", true
		}
		if a.Locked != "" {
			what = t.care("locked: " + t.clip(a.Locked, 22))
		}
		rows = append(rows, []string{t.clip(a.Title, 20), t.clip(a.Value, 26), what})
	}
	t.rows(nil, rows)
	if change {
		t.wrap("  ", "They are changed last. Everybody who is logged in has to log in again.")
	}
	for _, a := range p.Addresses {
		if a.Locked != "" {
			t.wrap("  ", "The "+a.Title+" is held by "+Clean(a.Locked)+": change it there, the database does not count.")
		}
	}
}

// left reports what was left alone, and what needs a person.
func (t *Text) left(p *preview.Result) {
	var settled, person [][]string
	for _, r := range reasonsByCount(p.Counts) {
		if r.NeedsPerson() {
			continue
		}
		settled = append(settled, []string{number(p.Counts[r]), r.Words(), t.faint(t.clip(example(p.Left, r), 28))})
	}
	if len(settled) > 0 {
		t.heading("Left alone, and why")
		t.rows([]string{">", "reason", "for example"}, settled)
	}
	const most = 12
	more := 0
	for _, r := range reasonsByCount(p.Counts) {
		if !r.NeedsPerson() {
			continue
		}
		shown := 0
		for _, g := range byCulprit(p.Left, r) {
			if shown++; shown > most {
				more++
				continue
			}
			what := t.clip(g.what, 41)
			if g.places > 1 {
				times := fmt.Sprintf(" ×%d", g.places)
				what = t.clip(g.what, 41-len(times)) + times
			}
			person = append(person, []string{t.clip(place(g.first), 33), what})
		}
		if shown > 0 {
			person = slices.Insert(person, len(person)-min(shown, most), []string{t.care(r.Words()) + ":"})
		}
		if r == rewrite.Unsound && shown > 0 && p.Kind != preview.Lengths {
			person = append(person, []string{t.faint("  trimlantern mend proposes corrected lengths")})
		}
		if r == rewrite.NoHTTPS || r == rewrite.NoVerdict {
			for _, host := range hostsOf(p.Left, r) {
				_, why, _ := strings.Cut(p.Verdicts[host], ": ")
				person = append(person, []string{t.faint("  " + t.clip(host+" "+why, 74))})
			}
		}
	}
	if len(person) > 0 {
		t.heading("Needs a person")
		for _, r := range person {
			if len(r) == 1 {
				t.printf("  %s\n", r[0])
				continue
			}
			t.printf("    %-33s %s\n", padRunes(r[0], 33), r[1])
		}
		if more > 0 {
			t.printf("    %s\n", t.faint(plural(more, "more finding")+"; --format json lists them"))
		}
	}
	t.notRead(p.Skipped)
}

// someFiles names files behind a word, the first of many.
func (t *Text) someFiles(word string, list []string, width int) {
	for i, f := range list {
		if i == 8 {
			t.printf("  %s\n", t.faint(plural(len(list)-i, "more file")))
			return
		}
		t.printf("  %s %s\n", word, t.clip(f, width))
	}
}

// notRead names files that were not read, some of many.
func (t *Text) notRead(list []files.Skipped) {
	for i, s := range list {
		if i == 10 {
			t.printf("  %s\n", t.faint(fmt.Sprintf("and %s not read; --format json lists them", plural(len(list)-i, "file"))))
			return
		}
		t.printf("  not read: %s\n", t.clip(s.Path, 66))
		t.wrap("    ", Clean(s.Why))
	}
}

// culprit is one thing that stands at however many places.
type culprit struct {
	what   string
	first  sheet.Left
	places int
}

// byCulprit groups a reason's findings by what was found, in order of appearance.
func byCulprit(left []sheet.Left, r rewrite.Reason) (out []culprit) {
	at := map[string]int{}
	for _, l := range left {
		if l.Reason != r {
			continue
		}
		what := l.URL
		if what == "" {
			what = l.Note
		}
		i, ok := at[what]
		if !ok || l.URL == "" {
			i = len(out)
			at[what] = i
			out = append(out, culprit{what: what, first: l})
		}
		out[i].places++
	}
	return out
}

// hostsOf lists the hosts of a reason's findings, each once.
func hostsOf(left []sheet.Left, r rewrite.Reason) []string {
	hosts := map[string]int{}
	for _, l := range left {
		if l.Reason == r && l.Host != "" {
			hosts[l.Host]++
		}
	}
	return byCount(hosts)
}

// place says where a finding stands.
func place(l sheet.Left) string {
	if l.File != "" {
		return fmt.Sprintf("%s:%d", l.File, l.Line)
	}
	where := l.Table + "." + l.Column
	if l.Column == "" && l.Line > 0 {
		where = strings.TrimSpace(fmt.Sprintf("line %d %s", l.Line, l.Table))
	}
	if l.Label != "" {
		where = l.Label
	}
	if l.Path != "" {
		where += " " + l.Path
	}
	return where
}

func example(left []sheet.Left, r rewrite.Reason) string {
	for _, l := range left {
		if l.Reason == r {
			if l.URL != "" {
				return l.URL
			}
			if r == rewrite.Identifier {
				return l.Table + "." + l.Column
			}
			return place(l)
		}
	}
	return ""
}

func reasonsByCount(counts map[rewrite.Reason]int) []rewrite.Reason {
	return slices.SortedFunc(maps.Keys(counts), func(a, b rewrite.Reason) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(string(a), string(b)))
	})
}

func byCount(counts map[string]int) []string {
	return slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(a, b))
	})
}

// clipEnd cleans a text and cuts it at n columns.
func clipEnd(s string, n int) string {
	r := []rune(Clean(s))
	if len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return string(r)
}

func padRunes(s string, n int) string {
	if w := len([]rune(s)); w < n {
		return s + strings.Repeat(" ", n-w)
	}
	return s
}

// fileList names files: of many, the first and the last.
func fileList(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s to %s, %s", names[0], filepath.Base(names[len(names)-1]), plural(len(names), "file"))
	}
	return strings.Join(names, ", ")
}

// DumpApplied shows what was made of an exported database.
func (t *Text) DumpApplied(d *dumps.Applied) {
	what := "A new dump of"
	if len(d.Back) > 0 {
		what = "A patch for"
	}
	changes := fmt.Sprintf("%s in %s", plural(d.Refs, "reference"), plural(d.Changed, "cell"))
	if d.Kind == preview.Lengths {
		changes = "lengths in " + plural(d.Changed, "cell")
	}
	t.printf("%s %s: it changes %s.\n\n", what, t.clip(d.Site, 40), changes)
	var rows [][]string
	for _, name := range byCount(d.Tables) {
		rows = append(rows, []string{t.clip(name, 40), number(d.Tables[name])})
	}
	if len(rows) > 0 {
		t.rows([]string{"table", ">cells"}, rows)
		t.printf("\n")
	}
	for _, name := range byCount(d.Keyless) {
		t.wrap("  ", t.care(plural(d.Keyless[name], "cell")+" of "+t.clip(name, 40)+" left: the table has no primary key, by which a patch could find its rows. A new dump has them (apply --write FILE)."))
	}
	for _, name := range byCount(d.Charset) {
		t.wrap("  ", t.care(plural(d.Charset[name], "cell")+" of "+t.clip(name, 40)+" left: the site's software reads them in another charset than the dump has. A new dump has them (apply --write FILE)."))
	}
	t.wrap("  ", "Written: "+Clean(fileList(d.Wrote)))
	if len(d.Back) > 0 {
		t.wrap("  ", "Takes it back: "+Clean(fileList(d.Back)))
		t.wrap("  ", "Rows that were edited since the export are left as they are; the last statement counts them.")
	} else {
		t.wrap("  ", "The dump it was made of stays as it is: "+Clean(d.Dump))
		if d.Proven > 0 {
			t.printf("  Read again: the new dump has %s as planned.\n", plural(d.Proven, "cell"))
		}
	}
	t.onLoading(d.CutOff, len(d.Back) > 0 || d.Makes, len(d.Back) > 0 || d.Drops, d.Addresses)
	if d.Files > 0 {
		t.wrap("  ", t.care(plural(d.Files, "file")+" of the sheet stay as they are: upload them changed, or run trimlantern apply on the site's own machine."))
	}
	t.next("load it into the database, then: trimlantern scan")
}

// Applied reports what apply did.
func (t *Text) Applied(a *run.Applied) {
	if a.Resumed {
		t.printf("Went on with the run that was interrupted.\n")
	}
	t.printf("Applied sheet %s to %s.\n", a.Sheet, a.Site)
	t.heading("Changed")
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(a.Tables)) {
		rows = append(rows, []string{t.clip(name, 50), number(a.Tables[name])})
	}
	rows = append(rows, []string{t.paint("all tables", text.Bold), number(a.Changed)})
	t.rows([]string{"table", ">cells"}, rows)
	if a.Dropped > 0 {
		t.printf("  %s removed, which the system makes anew\n", plural(a.Dropped, "cached row"))
	}
	t.someFiles("file", a.Files, 70)
	if n := len(a.Copies); n > 0 {
		served := "served as they are"
		if a.Unserved {
			served = t.care("nobody asked the web server for them (--offline)")
		}
		t.printf("  %s put in place: %s\n", plural2(n, "copy", "copies"), served)
	}
	for _, f := range a.Emptied {
		t.printf("  %s emptied, %s kept for undo\n", t.clip(f.Path, 40), plural(f.Files, "file"))
	}
	t.checked(a)
	person := 0
	for r, n := range a.Remain.Counts {
		if r.NeedsPerson() {
			person += n
		}
	}
	if person > 0 {
		t.heading("Still needs a person")
		for _, r := range reasonsByCount(a.Remain.Counts) {
			if r.NeedsPerson() {
				t.printf("  %4s  %s: %s\n", number(a.Remain.Counts[r]), r.Words(), t.clip(firstPlace(a.Remain.Left, r), 64-len(r.Words())))
			}
		}
	}
	switch {
	case a.Remain.Kind == preview.Lengths:
		t.next("trimlantern preview")
	case a.Remain.Changes() > 0:
		t.next("trimlantern preview, for what came since")
	case person > 0:
		t.next("trimlantern show, which lists what needs a decision")
	default:
		t.next("trimlantern scan")
	}
}

// checked reports how apply made sure of what it did.
func (t *Text) checked(a *run.Applied) {
	t.heading("Checked")
	planned, changed := plural(a.Planned, "cell"), number(a.Changed)
	if a.Sources > 0 {
		planned, changed = planned+" and "+plural(a.Sources, "file"), changed+" and "+number(len(a.Files))
	}
	if len(a.Skipped) == 0 {
		t.printf("  %s\n", t.good(fmt.Sprintf("the counts agree: %s planned, %s changed", planned, changed)))
	} else {
		t.printf("  %s\n", t.care(fmt.Sprintf("%s planned, %s changed, %s skipped:", planned, changed, number(len(a.Skipped)))))
		t.skips(a.Skipped)
	}
	if a.Proven > 0 {
		t.printf("  checked after writing: the database holds %s as planned\n", plural(a.Proven, "cell"))
	}
	if a.Remain.Cells == 0 && a.Remain.Kind == preview.Lengths {
		t.printf("  %s\n", t.good("a second look at the database finds nothing left that can be mended"))
	} else if hidden := a.Remain.Counts[rewrite.Hidden]; a.Remain.Changes() == 0 && hidden > 0 {
		t.wrap("  ", "a second preview finds nothing more in the rows that this database user may see; not all rows of "+plural(hidden, "table")+" were read")
	} else if a.Remain.Changes() == 0 {
		t.printf("  %s\n", t.good("a second preview finds nothing left to change"))
	} else {
		t.printf("  %s\n", t.care(fmt.Sprintf("a second preview finds %s and %s to change", plural(a.Remain.Cells, "cell"), plural(len(a.Remain.Files), "file"))))
	}
	if a.OneNode {
		t.wrap("  ", oneNode)
	}
	t.after(a.After)
	if a.Addresses {
		t.printf("  the site's own addresses changed: log in again\n")
	}
	t.printf("  %s\n", t.faint("journal "+a.Journal+"; trimlantern undo takes all of it back"))
	if a.Backup != "" {
		t.printf("  %s\n", t.faint("last backup: "+a.Backup))
	} else {
		t.printf("  %s\n", t.faint("no backup was made before (trimlantern backup)"))
	}
}

func firstPlace(left []sheet.Left, r rewrite.Reason) string {
	for _, l := range left {
		if l.Reason == r {
			return place(l)
		}
	}
	return ""
}

func (t *Text) skips(skips []sheet.Skip) {
	const most = 20
	for i, s := range skips {
		if i == most {
			t.printf("    and %s; --format json lists them\n", plural(len(skips)-most, "more cell"))
			return
		}
		var key []string
		for _, k := range s.Key {
			key = append(key, string(k))
		}
		where := fmt.Sprintf("%s.%s, key %s", s.Table, s.Column, strings.Join(key, ", "))
		if s.Column == "" && len(key) == 0 { // a file
			where = s.Table
		} else if s.Column == "" {
			where = fmt.Sprintf("%s, key %s", s.Table, strings.Join(key, ", "))
		}
		t.printf("    %s: %s\n", t.clip(where, 46), Clean(s.Why))
	}
}

// after says what the system needs when its content has changed.
func (t *Text) after(commands []string) {
	for _, c := range commands {
		t.wrap("  ", "Now run: "+Clean(c))
	}
}

// oneNode says what a lock on one node of a cluster means.
const oneNode = "the lock held on one node of the cluster alone: the database user may make no table. A second run through another node would not have been kept out."

// Undone reports what undo did.
func (t *Text) Undone(u *run.Undone) {
	if u.SQL {
		t.printf("Wrote %s: it puts back %s and %s.\n", t.clip(u.Script, 40), plural(u.Back, "cell"), plural(u.Rows, "row"))
		t.wrap("", "Nothing was changed. A value that somebody changed since will stay, and is named at the end of its output.")
		t.next("run it with the database's own client")
		return
	}
	t.printf("Put back journal %s of %s.\n", u.Journal, u.Site)
	if len(u.Tables) == 0 && len(u.Files) > 0 || len(u.Tables) == 0 && len(u.Left) > 0 && u.Sheet == "" {
		for _, f := range u.Files {
			t.printf("  as before: %s\n", t.clip(f, 66))
		}
		t.after(u.After)
		if len(u.Left) > 0 {
			t.heading("Left, since somebody changed them after us")
			t.skips(u.Left)
		}
		t.next("trimlantern status")
		return
	}
	t.heading("As before again")
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(u.Tables)) {
		rows = append(rows, []string{t.clip(name, 50), number(u.Tables[name])})
	}
	rows = append(rows, []string{t.paint("all tables", text.Bold), number(u.Back)})
	t.rows([]string{"table", ">cells"}, rows)
	if u.Rows > 0 {
		t.printf("  %s put back\n", plural(u.Rows, "cached row"))
	}
	t.someFiles("file as before:", u.Files, 60)
	if u.OneNode {
		t.wrap("  ", oneNode)
	}
	t.after(u.After)
	for _, f := range u.Folders {
		t.printf("  filled again: %s\n", t.clip(f, 64))
	}
	if u.Already > 0 {
		t.printf("  %s were as before already\n", plural(u.Already, "cell"))
	}
	if len(u.Left) == 0 && len(u.Only) > 0 {
		t.printf("\n%s\n", t.good("These cells are as they were; the rest of the journal is not undone."))
	} else if len(u.Left) == 0 {
		t.printf("\n%s\n", t.good("Everything in the journal is as it was, byte for byte."))
		if u.Proven > 0 {
			t.printf("Checked in the database after writing: %s of %s.\n", number(u.Proven), plural(u.Back, "cell"))
		}
	} else {
		t.heading("Left, since somebody changed them after us")
		t.skips(u.Left)
	}
	t.next("trimlantern preview, or trimlantern status to see where you are")
}

func (t *Text) class(c mixed.Class) string {
	switch c {
	case mixed.Blocked:
		return t.bad(c.Words())
	case mixed.Link, mixed.Possible:
		return c.Words()
	}
	return t.care(c.Words())
}

// Status reports the road as a check list.
func (t *Text) Status(s *status.Status) {
	t.printf("The road of %s\n\n", s.Site)
	for _, step := range s.Steps {
		mark := map[string]string{"done": t.good("[x]"), "todo": "[ ]", "care": t.care("[!]")}[step.State]
		when := ""
		if at, err := time.Parse(time.RFC3339, step.When); err == nil {
			when = t.faint("  " + at.UTC().Format("2006-01-02 15:04") + " UTC")
		}
		t.printf("  %s %s%s\n", mark, t.paint(step.Name, text.Bold), when)
		t.wrap("      ", Clean(step.What))
	}
	if s.Clean {
		t.printf("\n%s\n", t.good("The site is "+onHTTPS(s)+"."))
	}
	t.next(s.Next)
}

// onHTTPS is the good verdict on a site.
func onHTTPS(s *status.Status) string {
	words := "on HTTPS, and every page that was scanned is clean"
	if s.Excepted > 0 {
		words += ", except for " + plural(s.Excepted, "finding") + " that you accepted"
	}
	return words
}

// Filtered reports what filter did.
func (t *Text) Filtered(f *dumps.Filtered) {
	if f.As == "value" {
		t.printf("One value of %s: %s secure now.\n", plural(f.BytesIn, "byte"), plural(f.References, "reference"))
	} else {
		t.printf("A dump of %s, %s: %s in %s secure now.\n", f.Dialect, plural(f.Rows, "row"), plural(f.References, "reference"), plural(f.Cells, "cell"))
		if len(f.Sisters) > 0 {
			t.wrap("", "With its sister sites: "+Clean(strings.Join(f.Sisters, ", "))+".")
		}
		var rows [][]string
		for _, c := range f.Tables {
			if c.Cells > 0 {
				rows = append(rows, []string{t.clip(c.Table, 40), number(c.Rows), number(c.Cells), number(c.References)})
			}
		}
		if len(rows) > 0 {
			t.rows([]string{"table", ">rows", ">cells", ">references"}, rows)
		}
	}
	if len(f.Counts) > 0 {
		t.printf("\n")
	}
	for _, r := range reasonsByCount(f.Counts) {
		words := "left: " + r.Words()
		if r.NeedsPerson() {
			words = t.care(words)
		}
		t.printf("  %6s  %s  %s\n", number(f.Counts[r]), words, t.faint(t.clip(example(f.Left, r), max(8, 58-len(r.Words())))))
	}
	t.filterPlaces(f)
	t.filterNotes(f)
	if len(f.Nameless) > 0 {
		t.wrap("  ", "The dump does not show the columns of "+t.clip(strings.Join(f.Nameless, ", "), 60)+": permanent identifiers in them cannot be recognised.")
	}
	if f.As == "dump" {
		t.next("load it into a copy of the site first, and scan that copy")
	}
}

// placesShown is how many of the findings of each reason that needs a person filter shows with their places.
const placesShown = 3

// filterPlaces shows where the findings are that need a person.
func (t *Text) filterPlaces(f *dumps.Filtered) {
	var rows [][]string
	total := 0
	shown := map[rewrite.Reason]int{}
	for _, l := range f.Left {
		if !l.Reason.NeedsPerson() || l.Line == 0 {
			continue
		}
		total++
		if shown[l.Reason]++; shown[l.Reason] > placesShown {
			continue
		}
		where := l.Table
		if l.Column != "" {
			where += "." + l.Column
		}
		rows = append(rows, []string{fmt.Sprint(l.Line), t.clip(where, 24), t.clip(cmp.Or(l.URL, l.Note, l.Path), 30), t.clip(l.Label, 20)})
	}
	if len(rows) == 0 {
		return
	}
	t.printf("\n")
	t.rows([]string{">line", "table and column", "what", "row"}, rows)
	if total > len(rows) {
		t.wrap("  ", fmt.Sprintf("and %s more: --summary FILE has them all", number(total-len(rows))))
	}
}

// filterNotes says what follows from the dump itself for whoever loads it.
func (t *Text) filterNotes(f *dumps.Filtered) {
	if f.As != "dump" {
		return
	}
	t.printf("\n")
	if f.Unread > 0 {
		t.wrap("  ", "Not looked at: "+plural(f.Unread, "other file")+" of the archive, not called .sql")
	}
	if f.Counts[rewrite.Code] > 0 {
		t.wrap("  ", "References in views, triggers, functions and definitions change with --code.")
	}
	if f.Foreign != "" {
		t.wrap("  ", t.care("The dump never speaks of "+Clean(strings.TrimPrefix(f.Site, "https://"))+", but of "+t.clip(f.Foreign, 60)+". Is --site right?"))
	}
	t.onLoading(f.CutOff, f.Makes, f.Drops, f.Addresses > 0)
}

// onLoading says what whoever loads a dump has to know: whether it may be cut off, makes and removes tables, and changes
// the site's own addresses.
func (t *Text) onLoading(cutOff, makes, drops, addresses bool) {
	if cutOff {
		t.wrap("  ", t.care("The dump does not say at its end that it is complete, as its program does: is all of it there?"))
	}
	switch {
	case !makes:
		t.wrap("  ", "The dump has rows but no tables: load it where the tables are there and empty.")
	case !drops:
		t.wrap("  ", "The dump does not remove tables before it makes them: load it into an empty database, or export it again with DROP TABLE.")
	}
	if addresses {
		t.wrap("  ", "The site's own address changes with it: once it is loaded everybody has to log in again. Empty page caches then.")
	}
}

// History lists the logbook.
func (t *Text) History(h *status.History) {
	t.printf("The logbook of %s, in %s\n\n", h.Site, t.clip(h.Path, 30))
	if len(h.Entries) == 0 {
		t.printf("  empty\n")
		t.next("trimlantern preview")
		return
	}
	var rows [][]string
	for _, e := range h.Entries {
		cells, state := "", t.clip(e.State, 28)
		if !slices.Contains([]string{"scan", "backup", "certificate", "revoke"}, e.Run) {
			cells = number(e.Cells)
		}
		rows = append(rows, []string{t.clip(e.ID, 19), e.Run, cells, state})
	}
	t.rows([]string{"name", "run", ">cells", "state"}, rows)
	if !slices.ContainsFunc(h.Entries, func(e work.PastEntry) bool { return e.Run == "apply" || e.Run == "redirect" }) {
		t.next("trimlantern status")
		return
	}
	t.next("trimlantern undo NAME takes back the apply of that name")
}

// Systems shows all system descriptions, or one.
func (t *Text) Systems(r *work.Systems) {
	if r.One == nil {
		var rows [][]string
		for _, l := range r.All {
			rows = append(rows, []string{l.Name, t.clip(l.Title, 60)})
		}
		t.rows([]string{"system", "of"}, rows)
		t.next("trimlantern systems NAME shows one; docs/systems.md says how to write one")
		return
	}
	l := r.One
	t.printf("%s: %s (%s)\n\n", t.clip(l.Name, 30), t.clip(l.Title, 40), t.clip(r.Source, 30))
	list := func(what string, items []string) {
		if len(items) > 0 {
			t.printf("  %s\n", t.faint(what))
			t.wrap("    ", Clean(strings.Join(items, ", ")))
		}
	}
	list("told by the tables", l.Tables)
	var items []string
	for _, a := range l.Addresses {
		items = append(items, fmt.Sprintf("%s: %s.%s where %s is %s", a.Title, a.Table, a.Column, a.Where, a.Equals))
	}
	list("the site's own addresses", items)
	items = nil
	for _, c := range l.Identifiers {
		items = append(items, c.Table+"."+c.Column)
	}
	list("permanent identifiers, never changed", items)
	for _, safe := range []bool{true, false} {
		items = nil
		for _, c := range l.Caches {
			if c.Safe == safe && c.Column == "" {
				items = append(items, "all of "+c.Table)
			} else if c.Safe == safe {
				items = append(items, fmt.Sprintf("%s where %s begins with %s", c.Table, c.Column, strings.Join(c.Begins, " or ")))
			}
		}
		list(map[bool]string{true: "cached copies, safe to remove", false: "cached copies, left alone"}[safe], items)
	}
	if l.Sites != nil {
		list("several sites in one database", []string{"listed in " + l.Sites.Table})
	}
	if c := l.Config; c != nil {
		items = []string{c.File + " (" + c.Format + ")"}
		for _, name := range slices.Sorted(maps.Keys(c.Locks)) {
			items = append(items, c.Locks[name]+" locks the "+name+" address")
		}
		list("the system's own configuration", items)
	}
	list("folders with code", l.Files)
	if len(r.Checks) > 0 {
		t.heading("In the site's database")
		for _, c := range r.Checks {
			mark := t.good("[x]")
			if !c.OK {
				mark = t.bad("[!]")
			}
			t.printf("  %s %s\n", mark, t.clip(c.What, 40)+"  "+t.faint(t.clip(c.Note, 30)))
		}
	}
	if r.Code() == work.Clean {
		t.next("name it under system in the site file, then: trimlantern preview")
	} else {
		t.next("fix the system description, or choose another one")
	}
}
