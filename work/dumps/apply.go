package dumps

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"time"

	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/outside/dump"
	"trimlantern/outside/mirror"
	"trimlantern/work"
	"trimlantern/work/run"
)

// ApplyOptions say what a sheet of a dump becomes.
type ApplyOptions struct {
	Sheet   string // "": the newest
	Write   string // the new dump
	Patch   string // the file with only what changes
	Largest int64  // the longest file of a patch, in bytes
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
	Makes     bool           `json:"makes_tables"`
	Drops     bool           `json:"drops_tables"`
}

// Last returns what was last made of the site's exported database, where that was made of the newest sheet; nil: nothing.
func Last(j *work.Job) (*Applied, error) {
	var last Applied
	if err := j.Book.ReadJSON(work.DumpRecord, &last); err != nil {
		return nil, work.Failed(err, "the logbook cannot be read", "delete "+filepath.Join(j.Book.Path(), work.DumpRecord))
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
	f      *filtering          // how the dump is read and written
	rows   map[string]*dumpRow // those that change, by table and key
	patch  *patching           // nil: the dump is written
	out    *Applied

	lock  sync.Mutex
	done  map[int64]*dumpRow // by the row's place
	grew  map[int64]int      // by how many bytes rows grew
	err   error
	names map[string]string // of columns, each once
}

// dumpRow is a row of the dump that changes.
type dumpRow struct {
	table string
	cells []dumpCell
}

// dumpCell is a cell of the sheet, as small as it can be.
type dumpCell struct {
	column        string
	before, after [sha256.Size]byte
	edits         []rewrite.Edit
	references    int32
	address       bool
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
	release, err := j.Book.Lock()
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
	d := &dumpApplying{job: j, o: o, store: work.Store(db), tables: map[string]dump.Table{}, rows: map[string]*dumpRow{}, done: map[int64]*dumpRow{}, grew: map[int64]int{}, names: map[string]string{},
		f:   &filtering{o: Options{In: name, Out: o.Write, Charset: j.File.Database.Charset, Row: work.StoredRow}, p: j.Progress, site: j.Site},
		out: &Applied{Site: j.Site.String(), Sheet: id, Dump: name, Tables: map[string]int{}, Keyless: map[string]int{}, Charset: map[string]int{}, Wrote: []string{}, Back: []string{}}}
	for _, t := range d.store.About.Tables {
		d.tables[t.String()] = t
	}
	if d.f.in, err = openInput(d.f.o); err != nil {
		return nil, d.f.failed(err, true)
	}
	defer d.f.in.close()
	// That the file is the one that was copied is known; each value is held against the sheet, which is read meanwhile.
	ctx, stop := context.WithCancel(ctx)
	surveyed := make(chan error, 1)
	go func() {
		var err error
		d.f.survey, err = d.f.surveyAs(ctx, d.store.About.Dialect)
		surveyed <- err
	}()
	header, end, err := run.CheckSheet(j, id, db, sheet.Visit{Cell: d.plan})
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
	// What is kept is small: collect seldom.
	defer debug.SetGCPercent(debug.SetGCPercent(200))
	d.out.Makes, d.out.Drops = d.f.survey.Schema.Makes, d.f.survey.Schema.Drops
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

// plan takes one cell of the sheet.
func (d *dumpApplying) plan(c *sheet.Cell) error {
	if _, ok := d.tables[c.Table]; !ok {
		return work.BadUse(nil, "the change sheet names a table that the dump does not have: "+c.Table, "make a new one: trimlantern preview")
	}
	k := rowKey(c.Table, c.Key)
	row := d.rows[k]
	if row == nil {
		row = &dumpRow{table: d.name(c.Table)}
		d.rows[k] = row
	}
	cell := dumpCell{column: d.name(c.Column), edits: c.Rewrites(), references: int32(c.References), address: c.Address}
	for _, sum := range []struct {
		to   *[sha256.Size]byte
		text string
	}{{&cell.before, c.Before}, {&cell.after, c.After}} {
		if n, err := hex.Decode(sum.to[:], []byte(sum.text)); err != nil || n != sha256.Size {
			return errBroken
		}
	}
	row.cells = append(row.cells, cell)
	d.out.Addresses = d.out.Addresses || c.Address
	return nil
}

// errBroken says that a sheet holds what no preview writes.
var errBroken = errors.New("it is broken")

// name returns a name that all cells share.
func (d *dumpApplying) name(n string) string {
	if same, ok := d.names[n]; ok {
		return same
	}
	d.names[n] = n
	return n
}

func rowKey(table string, key []sheet.Value) string {
	b := append([]byte(table), 0)
	for _, v := range key {
		b = strconv.AppendInt(b, int64(len(v)), 10)
		b = append(append(b, ':'), v...)
	}
	return string(b)
}

// each reads the dump and calls change for each row that changes, in several goroutines; what that returns is
// called for one row at a time.
func (d *dumpApplying) each(ctx context.Context, w io.Writer, o dump.Output, change func(row *dumpRow, r *dump.Row) (finish func() error, err error)) error {
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
		row := d.rows[rowKey(r.Table.String(), key)] // nobody changes the map now
		if row == nil {
			return
		}
		finish, err := change(row, r)
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
	if d.err == nil && len(d.done) != len(d.rows) {
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
	was, is []byte // read as the preview read it; gone with the row
	again   bool   // that is not as Row.Value reads it
}

// find finds a cell in its row.
func find(r *dump.Row, c *dumpCell) (found, error) {
	f := found{column: slices.IndexFunc(r.Columns, func(x dump.Column) bool { return x.Name == c.column })}
	if f.column < 0 {
		return f, errNotAsSeen
	}
	v, ok := r.Value(f.column)
	for ok && sha256.Sum256(v) != c.before {
		v, ok = r.Again(f.column)
		f.again = true
	}
	if !ok {
		return f, errNotAsSeen
	}
	is, err := rewrite.Apply(v, c.edits)
	if err == nil && sha256.Sum256(is) != c.after {
		err = errNotAsSeen
	}
	f.was, f.is = v, is
	return f, err
}

// write writes the new dump, reads it again and puts it under its name.
func (d *dumpApplying) write(ctx context.Context) error {
	out, err := d.f.openOutput()
	if err != nil {
		return err
	}
	defer out.discard()
	err = d.each(ctx, out, dump.Output{Cuts: d.f.in.cuts(), Next: out.Next}, func(row *dumpRow, r *dump.Row) (func() error, error) {
		for k := range row.cells {
			f, err := find(r, &row.cells[k])
			if err != nil {
				return nil, err
			}
			r.Edit(f.column, slices.Clone(row.cells[k].edits))
		}
		return func() error { d.count(row); return nil }, nil
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

func (d *dumpApplying) count(row *dumpRow) {
	for _, c := range row.cells {
		d.out.Refs += int(c.references)
	}
	d.out.Changed += len(row.cells)
	d.out.Tables[row.table] += len(row.cells)
}

// prove reads the new dump and looks for every cell that was changed.
func (d *dumpApplying) prove(ctx context.Context) error {
	if info, err := os.Stat(d.o.Write); err != nil || !info.Mode().IsRegular() {
		return nil // a pipe cannot be read again: nothing is said to be proven
	}
	failed := func(err error) error {
		return work.Failed(err, "the new dump is not as it was written", "check the disk; delete "+d.o.Write+" and run the command again")
	}
	again := &filtering{o: Options{In: d.o.Write, Charset: d.f.o.Charset, Row: work.StoredRow}, p: d.job.Progress, site: d.job.Site}
	var err error
	if again.in, err = openInput(again.o); err != nil {
		return failed(err)
	}
	defer again.in.close()
	if again.survey, err = again.surveyAs(ctx, d.store.About.Dialect); err != nil {
		return failed(err)
	}
	in, end, err := again.in.text()
	if err != nil {
		return failed(err)
	}
	defer end()
	// Each row stands where it stood, but for what the rows before it grew.
	now := map[int64]*dumpRow{}
	grown := int64(0)
	for _, place := range slices.Sorted(maps.Keys(d.done)) {
		now[place+grown] = d.done[place]
		grown += int64(d.grew[place])
	}
	var lock sync.Mutex
	h := dump.Handler{Want: func(place int64) bool { return now[place] != nil }, Row: func(_ int, r *dump.Row) {
		if r.Len() == 0 || now[r.Offset()] == nil {
			return
		}
		for _, c := range now[r.Offset()].cells {
			i := slices.IndexFunc(r.Columns, func(x dump.Column) bool { return x.Name == c.column })
			if i < 0 {
				continue
			}
			for v, ok := r.Value(i); ok; v, ok = r.Again(i) {
				if sha256.Sum256(v) == c.after {
					lock.Lock()
					d.out.Proven++
					lock.Unlock()
					break
				}
			}
		}
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
	return d.patch.write()
}
