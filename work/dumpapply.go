package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/dump"
	"trimlantern/site/mirror"
)

// DumpOptions say what a sheet of a dump becomes.
type DumpOptions struct {
	Sheet   string // "": the newest
	Write   string // the new dump
	Patch   string // the file with only what changes
	Largest int64  // the longest file of a patch, in bytes
}

// DumpApplied is what apply made of a sheet of a dump.
type DumpApplied struct {
	Time      string         `json:"time"` // RFC 3339
	Site      string         `json:"site"`
	Sheet     string         `json:"sheet"`
	Dump      string         `json:"dump"` // the one that was read, which stays as it is
	Wrote     []string       `json:"wrote"`
	Back      []string       `json:"back"` // the patch that takes the other one back
	Planned   int            `json:"planned"`
	Changed   int            `json:"changed"`
	Proven    int            `json:"proven"` // cells that the new dump, read again, has as planned
	Refs      int            `json:"references"`
	Tables    map[string]int `json:"tables"`
	Keyless   map[string]int `json:"keyless"` // cells of tables without a primary key, which a patch cannot find
	Files     int            `json:"files"`   // files of the sheet, which only apply on the site's own machine changes
	Addresses bool           `json:"addresses"`
	Makes     bool           `json:"makes_tables"`
	Drops     bool           `json:"drops_tables"`
}

// Code is the exit code that it comes to.
func (d *DumpApplied) Code() int {
	if d.Changed < d.Planned {
		return Remain
	}
	return Clean
}

// dumpApplying carries out a sheet on a dump.
type dumpApplying struct {
	job    *Job
	o      DumpOptions
	store  *mirror.Store
	tables []database.Table
	f      *filtering // how the dump is read and written
	rows   map[int64]*dumpRow
	patch  *patching // nil: the dump is written
	out    *DumpApplied

	lock sync.Mutex
	err  error
}

// dumpRow is a row of the dump that changes.
type dumpRow struct {
	table database.Table
	key   []sheet.Value
	cells []*sheet.Cell
	done  bool
}

// ApplyDump makes of a sheet of a dump a new dump, or a patch. The dump itself stays as it is.
func (j *Job) ApplyDump(ctx context.Context, o DumpOptions) (*DumpApplied, error) {
	defer j.Progress.End()
	if !j.IsDump() {
		return nil, misuse(nil, "the database is no exported one", "change it in place: trimlantern apply")
	}
	if (o.Write == "") == (o.Patch == "") {
		return nil, j.errDumpOnly()
	}
	release, err := j.Book.Lock()
	if err != nil {
		return nil, lockFault(err)
	}
	defer release()
	id, err := j.chooseSheet(o.Sheet)
	if err != nil {
		return nil, err
	}
	db, tables, err := j.open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	_, end, err := j.checkSheet(id, db)
	if err != nil {
		return nil, err
	}
	name := j.File.Abs(j.File.Database.File)
	d := &dumpApplying{job: j, o: o, store: store(db), tables: tables, rows: map[int64]*dumpRow{},
		f:   &filtering{o: FilterOptions{In: name, Out: o.Write, Charset: j.File.Database.Charset}, p: j.Progress, site: j.Site},
		out: &DumpApplied{Site: j.Site.String(), Sheet: id, Dump: name, Planned: end.Cells, Files: end.Files, Tables: map[string]int{}, Keyless: map[string]int{}, Wrote: []string{}, Back: []string{}}}
	if err := d.plan(ctx, id); err != nil {
		return nil, err
	}
	if d.f.in, err = openInput(d.f.o); err != nil {
		return nil, d.f.failed(err, true)
	}
	defer d.f.in.close()
	sum := ""
	if d.f.survey, sum, err = mirror.Look(ctx, d.f.in.sources[0], j.mirrored(database.Config{File: name, Charset: j.File.Database.Charset}, "")); err != nil {
		return nil, d.f.failed(err, true)
	}
	if "dump:"+sum != db.Identity() {
		return nil, d.f.failed(dump.ErrChanged, true)
	}
	d.out.Makes, d.out.Drops = d.f.survey.Schema.Makes, d.f.survey.Schema.Drops
	if o.Patch != "" {
		d.patch = newPatch(d)
		err = d.writePatch(ctx)
	} else {
		err = d.write(ctx)
	}
	if err != nil {
		return nil, err
	}
	d.out.Time = j.Now().UTC().Format(time.RFC3339)
	if err := j.Book.WriteJSON(dumpRecord, d.out); err != nil {
		return nil, world(err, "what was written is complete, but the logbook cannot note it", "make room on the disk")
	}
	return d.out, nil
}

