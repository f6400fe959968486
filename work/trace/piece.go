package trace

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/files"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// Bounds of looking for pieces.
const (
	maxPieced = 100 // targets, besides which the rest goes without
	maxHits   = 3   // lines of one text
	maxPieces = 12  // places of one target
	strong    = 25  // the score of a piece that says something by itself: the name of a file
)

// pieces looks for what puts together the targets that no text contains as a whole: in files, and in all
// text of the database.
func (t *tracing) pieces(ctx context.Context, db database.Database, tables []database.Table) error {
	var open []*target
	for _, one := range t.targets {
		whole := slices.ContainsFunc(one.places, func(o candidate) bool {
			return (o.Match == findings.Exact || o.Match == findings.Scaled) && o.Reason != rewrite.Cached && o.Reason != rewrite.Identifier
		})
		if !whole && one.wanted != nil && len(open) < maxPieced {
			open = append(open, one)
		}
	}
	if len(open) == 0 {
		return nil
	}
	err := t.codes(func(rel string, b []byte, cached bool) {
		if cached {
			return // a copy puts nothing together
		}
		for _, one := range open {
			for _, h := range one.wanted.Find(b, maxHits) {
				one.piece(candidate{Origin: findings.Origin{File: rel, Line: files.Line(b, h.Offset), Col: files.Column(b, h.Offset), Text: files.Text(b, h.Offset), Count: 1}, score: h.Score}, h.Joined)
			}
		}
	})
	if err != nil {
		return err
	}
	for i, table := range tables {
		t.job.Progress.At("looking for pieces in "+table.Name, int64(i), int64(len(tables)))
		if err := t.each(ctx, db, table, database.Everything, func(row *tracedRow) {
			if row.cached {
				return
			}
			for n, c := range table.Columns {
				b := row.row.Values[n].Bytes
				for _, one := range open {
					for _, h := range one.wanted.Find(b, 1) {
						o := row.origin(c.Name)
						if h.HostOnly && !o.everywhere() {
							continue // content that only names the host makes nothing of it
						}
						o.Count, o.Text, o.score = 1, files.Text(b, h.Offset), o.score+h.Score
						one.piece(o, h.Joined)
					}
				}
			}
		}); err != nil {
			return err
		}
	}
	for _, one := range open {
		if one.fewer(); one.seen.On == "" { // no page has it: a word of it says nothing
			one.places = slices.DeleteFunc(one.places, func(o candidate) bool { return o.Match == findings.Piece && o.score < strong })
		}
	}
	return nil
}

// piece adds a place that has pieces of the target, unless it is known by more.
func (one *target) piece(o candidate, joined bool) {
	for i := range one.places {
		p := &one.places[i]
		same := o.File != "" && p.File == o.File && p.Line == o.Line ||
			o.Table != "" && p.Table == o.Table && p.Column == o.Column && slices.EqualFunc(p.Key, o.Key, func(a, b change.Value) bool { return string(a) == string(b) })
		if same {
			p.score += o.score / 2 // it has both the beginning and more
			return
		}
	}
	if o.Match = findings.Piece; joined {
		o.Match = findings.Joined
	}
	one.places = append(one.places, o)
	if len(one.places) > 20*maxPieces {
		one.fewer()
	}
}

// fewer keeps the likeliest of the places that have only pieces.
func (one *target) fewer() {
	kept := one.places[:0:0]
	var found []candidate
	for _, p := range one.places {
		if p.Match == findings.Piece || p.Match == findings.Joined {
			found = append(found, p)
		} else {
			kept = append(kept, p)
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return b.score - a.score })
	one.places = append(kept, found[:min(len(found), maxPieces)]...)
}

// documents adds the style sheets, scripts and frames of other hosts that hold a target: nothing of the
// site does.
func (t *tracing) documents() {
	for _, one := range t.targets {
		c := one.seen
		u, err := url.Parse(c.On)
		if err != nil || c.In == "" || c.In == "browser" || c.Via != "" || t.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours {
			continue
		}
		one.places = append(one.places, candidate{Origin: findings.Origin{Match: findings.Document, Page: c.On, Line: c.Line, Col: c.Col, Text: c.Around, Count: 1,
			Do: fmt.Sprintf("the %s belongs to %s: load another version, keep your own copy, or ask its owner", map[string]string{"style": "style sheet", "script": "script", "frame": "page in the frame"}[c.In], u.Hostname())}})
	}
}

// newestSheet is what the newest sheet changes.
type newestSheet struct {
	id    string
	cells map[string]bool
	files map[string]bool
}

// newestSheet reads which cells and files the newest sheet changes; one that is broken changes none.
func findNewestSheet(j *work.Job) (*newestSheet, error) {
	n := &newestSheet{cells: map[string]bool{}, files: map[string]bool{}}
	ids, err := j.Book.Sheets()
	if err != nil {
		return nil, work.BookFault(err)
	}
	if len(ids) == 0 {
		return n, nil
	}
	n.id = ids[len(ids)-1]
	f, err := j.Book.OpenSheet(n.id)
	if err != nil {
		return nil, work.BookFault(err)
	}
	defer f.Close()
	r, err := change.NewReader(f)
	if err != nil {
		return n, nil
	}
	defer r.Close()
	err = r.Each(change.Visit{Cell: func(c *change.Cell) error {
		n.cells[change.CellID(c.Table, change.Bytes(c.Key), c.Column)] = true
		return nil
	}, Source: func(s *change.Source) error {
		n.files[s.Path] = true
		return nil
	}})
	if err != nil {
		n.cells, n.files = nil, nil
	}
	return n, nil
}

// changes reports whether the sheet changes a place.
func (n *newestSheet) changes(o *candidate) bool {
	if o.File != "" {
		return n.files[o.File]
	}
	return n.cells[change.CellID(o.Table, change.Bytes(o.Key), o.Column)]
}
