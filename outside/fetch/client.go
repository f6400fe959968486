// Package fetch asks web servers and crawls a site, within bounds.
package fetch

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptrace"
	"net/netip"
	"net/textproto"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/net/html/charset"
	"golang.org/x/net/http/httpguts"
	"golang.org/x/net/publicsuffix"
	"golang.org/x/text/encoding"

	"trimlantern/core/address"
	"trimlantern/outside/disk"
	"trimlantern/outside/verbose"
)

// Options are how servers are reached.
type Options struct {
	Resolve []string      // HOST:PORT:ADDR, several of one host in order; HOST may be *, ADDR may have a port of its own
	CA      string        // PEM file of an authority to trust besides the system's
	Timeout time.Duration // for one answer; 0: 20 seconds
	Own     []string      // hosts that may lie in a private network
	Secrets http.Header   // sent to Own hosts over HTTPS alone, see Credentials
	Cookies bool          // keep those that Own hosts set
	Patient bool          // ask Own hosts again for what fails, several times, before it has failed
}

// Bounds of one answer.
const (
	maxBody   = 16 << 20
	maxHops   = 10
	maxRest   = 64 << 10         // of a body that is not wanted, so that the connection can be used again
	maxWait   = 20 * time.Second // that a busy server may ask for
	product   = "TrimLantern (checks a site's own pages)"
	userAgent = "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/144.0.0.0 Safari/537.36 " + product
	phone     = "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/144.0.0.0 Mobile Safari/537.36 " + product
)

// Asker is who asks, as a server can tell: by the device and the languages of its browser. The zero value is a
// browser of no language on a desk.
type Asker struct {
	Phone    bool
	Language string // of Accept-Language; "": English
}

// headers are what a browser says of itself and of what it takes (RFC 9110 §12.5), whichever thing it asks for.
func (a Asker) headers() http.Header {
	h := http.Header{"User-Agent": {userAgent}, "Accept": {"text/html,application/xhtml+xml,application/xml;q=0.9,image/avif,image/webp,*/*;q=0.8"},
		"Accept-Language": {cmp.Or(a.Language, "en-US,en;q=0.9")}, "Accept-Encoding": {"gzip, deflate, br, zstd"}, "Sec-Ch-Ua-Mobile": {"?0"}, "Upgrade-Insecure-Requests": {"1"}}
	if a.Phone {
		h["User-Agent"], h["Sec-Ch-Ua-Mobile"] = []string{phone}, []string{"?1"}
	}
	return h
}

// Client asks servers. It sends secrets, and cookies where it keeps them, to the site's own hosts
// alone.
type Client struct {
	http      *http.Client
	transport *http.Transport
	resolve   map[string][]string
	own       map[string]bool
	secrets   http.Header
	timeout   time.Duration
	asker     Asker
	patience  *patience // nil: a failure is one
}

// trusted adds the secrets to what goes to the site's own hosts over HTTPS. Redirects
// pass through it too, so none of them carries a secret away.
type trusted struct{ c *Client }

func (t trusted) RoundTrip(r *http.Request) (res *http.Response, err error) {
	began, method, at := time.Now(), r.Method, r.URL
	defer func() { verbose.Request(r.Context(), began, method, at, res, err) }()
	if len(t.c.secrets) > 0 && t.c.Confides(r.URL) {
		r = r.Clone(r.Context())
		for name, values := range t.c.secrets {
			if set := r.Header[name]; name == "Cookie" && len(set) > 0 { // besides those that the site has set
				values = []string{strings.Join(append(slices.Clone(values), set...), "; ")}
			}
			r.Header[name] = values
		}
	}
	if t.c.patience != nil && t.c.own[strings.ToLower(r.URL.Hostname())] {
		return t.c.patience.roundTrip(t.c.transport, r)
	}
	return t.c.transport.RoundTrip(r)
}

// Confides reports whether a URL is one that secrets may be sent to.
func (c *Client) Confides(u *url.URL) bool {
	return u.Scheme == "https" && c.own[strings.ToLower(u.Hostname())]
}

// Secrets returns the headers that go to the hosts that Confides names.
func (c *Client) Secrets() http.Header { return c.secrets }

