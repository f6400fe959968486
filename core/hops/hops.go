// Package hops judges what happens to a visitor who types an address: the
// redirects on the way and the page they end up on. It also writes the server rule that
// redirects every address to the secure one in a single step.
package hops

import (
	"fmt"
	"net/url"
	"strings"
)

// Hop is one answer on the way.
type Hop struct {
	URL      string `json:"url"`      // what was asked for
	Method   string `json:"method"`   // how
	Status   int    `json:"status"`   // of the answer
	Location string `json:"location"` // where it sends; "" where the way ends
}

// Journey is the way of one visitor.
type Journey struct {
	Typed  string `json:"typed"`
	Method string `json:"method"`
	Hops   []Hop  `json:"hops"`
	Err    string `json:"error,omitempty"` // why there was no answer, in words
	Proof  bool   `json:"proof,omitempty"` // below the folder for proofs of ownership: it must not be redirected
}

// Problem is what is wrong with a journey. The values are stable names.
type Problem string

// The problems, the gravest first.
const (
	Loop      Problem = "loop"      // a redirect loop
	Failed    Problem = "failed"    // no answer
	Downgrade Problem = "downgrade" // from HTTPS back to HTTP
	Insecure  Problem = "insecure"  // ends up on HTTP
	Elsewhere Problem = "elsewhere" // ends up on another host
	Mixed     Problem = "mixed"     // ends up on another name
	PathLost  Problem = "path-lost"
	QueryLost Problem = "query-lost"
	ProofLost Problem = "proof-lost" // the folder for proofs is redirected
	Post      Problem = "post"       // a POST loses its body: the method changes on the way
	Chain     Problem = "chain"      // more than one redirect
	Temporary Problem = "temporary"  // a redirect that is not permanent
	Broken    Problem = "broken"     // ends up on an error page
)

// problems is the one table of problems: their words, whether they stop the
// switch, and what to do.
var problems = map[Problem]struct {
	words string
	grave bool
	do    string
}{
	Loop:      {"is sent round in a loop", true, "remove the redirects but one; behind a proxy that ends TLS use the rule for a proxy"},
	Failed:    {"gets no answer", true, "look at the server and at the name's DNS"},
	Downgrade: {"is sent back from HTTPS to HTTP", true, "remove the redirect to HTTP: in the server's rules, or the system's own address"},
	Insecure:  {"ends up on HTTP", true, "install the redirect: trimlantern redirect show"},
	Elsewhere: {"ends up on another host", true, "look which rule sends visitors there"},
	Mixed:     {"ends up on another name of the site", false, "send all names to one: trimlantern redirect show"},
	PathLost:  {"loses the path", true, "keep the path in the redirect"},
	QueryLost: {"loses the query", true, "keep the query in the redirect"},
	ProofLost: {"is redirected where a certificate authority looks for its proof", false, "leave that folder out of the redirect"},
	Post:      {"loses what visitors send: the method changes", false, "redirect other methods than GET with 308"},
	Chain:     {"goes through more than one redirect", false, "make it one redirect: trimlantern redirect show"},
	Temporary: {"is redirected for the time being only (302, 303 or 307)", false, "make it permanent: 301, or 308 where the method counts"},
	Broken:    {"ends up on an error page", false, "look why the page fails"},
}

// Order lists the problems, the gravest first.
var Order = []Problem{Loop, Failed, Downgrade, Insecure, Elsewhere, PathLost, QueryLost, Mixed, ProofLost, Post, Chain, Temporary, Broken}

// Words returns the problem as the end of a sentence that begins with the visitor.
func (p Problem) Words() string { return problems[p].words }

// Grave reports whether visitors are harmed by it.
func (p Problem) Grave() bool { return problems[p].grave }

// Do says what to do about it.
func (p Problem) Do() string { return problems[p].do }

// Landing returns the last address of a journey.
func (j Journey) Landing() string {
	if len(j.Hops) == 0 {
		return j.Typed
	}
	return j.Hops[len(j.Hops)-1].URL
}

