package words

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/certs"
	"trimlantern/core/hops"
	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/core/rewrite"
)

// Every problem of a visitor's way has words, and every fault has something to do about it.
func TestProblems(t *testing.T) {
	for _, p := range hops.Order {
		assert.NotEmpty(t, Problem(p), p)
		assert.Equal(t, p.Grade().Fault(), Fix(p) != "", p)
	}
	assert.Len(t, problems, len(hops.Order))
}

// codesOf reads the codes of a package from its source, so that none is forgotten here.
func codesOf(t *testing.T, file, typ string) (codes []string) {
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok && len(v.Values) == 1 {
			if id, ok := v.Type.(*ast.Ident); ok && id.Name == typ {
				codes = append(codes, strings.Trim(v.Values[0].(*ast.BasicLit).Value, `"`))
			}
		}
		return true
	})
	return codes
}

// Every finding about a certificate has words, says why it matters, and what to do.
func TestCertificates(t *testing.T) {
	codes := codesOf(t, "../../core/certs/finding.go", "Code")
	require.Greater(t, len(codes), 20)
	for _, code := range codes {
		f := certs.Finding{Code: certs.Code(code), Names: []string{"ternrock.example"}, Wanted: []string{"www.ternrock.example"}, Subject: "Tern Rock Light", Issuer: "Lamp Guild", Number: 2, Bits: 1024, Days: 9, Most: 200,
			When: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC), URL: "http://authority.example/between.crt", Err: errors.New("cut off"), Algorithm: "SHA1-RSA"}
		p := Certificate(f)
		assert.NotEmpty(t, p.ID, code)
		assert.NotEmpty(t, p.What, code)
		assert.NotContains(t, p.What+p.Why+p.Do, "%!", code)
		assert.Equal(t, p.Grade != point.Good, p.Why != "" && p.Do != "", "%s: why it matters, and what to do", code)
		assert.NotNil(t, p.About)
	}
	assert.Contains(t, Certificate(certs.Finding{Code: certs.OtherNames, Wanted: []string{"ternrock.example"}}).What, "no name at all")
	assert.Contains(t, Certificate(certs.Finding{Code: certs.Incomplete, URL: "http://authority.example/between.crt"}).Do, "http://authority.example/between.crt")
}

// Every reason to leave something and every class has words.
func TestReasons(t *testing.T) {
	codes := codesOf(t, "../../core/rewrite/reason.go", "Reason")
	require.Len(t, reasons, len(codes))
	for _, code := range codes {
		assert.NotEmpty(t, Reason(rewrite.Reason(code)), code)
	}
	assert.Empty(t, Reason("no reason"))
	require.Len(t, classes, len(mixed.Classes))
	for _, c := range mixed.Classes {
		assert.NotEmpty(t, Class(c), c)
	}
}

// sentences reads the sentences and their texts from the source of the catalogue, by name.
func sentences(t *testing.T) map[string][]string {
	all := map[string][]string{}
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			v, ok := n.(*ast.ValueSpec)
			if !ok || len(v.Values) != 1 || !v.Names[0].IsExported() {
				return true
			}
			ast.Inspect(v.Values[0], func(n ast.Node) bool {
				if text, ok := n.(*ast.BasicLit); ok && text.Kind == token.STRING {
					s, err := strconv.Unquote(text.Value)
					require.NoError(t, err)
					all[v.Names[0].Name] = append(all[v.Names[0].Name], s)
				}
				return true
			})
			return false
		})
	}
	return all
}

