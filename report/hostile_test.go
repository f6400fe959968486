package report

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/outside/files"
	"trimlantern/outside/probe"
	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/status"
	"trimlantern/work/trace"
)

// nasty is what a hostile database, page or server would send to a terminal.
var nasty = "\x1b]0;owned\x07\x1b[2J\u202e\u009b\xff" + strings.Repeat("long ", 60)

// results are results with something nasty in every field that comes from outside.
func results() map[string]struct {
	v    any
	text func(*Text)
} {
	left := []change.Left{}
	counts := map[rewrite.Reason]int{}
	for _, r := range []rewrite.Reason{rewrite.Linked, rewrite.Identifier, rewrite.NoHTTPS, rewrite.Unsound, rewrite.ReadOnly, rewrite.Subdomain} {
		counts[r] = 1234567
		left = append(left, change.Left{Reason: r, Table: nasty, Key: []change.Value{change.Value(nasty)}, Column: nasty, Label: nasty, Path: nasty, Host: nasty, URL: nasty, Note: nasty, Count: 1},
			change.Left{Reason: r, File: nasty, Line: 7, URL: nasty, Host: nasty, Count: 1}, change.Left{Reason: r, Note: nasty, Count: 1})
	}
	preview := &preview.Result{Kind: preview.References, Site: "https://ternrock.example", Sheet: "1", Cells: 3, Refs: 4, Hosts: map[string]int{nasty: 4}, Counts: counts, Left: left,
		Addresses: []preview.AddressState{{Name: "public", Title: "public address", Value: nasty, Change: true}, {Name: "core", Title: "core address", Value: nasty, Locked: nasty}},
		Tables:    []change.TableCount{{Table: nasty, Rows: 1 << 40, Cells: 3, References: 4}, {Table: "idle"}},
		Files:     []preview.FileChange{{Path: nasty, References: 5, Lines: []preview.LineChange{{Line: 7, Before: nasty, After: nasty}}}}, FileRefs: 5,
		Samples: []preview.Sample{{Where: nasty, Before: nasty, After: nasty}}, Verdicts: map[string]string{nasty: "insecure: " + nasty}, Skipped: []files.Skipped{{Path: nasty, Why: nasty}}}
	skip := change.Skip{Table: nasty, Key: []change.Value{change.Value(nasty)}, Column: nasty, Why: "changed since the preview"}
	applied := &run.Applied{Site: "https://ternrock.example", Sheet: "1", Journal: "2", Resumed: true, Planned: 9, Changed: 8, Tables: map[string]int{nasty: 8}, Skipped: []change.Skip{skip}, Addresses: true, Remain: preview}
	undone := &run.Undone{Site: "https://ternrock.example", Journal: "2", Back: 8, Already: 1, Tables: map[string]int{nasty: 8}, Left: []change.Skip{skip}}
	places := []findings.Origin{{Table: nasty, Column: nasty, Label: nasty, Path: nasty, Page: nasty, Match: findings.Address, Count: 3, Do: nasty}, {File: nasty, Line: 7, Col: 9, Text: nasty, Match: findings.Scaled, Do: "trimlantern preview changes it"}}
	traced := &trace.Traced{URL: nasty, Places: places}
	scan := &findings.Scan{Site: "https://ternrock.example", Classes: map[mixed.Class]int{mixed.Blocked: 1, mixed.Link: 2}, Outward: 3, LeftOut: 4,
		Worst:    []findings.PageCount{{URL: nasty, Title: nasty, Classes: map[mixed.Class]int{mixed.Blocked: 1}, Sum: 1}},
		Culprits: []findings.Culprit{{URL: nasty, By: nasty, Class: mixed.Blocked, Pages: 1, On: nasty}, {URL: nasty, By: nasty, Class: mixed.Link, Pages: 2, On: nasty, Places: places}},
		Hosts:    []findings.HostState{{Host: nasty, Findings: 3, Verdict: probe.Verdict{Host: nasty, Answer: "insecure", Why: nasty}}},
		Browser:  &findings.BrowserState{Version: nasty, Pages: 2, Unconfirmed: []findings.Unread{{URL: nasty, Why: nasty}}, Failed: []findings.Unread{{URL: nasty, Why: nasty}}},
		Compared: &findings.Comparison{With: nasty, New: []findings.Culprit{{URL: nasty}}, Gone: []findings.Culprit{{URL: nasty}}},
		Broken:   []findings.Unread{{URL: nasty, Why: nasty}}, Dead: 3, Unread: []findings.Unread{{URL: nasty, Why: nasty}}}
	road := &status.Status{Site: "https://ternrock.example", Next: "trimlantern scan", Clean: true, Steps: []status.Step{{Name: "database", State: "care", What: nasty, When: time.Now().Format(time.RFC3339)}, {Name: "scan", State: "done"}}}
	inited := &setup.Inited{Path: nasty, Site: "https://ternrock.example", System: "wordpress", Database: nasty, Prefix: nasty, Files: []string{nasty}, Used: []string{nasty}, Locked: []string{nasty}, Others: []string{nasty}}
	past := &status.History{Site: "https://ternrock.example", Path: nasty, Entries: []work.PastEntry{{ID: nasty, Run: "apply", State: nasty, Cells: 1 << 40}, {ID: "1", Run: "scan", State: "clean"}}}
	filtered := &dumps.Filtered{Site: "https://ternrock.example", As: "dump", Dialect: "SQLite", Rows: 1 << 40, Cells: 1, References: 1, Counts: counts, Left: left, Nameless: []string{nasty},
		Tables: []change.TableCount{{Table: nasty, Rows: 1, Cells: 1, References: 1}}}
	return map[string]struct {
		v    any
		text func(*Text)
	}{
		"preview": {preview, func(t *Text) { t.Preview(preview) }},
		"applied": {applied, func(t *Text) { t.Applied(applied) }},
		"undone":  {undone, func(t *Text) { t.Undone(undone) }},
		"scan":    {scan, func(t *Text) { t.Scan(scan) }},
		"traced":  {traced, func(t *Text) { t.Traced(traced) }},
		"status":  {road, func(t *Text) { t.Status(road) }},
		"inited":  {inited, func(t *Text) { t.Inited(inited) }},
		"history": {past, func(t *Text) { t.History(past) }},
		"filter":  {filtered, func(t *Text) { t.Filtered(filtered) }},
	}
}

