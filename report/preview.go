package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/files"
	"trimlantern/report/words"
	"trimlantern/work/preview"
)

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
			t.change("    ", s.Before, s.After)
		}
	}
	t.left(p)
	t.opinion(p)
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
func (t *Text) opinion(p *preview.Result) {
	o := p.Opinion
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
		before := ", as before"
		if p.Kind == preview.Lengths || p.Edited > 0 {
			before = "" // not all of them could be loaded before
		}
		t.printf("\n")
		t.wrap("", fmt.Sprintf("Second opinion: PHP %s loads %s of %s after the change%s.", Clean(o.Version), number(o.Loaded), plural(o.Values, "serialized value"), before))
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
			t.change("    ", l.Before, l.After)
		}
	}
}

// part says what was chosen, what runs with the changes and what can be dropped.
func (t *Text) part(p *preview.Result) {
	c := p.Choice
	var said []string
	for _, one := range []struct {
		what string
		list []string
	}{{"only the tables", c.Tables}, {"except", c.Except}} {
		if len(one.list) > 0 {
			said = append(said, one.what+" "+strings.Join(one.list, ", "))
		}
	}
	for _, n := range c.Sites {
		said = append(said, fmt.Sprintf("site %d", n))
	}
	if c.Address != "" {
		said = append(said, "of the addresses only the "+c.Address+" one")
	}
	if len(said) > 0 {
		t.heading("A part, as you chose")
		t.wrap("  ", Clean(strings.Join(said, "; ")))
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
		t.wrap("  ", "A row with which they would write elsewhere is left by apply, since undo could not take that back; --with-triggers changes it too.")
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
	becomes := false
	for _, a := range p.Addresses {
		what := "stays"
		if a.Change {
			what, becomes = "becomes secure", true
		}
		if a.Locked != "" {
			what = t.care("locked: " + t.clip(a.Locked, 22))
		}
		rows = append(rows, []string{t.clip(a.Title, 20), t.clip(a.Value, 26), what})
	}
	t.rows(nil, rows)
	if becomes {
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
		settled = append(settled, []string{number(p.Counts[r]), words.Reason(r), t.faint(t.clip(example(p.Left, r), 28))})
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
			person = slices.Insert(person, len(person)-min(shown, most), []string{t.care(words.Reason(r)) + ":"})
		}
		if r == rewrite.Unsound && shown > 0 && p.Kind != preview.Lengths {
			person = append(person, []string{t.faint("  trimlantern mend proposes corrections")})
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
	first  change.Left
	places int
}

// byCulprit groups a reason's findings by what was found, in order of appearance.
func byCulprit(left []change.Left, r rewrite.Reason) (out []culprit) {
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
func hostsOf(left []change.Left, r rewrite.Reason) []string {
	hosts := map[string]int{}
	for _, l := range left {
		if l.Reason == r && l.Host != "" {
			hosts[l.Host]++
		}
	}
	return byCount(hosts)
}

// place says where a finding stands.
func place(l change.Left) string {
	if l.File != "" {
		return fmt.Sprintf("%s:%d", l.File, l.Line)
	}
	where := strings.TrimSuffix(l.Table+"."+l.Column, ".")
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

func example(left []change.Left, r rewrite.Reason) string {
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
