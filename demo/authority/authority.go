// Package authority is a stand-in for a certificate authority that speaks the open protocol (RFC 8555): it
// checks signatures, nonces and proofs as a real one does, and issues certificates that nobody trusts but who is
// shown its root. It is for the demo and for tests.
package authority

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Options are how a stand-in behaves.
type Options struct {
	Base string           // its https URL, without a slash at the end
	Life time.Duration    // of certificates; 0: 90 days
	Now  func() time.Time // nil: the clock

	// Dial connects to a name and port as proofs are fetched; nil: the network.
	Dial func(ctx context.Context, network, addr string) (net.Conn, error)
	// TXT looks up the texts of a name; nil: the system's resolver.
	TXT func(ctx context.Context, name string) ([]string, error)

	Terms    string            // URL of its terms of service; "": it has none
	Issuers  []string          // by which CAA records allow it
	Bindings map[string][]byte // keys of accounts that it knows, by identifier; nil: no binding is wanted
	Profiles map[string]string

	// Fault is asked before each request is served, with the name of its step: "directory", "nonce", "account",
	// "order", "authorization", "challenge", "finalize", "certificate", "revoke", "renewal". What it returns is
	// answered instead; nil: nothing.
	Fault func(step string) *Problem
	// Window is what renewalInfo answers; nil: there is no renewalInfo.
	Window func(leaf *x509.Certificate) (start, end time.Time)
	// Change changes a certificate before it is issued; nil: nothing.
	Change func(*x509.Certificate)
}

// Problem is a problem document (RFC 7807), or any other answer.
type Problem struct {
	Status int    `json:"status"`
	Type   string `json:"type"`
	Detail string `json:"detail"`

	Header http.Header      `json:"-"`
	Raw    http.HandlerFunc `json:"-"` // answers in its place
}

// Error gives type and detail.
func (p *Problem) Error() string { return p.Type + ": " + p.Detail }

func problem(status int, kind, detail string) *Problem {
	return &Problem{Status: status, Type: "urn:ietf:params:acme:error:" + kind, Detail: detail}
}

// Authority is a stand-in at work. It is an http.Handler for what is below its Base.
type Authority struct {
	o     Options
	path  string // of Base
	roots []*issuer

	mu       sync.Mutex
	nonces   map[string]bool
	accounts map[string]*account // by URL
	objects  map[string]any      // orders, authorizations and certificates by path
	serial   int64
}

type issuer struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

type account struct {
	url    string
	key    jose.JSONWebKey
	status string
}

type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

type order struct {
	Status         string       `json:"status"`
	Expires        time.Time    `json:"expires"`
	Identifiers    []identifier `json:"identifiers"`
	Profile        string       `json:"profile,omitempty"`
	Authorizations []string     `json:"authorizations"`
	Finalize       string       `json:"finalize"`
	Certificate    string       `json:"certificate,omitempty"`
	Error          *Problem     `json:"error,omitempty"`

	owner  string
	proofs []*authorization
}

type authorization struct {
	Status     string       `json:"status"`
	Expires    time.Time    `json:"expires"`
	Identifier identifier   `json:"identifier"`
	Wildcard   bool         `json:"wildcard,omitempty"`
	Challenges []*challenge `json:"challenges"`

	owner string
}

type challenge struct {
	Type      string     `json:"type"`
	URL       string     `json:"url"`
	Status    string     `json:"status"`
	Token     string     `json:"token"`
	Validated *time.Time `json:"validated,omitempty"`
	Error     *Problem   `json:"error,omitempty"`

	of *authorization
}

type issued struct {
	chain   []byte
	leaf    *x509.Certificate
	owner   string
	revoked bool
}

