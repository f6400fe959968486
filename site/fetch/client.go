// Package fetch asks web servers and crawls a site, within bounds.
package fetch

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"trimlantern/core/address"
)

// Options are how servers are reached.
type Options struct {
	Resolve []string      // HOST:PORT:ADDR; HOST may be *, ADDR may have a port of its own
	CA      string        // PEM file of an authority to trust besides the system's
	Timeout time.Duration // for one answer; 0: 20 seconds
	Own     []string      // hosts that may lie in a private network
}

// Bounds of one answer.
const (
	maxBody   = 16 << 20
	maxHops   = 10
	userAgent = "TrimLantern (checks a site's own pages)"
)

// Client asks servers. It keeps no cookies and sends no credentials.
type Client struct {
	http    *http.Client
	resolve map[string]string
	own     map[string]bool
}

// ErrPrivate says that a host's name leads into a private network.
var ErrPrivate = errors.New("leads into a private network")

// New makes a client. It fails where an option cannot be read.
func New(o Options) (*Client, error) {
	c := &Client{resolve: map[string]string{}, own: map[string]bool{}}
	for _, r := range o.Resolve {
		from, to, err := parseResolve(r)
		if err != nil {
			return nil, err
		}
		c.resolve[from] = to
	}
	for _, h := range o.Own {
		c.own[h] = true
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if o.CA != "" {
		pem, err := os.ReadFile(o.CA)
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
	c.http = &http.Client{
		Timeout: o.Timeout,
		Transport: &http.Transport{
			DialContext:            c.dial,
			TLSClientConfig:        &tls.Config{RootCAs: roots},
			ForceAttemptHTTP2:      true,
			MaxIdleConnsPerHost:    8,
			TLSHandshakeTimeout:    10 * time.Second,
			ResponseHeaderTimeout:  o.Timeout,
			MaxResponseHeaderBytes: 1 << 20,
		},
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) >= maxHops {
				return fmt.Errorf("more than %d redirects", maxHops)
			}
			return nil
		},
	}
	return c, nil
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

func (c *Client) dial(ctx context.Context, network, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	to := c.resolve[addr]
	if to == "" {
		to = c.resolve["*:"+port]
	}
	if to != "" {
		return (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, to)
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
	Type   string // media type, lower case, without parameters
	Header http.Header
	Body   []byte
	Cut    bool // the body was longer than is read
}

// Get asks for a URL and reads the answer, up to a bound.
func (c *Client) Get(ctx context.Context, u string) (*Response, error) { return c.get(ctx, u, maxBody) }

// Head asks for a URL and reads no more than the beginning of the answer; unlike
// HEAD, every server knows it.
func (c *Client) Head(ctx context.Context, u string) (*Response, error) { return c.get(ctx, u, 512) }

func (c *Client) get(ctx context.Context, u string, limit int64) (*Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", userAgent)
	res, err := c.http.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) { // it repeats method and URL
			err = ue.Err
		}
		return nil, err
	}
	defer res.Body.Close()
	r := &Response{URL: res.Request.URL, Status: res.StatusCode, Header: res.Header}
	for prev := res.Request.Response; prev != nil; prev = prev.Request.Response {
		r.Hops = append([]string{prev.Request.URL.String()}, r.Hops...)
	}
	r.Type, _, _ = strings.Cut(strings.ToLower(res.Header.Get("Content-Type")), ";")
	r.Type = strings.TrimSpace(r.Type)
	r.Body, err = io.ReadAll(io.LimitReader(res.Body, limit))
	r.Cut = int64(len(r.Body)) == limit
	return r, err
}

// Step asks once and follows nothing; the body is not read. Location is absolute,
// or "" where the answer sends nowhere.
func (c *Client) Step(ctx context.Context, method, u string) (res *http.Response, location string, err error) {
	return c.StepWith(ctx, method, u, nil)
}

// StepWith is Step with headers.
func (c *Client) StepWith(ctx context.Context, method, u string, headers http.Header) (res *http.Response, location string, err error) {
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
	for name, values := range headers {
		req.Header[name] = values
	}
	req.Header.Set("User-Agent", userAgent)
	if body != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	res, err = c.http.Transport.RoundTrip(req)
	if err != nil {
		return nil, "", err
	}
	res.Body.Close()
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
	return c.http.Transport.(*http.Transport).TLSClientConfig.RootCAs
}

// Override returns where a host and port were said to be, or "".
func (c *Client) Override(host, port string) string {
	if to := c.resolve[host+":"+port]; to != "" {
		return to
	}
	return c.resolve["*:"+port]
}
