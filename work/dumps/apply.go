package dumps

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/dump"
	"trimlantern/outside/mirror"
	"trimlantern/work"
	"trimlantern/work/run"
)

// ApplyOptions say what a sheet of a dump becomes.
type ApplyOptions struct {
	Sheet    string // "": the newest
	Write    string // the new dump
	Patch    string // the file with only what changes
	Largest  int64  // the longest file of a patch, in bytes
	run.Gate        // asked before anything is written
}

// Applied is what apply made of a sheet of a dump.
type Applied struct {
	Time      string         `json:"time"` // RFC 3339
	Site      string         `json:"site"`
	Sheet     string         `json:"sheet"`
	Kind      string         `json:"kind"`    // of the sheet
	CutOff    bool           `json:"cut_off"` // see Filtered
	Dump      string         `json:"dump"`    // the one that was read, which stays as it is
	Wrote     []string       `json:"wrote"`
	Back      []string       `json:"back"` // the patch that takes the other one back
	Planned   int            `json:"planned"`
	Changed   int            `json:"changed"`
	Proven    int            `json:"proven"` // cells that the new dump, read again, has as planned
	Refs      int            `json:"references"`
	Tables    map[string]int `json:"tables"`
	Keyless   map[string]int `json:"keyless"`       // cells of tables without a primary key, which a patch cannot find
	Charset   map[string]int `json:"other_charset"` // cells that the software reads in another charset than the dump has, which a patch cannot write
	Files     int            `json:"files"`         // files of the sheet, which only apply on the site's own machine changes
	Addresses bool           `json:"addresses"`
	Triggers  []string       `json:"triggers"` // of tables that the patch changes: they run when it is loaded
	Makes     bool           `json:"makes_tables"`
	Drops     bool           `json:"drops_tables"`
	Unknown   string         `json:"unknown,omitempty"` // what was not known of the site before
}

// Last returns what was last made of the site's exported database, where that was made of the newest sheet; nil: nothing.
func Last(j *work.Job) (*Applied, error) {
	var last Applied
	if err := j.Book.ReadJSON(work.DumpRecord, &last); err != nil {
		return nil, work.BookFault(err)
	}
	id, _, _, err := j.LastSheet()
	if err != nil || last.Sheet == "" || last.Sheet != id || last.Site != j.Site.String() {
		return nil, err
	}
	return &last, nil
}

// Code is the exit code that it comes to.
func (d *Applied) Code() int {
	if d.Changed < d.Planned || d.CutOff {
		return work.Remain
	}
	return work.Clean
}

// dumpApplying carries out a sheet on a dump.
type dumpApplying struct {
	job    *work.Job
	o      ApplyOptions
	store  *mirror.Store
	tables map[string]dump.Table
	f      *filtering // how the dump is read and written
	plan   *plan
	patch  *patching // nil: the dump is written
	out    *Applied

	lock sync.Mutex
	done map[int64]int32 // the first cells of the rows that were found, by the row's place
	grew map[int64]int   // by how many bytes rows grew
	err  error
}

// Apply makes of a sheet of a dump a new dump, or a patch. The dump itself stays as it is.
func Apply(ctx context.Context, j *work.Job, o ApplyOptions) (*Applied, error) {
	defer j.Progress.End()
	if !j.IsDump() {
		return nil, work.BadUse(nil, "the database is not an exported one", "change it in place: trimlantern apply")
	}
	if (o.Write == "") == (o.Patch == "") {
		return nil, j.ErrDumpOnly()
	}
	release, err := j.Book.Lock("apply")
	if err != nil {
		return nil, work.LockFault(err)
	}
	defer release()
	id, err := run.ChooseSheet(j, o.Sheet)
	if err != nil {
		return nil, err
	}
	db, _, err := j.Open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	name := j.File.Abs(j.File.Database.File)
	d := &dumpApplying{job: j, o: o, store: work.Store(db), tables: map[string]dump.Table{}, plan: newPlan(), done: map[int64]int32{}, grew: map[int64]int{},
		f:   &filtering{o: Options{In: name, Out: o.Write, Charset: j.File.Database.Charset, Row: work.StoredRow}, p: j.Progress, site: j.Site},
		out: &Applied{Site: j.Site.String(), Sheet: id, Dump: name, Tables: map[string]int{}, Keyless: map[string]int{}, Charset: map[string]int{}, Wrote: []string{}, Back: []string{}, Triggers: []string{}}}
	for _, t := range d.store.About.Tables {
		d.tables[t.String()] = t
	}
	if d.f.in, err = openInput(d.f.o); err != nil {
		return nil, d.f.failed(err, true)
	}
	defer d.f.in.close()
	// What is kept is small: collect seldom, and before much has gathered.
	defer debug.SetGCPercent(debug.SetGCPercent(800))
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(128 << 20))
	// That the file is the one that was copied is known; each value is held against the sheet, which is read meanwhile.
	ctx, stop := context.WithCancel(ctx)
	surveyed := make(chan error, 1)
	go func() {
		var err error
		d.f.survey, err = d.f.surveyAs(ctx, d.store.About.Dialect)
		surveyed <- err
	}()
	header, end, err := run.CheckSheet(j, id, db, change.Visit{Cell: d.take, Lent: true})
	if err != nil {
		stop()
		<-surveyed
		return nil, err
	}
	defer stop()
	d.out.Kind, d.out.Planned, d.out.Files = header.Kind, end.Cells, end.Files
	if err := <-surveyed; err != nil {
		return nil, d.f.failed(err, true)
	}
	d.out.CutOff = d.f.survey.CutOff
	d.out.Makes, d.out.Drops = d.f.survey.Schema.Makes, d.f.survey.Schema.Drops
	if d.out.Unknown, err = o.Passes(ctx, header); err != nil {
		return nil, err
	}
	if o.Patch != "" {
		if d.patch, err = newPatch(d); err == nil {
			err = d.writePatch(ctx)
		}
	} else {
		err = d.write(ctx)
	}
	if err != nil {
		return nil, err
	}
	d.out.Time = j.Now().UTC().Format(time.RFC3339)
	if err := j.Book.WriteJSON(work.DumpRecord, d.out); err != nil {
		return nil, work.Failed(err, "what was written is complete, but the logbook cannot note it", "free some disk space")
	}
	run := "write"
	if o.Patch != "" {
		run = "patch"
	}
	return d.out, j.Note(run, filepath.Base(d.out.Wrote[0]), d.out.Changed)
}