// New makes a stand-in with a root and an issuer of its own.
func New(o Options) (*Authority, error) {
	if o.Life == 0 {
		o.Life = 90 * 24 * time.Hour
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Dial == nil {
		o.Dial = (&net.Dialer{}).DialContext
	}
	if o.TXT == nil {
		o.TXT = net.DefaultResolver.LookupTXT
	}
	a := &Authority{o: o, nonces: map[string]bool{}, accounts: map[string]*account{}, objects: map[string]any{}, serial: time.Now().UnixNano()}
	if _, rest, ok := strings.Cut(strings.TrimPrefix(o.Base, "https://"), "/"); ok {
		a.path = "/" + rest
	}
	for i, name := range []string{"Stand-in root (trusted by nobody)", "Stand-in issuer (trusted by nobody)"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(elliptic.MarshalCompressed(elliptic.P256(), key.X, key.Y))
		c := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name}, NotBefore: o.Now().AddDate(0, 0, -10), NotAfter: o.Now().AddDate(10, 0, 0),
			IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, SubjectKeyId: sum[:20]}
		by := &issuer{c, key}
		if i > 0 {
			by = a.roots[0]
		}
		der, err := x509.CreateCertificate(rand.Reader, c, by.cert, &key.PublicKey, by.key)
		if err != nil {
			return nil, err
		}
		if c, err = x509.ParseCertificate(der); err != nil {
			return nil, err
		}
		a.roots = append(a.roots, &issuer{c, key})
	}
	return a, nil
}

// Root returns the root certificate as PEM.
func (a *Authority) Root() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.roots[0].cert.Raw})
}

// Serve makes a certificate of the root for names, for servers of the made-up world: its own among them.
func (a *Authority) Serve(life time.Duration, names ...string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	leaf, err := a.sign(&key.PublicKey, names, time.Now().Add(-time.Hour), life, nil)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{leaf.Raw, a.roots[1].cert.Raw}, PrivateKey: key, Leaf: leaf}, nil
}