// Redirects counts the redirects.
func (j Journey) Redirects() int {
	n := 0
	for _, h := range j.Hops {
		if h.Location != "" {
			n++
		}
	}
	return n
}

// Judge says what is wrong with a journey to a site whose one name is canonical and
// whose others are names. An empty result is good.
func (j Journey) Judge(canonical string, names []string) []Problem {
	var out []Problem
	found := map[Problem]bool{}
	add := func(p Problem) {
		if !found[p] {
			found[p] = true
			out = append(out, p)
		}
	}
	if len(j.Hops) == 0 {
		return []Problem{Failed}
	}
	seen := map[string]bool{}
	for i, h := range j.Hops {
		if seen[h.Method+h.URL] {
			add(Loop)
		}
		seen[h.Method+h.URL] = true
		if h.Location == "" {
			continue
		}
		if strings.HasPrefix(h.URL, "https:") && strings.HasPrefix(h.Location, "http:") {
			add(Downgrade)
		}
		if h.Status == 302 || h.Status == 303 || h.Status == 307 {
			add(Temporary)
		}
		if i+1 < len(j.Hops) && j.Hops[i+1].Method != h.Method {
			add(Post)
		}
	}
	last := j.Hops[len(j.Hops)-1]
	if last.Location != "" && !found[Loop] { // it was given up on the way
		add(Loop)
	}
	if j.Err != "" && !found[Loop] {
		add(Failed)
	}
	if found[Loop] || found[Failed] {
		return inOrder(out)
	}
	if j.Redirects() > 1 {
		add(Chain)
	}
	typed, err1 := url.Parse(j.Typed)
	landed, err2 := url.Parse(last.URL)
	if err1 != nil || err2 != nil {
		return append(out, Failed)
	}
	host := landed.Hostname()
	ours := host == canonical
	for _, n := range names {
		ours = ours || n == host
	}
	switch {
	case !ours:
		add(Elsewhere)
	case j.Proof:
		if j.Redirects() > 0 {
			add(ProofLost)
		}
		return inOrder(out)
	case landed.Scheme != "https":
		add(Insecure)
	case host != canonical:
		add(Mixed)
	}
	if ours && strings.TrimSuffix(landed.EscapedPath(), "/") != strings.TrimSuffix(typed.EscapedPath(), "/") {
		add(PathLost)
	}
	if ours && landed.RawQuery != typed.RawQuery {
		add(QueryLost)
	}
	// What the address is of does not matter, but that there is a page behind it.
	if last.Status >= 500 {
		add(Broken)
	}
	return inOrder(out)
}

func inOrder(found []Problem) []Problem {
	out := make([]Problem, 0, len(found))
	for _, p := range Order {
		for _, f := range found {
			if f == p {
				out = append(out, p)
			}
		}
	}
	return out
}

// ProofFolders are where certificate authorities look for proofs of ownership
// (RFC 8555 §8.3 and the older way), below the root of a name.
var ProofFolders = []string{"/.well-known/acme-challenge/", "/.well-known/pki-validation/"}

// Matrix returns the addresses that a site's visitors may type: every scheme and
// name, and of each the front page, a deep path with query and percent signs, a
// static file, a file for a proof, and something sent with POST.
func Matrix(names []string, folder string) []Journey {
	var out []Journey
	for _, scheme := range []string{"http", "https"} {
		for _, n := range names {
			base := scheme + "://" + n + folder
			out = append(out,
				Journey{Typed: base + "/", Method: "GET"},
				Journey{Typed: base + "/lamp%20room/caf%C3%A9/?a=1%2B1&b=%26", Method: "GET"},
				Journey{Typed: base + "/?p=7", Method: "POST"},
				Journey{Typed: base + "/favicon.ico", Method: "GET"},
				Journey{Typed: fmt.Sprintf("%s://%s%strimlantern-test", scheme, n, ProofFolders[0]), Method: "GET", Proof: true})
		}
	}
	return out
}
