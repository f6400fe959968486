package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work/preview"
	"trimlantern/work/run"
)

// unknown says what was not known of the site before it was changed.
func (t *Text) unknown(what string) {
	if what != "" {
		t.wrap("", t.care(what+"."))
	}
}

// Applied reports what apply did.
func (t *Text) Applied(a *run.Applied) {
	if a.Resumed {
		t.printf("Went on with the run that was interrupted.\n")
	}
	t.printf("Applied sheet %s to %s.\n", a.Sheet, a.Site)
	t.unknown(a.Unknown)
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
				t.printf("  %4s  %s: %s\n", number(a.Remain.Counts[r]), words.Reason(r), t.clip(firstPlace(a.Remain.Left, r), 64-len(words.Reason(r))))
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
		t.printf("  %s\n", t.faint("last backup: "+clock(a.Backup)))
	} else {
		t.printf("  %s\n", t.faint("no backup was made before (trimlantern backup)"))
	}
}

func firstPlace(left []change.Left, r rewrite.Reason) string {
	for _, l := range left {
		if l.Reason == r {
			return place(l)
		}
	}
	return ""
}

func (t *Text) skips(skips []change.Skip) {
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

// asItWas says that everything is as before, only if that was computed from all of the journal.
func (t *Text) asItWas(u *run.Undone) {
	switch {
	case u.Whole:
		t.printf("\n%s\n", t.good("Everything in the journal is as it was, byte for byte."))
	case u.Lost > 0:
		t.wrap("", t.bad(fmt.Sprintf("Put back what could be read. %s of the damaged journal could not: what was changed there stays as it is.", plural(int(u.Lost), "byte"))))
	default:
		t.wrap("", t.bad("Not everything in the journal was put back: the numbers do not agree. Keep the journal, and compare with your backup."))
	}
}

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
		for _, c := range u.Ran {
			t.printf("  ran: %s\n", t.clip(c, 66))
		}
		if len(u.Left) == 0 {
			t.asItWas(u)
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
		t.asItWas(u)
		if u.Proven > 0 {
			t.printf("Checked in the database after writing: %s of %s.\n", number(u.Proven), plural(u.Back, "cell"))
		}
	} else {
		t.heading("Left, since somebody changed them after us")
		t.skips(u.Left)
	}
	t.next("trimlantern preview, or trimlantern status to see where you are")
}