func (a *Authority) sign(public any, names []string, from time.Time, life time.Duration, change func(*x509.Certificate)) (*x509.Certificate, error) {
	a.mu.Lock()
	a.serial++
	serial := big.NewInt(a.serial)
	a.mu.Unlock()
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: names[0]}, NotBefore: from, NotAfter: from.Add(life), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
			continue
		}
		c.DNSNames = append(c.DNSNames, n)
	}
	if change != nil {
		change(c)
	}
	der, err := x509.CreateCertificate(rand.Reader, c, a.roots[1].cert, public, a.roots[1].key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Directory returns the URL of the directory.
func (a *Authority) Directory() string { return a.o.Base + "/directory" }

// maxRequest bounds a request.
const maxRequest = 256 << 10

// ServeHTTP answers what is asked of the authority.
func (a *Authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	path := strings.TrimPrefix(r.URL.Path, a.path)
	step, rest, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	w.Header().Set("Date", a.o.Now().UTC().Format(http.TimeFormat))
	w.Header().Set("Cache-Control", "no-store")
	if r.Method == http.MethodPost {
		w.Header().Set("Replay-Nonce", a.nonce())
	}
	if a.o.Fault != nil {
		if p := a.o.Fault(step); p != nil {
			a.refuse(w, r, p)
			return
		}
	}
	var answer any
	var p *Problem
	switch step {
	case "directory":
		if answer = a.directory(); rest != "" {
			answer, p = nil, problem(http.StatusNotFound, "malformed", "there is nothing like that")
		}
	case "nonce":
		w.Header().Set("Replay-Nonce", a.nonce())
		w.WriteHeader(map[bool]int{true: http.StatusOK, false: http.StatusNoContent}[r.Method == http.MethodHead])
		return
	case "renewal":
		answer, p = a.renewal(rest)
	default:
		answer, p = a.signed(w, r, step, rest)
	}
	switch {
	case p != nil:
		a.refuse(w, r, p)
	case answer != nil:
		a.answer(w, answer)
	}
}

func (a *Authority) answer(w http.ResponseWriter, v any) {
	a.mu.Lock()
	b, err := json.Marshal(v)
	a.mu.Unlock()
	if text, ok := v.([]byte); ok {
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		b, err = text, nil
	} else {
		w.Header().Set("Content-Type", "application/json")
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if w.Header().Get("Location") != "" && w.Header().Get("Created") != "" {
		w.Header().Del("Created")
		w.WriteHeader(http.StatusCreated)
	}
	_, _ = w.Write(b) // who went away does not want it
}

func (a *Authority) refuse(w http.ResponseWriter, r *http.Request, p *Problem) {
	if p.Raw != nil {
		p.Raw(w, r)
		return
	}
	for name, values := range p.Header {
		w.Header()[name] = values
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the same
}

func (a *Authority) nonce() string {
	n := rand.Text()
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.nonces) > 10000 {
		clear(a.nonces)
	}
	a.nonces[n] = true
	return n
}

func (a *Authority) directory() any {
	meta := map[string]any{"website": a.o.Base}
	if a.o.Terms != "" {
		meta["termsOfService"] = a.o.Terms
	}
	if a.o.Issuers != nil {
		meta["caaIdentities"] = a.o.Issuers
	}
	if a.o.Bindings != nil {
		meta["externalAccountRequired"] = true
	}
	if a.o.Profiles != nil {
		meta["profiles"] = a.o.Profiles
	}
	dir := map[string]any{"newNonce": a.o.Base + "/nonce", "newAccount": a.o.Base + "/account", "newOrder": a.o.Base + "/order", "revokeCert": a.o.Base + "/revoke", "keyChange": a.o.Base + "/key", "meta": meta}
	if a.o.Window != nil {
		dir["renewalInfo"] = a.o.Base + "/renewal"
	}
	return dir
}

// signed checks the signature of a request (RFC 8555 §6.2), and serves it.
func (a *Authority) signed(w http.ResponseWriter, r *http.Request, step, rest string) (any, *Problem) {
	if r.Method != http.MethodPost {
		return nil, problem(http.StatusMethodNotAllowed, "malformed", "this is asked for with POST")
	}
	if r.Header.Get("Content-Type") != "application/jose+json" {
		return nil, problem(http.StatusUnsupportedMediaType, "malformed", "the type is not application/jose+json")
	}
	b, err := io.ReadAll(io.LimitReader(r.Body, maxRequest))
	if err != nil {
		return nil, problem(http.StatusBadRequest, "malformed", "the request cannot be read")
	}
	jws, err := jose.ParseSignedJSON(string(b), []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
	if err != nil || len(jws.Signatures) != 1 {
		return nil, problem(http.StatusBadRequest, "malformed", "the request is not signed as the protocol says")
	}
	head := jws.Signatures[0].Protected
	if head.ExtraHeaders["url"] != "https://"+r.Host+r.URL.Path && head.ExtraHeaders["url"] != a.o.Base+"/"+strings.TrimPrefix(step+"/"+rest, "/") && head.ExtraHeaders["url"] != a.o.Base+"/"+step {
		return nil, problem(http.StatusUnauthorized, "unauthorized", "the request was signed for another address")
	}
	a.mu.Lock()
	fresh := a.nonces[head.Nonce]
	delete(a.nonces, head.Nonce)
	owner := a.accounts[head.KeyID]
	a.mu.Unlock()
	if !fresh {
		return nil, problem(http.StatusBadRequest, "badNonce", "the nonce is not known, or was used")
	}
	var key any
	switch {
	case step == "account" && rest == "" && head.JSONWebKey != nil && head.JSONWebKey.Valid():
		key = head.JSONWebKey
	case owner != nil && head.JSONWebKey == nil:
		key = owner.key
	default:
		return nil, problem(http.StatusUnauthorized, "accountDoesNotExist", "there is no such account")
	}
	payload, err := jws.Verify(key)
	if err != nil {
		return nil, problem(http.StatusUnauthorized, "unauthorized", "the signature is wrong")
	}
	switch step {
	case "account":
		if rest != "" {
			return map[string]any{"status": owner.status}, nil
		}
		return a.register(w, head.JSONWebKey, payload)
	case "order":
		if rest == "" {
			return a.newOrder(w, owner, payload)
		}
	case "challenge":
		return a.prove(r.Context(), owner, rest)
	case "finalize":
		return a.finalize(w, owner, rest, payload)
	case "revoke":
		return a.revoke(owner, payload)
	}
	return a.object(owner, step+"/"+rest)
}

// object returns what a path names, to whom it belongs.
func (a *Authority) object(owner *account, path string) (any, *Problem) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch o := a.objects[path].(type) {
	case *order:
		if o.owner == owner.url {
			return o, nil
		}
	case *authorization:
		if o.owner == owner.url {
			return o, nil
		}
	case *issued:
		if o.owner == owner.url {
			return o.chain, nil
		}
	}
	return nil, problem(http.StatusNotFound, "malformed", "there is nothing like that")
}

func (a *Authority) register(w http.ResponseWriter, key *jose.JSONWebKey, payload []byte) (any, *Problem) {
	var asked struct {
		Agreed  bool            `json:"termsOfServiceAgreed"`
		Only    bool            `json:"onlyReturnExisting"`
		Contact []string        `json:"contact"`
		Binding json.RawMessage `json:"externalAccountBinding"`
	}
	if err := json.Unmarshal(payload, &asked); err != nil {
		return nil, problem(http.StatusBadRequest, "malformed", "the account cannot be read")
	}
	print, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return nil, problem(http.StatusBadRequest, "badPublicKey", "the key cannot be used")
	}
	u := a.o.Base + "/account/" + base64.RawURLEncoding.EncodeToString(print)
	a.mu.Lock()
	known := a.accounts[u]
	a.mu.Unlock()
	w.Header().Set("Location", u)
	if known != nil {
		return map[string]any{"status": known.status}, nil
	}
	for _, c := range asked.Contact {
		if !strings.HasPrefix(c, "mailto:") || !strings.Contains(c, "@") {
			return nil, problem(http.StatusBadRequest, "invalidContact", "that is no e-mail address")
		}
	}
	switch {
	case asked.Only:
		return nil, problem(http.StatusBadRequest, "accountDoesNotExist", "there is no account with that key")
	case a.o.Terms != "" && !asked.Agreed:
		return nil, problem(http.StatusForbidden, "userActionRequired", "the terms of service have to be agreed to")
	case a.o.Bindings != nil && !a.bound(asked.Binding, key):
		return nil, problem(http.StatusForbidden, "externalAccountRequired", "the account is not bound to one that is known")
	}
	a.mu.Lock()
	a.accounts[u] = &account{u, *key, "valid"}
	a.mu.Unlock()
	w.Header().Set("Created", "1")
	return map[string]any{"status": "valid", "contact": asked.Contact}, nil
}

// bound checks an external account binding (RFC 8555 §7.3.4).
func (a *Authority) bound(raw []byte, key *jose.JSONWebKey) bool {
	jws, err := jose.ParseSignedJSON(string(raw), []jose.SignatureAlgorithm{jose.HS256})
	if err != nil || len(jws.Signatures) != 1 {
		return false
	}
	mac := a.o.Bindings[jws.Signatures[0].Protected.KeyID]
	payload, err := jws.Verify(mac)
	if err != nil || mac == nil {
		return false
	}
	var inner jose.JSONWebKey
	if inner.UnmarshalJSON(payload) != nil {
		return false
	}
	one, err1 := inner.Thumbprint(crypto.SHA256)
	two, err2 := key.Thumbprint(crypto.SHA256)
	return err1 == nil && err2 == nil && hmac.Equal(one, two)
}

func (a *Authority) newOrder(w http.ResponseWriter, owner *account, payload []byte) (any, *Problem) {
	var asked struct {
		Identifiers []identifier `json:"identifiers"`
		Profile     string       `json:"profile"`
	}
	if err := json.Unmarshal(payload, &asked); err != nil || len(asked.Identifiers) == 0 {
		return nil, problem(http.StatusBadRequest, "malformed", "the order cannot be read")
	}
	if _, ok := a.o.Profiles[asked.Profile]; asked.Profile != "" && !ok {
		return nil, problem(http.StatusBadRequest, "invalidProfile", "there is no such profile")
	}
	id := rand.Text()
	expires := a.o.Now().Add(24 * time.Hour).UTC().Truncate(time.Second)
	o := &order{Status: "pending", Expires: expires, Identifiers: asked.Identifiers, Profile: asked.Profile, Finalize: a.o.Base + "/finalize/" + id, owner: owner.url}
	a.mu.Lock()
	defer a.mu.Unlock()
	for i, n := range asked.Identifiers {
		if n.Type != "dns" || !strings.Contains(n.Value, ".") {
			return nil, problem(http.StatusBadRequest, "rejectedIdentifier", fmt.Sprintf("no certificates are issued for %q", n.Value))
		}
		bare, wild := strings.CutPrefix(n.Value, "*.")
		z := &authorization{Status: "pending", Expires: expires, Identifier: identifier{"dns", bare}, Wildcard: wild, owner: owner.url}
		at := fmt.Sprintf("%s.%d", id, i)
		for _, kind := range []string{"http-01", "dns-01"} {
			if wild && kind == "http-01" {
				continue
			}
			c := &challenge{Type: kind, URL: a.o.Base + "/challenge/" + at + "." + kind, Status: "pending", Token: rand.Text(), of: z}
			z.Challenges = append(z.Challenges, c)
			a.objects["challenge/"+at+"."+kind] = c
		}
		a.objects["authorization/"+at] = z
		o.proofs, o.Authorizations = append(o.proofs, z), append(o.Authorizations, a.o.Base+"/authorization/"+at)
	}
	a.objects["order/"+id], a.objects["finalize/"+id] = o, o
	w.Header().Set("Location", a.o.Base+"/order/"+id)
	w.Header().Set("Created", "1")
	return o, nil
}

// prove looks at a proof as soon as it is said to be there.
func (a *Authority) prove(ctx context.Context, owner *account, rest string) (any, *Problem) {
	a.mu.Lock()
	c, ok := a.objects["challenge/"+rest].(*challenge)
	if !ok || c.of.owner != owner.url {
		a.mu.Unlock()
		return nil, problem(http.StatusNotFound, "malformed", "there is nothing like that")
	}
	if c.Status != "pending" {
		a.mu.Unlock()
		return c, nil
	}
	c.Status = "processing"
	name, token := c.of.Identifier.Value, c.Token
	a.mu.Unlock()
	print, err := owner.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return nil, problem(http.StatusBadRequest, "badPublicKey", "the key cannot be used")
	}
	want := token + "." + base64.RawURLEncoding.EncodeToString(print)
	var p *Problem
	if a.o.Fault != nil {
		p = a.o.Fault("validation")
	}
	switch {
	case p != nil && p.Raw != nil:
		p = problem(http.StatusBadRequest, "connection", "no answer")
	case p != nil:
	case c.Type == "http-01":
		p = a.fetch(ctx, name, token, want)
	default:
		p = a.lookUp(ctx, name, want)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.o.Now().UTC().Truncate(time.Second)
	if c.Status, c.of.Status = "valid", "valid"; p != nil {
		c.Status, c.of.Status, c.Error = "invalid", "invalid", p
	} else {
		c.Validated = &now
	}
	for _, o := range a.objects { // what depends on it
		if o, ok := o.(*order); ok && o.Status == "pending" && slices.Contains(o.proofs, c.of) {
			switch {
			case p != nil:
				o.Status = "invalid"
			case !slices.ContainsFunc(o.proofs, func(z *authorization) bool { return z.Status != "valid" }):
				o.Status = "ready"
			}
		}
	}
	return c, nil
}

// fetch looks for a file (RFC 8555 §8.3).
func (a *Authority) fetch(ctx context.Context, name, token, want string) *Problem {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	client := &http.Client{Transport: &http.Transport{DialContext: a.o.Dial, DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+name+"/.well-known/acme-challenge/"+token, nil)
	if err != nil {
		return problem(http.StatusBadRequest, "malformed", "that is no name")
	}
	res, err := client.Do(req)
	if err != nil {
		return problem(http.StatusBadRequest, "connection", "fetching "+req.URL.String()+": no answer")
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 4096))
	if err != nil || res.StatusCode != http.StatusOK {
		return problem(http.StatusForbidden, "unauthorized", fmt.Sprintf("%s answers %d", req.URL, res.StatusCode))
	}
	if string(bytes.TrimSpace(b)) != want {
		return problem(http.StatusForbidden, "unauthorized", req.URL.String()+" has another content")
	}
	return nil
}

// lookUp looks for a record (RFC 8555 §8.4).
func (a *Authority) lookUp(ctx context.Context, name, want string) *Problem {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	sum := sha256.Sum256([]byte(want))
	texts, err := a.o.TXT(ctx, "_acme-challenge."+name)
	if err != nil {
		return problem(http.StatusBadRequest, "dns", "_acme-challenge."+name+" cannot be looked up")
	}
	if !slices.Contains(texts, base64.RawURLEncoding.EncodeToString(sum[:])) {
		return problem(http.StatusForbidden, "unauthorized", "_acme-challenge."+name+" has no such text")
	}
	return nil
}

func (a *Authority) finalize(w http.ResponseWriter, owner *account, id string, payload []byte) (any, *Problem) {
	var asked struct {
		CSR string `json:"csr"`
	}
	a.mu.Lock()
	o, ok := a.objects["finalize/"+id].(*order)
	a.mu.Unlock()
	if !ok || o.owner != owner.url {
		return nil, problem(http.StatusNotFound, "malformed", "there is nothing like that")
	}
	w.Header().Set("Location", a.o.Base+"/order/"+id)
	a.mu.Lock()
	ready := o.Status == "ready"
	a.mu.Unlock()
	if !ready {
		return nil, problem(http.StatusForbidden, "orderNotReady", "the names are not proven")
	}
	der, err := base64.RawURLEncoding.DecodeString(decodeCSR(payload, &asked.CSR))
	if err != nil {
		return nil, problem(http.StatusBadRequest, "badCSR", "the signing request cannot be read")
	}
	csr, err := x509.ParseCertificateRequest(der)
	if err != nil || csr.CheckSignature() != nil {
		return nil, problem(http.StatusBadRequest, "badCSR", "the signing request cannot be read")
	}
	var names []string
	for _, n := range o.Identifiers {
		names = append(names, n.Value)
	}
	asks := append(slices.Clone(csr.DNSNames), names...)
	slices.Sort(asks)
	if len(slices.Compact(asks)) != len(names) || len(csr.DNSNames) != len(names) {
		return nil, problem(http.StatusBadRequest, "badCSR", "the signing request is for other names than the order")
	}
	leaf, err := a.sign(csr.PublicKey, names, a.o.Now().Add(-time.Minute), a.o.Life, a.o.Change)
	if err != nil {
		return nil, problem(http.StatusInternalServerError, "serverInternal", "the certificate cannot be made")
	}
	chain := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf.Raw}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.roots[1].cert.Raw})...)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.objects["certificate/"+id] = &issued{chain: chain, leaf: leaf, owner: owner.url}
	o.Status, o.Certificate = "valid", a.o.Base+"/certificate/"+id
	return o, nil
}

