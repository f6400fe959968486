package program

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/test/contract"
)

type origin struct {
	Table, Column, Label, Path, File, Match, Reason, Do string
	Line                                                int
}

// trace returns the first place of a reference.
func trace(t *testing.T, dir, url string) origin {
	var r struct{ Places []origin }
	decode(t, want(t, 1, dir, "trace", url, "--format", "json"), &r)
	require.NotEmpty(t, r.Places, url)
	return r.Places[0]
}

// Each insecure reference that was planted is found where it was planted.
func TestTrace(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	want(t, 1, dir, "scan", "--quiet")
	for url, place := range map[string]string{
		"http://type.harbourtype.example/lantern.css":      "theme/header.html:10",
		"http://www.ternrock.example/media/badge.svg":      "theme/footer.html:2",
		"http://ternrock.example/media/badge.svg":          "tr_options.option_value, setting logo_url ",
		"http://ternrock.example/media/waves.svg":          "tr_options.option_value, setting theme_mods_tern [backdrop]",
		"http://ternrock.example/media/map.svg":            "tr_options.option_value, setting widget_text [2][text]",
		"http://charts.tideoffice.example/today.svg":       "tr_posts.post_content, post Tides and crossing times ",
		"http://maps.coastline.example/frame?at=tern-rock": "tr_posts.post_content, post Plan a visit ",
		"http://ternrock.example/order/":                   "tr_posts.post_content, post Tickets ",
		"http://ternrock.example/media/book.svg":           "tr_postmeta.meta_value, field _panel [blocks] → JSON [0].image",
		"http://ternrock.example/keeper-cookery/":          "tr_options.option_value, setting home ",
	} {
		o := trace(t, dir, url)
		got := o.Table + "." + o.Column + ", " + o.Label + " " + o.Path
		if o.File != "" {
			got = o.File + ":" + string(rune('0'+o.Line/10)) + string(rune('0'+o.Line%10))
			got = strings.Replace(got, ":0", ":", 1)
		}
		assert.Equal(t, place, got, url)
		assert.NotEmpty(t, o.Do)
	}
	var none struct{ Places []origin }
	decode(t, want(t, 1, dir, "trace", "http://ternrock.example.org/x", "--format", "json"), &none)
	assert.Empty(t, none.Places)
	assert.Contains(t, want(t, 1, dir, "trace", "http://nowhere.example/x").out, "Not found in")
	assert.Contains(t, want(t, 2, dir, "trace", "lamp").errs, "is not an address")
	assert.Contains(t, want(t, 2, dir, "trace").errs, "needs one URL")
	// The scan asked the host.
	assert.Contains(t, want(t, 1, dir, "trace", "http://charts.tideoffice.example/today.svg").out, "its host has no HTTPS")
}

// One scan in all its formats, read back by what others wrote for them.
func TestReports(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	file := func(name string) string { return filepath.Join(dir, name) }
	args := []string{"scan", "--trace", "--quiet", "--all"}
	for _, name := range []string{"r.json", "r.csv", "r.xml", "r.sarif", "r.html", "r.txt"} {
		args = append(args, "--report", name)
	}
	text := want(t, 1, dir, args...).out
	read := func(name string) []byte {
		b, err := os.ReadFile(file(name))
		require.NoError(t, err)
		info, err := os.Stat(file(name))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, name)
		return b
	}
	assert.Equal(t, text, string(read("r.txt")))
	var scan struct {
		Classes  map[string]int
		Culprits []struct{ URL string }
		Pages    []struct {
			URL      string
			Findings []any
		}
	}
	require.NoError(t, json.Unmarshal(read("r.json"), &scan))
	findings, bad := 0, 0
	for _, p := range scan.Pages {
		if findings += len(p.Findings); len(p.Findings) > 0 {
			bad++
		}
	}
	sum := 0
	for _, n := range scan.Classes {
		sum += n
	}
	assert.Equal(t, sum, findings, "the summary agrees with the pages")

	rows, err := csv.NewReader(strings.NewReader(string(read("r.csv")))).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, findings+1)

	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suite    struct {
			Cases []struct {
				Name    string    `xml:"name,attr"`
				Failure *struct{} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(read("r.xml"), &suites))
	assert.Equal(t, []int{len(scan.Pages), bad, len(scan.Pages)}, []int{suites.Tests, suites.Failures, len(suites.Suite.Cases)})

	sarifText := read("r.sarif")
	log, err := sarif.FromBytes(sarifText)
	require.NoError(t, err)
	where, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/owenrumney/go-sarif/v3").Output()
	require.NoError(t, err)
	source, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(where)), "pkg/report/v210/sarif/schema.go"))
	require.NoError(t, err)
	assert.NoError(t, contract.Valid(t, strings.Split(string(source), "`")[1], sarifText), "the schema of SARIF 2.1.0")
	assert.Len(t, log.Runs[0].Results, len(scan.Culprits))
	assert.Contains(t, string(sarifText), "theme/header.html")

	page := string(read("r.html"))
	for _, say := range []string{"Not clean: browsers block 66 loads", "Causes, and what to do", "theme/header.html:10:30", "charts.tideoffice.example"} {
		assert.Contains(t, page, say)
	}
	for _, never := range []string{"<script", "<img", "<link", "src=", "@import"} {
		assert.NotContains(t, strings.Split(page, "<main>")[0], never, "it asks for nothing")
	}
	for _, format := range []string{"csv", "junit", "sarif", "html"} {
		assert.NotEmpty(t, want(t, 1, dir, "scan", "--quiet", "--format", format).out)
	}
	assert.Contains(t, want(t, 2, dir, "scan", "--report", "r.doc").errs, "tells no format")
	assert.Contains(t, want(t, 2, dir, "status", "--format", "csv").errs, "write text or json")
	assert.Contains(t, want(t, 2, dir, "scan", "--fail-on", "lamp").errs, "is not a class")
}

