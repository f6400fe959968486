package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"

	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work/decide"
	"trimlantern/work/show"
)

// choiceWords say what each way of deciding does.
var choiceWords = []struct{ choice, args, said string }{
	{"adopt", "%s", "keep a copy on your own site"},
	{"replace", "%s URL", "put another address there"},
	{"edit", "%s", "edit the text in your editor"},
	{"secure", "%s", "its host does serve HTTPS"},
	{"leave", "%s", "leave everything of its host"},
	{"accept", `%s --because "REASON"`, "it no longer counts"},
}

// WorkList shows what needs a decision.
func (t *Text) WorkList(w *decide.List) {
	if w.Preview == "" && w.Scan == "" && len(w.Items) == 0 {
		t.wrap("", t.care("Nothing was looked at yet: there is no preview and no scan of "+w.Site+"."))
		t.next("trimlantern preview")
		return
	}
	if n := w.Open(); n > 0 {
		t.printf("%s on %s.\n", sentence(plural(n, "item"), n, " needs a decision", " need a decision"), w.Site)
	} else if len(w.Items) > 0 {
		t.printf("%s on %s.\n", sentence(plural(len(w.Items), "item"), len(w.Items), " is decided", " are decided"), w.Site)
	}
	choices := map[string]int{}
	for _, i := range w.Items {
		t.item(i)
		if i.Pending == "" {
			for _, c := range i.Choices {
				if choices[c] == 0 {
					choices[c] = i.Number
				}
			}
		}
	}
	if w.More > 0 {
		t.printf("\n  %s\n", t.care("and "+number(w.More)+" more that have no room here"))
	}
	if len(choices) > 0 {
		t.heading("How to decide")
		var commands, said []string
		width := 0
		for _, c := range choiceWords {
			if n := choices[c.choice]; n > 0 {
				command := "trimlantern decide " + c.choice + " " + fmt.Sprintf(c.args, strconv.Itoa(n))
				commands, said, width = append(commands, command), append(said, c.said), max(width, len(command))
			}
		}
		for i, c := range commands {
			t.printf("  %-*s  %s\n", width, c, t.faint(said[i]))
		}
	}
	t.evidence(w)
	switch {
	case w.Open() > 0:
	case len(w.Items) > 0:
		t.next("trimlantern preview, which carries your decisions into the change sheet")
	case w.Preview == "":
		t.next("trimlantern preview")
	case w.Scan == "" || w.Old:
		t.next("trimlantern scan")
	case len(w.Outdated) > 0:
		t.next("trimlantern " + w.Outdated[0])
	default:
		t.next("trimlantern status")
	}
}

// evidence says what a work list is made of, and how old that is.
func (t *Text) evidence(w *decide.List) {
	from := []string{"no preview yet"}
	if w.Preview != "" {
		from[0] = "the preview of " + clock(w.Preview)
		if w.Part {
			from[0] += ", of a part of the site"
		}
	}
	switch {
	case w.Scan == "":
		from = append(from, "no scan yet")
	case w.Old:
		from = append(from, "the site changed after the scan of "+clock(w.Scan)+", whose findings are not listed")
	default:
		from = append(from, "the scan of "+clock(w.Scan))
	}
	for _, o := range w.Outdated {
		from = append(from, "trimlantern "+o+" ran before the last change, and what it found is not listed")
	}
	verdict := ""
	if len(w.Items) == 0 {
		verdict = "Nothing needs a decision"
		if w.Preview == "" || w.Scan == "" || w.Old || w.Part || len(w.Outdated) > 0 {
			verdict = "Nothing needs a decision as far as was looked"
		}
		verdict += ". "
	}
	t.printf("\n")
	decided := ""
	if w.Decided > 0 {
		decided = " " + sentence(plural(w.Decided, "decision"), w.Decided, " is", " are") + " in the site file."
	}
	t.wrap("", verdict+"Taken from: "+strings.Join(from, "; ")+"."+decided)
}

// clock shortens an RFC 3339 time to what a person reads.
func clock(when string) string {
	if len(when) < 16 {
		return when
	}
	return strings.Replace(when[:16], "T", " ", 1) + " UTC"
}

// sentence puts a verb behind a count.
func sentence(count string, n int, one, many string) string {
	if n == 1 {
		return count + one
	}
	return count + many
}