// dumpRecord is where the logbook keeps what was last made of a dump.
const dumpRecord = "dump.json"

// dumpStep says what was made of the newest sheet of a dump. Whether it was loaded nobody here can see.
func (j *Job) dumpStep(to steps, sheetID string, end *sheet.Summary) error {
	last := DumpApplied{}
	if err := j.Book.ReadJSON(dumpRecord, &last); err != nil {
		return world(err, "the logbook cannot be read", "delete "+filepath.Join(j.Book.Path(), dumpRecord))
	}
	switch {
	case end != nil && end.Cells == 0:
		to.add("apply", "done", "", "the dump needs no change")
	case last.Sheet == "" || last.Sheet != sheetID:
		to.add("apply", "todo", "", "no new dump and no patch was written yet")
		if end != nil {
			to.next("trimlantern apply --write FILE")
		}
	default:
		to.add("apply", "care", last.Time, "%d cells changed in %s; whether it was loaded cannot be seen from here", last.Changed, strings.Join(last.Wrote, ", "))
		to.next("load " + strings.Join(last.Wrote, ", ") + ", then scan the site: trimlantern scan")
	}
	return nil
}

// plan finds the place of each cell of the sheet.
func (d *dumpApplying) plan(ctx context.Context, id string) error {
	f, err := d.job.Book.OpenSheet(id)
	if err != nil {
		return world(err, "the change sheet "+id, "make a new one: trimlantern preview")
	}
	defer f.Close()
	r, err := sheet.NewReader(f)
	if err != nil {
		return world(err, "the change sheet "+id, "make a new one: trimlantern preview")
	}
	defer r.Close()
	return r.Each(func(c *sheet.Cell) error {
		t, ok := database.Find(d.tables, c.Table)
		if !ok {
			return misuse(nil, "the change sheet names a table that the dump does not have: "+c.Table, "make a new one: trimlantern preview")
		}
		place, found, err := d.store.Place(ctx, t, c.Key)
		if err != nil || !found {
			return misuse(err, "the change sheet names a row of "+c.Table+" that the dump does not have", "make a new one: trimlantern preview")
		}
		row := d.rows[place]
		if row == nil {
			row = &dumpRow{table: t, key: c.Key}
			d.rows[place] = row
		}
		cell := *c
		row.cells = append(row.cells, &cell)
		d.out.Addresses = d.out.Addresses || c.Address
		return nil
	}, nil, nil)
}

// each reads the dump and calls a function for each row that changes, one at a time.
func (d *dumpApplying) each(ctx context.Context, w io.Writer, o dump.Output, change func(place int64, row *dumpRow, r *dump.Row) error) error {
	in, end, err := d.f.in.text()
	if err != nil {
		return err
	}
	defer end()
	size, done := d.f.survey.Bytes, int64(0)
	o.Read = func(n int64) {
		done += n
		d.job.Progress.At("writing", done>>20, size>>20)
	}
	h := dump.Handler{Row: func(_ int, r *dump.Row) {
		if r.Len() == 0 {
			return // a line that was only counted
		}
		place := r.Offset()
		row := d.rows[place]
		if row == nil {
			return
		}
		d.lock.Lock()
		defer d.lock.Unlock()
		if d.err == nil && !row.done {
			d.err = change(place, row, r)
			row.done = true
		}
	}}
	if err := d.f.survey.Rewrite(ctx, in, w, h, o); err != nil {
		return err
	}
	return d.err
}

// errNotAsSeen says that the dump holds something else than the preview saw.
var errNotAsSeen = errors.New("the dump is not what the preview saw")

// cell returns the value of a cell before and after, read as the preview read it, with the column's number.
func cell(r *dump.Row, c *sheet.Cell) (i int, before, after []byte, err error) {
	i = slices.IndexFunc(r.Columns, func(x dump.Column) bool { return x.Name == c.Column })
	if i < 0 {
		return 0, nil, nil, errNotAsSeen
	}
	v, ok := r.Value(i)
	for ok && sheet.Hash(v) != c.Before {
		v, ok = r.Again(i)
	}
	if !ok {
		return 0, nil, nil, errNotAsSeen
	}
	after, err = c.Apply(v)
	return i, v, after, err
}

