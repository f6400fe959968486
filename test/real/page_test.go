//go:build real

package real

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/mixed"
	"trimlantern/outside/browser"
	"trimlantern/outside/probe"
	"trimlantern/report"
	"trimlantern/work/findings"
)

// reported makes a scan with everything in it that a page can show.
func reported() *findings.Scan {
	s := &findings.Scan{Site: "https://ternrock.example", ID: "20261123-120000-000", Time: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Read: 42, Sheets: 2, Others: 25, Clean: 3, Outward: 4, Dead: 2,
		Classes: map[mixed.Class]int{}, On: map[mixed.Class]int{}, Browser: &findings.BrowserState{Version: "Chrome/1", Pages: 42, Reports: 9, Known: 9},
		Unread: []findings.Unread{{URL: "https://ternrock.example/slow", Why: "gave no answer in time"}},
		Hosts:  []findings.HostState{{Host: "charts.tideoffice.example", Findings: 1, Verdict: probe.Verdict{Answer: "insecure", Why: "does not speak TLS"}}}}
	long := "http://ternrock.example/a-very-long-name-that-does-not-end-and-has-no-space-in-it-anywhere-at-all/and-goes-on-and-on-and-on-and-on-and-on-and-on/lens.svg"
	for i, c := range mixed.Classes {
		s.Classes[c], s.On[c] = 3*(i+1), i+1
		s.Culprits = append(s.Culprits, findings.Culprit{URL: long, By: "img src", Class: c, Pages: 3, On: "https://ternrock.example/visit/", Line: 7, Col: 9,
			Places: []findings.Origin{{File: "theme/header.html", Line: 10, Col: 30, Text: `<img src="` + long + `">`, Do: "trimlantern preview changes it"}}},
			findings.Culprit{URL: `http://x.example/"><script>document.title='owned'</script><img src=x onerror=alert(1)>`, By: "<b>", Class: c, Pages: 1, On: "javascript:alert(1)", Places: []findings.Origin{}})
		s.Worst = append(s.Worst, findings.PageCount{URL: "https://ternrock.example/" + long[24:], Title: "<script>document.title='owned'</script>", Classes: map[mixed.Class]int{c: i + 1}, Sum: i + 1})
	}
	s.Compared = &findings.Comparison{With: "x", Time: s.Time, New: s.Culprits[:3], Gone: s.Culprits[3:], Still: s.Culprits[:2], Then: map[mixed.Class]int{mixed.Blocked: 99}}
	return s
}

// The report asks for nothing, runs nothing, fits a phone, a desk and paper, dark and
// light, and can be read by keyboard.
func TestPageInBrowser(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "scan.html")
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, report.ScanAs(f, "html", reported()))
	require.NoError(t, f.Close())
	path, err := browser.Find("")
	require.NoError(t, err)
	alloc, endAlloc := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox)...)
	defer endAlloc()
	tab, endTab := chromedp.NewContext(alloc, chromedp.WithErrorf(func(string, ...any) {}))
	defer endTab()
	tab, stop := context.WithTimeout(tab, 2*time.Minute)
	defer stop()
	var asked []string
	chromedp.ListenTarget(tab, func(ev any) {
		if e, ok := ev.(*network.EventRequestWillBeSent); ok {
			asked = append(asked, e.Request.URL)
		}
	})
	address := (&url.URL{Scheme: "file", Path: file}).String()
	require.NoError(t, chromedp.Run(tab, network.Enable(), chromedp.Navigate(address)))
	colours := map[string]bool{}
	for _, c := range []struct {
		media, scheme string
		width         int64
	}{{"screen", "light", 1280}, {"screen", "dark", 1280}, {"screen", "light", 360}, {"screen", "dark", 360}, {"print", "light", 700}} {
		var seen struct {
			Title, Paper, Ink string
			Wide              int
			Clipped           []string
		}
		require.NoError(t, chromedp.Run(tab, emulation.SetDeviceMetricsOverride(c.width, 800, 1, false),
			emulation.SetEmulatedMedia().WithMedia(c.media).WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: c.scheme}}),
			chromedp.Evaluate(`({title: document.title, paper: getComputedStyle(document.body).backgroundColor, ink: getComputedStyle(document.body).color,
				wide: document.documentElement.scrollWidth - innerWidth,
				clipped: [...document.querySelectorAll("h1,h2,h3,td,th,summary,li")].filter(e => e.offsetWidth && e.getBoundingClientRect().right > innerWidth + 1).map(e => e.textContent.slice(0, 60))})`, &seen)))
		assert.Contains(t, seen.Title, "Not clean", "%+v: nothing in it ran", c)
		assert.LessOrEqual(t, seen.Wide, 0, "%+v: it is wider than the window", c)
		assert.Empty(t, seen.Clipped, "%+v", c)
		colours[seen.Paper+seen.Ink] = true
	}
	assert.GreaterOrEqual(t, len(colours), 2, "dark is not light")
	// By keyboard: Tab comes to links and to what can be opened, Enter opens it.
	var stops int
	var opened bool
	require.NoError(t, chromedp.Run(tab, emulation.SetEmulatedMedia().WithMedia("screen")))
	for range 60 {
		var on string
		require.NoError(t, chromedp.Run(tab, chromedp.KeyEvent("\t"), chromedp.Evaluate(`document.activeElement.tagName + (document.activeElement.parentElement.open === false ? " closed" : "")`, &on)))
		if on == "A" || on == "SUMMARY" || on == "SUMMARY closed" {
			stops++
		}
		if on == "SUMMARY closed" {
			require.NoError(t, chromedp.Run(tab, chromedp.KeyEvent("\r"), chromedp.Evaluate(`document.activeElement.parentElement.open`, &opened)))
			break
		}
	}
	assert.Greater(t, stops, 3)
	assert.True(t, opened, "Enter opens what is closed")
	assert.Equal(t, []string{address}, asked, "it asks for nothing from anywhere")
}