// item shows one thing to decide on.
func (t *Text) item(i decide.Item) {
	title := i.URL
	if title == "" {
		title = i.What
	}
	if title == "" && len(i.Places) > 0 {
		title = i.Places[0]
	}
	head := ""
	if i.Class != "" {
		head = t.short(i.Class) + "  "
	}
	if i.URL == "" {
		t.printf("\n")
		t.hanging(fmt.Sprintf("%4d  ", i.Number), head+Clean(title))
	} else {
		t.printf("\n%4d  %s%s\n", i.Number, head, Clean(title))
	}
	switch said := words.Reason(rewrite.Reason(i.Reason)); {
	case i.Pending != "":
		said := i.Pending + " takes its place"
		if i.Pending == "edited" {
			said = "the text that you edited takes its place"
		}
		t.printf("      %s\n", t.good(t.clip("decided: "+said, 74)))
	case said != "":
		if i.Note != "" {
			said += ": " + i.Note
		}
		t.wrap("      ", Clean(said))
		if i.Reason == string(rewrite.Unsound) {
			t.printf("      %s\n", t.faint("trimlantern mend proposes corrections"))
		}
	case i.What != "" && i.Note != "":
		t.wrap("      ", Clean(i.Note))
	case i.URL != "":
		t.wrap("      ", "found by the scan, and not by the preview: trimlantern trace "+strconv.Itoa(i.Number)+" says what makes it")
	}
	if i.Stored > 0 && i.URL != "" {
		where := "stored " + times(i.Stored)
		t.printf("      %s\n", t.faint(t.clip(where+": "+strings.Join(i.Places, "; "), 74)))
	} else if i.What == "" && i.Stored > 1 {
		t.printf("      %s\n", t.faint(times(i.Stored)))
	}
	if i.Pages > 0 {
		t.printf("      %s\n", t.faint(t.clip("on "+plural(i.Pages, "page")+": "+i.On, 74)))
	}
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return number(n) + " times"
}

// Decision reports what the owner decided.
func (t *Text) Decision(d *decide.Decision) {
	switch d.Finding {
	case "host":
		said := map[string]string{"secure": "serves HTTPS: references that pages load from it become secure", "insecure": "serves no HTTPS: what pages load from it is left and named",
			"leave": "is left alone, and no longer counts"}[d.Because]
		t.wrap("", "Decided: "+Clean(d.What)+" "+said+".")
		t.next("trimlantern preview")
	case "replaced":
		t.printf("Decided: %s\n  takes the place of %s.\n", t.clip(d.Because, 70), t.clip(d.What, 58))
		t.wrap("", "Nothing is changed yet: the next preview shows it in every place.")
		t.next("trimlantern preview")
	case "edited":
		t.printf("Decided: the text that you edited (%s) takes the place of\n  %s\n", Clean(d.Because), t.clip(d.What, 76))
		t.wrap("", "Nothing is changed yet: the next preview shows it, and apply seals it in what encloses it.")
		if len(d.Not) > 0 {
			t.printf("Not edited:\n")
			t.aboutList(d.Not)
		}
		t.next("trimlantern preview")
	case "relative":
		t.wrap("", "Decided: the site's own addresses in "+Clean(d.What)+" are written from the path on, where pages read them as addresses. In feeds, scripts and fields of their own they stay whole, and become secure.")
		t.next("trimlantern preview")
	case "forgotten":
		t.printf("Taken back: what was decided about %s.\n", t.clip(d.What, 46))
		if len(d.About) != 1 || d.About[0] != d.What {
			t.aboutList(d.About)
		}
		t.next("trimlantern preview")
	default:
		t.printf("Accepted: %s\n", t.clip(d.What, 70))
		if len(d.About) != 1 || d.About[0] != d.What {
			t.aboutList(d.About)
		}
		t.wrap("", "It stays visible and no longer counts. The site file keeps it under accepted, with your reason: "+Clean(d.Because))
		t.next("trimlantern status")
	}
}

// Decided lists what was decided.
func (t *Text) Decided(d *decide.Decided) {
	if len(d.Decisions) == 0 {
		t.printf("Nothing was decided yet on %s.\n", d.Site)
		t.next("trimlantern show")
		return
	}
	t.printf("%s on %s, in\n%s:\n\n", sentence(plural(len(d.Decisions), "decision"), len(d.Decisions), "", ""), d.Site, t.clip(d.Path, 76))
	var rows [][]string
	for _, one := range d.Decisions {
		kind, because := one.Finding, one.Because
		switch one.Finding {
		case "host", "replaced", "relative", "edited":
		default:
			kind, because = "accepted", one.Because
		}
		rows = append(rows, []string{kind, t.clip(one.What, 36), t.clip(because, 26)})
	}
	t.rows([]string{"decided", "about", ""}, rows)
	t.next("trimlantern decide forget takes one back, by its host, address or place")
}

func (t *Text) aboutList(list []string) {
	for i, about := range list {
		if i == 8 {
			t.printf("  %s\n", t.faint("and "+number(len(list)-i)+" more"))
			return
		}
		t.printf("  %s\n", t.clip(about, 76))
	}
}