// write writes the new dump, reads it again and puts it under its name.
func (d *dumpApplying) write(ctx context.Context) error {
	out, err := d.f.openOutput()
	if err != nil {
		return err
	}
	defer out.discard()
	err = d.each(ctx, out, dump.Output{Cuts: d.f.in.cuts(), Next: out.Next}, func(_ int64, row *dumpRow, r *dump.Row) error {
		for _, c := range row.cells {
			i, _, _, err := cell(r, c)
			if err != nil {
				return err
			}
			r.Edit(i, c.Rewrites())
			d.count(row, c)
		}
		return nil
	})
	if err == nil && d.out.Changed != d.out.Planned {
		err = errNotAsSeen
	}
	if err == nil {
		err = out.commit()
	}
	if err != nil {
		return d.f.failed(err, false)
	}
	d.out.Wrote = append(d.out.Wrote, d.o.Write)
	return d.prove(ctx)
}

func (d *dumpApplying) count(row *dumpRow, c *sheet.Cell) {
	d.out.Changed++
	d.out.Refs += c.References
	d.out.Tables[row.table.Name]++
}

// prove reads the new dump and looks for every cell that was changed.
func (d *dumpApplying) prove(ctx context.Context) error {
	if info, err := os.Stat(d.o.Write); err != nil || !info.Mode().IsRegular() {
		return nil // a pipe cannot be read again: nothing is said to be proven
	}
	failed := func(err error) error {
		return world(err, "the new dump is not as it was written", "check the disk; delete "+d.o.Write+" and run the command again")
	}
	again := &filtering{o: FilterOptions{In: d.o.Write, Charset: d.f.o.Charset}, p: d.job.Progress, site: d.job.Site}
	var err error
	if again.in, err = openInput(again.o); err != nil {
		return failed(err)
	}
	defer again.in.close()
	if again.survey, _, err = mirror.Look(ctx, again.in.sources[0], d.job.mirrored(database.Config{Charset: d.f.o.Charset}, "")); err != nil {
		return failed(err)
	}
	in, end, err := again.in.text()
	if err != nil {
		return failed(err)
	}
	defer end()
	// Rows come in the same order: the nth that changed is the nth with these values.
	places := slices.Sorted(maps.Keys(d.rows))
	want := map[string]int{}
	for _, p := range places {
		for _, c := range d.rows[p].cells {
			want[c.Table+"\x00"+c.Column+"\x00"+c.After]++
		}
	}
	planned := 0
	for _, n := range want {
		planned += n
	}
	tables := map[string]map[string]bool{}
	for _, r := range d.rows {
		for _, c := range r.cells {
			if tables[c.Table] == nil {
				tables[c.Table] = map[string]bool{}
			}
			tables[c.Table][c.Column] = true
		}
	}
	var lock sync.Mutex
	h := dump.Handler{Only: func(t *dump.Table) bool { return tables[t.String()] != nil }, Row: func(_ int, r *dump.Row) {
		columns := tables[r.Table.String()]
		for i, c := range r.Columns {
			if !columns[c.Name] {
				continue
			}
			for v, ok := r.Value(i); ok; v, ok = r.Again(i) {
				k := r.Table.String() + "\x00" + c.Name + "\x00" + sheet.Hash(v)
				lock.Lock()
				found := want[k] > 0
				if found {
					want[k]--
					d.out.Proven++
				}
				lock.Unlock()
				if found {
					break
				}
			}
		}
	}}
	if err := again.survey.Rewrite(ctx, in, io.Discard, h, dump.Output{}); err != nil {
		return failed(err)
	}
	if d.out.Proven < planned {
		return failed(fmt.Errorf("%d of %d changed cells are in it", d.out.Proven, planned))
	}
	return nil
}

// writePatch writes only what changes, and the patch that takes it back.
func (d *dumpApplying) writePatch(ctx context.Context) error {
	err := d.each(ctx, io.Discard, dump.Output{}, func(place int64, row *dumpRow, r *dump.Row) error {
		return d.patch.row(place, row, r)
	})
	if err != nil {
		return d.f.failed(err, true)
	}
	if d.out.Changed+sum(d.out.Keyless) != d.out.Planned {
		return d.f.failed(errNotAsSeen, true)
	}
	return d.patch.write()
}

func sum(counts map[string]int) (n int) {
	for _, c := range counts {
		n += c
	}
	return n
}

// order returns the places of the rows that a patch changes: the site's own addresses last.
func (d *dumpApplying) order() []int64 {
	places := slices.Collect(maps.Keys(d.rows))
	address := func(p int64) int {
		if slices.ContainsFunc(d.rows[p].cells, func(c *sheet.Cell) bool { return c.Address }) {
			return 1
		}
		return 0
	}
	slices.SortFunc(places, func(a, b int64) int { return cmp.Or(address(a)-address(b), cmp.Compare(a, b)) })
	return places
}
