// Package acme obtains certificates from an authority by the open protocol (RFC 8555), from whatever directory it
// is given. The authority is taken for hostile: each answer is bounded in size and time, no redirect is followed,
// and nothing is asked over plain HTTP or in a private network that the directory itself is not in.
package acme

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/outside/verbose"

	"golang.org/x/crypto/acme"
)

// Bounds of one conversation.
const (
	maxAnswer  = 1 << 20          // bytes of one answer
	answerTime = 30 * time.Second // for one answer
	maxPause   = 30 * time.Second // that a busy authority may ask for; longer is said and not waited for
	maxTries   = 20               // of one request whose nonce is refused
	maxBusy    = 3                // of one request to an authority that is busy
	maxWait    = 10 * time.Minute // until the authority has come to a decision
)

// Options say which authority it is and how it is reached.
type Options struct {
	Directory string         // https URL of its directory
	Roots     *x509.CertPool // that its server's certificate must lead to
	Dial      func(ctx context.Context, network, addr string) (net.Conn, error)
	Agent     string        // how the program calls itself
	Key       crypto.Signer // of the account
	Account   string        // the account's URL, where it is known
}

// Errors of a conversation; each comes wrapped with what was asked.
var (
	ErrClear    = errors.New("the authority names an address that is not https")
	ErrRedirect = errors.New("the authority redirects, which the protocol does not allow")
	ErrHuge     = fmt.Errorf("the answer is larger than %d bytes", maxAnswer)
	ErrOdd      = errors.New("the answer is not what the protocol (RFC 8555) asks for")
	ErrSlow     = fmt.Errorf("the authority came to no decision in %s", maxWait)
)

// Authority is one that answered with its directory.
type Authority struct {
	Terms    string            // URL of its terms of service; "": it has none
	Site     string            // its web site, as it says
	Issuers  []string          // the names by which CAA records allow it (RFC 8659)
	Bound    bool              // it wants accounts bound to one that it knows (RFC 8555 §7.3.4)
	Profiles map[string]string // kinds of certificate that it offers, with their descriptions
	Clock    time.Time         // what its clock showed; zero: it did not say

	client  *acme.Client
	http    *http.Client
	renewal string // where renewal windows are asked for; "": nowhere
}

// Open asks an authority for its directory.
func Open(ctx context.Context, o Options) (*Authority, error) {
	u, err := url.Parse(o.Directory)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q: %w", o.Directory, ErrClear)
	}
	a := &Authority{http: &http.Client{
		Timeout: answerTime,
		Transport: &bounded{&http.Transport{DialContext: o.Dial, TLSClientConfig: &tls.Config{RootCAs: o.Roots}, ForceAttemptHTTP2: true,
			TLSHandshakeTimeout: answerTime, ResponseHeaderTimeout: answerTime, MaxResponseHeaderBytes: maxAnswer}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return ErrRedirect },
	}}
	a.client = &acme.Client{Key: o.Key, KID: acme.KeyID(o.Account), HTTPClient: a.http, DirectoryURL: o.Directory, UserAgent: o.Agent, RetryBackoff: pause}
	var dir struct {
		Renewal string `json:"renewalInfo"`
	}
	if a.Clock, err = a.read(ctx, o.Directory, &dir); err != nil {
		return nil, refused(Directory, err)
	}
	d, err := a.client.Discover(ctx)
	if err != nil {
		return nil, refused(Directory, err)
	}
	for _, u := range []string{d.RegURL, d.OrderURL, d.NonceURL} {
		if u == "" {
			return nil, refused(Directory, ErrOdd)
		}
	}
	a.Terms, a.Site, a.Issuers, a.Bound, a.renewal = d.Terms, d.Website, d.CAA, d.ExternalAccountRequired, dir.Renewal
	a.Profiles = map[string]string{}
	for name, words := range d.Profiles {
		a.Profiles[string(name)] = words
	}
	return a, nil
}

// Close ends the connections that wait for more.
func (a *Authority) Close() { a.http.CloseIdleConnections() }