// Credentials reads the headers of a staging site from a text: lines of
// "Name: value", or "basic NAME:PASSWORD". Its errors do not repeat it.
func Credentials(text string) (http.Header, error) {
	h := http.Header{}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if pair, ok := strings.CutPrefix(line, "basic "); ok && strings.Contains(pair, ":") {
			_, password, _ := strings.Cut(pair, ":")
			verbose.Secret(strings.TrimSpace(password))
			h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(strings.TrimSpace(pair))))
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok || !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(strings.TrimSpace(value)) {
			return nil, fmt.Errorf("line %d is neither \"Name: value\" nor \"basic NAME:PASSWORD\"", i+1)
		}
		verbose.Secret(strings.TrimSpace(value))
		h.Add(name, strings.TrimSpace(value))
	}
	return h, nil
}

// ErrPrivate says that a host's name leads into a private network.
var ErrPrivate = errors.New("leads into a private network")

// ErrHops says that redirects lead on and on.
var ErrHops = fmt.Errorf("redirects in a loop: more than %d redirects", maxHops)

// New makes a client. It fails where an option cannot be read.
func New(o Options) (*Client, error) {
	c := &Client{resolve: map[string][]string{}, own: map[string]bool{}}
	for _, r := range o.Resolve {
		from, to, err := parseResolve(r)
		if err != nil {
			return nil, err
		}
		c.resolve[from] = append(c.resolve[from], to)
	}
	for _, h := range o.Own {
		c.own[h] = true
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if o.CA != "" {
		pem, err := disk.ReadTrusted(o.CA, 4<<20)
		if err != nil {
			return nil, err
		}
		if !roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", o.CA)
		}
	}
	if o.Timeout == 0 {
		o.Timeout = 20 * time.Second
	}
	c.secrets, c.timeout = o.Secrets, o.Timeout
	if o.Patient {
		c.patience = &patience{}
	}
	c.connect(roots)
	c.follow(o.Cookies)
	return c, nil
}

// connect makes the transport.
func (c *Client) connect(roots *x509.CertPool) {
	c.transport = &http.Transport{
		DialContext:            c.Dial,
		TLSClientConfig:        &tls.Config{RootCAs: roots},
		ForceAttemptHTTP2:      true,
		MaxIdleConnsPerHost:    16,
		TLSHandshakeTimeout:    10 * time.Second,
		ResponseHeaderTimeout:  c.timeout,
		MaxResponseHeaderBytes: 1 << 20,
	}
}

// follow makes what follows redirects, and with cookies keeps those of own hosts.
func (c *Client) follow(cookies bool) {
	var jar http.CookieJar
	if cookies {
		kept, err := cookiejar.New(&cookiejar.Options{PublicSuffixList: publicsuffix.List})
		if err != nil {
			panic(err) // it never fails
		}
		jar = ownJar{kept, c}
	}
	whole := c.timeout
	if c.patience != nil {
		whole = 3 * c.timeout // all tries together
	}
	c.http = &http.Client{
		Jar:       jar,
		Timeout:   whole,
		Transport: trusted{c},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if t, ok := r.Context().Value(trailKey{}).(*trail); ok {
				t.to, t.hops = r.URL, append(t.hops, via[len(via)-1].URL.String())
			}
			if len(via) >= maxHops {
				return ErrHops
			}
			return nil
		},
	}
}

// Visitor returns the client of one visitor: it keeps cookies of its own. Where at names addresses
// (IP:PORT) for ports of host, it connects to these alone, and Leave ends its connections.
func (c *Client) Visitor(host string, at map[string]string) *Client {
	v := *c
	if len(at) > 0 {
		v.resolve = maps.Clone(c.resolve)
		for port, addr := range at {
			v.resolve[net.JoinHostPort(host, port)] = []string{addr}
		}
		v.connect(c.Roots())
	}
	v.follow(true)
	return &v
}

// As returns the client of one visitor who says this of himself, with cookies of his own and the same connections.
func (c *Client) As(a Asker) *Client {
	v := *c
	v.asker = a
	v.follow(true)
	return &v
}

// With returns the same visitor, with the cookies that he has, who now says this of himself.
func (c *Client) With(a Asker) *Client {
	v := *c
	v.asker = a
	return &v
}

// Leave ends the connections that wait for more.
func (c *Client) Leave() { c.transport.CloseIdleConnections() }

// ownJar keeps the cookies of the site's own hosts, as a browser would on a visit, and no others.
type ownJar struct {
	http.CookieJar
	c *Client
}

// SetCookies keeps what an own host sets.
func (j ownJar) SetCookies(u *url.URL, cookies []*http.Cookie) {
	if j.c.own[strings.ToLower(u.Hostname())] {
		j.CookieJar.SetCookies(u, cookies)
	}
}

