// Package certs judges the certificates that a server sends: whether they are for
// the site's names, in date, in order and whole, and strong enough (RFC 5280,
// RFC 8446 §4.4.2). It takes no part in the network and has no clock of its own.
package certs

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"trimlantern/core/point"
)

// Sent is what a server sent, and what it is held against.
type Sent struct {
	Chain []*x509.Certificate // in the order in which they were sent, the site's own first
	Names []string            // that the site has
	Roots *x509.CertPool      // the authorities that are trusted
	Now   time.Time
	Soon  time.Duration // certificates that end within it need care; 0: the usual, see Usual

	Served bool                   // a server sent it just now: then Staple is what it sent along
	Staple []byte                 // an OCSP answer; nil: none
	Lists  []*x509.RevocationList // of revoked certificates, as they were fetched; believed where an authority signed them
	Root   *x509.Certificate      // the authority's root, where it is known and not sent
}

// minRSA is the length of an RSA key, in bits, below which browsers refuse it.
const minRSA = 2048

// Leaf returns the site's own certificate: as a rule the first, else the first that
// is for one of the names.
func (s Sent) Leaf() (leaf *x509.Certificate, place int) {
	for i, c := range s.Chain {
		if !c.IsCA && slices.ContainsFunc(s.Names, func(n string) bool { return c.VerifyHostname(n) == nil }) {
			return c, i
		}
	}
	return s.Chain[0], 0
}

// Judge looks at every point. The chain must hold a certificate.
func (s Sent) Judge() []point.Point {
	leaf, place := s.Leaf()
	var out []point.Point
	add := func(id string, g point.Grade, what, why, do string) {
		out = append(out, point.Point{ID: id, About: []string{}, Grade: g, What: what, Why: why, Do: do})
	}
	if place > 0 {
		add("first", point.Stop, fmt.Sprintf("the site's own certificate is sent as number %d, not as the first", place+1),
			"browsers take the first one for the site's", "put the site's own certificate first in the server's file")
	}
	s.names(s.Chain[0], add)
	s.dates(leaf, add)
	s.use(leaf, add)
	s.strength(add)
	s.trust(leaf, add)
	return out
}

type adder func(id string, g point.Grade, what, why, do string)

func (s Sent) names(first *x509.Certificate, add adder) {
	var covered, missing []string
	for _, n := range s.Names {
		if first.VerifyHostname(n) == nil {
			covered = append(covered, n)
		} else {
			missing = append(missing, n)
		}
	}
	switch {
	case len(missing) == 0:
		add("names", point.Good, "it covers "+strings.Join(covered, ", "), "", "")
	case len(covered) == 0:
		add("names", point.Stop, "it is for "+strings.Join(shown(first), ", ")+", not for "+strings.Join(s.Names, " or "), "browsers show a warning in place of the site",
			"get a certificate for "+strings.Join(s.Names, ", ")+", or let the server send the one that it has for them")
	default:
		add("names", point.Stop, "it does not cover "+strings.Join(missing, ", "), "who types that name gets a warning, before any redirect can help",
			"get a certificate for all names: "+strings.Join(s.Names, ", "))
	}
}

// shown are the names that a certificate is for.
func shown(c *x509.Certificate) []string {
	names := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	if len(names) == 0 {
		names = append(names, "no name at all")
	}
	return names
}

// Usual returns within which time of its end a certificate needs care, where nobody said: three weeks, or a quarter
// of a life that is so short that three weeks would always be too late.
func Usual(leaf *x509.Certificate) time.Duration {
	return min(21*24*time.Hour, leaf.NotAfter.Sub(leaf.NotBefore)/4)
}

func (s Sent) dates(leaf *x509.Certificate, add adder) {
	soon := s.Soon
	if soon == 0 {
		soon = Usual(leaf)
	}
	day := func(t time.Time) string { return t.UTC().Format("2006-01-02") }
	left := leaf.NotAfter.Sub(s.Now)
	days := int(left.Hours() / 24)
	switch {
	case s.Now.Before(leaf.NotBefore):
		add("dates", point.Stop, "it begins on "+day(leaf.NotBefore), "browsers refuse it until then", "wait, or check the clock of the machine that made it")
	case left <= 0:
		add("dates", point.Stop, "it expired on "+day(leaf.NotAfter), "browsers show a warning in place of the site", "renew it, and let it renew by itself from now on")
	case left < soon:
		add("dates", point.Care, fmt.Sprintf("it ends in %d days, on %s", days, day(leaf.NotAfter)), "then browsers show a warning in place of the site", "renew it now, and find out why nothing did")
	default:
		add("dates", point.Good, fmt.Sprintf("it is good for %d more days, to %s", days, day(leaf.NotAfter)), "", "")
	}
	for _, c := range s.Chain {
		if c != leaf && c.NotAfter.Before(s.Now) && !bytes.Equal(c.RawIssuer, c.RawSubject) {
			add("dates-chain", point.Stop, "the intermediate certificate "+name(c)+" ended on "+day(c.NotAfter), "browsers that have no other refuse the site", "get the authority's newest intermediate certificate")
		}
	}
}

