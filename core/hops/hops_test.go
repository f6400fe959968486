package hops

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
)

// way makes a journey of "STATUS URL" steps, the first asked with method.
func way(method, typed string, steps ...string) Journey {
	j := Journey{Typed: typed, Method: method}
	at := typed
	for i := 0; i < len(steps); i++ {
		status, _ := strconv.Atoi(steps[i])
		h := Hop{URL: at, Method: method, Status: status}
		if status/100 == 3 {
			i++
			h.Location, at = steps[i], steps[i]
			if status < 307 && method == "POST" {
				method = "GET"
			}
		}
		j.Hops = append(j.Hops, h)
		if status/100 == 3 && h.Location == "" {
			break
		}
	}
	return j
}

func TestJudge(t *testing.T) {
	const s, p, www = "https://ternrock.example", "http://ternrock.example", "www.ternrock.example"
	site, err := address.Parse(s, www)
	require.NoError(t, err)
	for _, c := range []struct {
		what string
		kind Kind
		j    Journey
		want []Problem
	}{
		{"as it should be", Page, way("GET", p+"/a?b=1", "301", s+"/a?b=1", "200"), nil},
		{"there already", Page, way("GET", s+"/", "200"), nil},
		{"a slash more is no loss", Page, way("GET", p+"/a", "301", s+"/a/", "200"), nil},
		{"other digits of the same letters", Probe, way("GET", p+"/caf%C3%A9?b=%26", "301", s+"/caf%c3%a9?b=%26", "404"), nil},
		{"no page of that name is no fault", Probe, way("GET", s+"/nothing", "404"), nil},
		{"a known page is not there", Page, way("GET", s+"/visit", "404"), []Problem{Missing}},
		{"an error", Page, way("GET", s+"/", "500"), []Problem{Broken}},
		{"forbidden", Page, way("GET", s+"/", "403"), []Problem{Broken}},
		{"forbidden for visitors", Entrance, way("GET", s+"/keeper", "403"), []Problem{Denied}},
		{"a hidden login", Entrance, way("GET", s+"/keeper", "404"), nil},
		{"a password", Page, way("GET", s+"/", "401"), []Problem{Denied}},
		{"cannot take forms", Probe, way("POST", s+"/", "501"), nil},
		{"POST kept", Probe, way("POST", p+"/", "308", s+"/", "200"), nil},
		{"POST lost, as many hosts do it", Probe, way("POST", p+"/", "301", s+"/", "200"), []Problem{Post}},
		{"POST for the time being", Probe, way("POST", p+"/", "307", s+"/", "200"), nil},
		{"the site's own redirect behind ours", Probe, way("GET", p+"/favicon.ico", "301", s+"/favicon.ico", "302", s+"/wp-includes/w.png", "200"), []Problem{Moves}},
		{"to a language", Page, way("GET", p+"/", "301", s+"/", "302", s+"/en/", "200"), []Problem{Moves}},
		{"to a language at once", Page, way("GET", p+"/", "301", s+"/en/", "200"), []Problem{Moves}},
		{"scheme, then name", Page, way("GET", "http://"+www+"/a", "301", "https://"+www+"/a", "301", s+"/a", "200"), []Problem{Steps}},
		{"scheme twice over", Page, way("GET", p+"/a", "301", s+"/a", "301", "https://"+www+"/a", "301", s+"/b", "200"), []Problem{PathLost, Chain}},
		{"for the time being", Page, way("GET", p+"/", "302", s+"/", "200"), []Problem{Temporary}},
		{"insecure", Page, way("GET", p+"/", "200"), []Problem{Insecure}},
		{"back to HTTP", Page, way("GET", s+"/", "301", p+"/", "200"), []Problem{Downgrade, Insecure}},
		{"round and round", Page, way("GET", s+"/", "301", s+"/", "301", s+"/"), []Problem{Loop}},
		{"a redirect without a place", Page, way("GET", p+"/", "301", "", "200"), []Problem{Nowhere}},
		{"another port", Page, way("GET", p+"/", "301", s+":8443/", "200"), []Problem{OtherPort}},
		{"its own port", Page, way("GET", p+"/", "301", s+":443/", "200"), nil},
		{"path lost", Page, way("GET", p+"/a", "301", s+"/", "200"), []Problem{PathLost}},
		{"every page is the front page", Page, way("GET", p+"/a", "301", s+"/a", "302", s+"/", "200"), []Problem{PathLost, Moves}},
		{"query lost", Page, way("GET", p+"/a?b", "301", s+"/a", "200"), []Problem{QueryLost}},
		{"percent signs count", Probe, way("GET", p+"/a%20b", "301", s+"/a%2520b", "200"), []Problem{PathLost}},
		{"another host", Page, way("GET", p+"/", "301", "https://other.example/", "200"), []Problem{Elsewhere}},
		{"another name", Page, way("GET", "http://"+www+"/", "301", "https://"+www+"/", "200"), []Problem{Mixed}},
		{"nothing", Page, Journey{Typed: s, Err: "nothing listens"}, []Problem{Failed}},
		{"nothing behind a redirect", Page, Journey{Typed: p + "/", Method: "GET", Err: "refused",
			Hops: []Hop{{URL: p + "/", Method: "GET", Status: 301, Location: s + "/"}, {URL: s + "/", Method: "GET"}}}, []Problem{Failed}},
		{"nothing on another host", Page, Journey{Typed: p + "/", Method: "GET", Err: "refused",
			Hops: []Hop{{URL: p + "/", Method: "GET", Status: 301, Location: "https://panel.example/"}, {URL: "https://panel.example/", Method: "GET"}}}, []Problem{Elsewhere}},
		{"nothing on another port", Page, Journey{Typed: p + "/", Method: "GET", Err: "refused",
			Hops: []Hop{{URL: p + "/", Method: "GET", Status: 301, Location: s + ":8443/"}, {URL: s + ":8443/", Method: "GET"}}}, []Problem{OtherPort}},
		{"a cookie first", Page, Journey{Typed: s + "/", Method: "GET",
			Hops: []Hop{{URL: s + "/", Method: "GET", Status: 302, Location: s + "/", Cookie: true}, {URL: s + "/", Method: "GET", Status: 200}}}, nil},
		{"a proof on HTTP", Proof, way("GET", p+"/.well-known/acme-challenge/x", "404"), nil},
		{"a proof on HTTPS", Proof, way("GET", p+"/.well-known/acme-challenge/x", "302", s+"/.well-known/acme-challenge/x", "404"), []Problem{ProofTo}},
		{"a proof led away", Proof, way("GET", p+"/.well-known/acme-challenge/x", "301", s+"/", "200"), []Problem{ProofLost}},
	} {
		c.j.Kind = c.kind
		if c.want == nil {
			c.want = []Problem{}
		}
		assert.Equal(t, c.want, c.j.Judge(site, nil), c.what)
	}
	shop := way("GET", p+"/visit", "200")
	assert.Empty(t, shop.Judge(site, []string{"/shop/"}), "only the shop is to be secure")
	assert.Equal(t, []Problem{Insecure}, way("GET", p+"/shop", "200").Judge(site, []string{"/shop/"}))
	assert.Len(t, Order, len(problems))
}