// read asks for JSON without a signature, and returns what the authority's clock showed.
func (a *Authority) read(ctx context.Context, u string, v any) (clock time.Time, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u, nil)
	if err != nil {
		return clock, err
	}
	req.Header.Set("User-Agent", a.client.UserAgent)
	res, err := a.http.Do(req)
	if err != nil {
		return clock, err
	}
	defer res.Body.Close()
	clock, _ = http.ParseTime(res.Header.Get("Date")) // none: it is not known
	if res.StatusCode != http.StatusOK {
		return clock, fmt.Errorf("it answers %d: %w", res.StatusCode, ErrOdd)
	}
	if err := json.NewDecoder(res.Body).Decode(v); err != nil {
		if errors.Is(err, ErrHuge) {
			return clock, err
		}
		return clock, fmt.Errorf("no JSON: %w", ErrOdd)
	}
	return clock, nil
}

// bounded is a transport with the bounds of the package.
type bounded struct{ *http.Transport }

// RoundTrip asks over HTTPS alone, and cuts an answer off that is too large.
func (b *bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Scheme != "https" {
		return nil, ErrClear
	}
	for try := 0; ; try++ {
		began := time.Now()
		res, err := b.Transport.RoundTrip(r)
		verbose.Request(r.Context(), began, r.Method, r.URL, res, err)
		if err == nil {
			res.Body = &limited{res.Body, maxAnswer}
			return res, nil
		}
		if try == len(lost) || r.Context().Err() != nil || r.Body != nil && r.GetBody == nil {
			return nil, err
		}
		select {
		case <-time.After(lost[try]):
		case <-r.Context().Done():
			return nil, err
		}
		if r.Body != nil { // what it was signed with may be used up by now: the authority says so, and it is signed anew
			again := r.Clone(r.Context())
			if again.Body, err = r.GetBody(); err != nil {
				return nil, err
			}
			r = again
		}
	}
}

// lost is how long to wait before a request is made again whose connection was lost.
var lost = []time.Duration{100 * time.Millisecond, time.Second}

// limited is a body that fails where it is too large.
type limited struct {
	io.ReadCloser
	left int
}

// Read reads on.
func (l *limited) Read(p []byte) (int, error) {
	n, err := l.ReadCloser.Read(p)
	if l.left -= n; l.left < 0 {
		return 0, ErrHuge
	}
	return n, err
}

// pause says how long to wait before a request is made again; 0: it is not.
func pause(n int, _ *http.Request, res *http.Response) time.Duration {
	if res.StatusCode == http.StatusBadRequest { // the nonce was refused: the answer brought a new one
		if n > maxTries {
			return 0
		}
		return time.Duration(n) * 20 * time.Millisecond
	}
	if n > maxBusy || res.StatusCode == http.StatusTooManyRequests {
		return 0 // what is limited is told, not tried again
	}
	wait := time.Duration(n) * time.Second
	if asked := retryAfter(res.Header.Get("Retry-After")); asked > maxPause {
		return 0
	} else if asked > 0 {
		wait = asked
	}
	return wait
}

// retryAfter reads how long an answer asks to wait (RFC 9110 §10.2.3).
func retryAfter(v string) time.Duration {
	if when, err := http.ParseTime(v); err == nil {
		return max(0, time.Until(when))
	}
	seconds, err := strconv.Atoi(v)
	if err != nil {
		return 0
	}
	return time.Duration(min(max(seconds, 0), longWait)) * time.Second
}

// longWait is the longest wait that is believed, in seconds.
const longWait = 365 * 24 * 3600

// Binding ties a new account to one that the authority knows (RFC 8555 §7.3.4).
type Binding struct {
	ID  string
	Key []byte // of the message authentication code
}

// Register makes an account for the key, or finds the one that it has, and returns its URL. The terms of
// service are agreed to only where agreed is set.
func (a *Authority) Register(ctx context.Context, email string, agreed bool, binding *Binding) (string, error) {
	account := &acme.Account{}
	if email != "" {
		account.Contact = []string{"mailto:" + email}
	}
	if binding != nil {
		account.ExternalAccountBinding = &acme.ExternalAccountBinding{KID: binding.ID, Key: binding.Key}
	}
	_, err := a.client.Register(ctx, account, func(string) bool { return agreed })
	if err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return "", refused(Account, err)
	}
	if err := a.own(string(a.client.KID)); err != nil {
		return "", refused(Account, err)
	}
	return string(a.client.KID), nil
}

// Forget forgets the account: Register finds it, or makes a new one.
func (a *Authority) Forget() { a.client.KID = "" }

// own fails where a URL of the authority's is none that can be asked.
func (a *Authority) own(u string) error {
	if parsed, err := url.Parse(u); err != nil || parsed.Scheme != "https" || parsed.Host == "" {
		return fmt.Errorf("%q: %w", u, ErrClear)
	}
	return nil
}