// What is new and what is gone since an earlier scan, and what counts for the exit code.
func TestCompare(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	want(t, 1, dir, "scan", "--quiet")
	want(t, 0, dir, "preview", "--quiet")
	want(t, 0, dir, "apply", "--quiet")
	var scan struct {
		ID       string
		Compared struct {
			New, Gone, Still []struct{ URL string }
		}
		Hosts []struct {
			Host    string
			Verdict struct{ Answer string }
		}
	}
	decode(t, want(t, 1, dir, "scan", "--compare", "last", "--format", "json"), &scan)
	assert.Empty(t, scan.Compared.New)
	assert.Greater(t, len(scan.Compared.Gone), 50)
	assert.Len(t, scan.Compared.Still, 1)
	require.Len(t, scan.Hosts, 1)
	assert.Equal(t, []string{"charts.tideoffice.example", "insecure"}, []string{scan.Hosts[0].Host, scan.Hosts[0].Verdict.Answer})
	want(t, 0, dir, "scan", "--fail-on", "blocked", "--quiet")
	want(t, 1, dir, "scan", "--fail-on", "upgraded", "--quiet")
	want(t, 0, dir, "scan", "--fail-on", "none", "--quiet")
	want(t, 0, dir, "undo", "--quiet")
	assert.Contains(t, want(t, 1, dir, "scan", "--compare", scan.ID).out, "86 new, 0 gone, 1 as before")
	assert.Contains(t, want(t, 2, dir, "scan", "--compare", "lamp").errs, "there is no scan lamp")
}

// Before the switch: the pages come over HTTP, and are judged as if over HTTPS.
func TestAsHTTPS(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	var now, then struct {
		Read     int  `json:"pages_read"`
		AsHTTPS  bool `json:"as_https"`
		Classes  map[string]int
		Culprits []struct{ URL string }
	}
	decode(t, want(t, 1, dir, "scan", "--format", "json"), &now)
	decode(t, want(t, 1, dir, "scan", "--as-https", "--format", "json"), &then)
	assert.True(t, then.AsHTTPS)
	assert.Equal(t, now.Read, then.Read)
	assert.Equal(t, now.Classes, then.Classes)
	assert.Equal(t, now.Culprits, then.Culprits)
	assert.Contains(t, want(t, 2, dir, "scan", "--as-https", "--browser").errs, "cannot look at pages as if")
	assert.Contains(t, want(t, 2, dir, "scan", "--browser", "--browser-user", "nobody", "--chromium", "/nowhere/chromium").errs, "apt-get install chromium")
}

// What includeSubDomains would touch is told from what the logbook knows.
func TestNamesBelow(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(`UPDATE tr_posts SET post_content = post_content || '<a href="http://shop.ternrock.example/">s</a> <a href="http://shop.ternrock.example.org/">o</a>' WHERE ID = 3`)
	require.NoError(t, err)
	assert.NotContains(t, want(t, 0, dir, "redirect", "show", "apache", "--hsts").out, "shop.")
	want(t, 0, dir, "preview", "--offline", "--quiet")
	out := strings.Join(strings.Fields(strings.ReplaceAll(want(t, 0, dir, "redirect", "show", "apache", "--hsts").out, "#", "")), " ")
	assert.Contains(t, out, "includeSubDomains would touch: shop.ternrock.example.")
}
