package report

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"trimlantern/core/coverage"
	"trimlantern/core/point"
	"trimlantern/work/backup"
	"trimlantern/work/findings"
	"trimlantern/work/guide"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
	"trimlantern/work/status"
)

// TestBriefWords holds the good words of the guided run against results that look good and are not whole.
func TestBriefWords(t *testing.T) {
	brief := func(result any) string {
		var b bytes.Buffer
		x := &Text{W: &b}
		x.Brief(result)
		return strings.Join(strings.Fields(b.String()), " ")
	}
	walked := func(s *status.Status) string {
		var b bytes.Buffer
		x := &Text{W: &b}
		x.Walked(s, &guide.Walked{Status: s})
		return strings.Join(strings.Fields(b.String()), " ")
	}
	two := []redirect.Journey{{}, {}}
	fault := point.Point{ID: "temporary", About: []string{"http://a.example/"}, Grade: point.Care, What: "it is temporary", Accepted: "the panel does that"}
	assert.Contains(t, brief(&redirect.Tested{Journeys: two}), "[x] All 2 addresses lead to the secure one.")
	accepted := brief(&redirect.Tested{Journeys: two, Points: []point.Point{fault}})
	assert.NotContains(t, accepted, "All ")
	assert.Contains(t, accepted, "1 of 2 addresses lead to the secure one; the faults of 1 are accepted")

	assert.Contains(t, brief(&backup.BackedUp{Tables: 3, Rows: 7}), "[x] Backup")
	short := brief(&backup.BackedUp{Tables: 3, Rows: 7, Differs: []backup.RowsCount{{Table: "a"}}})
	assert.NotContains(t, short, "[x]")
	assert.Contains(t, short, "1 table with another number of rows")

	assert.Contains(t, brief(&ready.Result{Days: 80}), "[x] Ready to switch; the certificate is good for 80 more days.")
	assert.Contains(t, brief(&ready.Result{Days: 80, Points: []point.Point{fault}}), "1 fault that you accepted")

	part := &findings.Scan{Read: 2, Coverage: coverage.Summary{PagesRead: 2, PagesKnown: 6}}
	assert.NotContains(t, brief(part), "[x]")
	assert.Contains(t, brief(part), "Clean as far as read: 2 of 6 pages")
	whole := &findings.Scan{Read: 2, Coverage: coverage.Summary{PagesRead: 2, PagesKnown: 2, Complete: true}}
	assert.Contains(t, brief(whole), "[x] Every page is clean")
	whole.Accepted = []findings.AcceptedURL{{URL: "http://b.example/", Because: "x"}}
	assert.Contains(t, brief(whole), "except for 1 insecure address that you accepted")

	assert.Contains(t, walked(&status.Status{Clean: true}), "The site is on HTTPS, and every page that was scanned is clean.")
	assert.Contains(t, walked(&status.Status{Clean: true, Excepted: 2}), "except for 2 findings that you accepted")
	assert.NotContains(t, walked(&status.Status{}), "on HTTPS, and")
	assert.Contains(t, walked(&status.Status{Steps: []status.Step{{Name: "scan", State: "care", What: "older than the last change"}}}), "What is left: [ ] scan: older than the last change")
}
