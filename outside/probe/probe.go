// Package probe finds out what other hosts can do: whether one serves over HTTPS
// what a page loads from it over HTTP.
package probe

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"trimlantern/core/markup"
	"trimlantern/core/rewrite"
	"trimlantern/outside/fetch"
)

// Verdict is what a probe found out about a host.
type Verdict struct {
	Host    string    `json:"host"`
	Answer  string    `json:"answer"` // "secure", "insecure" or "unknown"
	Why     string    `json:"why"`
	Example string    `json:"example"`          // the URL that was asked for
	Assets  int       `json:"assets,omitempty"` // how many were asked for
	Asked   time.Time `json:"asked"`
}

// Meaning returns the verdict as the rules of rewriting know it.
func (v Verdict) Meaning() rewrite.Verdict {
	switch v.Answer {
	case "secure":
		return rewrite.Secure
	case "insecure":
		return rewrite.Insecure
	case "leave":
		return rewrite.Keep
	}
	return rewrite.Unknown
}

// Host asks whether an insecure URL's host serves over HTTPS what a page needs of it, with a
// certificate that fits, and without sending back to HTTP. What counts is that HTTPS serves a thing of
// the kind that the URL names; what HTTP serves is asked only where that does not tell.
func Host(ctx context.Context, c *fetch.Client, host, insecure string, now time.Time) Verdict {
	v := Verdict{Host: host, Answer: "unknown", Example: insecure, Asked: now}
	_, rest, _ := strings.Cut(insecure, "://")
	secure, err := c.Head(ctx, "https://"+rest)
	if err != nil {
		v.Answer, v.Why = failure(err)
		return v
	}
	if secure.URL.Scheme != "https" {
		v.Answer, v.Why = "insecure", "its HTTPS address sends back to HTTP"
		return v
	}
	ok := secure.Status/100 == 2
	if kind := markup.AssetKind(insecure); ok && kind != "" && fits(kind, secure.Type) {
		v.Answer, v.Why = "secure", "serves "+secure.Type+" over HTTPS, as the page needs it"
		return v
	}
	plain, err := c.Head(ctx, "http://"+rest)
	switch {
	case ok && (err != nil || plain.Status/100 != 2):
		v.Answer, v.Why = "secure", "serves "+cmp.Or(secure.Type, "it")+" over HTTPS; HTTP gives no usable response"
		if kind := markup.AssetKind(insecure); kind != "" {
			v.Answer, v.Why = "insecure", fmt.Sprintf("serves %s over HTTPS where the page needs %s", secure.Type, kind)
		}
	case ok && plain.Type != secure.Type && family(plain.Type) != family(secure.Type):
		v.Answer, v.Why = "insecure", fmt.Sprintf("serves %s over HTTPS and %s over HTTP", secure.Type, plain.Type)
	case ok:
		v.Answer, v.Why = "secure", "serves the same over HTTPS"
	case err == nil && plain.Status/100 == 2:
		v.Answer, v.Why = "insecure", fmt.Sprintf("answers %d over HTTPS and %d over HTTP", secure.Status, plain.Status)
	case err == nil && plain.Status/100 == secure.Status/100:
		v.Answer, v.Why = "secure", fmt.Sprintf("answers %d over HTTPS and HTTP alike", secure.Status)
	default:
		v.Why = fmt.Sprintf("answers %d over HTTPS; HTTP gives no usable response", secure.Status)
	}
	return v
}

// family is what media types have to share to be the same kind of thing: a picture in another format
// is still a picture.
func family(typ string) string {
	major, _, _ := strings.Cut(typ, "/")
	if major == "image" || major == "audio" || major == "video" || major == "font" {
		return major
	}
	return typ
}

// fits reports whether a media type is what a page needs that loads a URL of this kind.
func fits(kind markup.Kind, typ string) bool {
	switch kind {
	case markup.Image:
		return strings.HasPrefix(typ, "image/")
	case markup.Style:
		return typ == "text/css"
	case markup.Script:
		return strings.HasSuffix(typ, "javascript") || strings.HasSuffix(typ, "ecmascript")
	case markup.Font:
		return strings.HasPrefix(typ, "font/") || strings.Contains(typ, "font")
	case markup.Audio, markup.Video:
		return strings.HasPrefix(typ, "audio/") || strings.HasPrefix(typ, "video/") || typ == "application/ogg"
	}
	return false
}

// Unreachable reports whether a request failed since this machine has no way to such addresses, as one
// without IPv6: that tells nothing of the server.
func Unreachable(err error) bool {
	return errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EADDRNOTAVAIL) || errors.Is(err, syscall.EAFNOSUPPORT)
}

// Failure says in words what a failed request tells about a host.
func Failure(err error) string {
	_, why := failure(err)
	return why
}

// untrusted says why a certificate is not believed.
func untrusted(e *tls.CertificateVerificationError) string {
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil:
		if end := invalid.Cert.NotAfter; time.Now().After(end) {
			return "its certificate expired on " + end.UTC().Format("2006-01-02")
		}
		return "its certificate begins on " + invalid.Cert.NotBefore.UTC().Format("2006-01-02")
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.IncompatibleUsage:
		return "its certificate is not made for servers"
	case errors.As(e.Err, &unknown):
		return "its certificate is not trusted: an unknown authority, or an incomplete chain"
	}
	return "its certificate is not trusted"
}

// failure says what a failed HTTPS request tells about the host.
func failure(err error) (answer, why string) {
	var dns *net.DNSError
	var cert *tls.CertificateVerificationError
	var hostname x509.HostnameError
	var record tls.RecordHeaderError
	var op *net.OpError
	var timeout net.Error
	switch {
	case errors.Is(err, fetch.ErrHops):
		return "unknown", fetch.ErrHops.Error()
	case errors.Is(err, fetch.ErrPrivate):
		return "unknown", "its name leads into a private network: not asked"
	case errors.As(err, &dns):
		return "unknown", "its name cannot be looked up"
	case errors.As(err, &hostname):
		return "insecure", "its certificate is for another name"
	case errors.As(err, &cert):
		return "insecure", untrusted(cert)
	case errors.As(err, &record), errors.Is(err, http.ErrSchemeMismatch):
		return "insecure", "does not speak TLS"
	case errors.As(err, &op) && op.Op == "remote error":
		return "insecure", "refuses TLS for this name"
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "unknown", "gave no answer in time"
	case Unreachable(err):
		return "unknown", "cannot be reached from this machine"
	case errors.As(err, &op) && op.Op == "dial" && !op.Timeout():
		return "insecure", "nothing listens there"
	}
	return "unknown", err.Error()
}