// parseResolve reads HOST:PORT:ADDR; ADDR is an IP address, with or without a
// port of its own.
func parseResolve(s string) (from, to string, err error) {
	host, rest, ok1 := strings.Cut(s, ":")
	port, addr, ok2 := strings.Cut(rest, ":")
	_, perr := strconv.ParseUint(port, 10, 16)
	bad := fmt.Errorf("%q: write HOST:PORT:ADDR, like ternrock.example:443:127.0.0.1", s)
	if !ok1 || !ok2 || perr != nil || host == "" {
		return "", "", bad
	}
	if ip, err := netip.ParseAddr(strings.Trim(addr, "[]")); err == nil {
		return host + ":" + port, net.JoinHostPort(ip.String(), port), nil
	}
	if ap, err := netip.ParseAddrPort(addr); err == nil {
		return host + ":" + port, ap.String(), nil
	}
	return "", "", bad
}

// Dial connects to a host and port as all requests do: elsewhere where --resolve says so,
// and into no private network but the own hosts'.
func (c *Client) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	if to := c.Override(host, port); len(to) > 0 {
		var failed error
		for _, one := range to { // the first that answers, as with several addresses in the DNS
			conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, one)
			if err == nil {
				return conn, nil
			}
			failed = cmp.Or(failed, err)
		}
		return nil, failed
	}
	d := net.Dialer{Timeout: 10 * time.Second}
	if !c.own[host] { // what a page names must not steer us into a private network
		d.Control = func(_, ip string, _ syscall.RawConn) error {
			if h, _, err := net.SplitHostPort(ip); err != nil || address.IsPrivate(h) {
				return fmt.Errorf("%s %w", host, ErrPrivate)
			}
			return nil
		}
	}
	return d.DialContext(ctx, network, addr)
}

// Response is one answer, behind all redirects.
type Response struct {
	URL    *url.URL // where the answer came from
	Hops   []string // the URLs that redirected, in order
	Status int
	Type   string // media type, lower case, without parameters; where none is given, what browsers take it for
	Header http.Header
	Body   []byte
	Start  []byte // of a body that was not wanted: as much as tells what it is
	Cut    bool   // the body was longer than is read
	Coding string // the content coding that could not be taken off: then there is no Body

	memory *bytes.Buffer // that the body stands in
}

// bodies is the memory of bodies that were done with.
var bodies = sync.Pool{New: func() any { return bytes.NewBuffer(make([]byte, 0, 32<<10)) }}

// maxKept bounds how much memory of one body is kept for the next.
const maxKept = 256 << 10

// Done says that the body was read: its memory is used for others.
func (r *Response) Done() {
	if r.memory != nil && r.memory.Cap() <= maxKept {
		r.memory.Reset()
		bodies.Put(r.memory)
	}
	r.Body, r.memory = nil, nil
}

// Get asks for a URL and reads the answer, up to a bound. A body of a type that want
// refuses is not read; nil wants all.
func (c *Client) Get(ctx context.Context, u string, want func(typ string) bool) (*Response, error) {
	return c.get(ctx, u, want)
}

// Head asks for a URL and reads nothing of the answer but its headers; unlike HEAD,
// every server knows it.
func (c *Client) Head(ctx context.Context, u string) (*Response, error) {
	return c.get(ctx, u, func(string) bool { return false })
}

func (c *Client) get(ctx context.Context, u string, want func(string) bool) (*Response, error) {
	for try := 0; ; try++ {
		r, wait, err := c.once(ctx, u, want)
		// A server that is busy is asked once more, when it says.
		if err != nil || try > 0 || r.Status != http.StatusTooManyRequests && r.Status != http.StatusServiceUnavailable || wait > maxWait {
			return r, err
		}
		select {
		case <-time.After(max(wait, time.Second)):
		case <-ctx.Done():
			return r, nil
		}
	}
}

// trail is where redirects led: it is known also where the last of them gave nothing.
type trail struct {
	hops []string
	to   *url.URL
}

type trailKey struct{}

