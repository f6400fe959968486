package report

import (
	"fmt"
	"path/filepath"

	"trimlantern/work"
	"trimlantern/work/backup"
)

// BackedUp shows what a backup holds, and what it does not.
func (t *Text) BackedUp(b *backup.BackedUp) {
	t.printf("Backed up %s.\n  %s\n\n", b.Site, t.clip(b.Folder, 76))
	var rows [][]string
	if b.File != "" {
		rows = append(rows, []string{filepath.Base(b.File), size(b.Bytes), fmt.Sprintf("%s, %s, by %s", plural(b.Tables, "table"), plural(b.Rows, "row"), Clean(b.Program))})
	}
	if b.Archive != "" {
		rows = append(rows, []string{filepath.Base(b.Archive), size(b.Packed), plural(b.Files, "file")})
	}
	t.rows(nil, rows)
	for _, w := range b.Without {
		t.mark(t.care("[!]"), "not in it: "+Clean(w))
	}
	if len(b.Differs) > 0 {
		t.heading("Tables that do not have as many rows in the backup as in the database")
		var rows [][]string
		for _, d := range b.Differs {
			rows = append(rows, []string{t.clip(d.Table, 40), number(d.Backup), number(d.Before), number(d.After)})
		}
		t.rows([]string{"table", ">backup", ">before", ">after"}, rows)
	}
	for i, l := range b.Left {
		if i == 0 {
			t.heading("Not in it")
		}
		if i == 20 && !t.All {
			t.printf("  and %s\n", plural(len(b.Left)-20, "more file"))
			break
		}
		t.printf("  %s\n", t.clip(l, 76))
	}
	if b.Code() != work.Clean {
		t.next("see whether what is named matters, or run trimlantern backup again")
		return
	}
	words := "Read back: every row is counted, every file compared."
	switch {
	case b.File == "":
		words = "Read back: every file is compared."
	case b.Archive == "":
		words = "Read back: every row is counted."
	}
	t.printf("\n%s\n", t.good(words))
	t.next("copy the folder to another machine, then: trimlantern preview")
}

// size writes a number of bytes as people do.
func size(n int64) string {
	switch {
	case n >= 10<<30:
		return fmt.Sprintf("%d GB", n>>30)
	case n >= 10<<20:
		return fmt.Sprintf("%d MB", n>>20)
	case n >= 10<<10:
		return fmt.Sprintf("%d KB", n>>10)
	}
	return plural(n, "byte")
}
