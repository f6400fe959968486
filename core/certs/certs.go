// Package certs judges the certificates that a server sends: whether they are for
// the site's names, in date, in order and whole, and strong enough (RFC 5280,
// RFC 8446 §4.4.2). It takes no part in the network and has no clock of its own.
package certs

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"slices"
	"time"
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

// Judge looks at everything. The chain must hold a certificate.
func (s Sent) Judge() []Finding {
	leaf, place := s.Leaf()
	var out []Finding
	add := func(f Finding) { out = append(out, f) }
	if place > 0 {
		add(Finding{Code: NotFirst, Number: place + 1})
	}
	s.names(s.Chain[0], add)
	s.dates(leaf, add)
	s.use(leaf, add)
	s.strength(add)
	s.trust(leaf, add)
	return out
}

type adder func(Finding)

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
		add(Finding{Code: Covers, Names: covered})
	case len(covered) == 0:
		add(Finding{Code: OtherNames, Names: shown(first), Wanted: s.Names})
	default:
		add(Finding{Code: NamesMissing, Names: missing, Wanted: s.Names})
	}
}

// shown are the names that a certificate is for.
func shown(c *x509.Certificate) []string {
	names := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
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
	left := leaf.NotAfter.Sub(s.Now)
	days := int(left.Hours() / 24)
	switch {
	case s.Now.Before(leaf.NotBefore):
		add(Finding{Code: NotYet, When: leaf.NotBefore})
	case left <= 0:
		add(Finding{Code: Expired, When: leaf.NotAfter})
	case left < soon:
		add(Finding{Code: EndsSoon, When: leaf.NotAfter, Days: days})
	default:
		add(Finding{Code: InDate, When: leaf.NotAfter, Days: days})
	}
	for _, c := range s.Chain {
		if c != leaf && c.NotAfter.Before(s.Now) && !bytes.Equal(c.RawIssuer, c.RawSubject) {
			add(Finding{Code: IssuerExpired, Subject: name(c), When: c.NotAfter})
		}
	}
}

func name(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return c.Subject.String()
}

func (s Sent) strength(add adder) {
	weak := false
	for i, c := range s.Chain {
		switch key := c.PublicKey.(type) {
		case *rsa.PublicKey:
			if n := key.N.BitLen(); n < minRSA {
				weak = true
				add(Finding{Code: ShortRSA, Number: i + 1, Bits: n})
			}
		case *ecdsa.PublicKey:
			if n := key.Curve.Params().BitSize; n < 256 {
				weak = true
				add(Finding{Code: ShortCurve, Number: i + 1, Bits: n})
			}
		default:
			if i == 0 {
				weak = true
				add(Finding{Code: OddKey, Algorithm: c.PublicKeyAlgorithm.String()})
			}
		}
		root := bytes.Equal(c.RawIssuer, c.RawSubject)
		switch c.SignatureAlgorithm {
		case x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
			if !root || i == 0 {
				weak = true
				add(Finding{Code: OldSignature, Number: i + 1, Algorithm: c.SignatureAlgorithm.String()})
			}
		}
	}
	if !weak {
		add(Finding{Code: Strong})
	}
}

// trust looks whether the chain leads to an authority, and is in order.
func (s Sent) trust(leaf *x509.Certificate, add adder) {
	if bytes.Equal(leaf.RawIssuer, leaf.RawSubject) && leaf.CheckSignatureFrom(leaf) == nil || selfSigned(leaf) {
		if _, err := s.verify(leaf, nil); err != nil {
			add(Finding{Code: SelfSigned})
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
			add(Finding{Code: Unknown, Subject: name(top)})
		default:
			f := Finding{Code: Incomplete, Subject: name(top), Issuer: top.Issuer.CommonName}
			if len(top.IssuingCertificateURL) > 0 {
				f.URL = top.IssuingCertificateURL[0]
			}
			add(f)
		}
		return
	}
	add(Finding{Code: Trusted})
	for i := 0; i+1 < len(s.Chain); i++ {
		if s.Chain[i].CheckSignatureFrom(s.Chain[i+1]) != nil {
			add(Finding{Code: OutOfOrder, Number: i + 1})
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