// take takes one cell of the sheet.
func (d *dumpApplying) take(c *change.Cell) error {
	if _, ok := d.tables[c.Table]; !ok {
		return work.BadUse(nil, "the change sheet names a table that the dump does not have: "+c.Table, "make a new one: trimlantern preview")
	}
	d.out.Addresses = d.out.Addresses || c.Address
	return d.plan.add(c)
}

// errBroken says that a sheet holds what no preview writes.
var errBroken = errors.New("it is broken")

// each reads the dump and calls change for each row that changes, in several goroutines; what that returns is
// called for one row at a time.
func (d *dumpApplying) each(ctx context.Context, w io.Writer, o dump.Output, edit func(row int32, r *dump.Row) (finish func() error, err error)) error {
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
		if !mayChange(r) {
			return
		}
		key, ok := d.store.Key(*r.Table, r)
		if !ok {
			return
		}
		name, _ := d.plan.row(make([]byte, 0, 256), r.Table.String(), key)
		row, ok := d.plan.rows[name] // nobody changes the map now
		if !ok {
			return
		}
		finish, err := edit(row, r)
		d.lock.Lock()
		defer d.lock.Unlock()
		d.done[r.Offset()] = row
		if err == nil && d.err == nil {
			err = finish()
		}
		if d.err == nil {
			d.err = err
		}
	}, Grew: func(place int64, by int) {
		d.lock.Lock()
		d.grew[place] = by
		d.lock.Unlock()
	}}
	if err := d.f.survey.Rewrite(ctx, in, w, h, o); err != nil {
		return err
	}
	if d.err == nil && len(d.done) != len(d.plan.rows) {
		return errNotAsSeen
	}
	return d.err
}

// mayChange reports whether a row can hold a reference.
func mayChange(r *dump.Row) bool {
	for i := range r.Len() {
		if r.May(i) {
			return true
		}
	}
	return false
}

// errNotAsSeen says that the dump holds something else than the preview saw.
var errNotAsSeen = errors.New("the dump is not what the preview saw")

// found is a cell in the dump.
type found struct {
	column  int
	edits   []rewrite.Edit
	was, is []byte // read as the preview read it; gone with the row
	again   bool   // that is not as Row.Value reads it
}

// find finds a cell in its row, as the preview saw it; f has memory to use again. That the value has the right hash
// with the edits says also what it is without them: edits name what they remove, and so lead back to one value only.
func (p *plan) find(r *dump.Row, c *planCell, f found) (found, error) {
	f.column, f.again = slices.IndexFunc(r.Columns, func(x dump.Column) bool { return x.Name == p.column(c) }), false
	if f.column < 0 {
		return f, errNotAsSeen
	}
	f.edits = p.of(c, f.edits)
	for v, ok := r.Value(f.column); ok; v, ok = r.Again(f.column) {
		var err error
		if f.is, err = rewrite.AppendApplied(f.is[:0], v, f.edits); err == nil && sha256.Sum256(f.is) == c.after {
			f.was = v
			return f, nil
		}
		f.again = true
	}
	return f, errNotAsSeen
}