// A sentence speaks as all of them do: whole places, no end mark, no doubled blank, a fault with something to do.
func TestSentences(t *testing.T) {
	all := sentences(t)
	require.Greater(t, len(all), 100)
	place := regexp.MustCompile(`%\[[1-9]\][sdq]`)
	for name, parts := range all {
		for _, s := range parts {
			assert.NotContains(t, place.ReplaceAllString(s, ""), "%", "%s: %q", name, s)
			assert.NotContains(t, s, "  ", name)
			assert.Equal(t, strings.TrimSpace(s), strings.TrimRight(s, " "), "%s: %q", name, s)
			assert.NotRegexp(t, `cannot be told|has given|goes the way|\bpapers\b|signed by itself`, s, name)
		}
	}
	assert.Equal(t, "2 name servers of ternrock.example do not answer: a, b", ServersSilent.Point(nil, Count(2, "name server"), "ternrock.example", "a, b").What)
	p := NoPort80.Point([]string{"ternrock.example"}, "ternrock.example")
	assert.Equal(t, point.Point{ID: "port-80", About: []string{"ternrock.example"}, Grade: point.Care, What: "nothing listens on port 80 of ternrock.example", Why: p.Why, Do: p.Do}, p)
	assert.NotNil(t, OriginKnows.Point(nil).About)
	assert.Equal(t, "100% of it", Fill("100% of it", 1), "without places nothing is filled in")
	assert.Equal(t, "a %[2]s", Fill("%[1]s", "a %[2]s"), "a value is no sentence")
}

// What a worried owner reads of how long something is.
func TestSpans(t *testing.T) {
	assert.Equal(t, []string{"1 page", "2 pages", "0 addresses"}, []string{Count(1, "page"), Count(2, "page"), Count(0, "address")})
	assert.Equal(t, []string{"0 more hours", "5 more hours", "2 more days"}, []string{GoodFor(-time.Hour), GoodFor(5 * time.Hour), GoodFor(49 * time.Hour)})
	assert.Equal(t, []string{"1 second", "3 minutes", "5 hours", "4 days"}, []string{Span(0), Span(3 * time.Minute), Span(5 * time.Hour), Span(100 * time.Hour)})
	assert.Equal(t, []string{"40 minutes", "3 hours", "1 minute"}, []string{Kept(40 * time.Minute), Kept(3 * time.Hour), Kept(time.Second)})
	assert.Contains(t, HSTS("max-age=15552000; includeSubDomains; preload"), "180 more days, on every name below the site's too; it asks to be built into browsers")
	assert.Equal(t, "1 says 192.0.2.7 (ns1)", Answers([]string{"ns1"}, "192.0.2.7"))
}

// Every way in which an authority refuses has words and, where there is one, a way out.
func TestRefusals(t *testing.T) {
	kinds, steps := codesOf(t, "../../outside/acme/refused.go", "Kind"), codesOf(t, "../../outside/acme/refused.go", "Step")
	require.Greater(t, len(kinds), 12)
	require.Len(t, asked, len(steps))
	for _, k := range append(kinds, "incorrectResponse", "malformed") {
		for _, s := range steps {
			what, do := Refusal("authority.example", s, k, "", 0)
			assert.NotContains(t, what, "refused when", "%s has no words", k)
			assert.NotContains(t, what, "%", k)
			assert.Equal(t, k != "alreadyRevoked", do != "", k)
		}
	}
	what, do := Refusal("authority.example", "order", "odd", "", 0)
	assert.Equal(t, "the authority authority.example refused when it was asked for a certificate (odd)", what)
	assert.Equal(t, "see what it says", do)
	_, do = Refusal("a.example", "order", "rateLimited", "", 3*time.Hour)
	assert.Equal(t, "run the same command again in 3 hours", do)
	what, _ = Refusal("a.example", "order", "userActionRequired", "https://a.example/terms", 0)
	assert.Contains(t, what, "https://a.example/terms")
}

// A remedy belongs to a reason; where there is none, the reason itself is said.
func TestRemedies(t *testing.T) {
	for r, do := range remedies {
		assert.NotEmpty(t, Reason(r), r)
		assert.Equal(t, do, Remedy(r))
	}
	assert.Equal(t, Reason(rewrite.Statement), Remedy(rewrite.Statement))
}