func name(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return fmt.Sprintf("%q", c.Subject.CommonName)
	}
	return fmt.Sprintf("%q", c.Subject.String())
}

func (s Sent) strength(add adder) {
	weak := false
	for i, c := range s.Chain {
		switch key := c.PublicKey.(type) {
		case *rsa.PublicKey:
			if n := key.N.BitLen(); n < minRSA {
				weak = true
				add("key", point.Stop, fmt.Sprintf("certificate %d has an RSA key of %d bits", i+1, n), "browsers refuse keys below 2048 bits", "make a new key: trimlantern cannot mend this one")
			}
		case *ecdsa.PublicKey:
			if n := key.Curve.Params().BitSize; n < 256 {
				weak = true
				add("key", point.Stop, fmt.Sprintf("certificate %d has an elliptic key of %d bits", i+1, n), "browsers refuse it", "make a new key on P-256")
			}
		default:
			if i == 0 {
				weak = true
				add("key", point.Care, "its key is of a kind that browsers do not take: "+c.PublicKeyAlgorithm.String(), "browsers know RSA and ECDSA", "make a new key on P-256")
			}
		}
		root := bytes.Equal(c.RawIssuer, c.RawSubject)
		switch c.SignatureAlgorithm {
		case x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
			if !root || i == 0 {
				weak = true
				add("signature", point.Stop, fmt.Sprintf("certificate %d is signed with an obsolete algorithm (%s)", i+1, c.SignatureAlgorithm), "browsers refuse it", "get a new certificate; authorities sign with SHA-256 today")
			}
		}
	}
	if !weak {
		add("key", point.Good, "its key and signatures are strong enough", "", "")
	}
}

// trust looks whether the chain leads to an authority, and is in order.
func (s Sent) trust(leaf *x509.Certificate, add adder) {
	if bytes.Equal(leaf.RawIssuer, leaf.RawSubject) && leaf.CheckSignatureFrom(leaf) == nil || selfSigned(leaf) {
		if _, err := s.verify(leaf, nil); err != nil {
			add("trust", point.Stop, "it is self-signed", "no browser trusts it", "get one from an authority")
			return
		}
	}
	var rest []*x509.Certificate
	for _, c := range s.Chain {
		if c != leaf {
			rest = append(rest, c)
		}
	}
	if _, err := s.verify(leaf, rest); err != nil {
		if slices.ContainsFunc(rest, func(c *x509.Certificate) bool { return c.NotAfter.Before(s.Now) }) {
			return // that is the reason, and it is named already
		}
		top := s.top(leaf)
		switch {
		case bytes.Equal(top.RawIssuer, top.RawSubject):
			add("trust", point.Stop, "it comes from "+name(top)+", which is no authority that browsers know", "browsers show a warning in place of the site", "get one from a public authority; a private one must be installed on every visitor's machine")
		default:
			do := "put the authority's intermediate certificate " + fmt.Sprintf("%q", top.Issuer.CommonName) + " behind the site's own in the server's file"
			if len(top.IssuingCertificateURL) > 0 {
				do += "; the authority offers it at " + top.IssuingCertificateURL[0]
			}
			add("chain", point.Stop, fmt.Sprintf("chain incomplete: the server does not send %[2]q, which issued %[1]s", name(top), top.Issuer.CommonName),
				"some browsers find it elsewhere, others and most programs refuse the site", do)
		}

		return
	}
	add("trust", point.Good, "it leads to an authority that browsers know", "", "")
	for i := 0; i+1 < len(s.Chain); i++ {
		if s.Chain[i].CheckSignatureFrom(s.Chain[i+1]) != nil {
			add("order", point.Care, fmt.Sprintf("the chain is out of order: number %d does not come from number %d", i+1, i+2), "older programs read it in order and refuse the site",
				"sort the server's file: the site's own certificate, then each one's issuer")
			return
		}
	}
}

// selfSigned reports whether a certificate that may not sign others signed itself.
func selfSigned(c *x509.Certificate) bool {
	return bytes.Equal(c.RawIssuer, c.RawSubject) && c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
}

// verify builds a chain from the leaf; what ended is judged elsewhere, so the time is
// one at which the leaf is good.
func (s Sent) verify(leaf *x509.Certificate, rest []*x509.Certificate) ([][]*x509.Certificate, error) {
	pool := x509.NewCertPool()
	for _, c := range rest {
		pool.AddCert(c)
	}
	at := s.Now
	if at.After(leaf.NotAfter) {
		at = leaf.NotAfter
	}
	if at.Before(leaf.NotBefore) {
		at = leaf.NotBefore
	}
	return leaf.Verify(x509.VerifyOptions{Roots: s.Roots, Intermediates: pool, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
}

// top follows the issuers among what was sent as far as they lead.
func (s Sent) top(leaf *x509.Certificate) *x509.Certificate {
	at := leaf
	for range s.Chain {
		next := slices.IndexFunc(s.Chain, func(c *x509.Certificate) bool { return c != at && bytes.Equal(c.RawSubject, at.RawIssuer) })
		if next < 0 || bytes.Equal(at.RawIssuer, at.RawSubject) {
			break
		}
		at = s.Chain[next]

	}
	return at
}