// decodeCSR takes the request out of a payload; what cannot be read is an empty one.
func decodeCSR(payload []byte, to *string) string {
	var asked struct {
		CSR string `json:"csr"`
	}
	if json.Unmarshal(payload, &asked) == nil {
		*to = asked.CSR
	}
	return *to
}

func (a *Authority) revoke(owner *account, payload []byte) (any, *Problem) {
	var asked struct {
		Certificate string `json:"certificate"`
	}
	if err := json.Unmarshal(payload, &asked); err != nil {
		return nil, problem(http.StatusBadRequest, "malformed", "the request cannot be read")
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.Certificate)
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.objects {
		c, ok := o.(*issued)
		if err != nil || !ok || c.owner != owner.url || !bytes.Equal(c.leaf.Raw, der) {
			continue
		}
		if c.revoked {
			return nil, problem(http.StatusBadRequest, "alreadyRevoked", "it is revoked already")
		}
		c.revoked = true
		return map[string]any{}, nil
	}
	return nil, problem(http.StatusNotFound, "malformed", "there is no such certificate of this account")
}

// renewal says when a certificate is to be renewed (RFC 9773).
func (a *Authority) renewal(id string) (any, *Problem) {
	a.mu.Lock()
	var leaf *x509.Certificate
	for _, o := range a.objects {
		if c, ok := o.(*issued); ok {
			serial := c.leaf.SerialNumber.Bytes()
			if serial[0]&0x80 != 0 {
				serial = append([]byte{0}, serial...)
			}
			code := base64.RawURLEncoding
			if code.EncodeToString(c.leaf.AuthorityKeyId)+"."+code.EncodeToString(serial) == id {
				leaf = c.leaf
			}
		}
	}
	a.mu.Unlock()
	if leaf == nil || a.o.Window == nil {
		return nil, problem(http.StatusNotFound, "malformed", "there is no such certificate")
	}
	start, end := a.o.Window(leaf)
	return map[string]any{"suggestedWindow": map[string]time.Time{"start": start, "end": end}}, nil
}

// Issued returns the certificates that were issued.
func (a *Authority) Issued() (out []*x509.Certificate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.objects {
		if c, ok := o.(*issued); ok {
			out = append(out, c.leaf)
		}
	}
	slices.SortFunc(out, func(x, y *x509.Certificate) int { return x.SerialNumber.Cmp(y.SerialNumber) })
	return out
}

// Revoked reports whether a certificate was revoked.
func (a *Authority) Revoked(leaf *x509.Certificate) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range a.objects {
		if c, ok := o.(*issued); ok && bytes.Equal(c.leaf.Raw, leaf.Raw) {
			return c.revoked
		}
	}
	return false
}
