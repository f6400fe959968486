package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"trimlantern/outside/fetch"
	"trimlantern/outside/verbose"
)

// ErrOtherContent says that a proof of ownership has another content than it should.
var ErrOtherContent = errors.New("answers something else than the proof")

// maxProof bounds how much of an answer is read.
const maxProof = 64 << 10

// Proof asks for a proof of ownership as an authority does (RFC 8555 §8.3): over HTTP from what listens at addr,
// following redirects to ports 80 and 443, whatever certificate is there. It returns how many redirects there were,
// and fails where the answer is not want.
func Proof(ctx context.Context, c *fetch.Client, host, addr, path, want string) (redirects int, err error) {
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	first := true
	transport := &http.Transport{
		DisableKeepAlives: true,
		// An authority checks no certificate here: the site may have none that is good yet.
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
			if first {
				first = false
				return (&net.Dialer{Timeout: handshakeTime}).DialContext(ctx, network, addr)
			}
			return c.Dial(ctx, network, to)
		},
	}
	client := &http.Client{Transport: transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if redirects = len(via); redirects >= 10 {
			return fetch.ErrHops
		}
		if p := r.URL.Port(); r.URL.Scheme != "http" && r.URL.Scheme != "https" || p != "" && p != "80" && p != "443" {
			return fmt.Errorf("redirects to %s, where authorities do not follow", r.URL)
		}
		return nil
	}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, (&url.URL{Scheme: "http", Host: host, Path: path}).String(), nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("User-Agent", "TrimLantern (checks a site's own pages)")
	began := time.Now()
	res, err := client.Do(req)
	verbose.Request(ctx, began, req.Method, req.URL, res, err)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) { // it repeats method and URL
			err = ue.Err
		}
		return redirects, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return redirects, fmt.Errorf("answers %d", res.StatusCode)
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, maxProof))
	if err != nil {
		return redirects, err
	}
	if strings.TrimSpace(string(b)) != strings.TrimSpace(want) {
		return redirects, ErrOtherContent
	}
	return redirects, nil
}