// once asks once. Where a redirect led to something that cannot be had, the error comes
// with a Response that has the way there.
func (c *Client) once(ctx context.Context, u string, want func(string) bool) (r *Response, wait time.Duration, err error) {
	way := &trail{}
	var early []string // what an Early Hints answer has browsers load ahead (RFC 8297)
	traced := httptrace.WithClientTrace(context.WithValue(ctx, trailKey{}, way), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
		if code == http.StatusEarlyHints && len(early) < 100 {
			early = append(early, h["Link"]...)
		}
		return nil
	}})
	req, err := http.NewRequestWithContext(traced, http.MethodGet, u, nil)
	if err != nil {
		return nil, 0, err
	}
	req.Header = c.asker.headers()
	res, err := c.http.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) { // it repeats method and URL
			err = ue.Err
		}
		if way.to != nil {
			r = &Response{URL: way.to, Hops: way.hops, Header: http.Header{}}
		}
		return r, 0, err
	}
	defer res.Body.Close()
	r = &Response{URL: res.Request.URL, Hops: way.hops, Status: res.StatusCode, Header: res.Header}
	if len(early) > 0 {
		r.Header["Link"] = append(r.Header["Link"], early...)
	}
	if seconds, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && seconds >= 0 {
		wait = time.Duration(min(seconds, 3600)) * time.Second
	}
	r.Type, _, _ = strings.Cut(strings.ToLower(res.Header.Get("Content-Type")), ";")
	r.Type = strings.TrimSpace(r.Type)
	body, strange := decoded(res.Body, res.Header.Get("Content-Encoding"))
	if strange != nil {
		body = res.Body
	}
	if slices.Contains(untyped, r.Type) && res.StatusCode < 400 {
		start := bufio.NewReaderSize(body, sniffed)
		head, _ := start.Peek(sniffed) // a body that breaks off does so below
		r.Type, _, _ = strings.Cut(http.DetectContentType(head), ";")
		body = start
	}
	missing := res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusGone // with a page that visitors see
	if want != nil && !want(r.Type) || res.StatusCode >= 400 && !(missing && want != nil) {
		r.Start = make([]byte, sniffed)
		n, _ := io.ReadFull(body, r.Start) // what does not come does not matter
		r.Start = r.Start[:n]
		_, _ = io.CopyN(io.Discard, body, maxRest)
		return r, wait, nil
	}
	if strange != nil {
		r.Coding = res.Header.Get("Content-Encoding")
		return r, wait, nil
	}
	r.memory = bodies.Get().(*bytes.Buffer)
	r.memory.Grow(int(max(0, min(res.ContentLength+bytes.MinRead, maxBody))))
	_, err = r.memory.ReadFrom(io.LimitReader(body, maxBody))
	r.Body = r.memory.Bytes()
	r.Cut = int64(len(r.Body)) == maxBody
	if e := declaredCharset(r.Body, res.Header.Get("Content-Type")); e != nil {
		if b, err := e.NewDecoder().Bytes(r.Body); err == nil {
			r.Body = b
		}
	}
	return r, wait, err
}

// untyped are the media types that say nothing: browsers look at the body then (MIME Sniffing §7).
var untyped = []string{"", "unknown/unknown", "application/unknown", "*/*"}

// sniffed is how much of a body tells what it is.
const sniffed = 512

// errCoding says that a content coding is none that can be taken off.
var errCoding = errors.New("is sent in a coding that was not asked for")

// decoded takes the content codings off that the transport did not (RFC 9110 §8.4): a server may send
// one that nobody asked for.
func decoded(body io.Reader, codings string) (io.Reader, error) {
	list := strings.Split(strings.ToLower(codings), ",")
	for i := len(list) - 1; i >= 0; i-- {
		var err error
		switch coding := strings.TrimSpace(list[i]); coding {
		case "", "identity":
		case "gzip", "x-gzip":
			body, err = gzip.NewReader(body)
		case "deflate": // zlib's form (RFC 9110 §8.4.1.2), or the bare one, which browsers take too
			start := bufio.NewReader(body)
			if head, _ := start.Peek(2); len(head) == 2 && head[0]&15 == 8 && (int(head[0])<<8|int(head[1]))%31 == 0 {
				body, err = zlib.NewReader(start)
			} else {
				body = flate.NewReader(start)
			}
		case "br":
			body = brotli.NewReader(body)
		case "zstd":
			var z *zstd.Decoder
			if z, err = zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxWindow)); err == nil {
				body = z
			}
		default:
			err = errCoding
		}
		if err != nil {
			return nil, err
		}
	}
	return body, nil
}

// maxWindow is what RFC 8878 has browsers take for a window of zstd at the most.
const maxWindow = 8 << 20

// declaredXML finds the encoding in the declaration of an XML document, declaredCSS that of
// a style sheet (CSS Syntax §3.2).
var (
	declaredXML = regexp.MustCompile(`^(?:\xef\xbb\xbf)?<\?xml[^>]{0,200}\sencoding\s*=\s*["']([-\w.:]{1,40})["']`)
	declaredCSS = regexp.MustCompile(`^@charset "([-\w.:]{1,40})";`)
)

