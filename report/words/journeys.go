package words

import "trimlantern/core/hops"

// problems is the one table of what each problem of a visitor's way means, and what to do about it.
var problems = map[hops.Problem]struct{ what, do string }{
	hops.Loop:      {"is redirected in a loop", "remove the redirects but one; behind a proxy that ends TLS use the rule for a proxy"},
	hops.Failed:    {"gets no answer", "check that the server runs, and the name's DNS entry"},
	hops.Nowhere:   {"gets a redirect without a Location", "fix the server's rule: its redirect has no Location"},
	hops.Downgrade: {"is sent back from HTTPS to HTTP", "remove the redirect to HTTP: in the server's rules, or the system's own address"},
	hops.Insecure:  {"ends up on HTTP", "install the redirect: trimlantern redirect show"},
	hops.OtherPort: {"ends up on another port", "find the rule that names the port, and remove the port"},
	hops.Elsewhere: {"ends up on another host", "find the rule that sends visitors there"},
	hops.Missing:   {"ends up on a page that is not there", "compare the folder that the server serves over HTTPS with the one it serves over HTTP"},
	hops.Broken:    {"ends up on an error page", "read the server's error log"},
	hops.PathLost:  {"loses the path", "keep the path in the redirect"},
	hops.QueryLost: {"loses the query", "keep the query in the redirect"},
	hops.Mixed:     {"ends up on another name of the site", "send all names to one: trimlantern redirect show"},
	hops.Chain:     {"goes through a chain of redirects", "make it one redirect: trimlantern redirect show"},
	hops.Temporary: {"is redirected temporarily (302, 303 or 307)", "make it permanent: 301, or 308 where the method counts"},
	hops.BySelf:    {"is sent on by the page itself (a refresh or a script), and not by a redirect", "let the server redirect instead, and take the refresh or script out of the page"},
	hops.Steers:    {"may be sent back to HTTP by a script of the page", "look at the page with a browser, and take the script out if it does"},
	hops.ProofLost: {"is redirected away from where a certificate authority looks for its proof", "leave that folder out of the redirect"},
	hops.ProofTo:   {"is redirected where a certificate authority looks for its proof; authorities follow that", ""},
	hops.Post:      {"loses a form sent to the insecure address: the method changes", ""},
	hops.Steps:     {"is redirected twice: to HTTPS, and to the site's name", ""},
	hops.Moves:     {"is redirected further by the site itself", ""},
	hops.Denied:    {"is asked for a password", ""},
	hops.TooFar:    {"was not followed: this machine cannot reach that server", ""},
}

// Problem says what happens to the visitor.
func Problem(p hops.Problem) string { return problems[p].what }

// Fix says what to do about a problem; "" where there is nothing to do.
func Fix(p hops.Problem) string { return problems[p].do }

// Visitor says what happens to the visitor who comes from some addresses.
func Visitor(p hops.Problem) Sentence {
	return Sentence{string(p), p.Grade(), "the visitor " + problems[p].what, "", problems[p].do}
}

// Meets is Visitor for one address, the first value.
func Meets(p hops.Problem) Sentence {
	s := Visitor(p)
	s.What = "%[1]s: " + s.What
	return s
}