// Order is what an authority was asked to issue.
type Order struct {
	URL    string
	Status string // pending, ready, processing, valid or invalid (RFC 8555 §7.1.6)
	Names  []string

	order *acme.Order
}

// Order asks for a certificate for names, of a profile that the authority offers where one is named.
func (a *Authority) Order(ctx context.Context, names []string, profile string) (*Order, error) {
	var with []acme.OrderOption
	if profile != "" {
		with = append(with, acme.WithOrderIssuanceProfile(acme.ProfileName(profile)))
	}
	o, err := a.client.AuthorizeOrder(ctx, acme.DomainIDs(names...), with...)
	if err != nil {
		return nil, refused(Ordering, err)
	}
	return a.ordered(o)
}

// Resume looks at an order that was made before.
func (a *Authority) Resume(ctx context.Context, u string) (*Order, error) {
	o, err := a.client.GetOrder(ctx, u)
	if err != nil {
		return nil, refused(Ordering, err)
	}
	if o.URI == "" {
		o.URI = u
	}
	return a.ordered(o)
}

func (a *Authority) ordered(o *acme.Order) (*Order, error) {
	out := &Order{URL: o.URI, Status: o.Status, order: o}
	for _, id := range o.Identifiers {
		out.Names = append(out.Names, strings.ToLower(id.Value))
	}
	for _, u := range append(slices.Clone(o.AuthzURLs), o.URI, o.FinalizeURL) {
		if err := a.own(u); err != nil {
			return nil, refused(Ordering, err)
		}
	}
	return out, nil
}

// Challenge is one way to prove the ownership of one name.
type Challenge struct {
	Name     string // without a wildcard
	Wildcard bool   // it is asked for the names below Name
	Kind     string // "http-01" (RFC 8555 §8.3) or "dns-01" (§8.4)
	Token    string
	Value    string // what is to be found: the file's content, or the text of the TXT record

	authorization string
	challenge     *acme.Challenge
}

// maxNames bounds for how many names an order may be.
const maxNames = 100

// Challenges returns what has to be proven for an order, in a way of kind; what is proven already is left
// out. It fails with *Refused where the authority does not offer that way for a name.
func (a *Authority) Challenges(ctx context.Context, o *Order, kind string) ([]Challenge, error) {
	var out []Challenge
	if len(o.order.AuthzURLs) > maxNames {
		return nil, refused(Proving, ErrOdd)
	}
	for _, u := range o.order.AuthzURLs {
		z, err := a.client.GetAuthorization(ctx, u)
		if err != nil {
			return nil, refused(Proving, err)
		}
		if z.Status == acme.StatusValid {
			continue
		}
		name := strings.ToLower(z.Identifier.Value)
		if !slices.Contains(o.Names, name) && !slices.Contains(o.Names, "*."+name) {
			return nil, refused(Proving, fmt.Errorf("it asks for a proof of %q, which was not ordered: %w", z.Identifier.Value, ErrOdd))
		}
		at := slices.IndexFunc(z.Challenges, func(c *acme.Challenge) bool { return c.Type == kind })
		if at < 0 {
			var offered []string
			for _, c := range z.Challenges {
				offered = append(offered, c.Type)
			}
			return nil, &Refused{Step: Proving, Kind: NotOffered, Names: []NameProblem{{Name: name, Detail: strings.Join(offered, ", ")}}}
		}
		c := Challenge{Name: name, Wildcard: z.Wildcard, Kind: kind, Token: z.Challenges[at].Token, authorization: u, challenge: z.Challenges[at]}
		if !plainToken(c.Token) || a.own(c.challenge.URI) != nil {
			return nil, refused(Proving, ErrOdd)
		}
		if kind == "dns-01" {
			c.Value, err = a.client.DNS01ChallengeRecord(c.Token)
		} else {
			c.Value, err = a.client.HTTP01ChallengeResponse(c.Token)
		}
		if err != nil {
			return nil, refused(Proving, err)
		}
		out = append(out, c)
	}
	return out, nil
}

// plainToken reports whether a token is one: base64url and nothing else (RFC 8555 §8.1). It becomes a file
// name.
func plainToken(s string) bool {
	return s != "" && len(s) <= 200 && strings.IndexFunc(s, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_')
	}) < 0
}

// Accept tells the authority that a proof is in place.
func (a *Authority) Accept(ctx context.Context, c Challenge) error {
	if _, err := a.client.Accept(ctx, c.challenge); err != nil {
		return refused(Proving, err)
	}
	return nil
}

