package certs

import (
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"hash/fnv"
	"slices"
	"strings"
	"time"
)

// Window is when an authority wants a certificate to be renewed (RFC 9773 §4.2).
type Window struct {
	Start time.Time `json:"start"`
	End   time.Time `json:"end"`
}

// Sound reports whether the window is one: it ends after it starts.
func (w *Window) Sound() bool { return w != nil && w.End.After(w.Start) && !w.Start.IsZero() }

// RenewAt returns when a certificate is to be renewed: at a moment of the authority's window that is the same
// each time it is asked, so that not all certificates come at once; without a window when a third of its life
// is left, or half of a life so short that a third leaves no time for a few tries. It is never later than that: an
// authority cannot put off what keeps the site up.
func RenewAt(leaf *x509.Certificate, w *Window) time.Time {
	life := leaf.NotAfter.Sub(leaf.NotBefore)
	third := leaf.NotAfter.Add(-life / 3)
	if life < shortLife {
		third = leaf.NotAfter.Add(-life / 2)
	}
	if !w.Sound() {
		return third
	}
	h := fnv.New64a()
	_, _ = h.Write(leaf.Raw) // it never fails
	span := w.End.Sub(w.Start)
	at := w.Start.Add(time.Duration(float64(span) * float64(h.Sum64()%1000) / 1000))
	if at.After(third) {
		return third
	}
	return at
}

// shortLife is the life of certificates that are renewed at half of it.
const shortLife = 10 * 24 * time.Hour

// RenewalID names a certificate to an authority that is asked for a window (RFC 9773 §4.1): the identifier
// of the issuer's key and the serial number, both in base64url.
func RenewalID(leaf *x509.Certificate) (string, error) {
	if len(leaf.AuthorityKeyId) == 0 {
		return "", errors.New("the certificate does not name its issuer's key")
	}
	der, err := asn1.Marshal(leaf.SerialNumber)
	if err != nil {
		return "", err
	}
	var raw asn1.RawValue
	if _, err := asn1.Unmarshal(der, &raw); err != nil {
		return "", err
	}
	code := base64.RawURLEncoding
	return code.EncodeToString(leaf.AuthorityKeyId) + "." + code.EncodeToString(raw.Bytes), nil
}

// Ordered returns the names that a certificate is ordered for: in the order given, each once, without those
// that a wildcard among them covers, which authorities refuse beside it.
func Ordered(names []string) (out []string) {
	for _, n := range names {
		_, parent, _ := strings.Cut(n, ".")
		if slices.Contains(out, n) || !strings.HasPrefix(n, "*.") && slices.Contains(names, "*."+parent) {
			continue
		}
		out = append(out, n)
	}
	return out
}

// Uncovered returns the names that a certificate is not for. A name with a wildcard is covered by itself
// alone.
func Uncovered(c *x509.Certificate, names []string) (out []string) {
	for _, n := range names {
		if strings.HasPrefix(n, "*.") && slices.Contains(c.DNSNames, n) {
			continue
		}
		if strings.HasPrefix(n, "*.") || c.VerifyHostname(n) != nil {
			out = append(out, n)
		}
	}
	return out
}