// write writes the new dump, reads it again and gives it its name.
func (d *dumpApplying) write(ctx context.Context) error {
	out, err := d.f.openOutput()
	if err != nil {
		return err
	}
	defer out.discard()
	sum := crc32.New(crc32.MakeTable(crc32.Castagnoli))
	err = d.each(ctx, io.MultiWriter(out, sum), dump.Output{Cuts: d.f.in.cuts(), Next: out.Next}, func(row int32, r *dump.Row) (_ func() error, failed error) {
		d.plan.each(row, func(c *planCell) {
			f, err := d.plan.find(r, c, found{})
			if err != nil {
				failed = err
				return
			}
			r.Edit(f.column, f.edits)
		})
		return func() error { d.count(row); return nil }, failed
	})
	if err == nil && d.out.Changed != d.out.Planned {
		err = errNotAsSeen
	}
	if err == nil {
		err = out.commit(func(name string) error { return d.prove(ctx, name, sum.Sum32()) })
	}
	if err != nil {
		return d.f.failed(err, false)
	}
	d.out.Wrote = append(d.out.Wrote, d.o.Write)
	return nil
}

func (d *dumpApplying) count(row int32) {
	d.plan.each(row, func(c *planCell) {
		d.out.Refs += int(c.references)
		d.out.Changed++
		d.out.Tables[d.plan.table(row)]++
	})
}

// prove reads the new dump, holds it against the sum of what was written, and looks for every cell that was changed.
func (d *dumpApplying) prove(ctx context.Context, name string, sum uint32) error {
	failed := func(err error) error {
		if errors.Is(err, context.Canceled) {
			return err
		}
		return work.Failed(err, "the new dump, read again, is not as it was written, and was thrown away", "check the disk of "+filepath.Dir(d.o.Write)+" and run the command again")
	}
	again := &filtering{o: Options{In: name, Charset: d.f.o.Charset, Row: work.StoredRow}, p: d.job.Progress, site: d.job.Site}
	var err error
	if again.in, err = openInput(again.o); err != nil {
		return failed(err)
	}
	defer again.in.close()
	whole, stop, err := again.in.text()
	if err != nil {
		return failed(err)
	}
	defer stop()
	d.job.Progress.At("checking", 0, d.f.survey.Bytes>>20)
	is := crc32.New(crc32.MakeTable(crc32.Castagnoli))
	if _, err := io.Copy(is, whole); err != nil {
		return failed(err)
	}
	if is.Sum32() != sum {
		return failed(errors.New("its checksum is another"))
	}
	if again.survey, err = again.surveyAs(ctx, d.store.About.Dialect); err != nil {
		return failed(err)
	}
	in, end, err := again.in.text()
	if err != nil {
		return failed(err)
	}
	defer end()
	// Each row stands where it stood, but for what the rows before it grew.
	now := map[int64]int32{}
	grown := int64(0)
	for _, place := range slices.Sorted(maps.Keys(d.done)) {
		now[place+grown] = d.done[place]
		grown += int64(d.grew[place])
	}
	var lock sync.Mutex
	h := dump.Handler{Want: func(place int64) bool { return now[place] != 0 }, Row: func(_ int, r *dump.Row) {
		if r.Len() == 0 {
			return
		}
		d.plan.each(now[r.Offset()], func(c *planCell) {
			i := slices.IndexFunc(r.Columns, func(x dump.Column) bool { return x.Name == d.plan.column(c) })
			if i < 0 {
				return
			}
			for v, ok := r.Value(i); ok; v, ok = r.Again(i) {
				if sha256.Sum256(v) == c.after {
					lock.Lock()
					d.out.Proven++
					lock.Unlock()
					break
				}
			}
		})
	}}
	if err := again.survey.Rewrite(ctx, in, io.Discard, h, dump.Output{}); err != nil {
		return failed(err)
	}
	if d.out.Proven < d.out.Changed || again.survey.Bytes != d.f.survey.Bytes+grown {
		return failed(fmt.Errorf("%d of %d changed cells are in it", d.out.Proven, d.out.Changed))
	}
	return nil
}

// writePatch writes only what changes, and the patch that takes it back.
func (d *dumpApplying) writePatch(ctx context.Context) error {
	defer d.patch.close()
	if err := d.each(ctx, io.Discard, dump.Output{}, d.patch.row); err != nil {
		return d.f.failed(err, true)
	}
	if d.out.Changed == 0 && d.out.Planned > 0 {
		return work.BadUse(nil, "none of the changed rows can be found by a patch: their tables have no primary key", "write a new dump: trimlantern apply --write FILE")
	}
	for _, t := range d.f.survey.Schema.Tables {
		if len(t.Triggers) > 0 && d.out.Tables[t.String()] > 0 {
			d.out.Triggers = append(d.out.Triggers, t.String()+": "+strings.Join(t.Triggers, ", "))
		}
	}
	return d.patch.write()
}
