//go:build real

package real

import (
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/markup"
	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
)

// apart are the pages of which preview and scan do not say the same, and why. A page that
// comes to agree is to be taken out.
var apart = func() map[string]string {
	m := map[string]string{}
	add := func(why string, names ...string) {
		for _, n := range names {
			m[n] = why
		}
	}
	add("an address without a host is none of the stored text; its base is named",
		"base", "base script", "base later", "base for style", "base for srcdoc", "base target only", "base twice")
	add("what this page does not load another one may: preview changes it all the same",
		"source elsewhere", "link stylesheet disabled", "link stylesheet other type", "link preload video", "link preload audio",
		"link preload nothing", "link preload unknown", "comment", "textarea", "xmp", "noembed", "noframes", "iframe text", "plaintext", "title",
		"cdata in html", "style of other type", "broken no quote end",
		"broken doubled attribute", "broken attribute in end tag")
	add("what can be read where this page does not load it, a scan names as possible",
		"style content text", "style import too late", "svg pattern", "math href", "import behind a block of a layer", "import in a block", "import with a block", "string that looks like a URL")
	add("what browsers put right is not read as an address", "tab inside", "no slash")
	add("what a map puts together is named by the address that it begins with", "map of a folder", "map of the longest")
	add("a form is a matter of its own", "form action in upgraded page")
	return m
}()

// canonical brings two ways to write one address together.
func canonical(raw string) string {
	u, err := url.Parse(plainURL(strings.ReplaceAll(raw, "\\", "/")))
	if err != nil {
		return raw
	}
	u.User = nil
	host, err := address.CanonicalHost(u.Hostname())
	if err != nil {
		host = u.Hostname()
	}
	if port := u.Port(); port != "" && port != "80" {
		host += ":" + port
	}
	u.Host = host
	return u.String()
}

// The pages that Chromium judges, stored as content: what scan reports as loaded, preview changes or
// names as loaded; and the other way round.
func TestPreviewAgreesWithScan(t *testing.T) {
	site, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	page, err := url.Parse("https://ternrock.example/0/")
	require.NoError(t, err)
	pages, loads := 0, 0
	for _, c := range slices.Concat(kinds, again(), written) {
		if c.typ != "" {
			continue // no content that is kept in a database as it is
		}
		if c.host != "" && c.host != "ternrock.example" {
			continue // preview names addresses of development, whatever a page does with them
		}
		body := c.fill(c.body, 0)
		scan := map[string]bool{}
		for _, f := range mixed.Read(mixed.Answer{URL: page, Type: "text/html", Body: []byte(body)}).Findings {
			switch f.Class {
			case mixed.Blocked, mixed.Upgraded, mixed.Possible, mixed.Masked:
				scan[canonical(f.URL)] = true
			}
		}
		preview, settled := map[string]bool{}, map[string]bool{}
		rules := &rewrite.Rules{Site: site, Verdict: func(string, string) rewrite.Verdict { return rewrite.Insecure }}
		rules.Rewritten = func(f rewrite.Finding) { settled[canonical(f.URL)] = true } // our own: changed, loaded or not
		for _, f := range rules.Value([]byte(body)).Left {
			if f.Reason == rewrite.Malformed {
				host := "http://" + f.Host + "/"
				for u := range scan {
					if strings.HasPrefix(u, host) {
						settled[u] = true
					}
				}
			} else if f.Use == markup.Loads || f.Use == markup.Maybe {
				preview[canonical(f.URL)] = true
			}
		}
		pages++
		var wrong []string
		for u := range scan {
			loads++
			if !preview[u] && !settled[u] {
				wrong = append(wrong, "only scan says that it is loaded: "+u)
			}
		}
		for u := range preview {
			if !scan[u] {
				wrong = append(wrong, "only preview says that it is loaded: "+u)
			}
		}
		slices.Sort(wrong)
		if why := apart[c.name]; why != "" {
			assert.NotEmpty(t, wrong, "%s agrees now: %s", c.name, why)
			continue
		}
		assert.Empty(t, wrong, "%s: %s", c.name, strings.TrimSpace(body))
	}
	t.Logf("%d pages, %d loads; on %d pages they do not agree", pages, loads, len(apart))
}
