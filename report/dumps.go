package report

import (
	"cmp"
	"fmt"
	"strings"

	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work/dumps"
	"trimlantern/work/preview"
)

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
	t.printf("%s %s: it changes %s.\n", what, t.clip(d.Site, 40), changes)
	t.unknown(d.Unknown)
	t.printf("\n")
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
			t.printf("  Read again: as it was written, with %s as planned.\n", plural(d.Proven, "cell"))
		}
	}
	for _, s := range d.Triggers {
		t.wrap("  ", t.care("Triggers run when the patch is loaded, on "+Clean(s)+"."))
	}
	t.onLoading(d.CutOff, len(d.Back) > 0 || d.Makes, len(d.Back) > 0 || d.Drops, d.Addresses)
	if d.Files > 0 {
		t.wrap("  ", t.care(plural(d.Files, "file")+" of the sheet stay as they are: upload them changed, or run trimlantern apply on the site's own machine."))
	}
	t.next("load it into the database, then: trimlantern scan")
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
		why := "left: " + words.Reason(r)
		if r.NeedsPerson() {
			why = t.care(why)
		}
		t.printf("  %6s  %s  %s\n", number(f.Counts[r]), why, t.faint(t.clip(example(f.Left, r), max(8, 58-len(words.Reason(r))))))
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
		rows = append(rows, []string{fmt.Sprint(l.Line), t.clip(where, 22), t.clip(cmp.Or(l.URL, l.Note, l.Path), 24), t.clip(l.Label, 17)})
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