// Adopted reports what adopt fetched.
func (t *Text) Adopted(a *decide.Adopted) {
	if len(a.Copies) > 0 {
		t.printf("%s fetched, and kept in the logbook. Nothing is changed yet.\n", plural2(len(a.Copies), "copy", "copies"))
		var rows [][]string
		for _, c := range a.Copies {
			from := t.clip(c.From, 50)
			if c.By != "" {
				from = "  " + t.clip(c.From, 48)
			}
			rows = append(rows, []string{from, size(int64(c.Size)), c.Type})
		}
		t.rows([]string{"copy of", ">size", "type"}, rows)
		t.printf("\n")
		t.wrap("", "apply puts them into "+Clean(a.Folder)+", checks that the web server serves them at "+Clean(a.Address)+", and only then points the site to them. undo takes all of it back.")
	}
	if len(a.Refused) > 0 {
		t.heading("Not copied")
		for _, r := range a.Refused {
			t.printf("  %s\n", t.care(t.clip(r.URL, 76)))
			t.wrap("    ", Clean(r.Why))
		}
	}
	if len(a.Copies) > 0 {
		t.next("trimlantern preview")
		return
	}
	t.next("trimlantern decide replace URL NEW-URL, or trimlantern decide accept, for what cannot be copied")
}

func plural2(n int, one, many string) string {
	if n == 1 {
		return number(n) + " " + one
	}
	return number(n) + " " + many
}

// Shown writes one line of show.
func (t *Text) Shown(l show.Row) {
	where := l.File
	if l.Line > 0 {
		where += ":" + strconv.Itoa(l.Line)
	}
	if l.Table != "" {
		where = l.Table
		if l.Column != "" {
			where += "." + l.Column
		}
		if len(l.Key) > 0 {
			where += " " + strings.Join(l.Key, ",")
		}
		if l.Label != "" {
			where += ", " + l.Label
		}
	}
	if l.Path != "" {
		where += " " + l.Path
	}
	if l.Page != "" {
		where = l.Page
		if l.Line > 0 {
			where += ":" + strconv.Itoa(l.Line)
		}
	}
	word := l.Kind
	switch {
	case l.Class != "":
		word = t.short(l.Class)
	case l.Reason != "":
		word = l.Reason
	case l.Kind == "change":
		word = ""
	}
	if word != "" {
		word += "  "
	}
	t.printf("%6d  %s%s\n", l.Number, word, Clean(where))
	for _, e := range l.Edits {
		t.change("        ", e.Before, e.After)
	}
	if l.URL != "" {
		t.printf("        %s\n", Clean(l.URL))
	}
	if l.Kind == "copy" && l.By != "" {
		t.printf("        %s\n", t.faint("to be served at "+Clean(l.By)))
	} else if l.By != "" {
		t.printf("        %s\n", t.faint(t.clip("held by "+l.By, 72)))
	}
	if l.Note != "" {
		t.printf("        %s\n", t.care(t.clip(l.Note, 72)))
	}
}

// change shows a text before and after: whole, or on a terminal what differs, with the whole of its address and as
// much around it as fits.
func (t *Text) change(indent, before, after string) {
	before, after = Clean(before), Clean(after)
	if !t.Whole {
		before, after = windows(before, after, t.columns()-len(indent)-2)
	}
	t.printf("%s%s %s\n%s%s %s\n", indent, t.bad("-"), before, indent, t.good("+"), after)
}

// windows cuts two versions of a text to a width, so that what differs can be seen. No address in which they differ
// is cut: it may be longer.
func windows(before, after string, width int) (string, string) {
	a, b := []rune(before), []rune(after)
	if max(len(a), len(b)) <= width {
		return before, after
	}
	at := 0
	for at < len(a) && at < len(b) && a[at] == b[at] {
		at++
	}
	from := 0
	if at > width/3 {
		from = at - width/3
	}
	cut := func(r []rune) string {
		end := from + width - 1 // for the mark of what is left out
		if from > 0 {
			end--
		}
		for end > at && end < len(r) && slices.IndexFunc(r[at:end], endsURL) < 0 && !endsURL(r[end]) {
			end++
		}
		if end >= len(r)-1 {
			end = len(r)
		}
		s := string(r[min(from, len(r)):end])
		if from > 0 {
			s = "…" + s
		}
		if end < len(r) {
			s += "…"
		}
		return s
	}
	return cut(a), cut(b)
}

// endsURL reports whether an address ends before a character.
func endsURL(c rune) bool { return c <= ' ' || strings.ContainsRune("\"'<>", c) }

// ShownAll ends a list of show.
func (t *Text) ShownAll(n int, what, id string) {
	said := map[string][2]string{"changes": {"change", "changes"}, "left": {"finding", "findings"}, "scan": {"finding", "findings"}, "journal": {"entry", "entries"}}[what]
	of := map[string]string{"changes": "sheet ", "left": "sheet ", "scan": "scan ", "journal": "journal "}[what]
	t.printf("%s of %s.\n", plural2(n, said[0], said[1]), of+id)
}

// Lines writes lines of show as JSON Lines: a head, then an object for each line.
type Lines struct{ W io.Writer }

// Head writes the first line: what is shown, and of what.
func (l Lines) Head(what, id, site string) error {
	return l.put(map[string]any{"version": Version, "show": what, "id": id, "site": site})
}

// Put writes one line.
func (l Lines) Put(one show.Row) error { return l.put(one) }

func (l Lines) put(v any) error {
	b, err := json.Marshal(v, stable)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(l.W, shown(string(b)))
	return err
}
