package report

import (
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"trimlantern/core/mixed"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// The parts of SARIF 2.1.0 that are written.
type (
	sarif struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Calls   []sarifCall   `json:"invocations"`
		Results []sarifResult `json:"results"`
		Columns string        `json:"columnKind"`
	}
	// sarifCall says whether all was looked at (§3.20 of the standard).
	sarifCall struct {
		Done  bool        `json:"executionSuccessful"`
		Notes []sarifNote `json:"toolExecutionNotifications,omitempty"`
	}
	sarifNote struct {
		Level   string    `json:"level"`
		Message sarifText `json:"message"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID    string    `json:"id"`
		Short sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		Line int `json:"startLine"`
		Col  int `json:"startColumn,omitempty"`
	}
)

// level is how grave SARIF takes a class to be.
func level(c mixed.Class) string {
	switch c {
	case mixed.Blocked, mixed.Form, mixed.Download:
		return "error"
	case mixed.Upgraded, mixed.Masked:
		return "warning"
	}
	return "note"
}

// scanSARIF writes the culprits of a scan: at file and line where they live in a file,
// else at the page that shows them.
func scanSARIF(w io.Writer, s *findings.Scan) error {
	name, version, _ := strings.Cut(work.Tool, " ")
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: name, Version: version}}, Results: []sarifResult{}, Columns: "utf16CodeUnits"}
	call := sarifCall{Done: true}
	if !s.Complete() {
		call.Notes = append(call.Notes, sarifNote{"warning", sarifText{"not everything was read: " + readWords(s.Coverage)}})
	}
	for _, fact := range coverageFacts(s) {
		call.Notes = append(call.Notes, sarifNote{"warning", sarifText{"not looked at: " + fact}})
	}
	for _, a := range s.Accepted {
		call.Notes = append(call.Notes, sarifNote{"note", sarifText{Clean("accepted: " + a.URL + ": " + a.Because)}})
	}
	run.Calls = []sarifCall{call}
	for _, c := range mixed.Classes {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{string(c), sarifText{words.Class(c)}})
	}
	for _, c := range s.Culprits {
		r := sarifResult{Rule: string(c.Class), Level: level(c.Class), Message: sarifText{Clean(c.URL + " (" + c.By + "), on " + plural(c.Pages, "page"))}}
		for _, o := range c.Places {
			if o.File != "" {
				path := (&url.URL{Path: filepath.ToSlash(o.File)}).String()
				r.Locations = append(r.Locations, sarifLocation{sarifPhysical{sarifArtifact{path}, &sarifRegion{o.Line, o.Col}}})
			}
		}
		if len(r.Locations) == 0 {
			at := sarifLocation{sarifPhysical{Artifact: sarifArtifact{c.On}}}
			if c.Line > 0 {
				at.Physical.Region = &sarifRegion{c.Line, c.Col}
			}
			r.Locations = []sarifLocation{at}
		}
		run.Results = append(run.Results, r)
	}
	return bareJSON(w, sarif{Schema: "https://json.schemastore.org/sarif-2.1.0.json", Version: "2.1.0", Runs: []sarifRun{run}})
}