// declaredCharset returns the encoding of a text that is not UTF-8, from its byte order mark, its
// header or its own declaration (Encoding Standard); nil if it is UTF-8 or declares none. In some
// encodings bytes that look like ASCII are parts of characters.
func declaredCharset(b []byte, contentType string) encoding.Encoding {
	head := b[:min(len(b), 1024)]
	declared := strings.ToLower(contentType)
	if utf8.Valid(b) && !strings.Contains(declared, "utf-16") && !strings.Contains(declared, "2022-") && !bytes.Contains(head, []byte("2022-")) {
		return nil
	}
	e, name, certain := charset.DetermineEncoding(head, contentType)
	switch {
	case certain:
	case strings.HasPrefix(name, "utf-16"):
		return nil // a declaration in ASCII cannot be in UTF-16 (HTML §13.2.3.2)
	case name == "windows-1252": // also the fallback for an unknown charset
		e = nil
		for _, declaration := range []*regexp.Regexp{declaredXML, declaredCSS} {
			if m := declaration.FindSubmatch(head); m != nil {
				e, name = charset.Lookup(string(m[1]))
			}
		}
	}
	if e == nil || name == "utf-8" {
		return nil
	}
	return e
}

// Step asks once and follows nothing; the body is not read. Location is absolute,
// or "" where the answer sends nowhere.
func (c *Client) Step(ctx context.Context, method, u string) (res *http.Response, location string, err error) {
	return c.step(ctx, method, u, nil, nil)
}

// StepWith is Step with headers.
func (c *Client) StepWith(ctx context.Context, method, u string, headers http.Header) (res *http.Response, location string, err error) {
	return c.step(ctx, method, u, headers, nil)
}

// maxStep is how much of a page is read on the way.
const maxStep = 512 << 10

// StepIn is Step with the beginning of the page, where the answer is one that sends nowhere.
func (c *Client) StepIn(ctx context.Context, method, u string) (res *http.Response, location string, page []byte, err error) {
	res, location, err = c.step(ctx, method, u, nil, func(res *http.Response) {
		if typ := strings.ToLower(res.Header.Get("Content-Type")); typ != "" && !strings.Contains(typ, "html") || res.StatusCode/100 == 3 {
			return
		}
		if body, err := decoded(res.Body, res.Header.Get("Content-Encoding")); err == nil {
			page, _ = io.ReadAll(io.LimitReader(body, maxStep)) // of one that breaks off, what came counts
		}
	})
	return res, location, page, err
}

func (c *Client) step(ctx context.Context, method, u string, headers http.Header, read func(*http.Response)) (res *http.Response, location string, err error) {
	var body io.Reader
	if method == http.MethodPost {
		body = strings.NewReader("trimlantern=1")
	}
	ctx, cancel := context.WithTimeout(ctx, c.http.Timeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, u, body)
	if err != nil {
		return nil, "", err
	}
	req.Header = c.asker.headers()
	for name, values := range headers {
		req.Header[name] = values
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	jar := c.http.Jar
	if jar != nil {
		for _, cookie := range jar.Cookies(req.URL) {
			req.AddCookie(cookie)
		}
	}
	res, err = trusted{c}.RoundTrip(req)
	if err != nil {
		return nil, "", err
	}
	if read != nil {
		read(res)
	}
	res.Body.Close()
	if jar != nil {
		jar.SetCookies(req.URL, res.Cookies())
	}
	if res.StatusCode/100 == 3 && res.Header.Get("Location") != "" {
		to, err := req.URL.Parse(res.Header.Get("Location"))
		if err != nil {
			return res, "", fmt.Errorf("its redirect cannot be read: %w", err)
		}
		location = to.String()
	}
	return res, location, nil
}

// Roots returns the authorities that are trusted.
func (c *Client) Roots() *x509.CertPool {
	return c.transport.TLSClientConfig.RootCAs
}

// Said reports whether it was said where a port of this very host is.
func (c *Client) Said(host, port string) bool {
	return len(c.resolve[net.JoinHostPort(host, port)]) > 0
}

// Override returns where a host and port were said to be, in order.
func (c *Client) Override(host, port string) []string {
	if to := c.resolve[net.JoinHostPort(host, port)]; len(to) > 0 {
		return to
	}
	return c.resolve["*:"+port]
}
