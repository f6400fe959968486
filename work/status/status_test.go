package status

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
	"trimlantern/core/coverage"
	"trimlantern/outside/logbook"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
)

// That a dump was loaded only the pages show: a whole, clean scan since it was written.
func TestDumpStep(t *testing.T) {
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	j := &work.Job{File: &sitefile.File{Database: sitefile.Database{Kind: work.DumpKind}}, Book: logbook.Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))}
	step := func(sheetID string, end *change.Summary, scan *findings.Scan) (Step, time.Time) {
		st := &Status{}
		wrote, err := dumpStep(j, steps{Status: st, now: at}, sheetID, end, scan)
		require.NoError(t, err)
		require.Len(t, st.Steps, 1)
		return st.Steps[0], wrote
	}
	cells := &change.Summary{Cells: 3}
	clean := func(when time.Time, whole bool) *findings.Scan {
		return &findings.Scan{Time: when, Read: 5, Coverage: coverage.Summary{Complete: whole}}
	}
	s, wrote := step("1", cells, nil)
	assert.Equal(t, "todo", s.State)
	assert.True(t, wrote.IsZero())
	require.NoError(t, j.Book.WriteJSON(work.DumpRecord, dumps.Applied{Time: at.Format(time.RFC3339), Sheet: "1", Changed: 3, Wrote: []string{"new.sql"}}))
	for _, c := range []struct {
		why   string
		sheet string
		end   *change.Summary
		scan  *findings.Scan
		state string
	}{
		{"nobody looked since", "1", cells, nil, "care"},
		{"a clean scan of before", "1", cells, clean(at.Add(-time.Hour), true), "care"},
		{"a scan since that left something out", "1", cells, clean(at.Add(time.Hour), false), "care"},
		{"a clean scan since", "1", cells, clean(at.Add(time.Hour), true), "done"},
		{"a newer sheet", "2", cells, clean(at.Add(time.Hour), true), "todo"},
		{"nothing to change", "2", &change.Summary{}, nil, "done"},
	} {
		s, wrote := step(c.sheet, c.end, c.scan)
		assert.Equal(t, c.state, s.State, c.why)
		assert.Equal(t, at, wrote, c.why)
	}
	changed, err := j.LastChange()
	require.NoError(t, err)
	assert.Equal(t, at, changed, "evidence must be newer than the dump")
}