// Nothing from outside reaches a terminal as it is, and nothing is wider than it.
func TestHostileResults(t *testing.T) {
	for name, r := range results() {
		var buf bytes.Buffer
		text := &Text{W: &buf}
		r.text(text)
		require.NoError(t, text.Err())
		for _, bad := range []string{"\x1b", "\x07", "\u202e", "\u009b", "\xff"} {
			assert.NotContains(t, buf.String(), bad, "%s: %q", name, bad)
		}
		for _, columns := range []int{0, 30, 80, 81, 100, 132, 159, 400} {
			var wide bytes.Buffer
			r.text(&Text{W: &wide, Width: columns})
			most := 0
			for line := range strings.Lines(wide.String()) {
				n := len([]rune(strings.TrimSuffix(line, "\n")))
				most = max(most, n)
				assert.LessOrEqual(t, n, max(Width, min(columns, widest)), "%s in %d columns: %s", name, columns, line)
			}
			if columns == 132 && name != "undone" {
				assert.Greater(t, most, Width, "%s: wide terminals are made use of", name)
			}
		}
		assert.NotContains(t, buf.String(), "%!", "%s: a format that does not fit", name)
		var js bytes.Buffer
		require.NoError(t, JSON(&js, r.v), name)
		assert.True(t, json.Valid(js.Bytes()), name)
		for _, bad := range []string{"\x1b", "\u202e", "\u009b"} {
			assert.NotContains(t, js.String(), bad, "%s as JSON: %q", name, bad)
		}
		// With colours, nothing but colours is added.
		var colour bytes.Buffer
		r.text(&Text{W: &colour, Color: true})
		for _, code := range strings.Split(colour.String(), "\x1b")[1:] {
			assert.Regexp(t, `^\[[0-9;]+m`, code, name)
		}
	}
}