// Await waits until the authority has looked at a proof.
func (a *Authority) Await(ctx context.Context, c Challenge) error {
	ctx, cancel := context.WithTimeoutCause(ctx, maxWait, ErrSlow)
	defer cancel()
	if _, err := a.client.WaitAuthorization(ctx, c.authorization); err != nil {
		return refused(Proving, cause(ctx, err))
	}
	return nil
}

// cause is why a wait ended: our own bound, or what failed.
func cause(ctx context.Context, err error) error {
	if errors.Is(context.Cause(ctx), ErrSlow) {
		return ErrSlow
	}
	return err
}

// Finalize hands in the signing request of an order whose names are proven, or goes on with one that is at work
// or done, and returns the chain that comes back, the site's own certificate first. Where a root is wanted by a part of its name,
// it is the first of the chains that lead there (RFC 8555 §7.4.2), or else the usual one; offered are the roots of all.
func (a *Authority) Finalize(ctx context.Context, o *Order, request []byte, wanted string) (chain []*x509.Certificate, offered []string, err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, maxWait, ErrSlow)
	defer cancel()
	var der [][]byte
	now := o.order
	var at string
	if now.Status != acme.StatusValid && now.Status != acme.StatusReady {
		if now, err = a.client.WaitOrder(ctx, o.URL); err != nil {
			return nil, nil, refused(Issuing, cause(ctx, err))
		}
	}
	if now.Status == acme.StatusValid {
		if err := a.own(now.CertURL); err != nil {
			return nil, nil, refused(Issuing, err)
		}
		at = now.CertURL
		der, err = a.client.FetchCert(ctx, at, true)
	} else {
		der, at, err = a.client.CreateCertFromOrder(ctx, now, request, true)
	}
	if err != nil {
		return nil, nil, refused(Issuing, cause(ctx, err))
	}
	if chain, err = parsed(der); err != nil {
		return nil, nil, refused(Issuing, err)
	}
	if wanted == "" {
		return chain, nil, nil
	}
	offered = []string{rootName(chain)}
	if LeadsTo(chain, wanted) {
		return chain, offered, nil
	}
	others, err := a.client.ListCertAlternates(ctx, at)
	if err != nil {
		return chain, offered, nil // the usual one is there
	}
	for _, u := range others[:min(len(others), maxChains)] {
		if a.own(u) != nil {
			continue
		}
		der, err := a.client.FetchCert(ctx, u, true)
		if err != nil {
			continue
		}
		other, err := parsed(der)
		if err != nil || !other[0].Equal(chain[0]) {
			continue
		}
		if offered = append(offered, rootName(other)); LeadsTo(other, wanted) {
			return other, offered, nil
		}
	}
	return chain, offered, nil
}

// maxChains bounds how many chains of one certificate are fetched.
const maxChains = 8

// parsed reads a chain.
func parsed(der [][]byte) (chain []*x509.Certificate, err error) {
	for _, b := range der {
		c, err := x509.ParseCertificate(b)
		if err != nil {
			return nil, fmt.Errorf("a certificate that cannot be read: %w", ErrOdd)
		}
		chain = append(chain, c)
	}
	if len(chain) == 0 {
		return nil, ErrOdd
	}
	return chain, nil
}

// rootName is the name of the root that a chain leads to.
func rootName(chain []*x509.Certificate) string {
	last := chain[len(chain)-1].Issuer
	if last.CommonName != "" {
		return last.CommonName
	}
	return last.String()
}

// LeadsTo reports whether a chain leads to a root, by a part of its name in any letter case.
func LeadsTo(chain []*x509.Certificate, root string) bool {
	return strings.Contains(strings.ToLower(rootName(chain)), strings.ToLower(root))
}

// Reasons are why a certificate is revoked (RFC 5280 §5.3.1), by their names.
var Reasons = map[string]acme.CRLReasonCode{
	"unspecified": acme.CRLReasonUnspecified, "key-compromise": acme.CRLReasonKeyCompromise, "superseded": acme.CRLReasonSuperseded, "cessation": acme.CRLReasonCessationOfOperation,
}

// Revoke has a certificate of the account revoked.
func (a *Authority) Revoke(ctx context.Context, c *x509.Certificate, reason string) error {
	if err := a.client.RevokeCert(ctx, nil, c.Raw, Reasons[reason]); err != nil {
		return refused(Revoking, err)
	}
	return nil
}
