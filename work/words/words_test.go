package words

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/certs"
	"trimlantern/core/hops"
	"trimlantern/core/point"
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
