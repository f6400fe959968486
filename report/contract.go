package report

import (
	"embed"
	"path"
	"strings"

	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/cert"
	"trimlantern/work/checkup"
	"trimlantern/work/decide"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
	"trimlantern/work/fleet"
	"trimlantern/work/guide"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/show"
	"trimlantern/work/status"
	"trimlantern/work/trace"
)

// scanned is a scan as ScanJSON writes it.
type scanned struct {
	*findings.Scan
	Pages []findings.ScannedPage `json:"pages"` // all documents that were read
}

// failure is what is written in place of a result that a command could not come to.
type failure struct {
	Error string `json:"error"` // what went wrong, and where
	Do    string `json:"do"`    // what to do
	Code  int    `json:"code"`  // the exit code
}

// listHead is the first line of JSON Lines.
type listHead struct {
	Show string `json:"show"` // what is listed
	ID   string `json:"id"`   // of the sheet, scan or journal; "" where it is of none
	Site string `json:"site"`
}

// line is what JSON Lines have behind the first: without a version of their own.
type line struct{ of any }

// contract names the results that commands write as JSON, with their types. The schemas are made of it.
var contract = []struct {
	name, what string
	of         any
}{
	{"adopt", "decide adopt", decide.Adopted{}},
	{"apply", "apply", run.Applied{}},
	{"apply-dump", "apply --write and --patch, of an exported database", dumps.Applied{}},
	{"backup", "backup", backup.BackedUp{}},
	{"cert-check", "cert check", cert.Checked{}},
	{"cert-obtain", "cert obtain, cert renew", cert.Obtained{}},
	{"cert-proof", "cert proof", cert.Proof{}},
	{"cert-request", "cert request", cert.Requested{}},
	{"cert-revoke", "cert revoke", cert.Revoked{}},
	{"checkup", "checkup", checkup.Result{}},
	{"decided", "show decided", decide.Decided{}},
	{"decision", "decide: the other ways", decide.Decision{}},
	{"error", "every command that could not do its work", failure{}},
	{"filter", "filter, on standard error", dumps.Filtered{}},
	{"fleet-line", "fleet: one site of JSON Lines", line{fleet.Outcome{}}},
	{"history", "history", status.History{}},
	{"history-check", "history --check", status.Check{}},
	{"history-repair", "history --repair", status.Repair{}},
	{"init", "init", setup.Inited{}},
	{"list-head", "the first line of JSON Lines", listHead{}},
	{"move", "init --move", work.Moved{}},
	{"preview", "preview, mend", preview.Result{}},
	{"ready", "ready", ready.Result{}},
	{"redirect-file", "redirect install, redirect remove", redirect.File{}},
	{"redirect-show", "redirect show", redirect.Rules{}},
	{"redirect-test", "redirect test", redirect.Tested{}},
	{"scan", "scan", scanned{}},
	{"show", "show", decide.List{}},
	{"show-line", "show changes, left, scan, journal: one line of JSON Lines", line{show.Row{}}},
	{"status", "status", status.Status{}},
	{"switch", "switch", guide.Walked{}},
	{"systems", "systems", work.Systems{}},
	{"timer", "checkup and cert renew --install-timer", checkup.Timer{}},
	{"trace", "trace", trace.Traced{}},
	{"undo", "undo", run.Undone{}},
}

//go:embed schemas/*.json
var schemas embed.FS

// SchemaOf returns the JSON Schema (draft 2020-12) of a result by its name; nil where there is none of that name.
func SchemaOf(name string) []byte {
	if name != path.Base(name) {
		return nil
	}
	b, _ := schemas.ReadFile("schemas/" + name + ".json") // then there is none
	return b
}

// SchemaNames lists the names of the results.
func SchemaNames() (names []string) {
	for _, c := range contract {
		names = append(names, c.name)
	}
	return names
}

// SchemaList says, a line each, which commands write which result.
func SchemaList() string {
	var b strings.Builder
	for _, c := range contract {
		b.WriteString("  " + c.name + strings.Repeat(" ", max(1, 15-len(c.name))) + c.what + "\n")
	}
	return b.String()
}
