// Package certs judges the certificates that a server sends: whether they are for
// the site's names, in date, in order and whole, and strong enough (RFC 5280,
// RFC 8446 §4.4.2). It takes no part in the network and has no clock of its own.
package certs

import (
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
	way := s.way(leaf)
	s.names(s.Chain[0], add)
	s.dates(leaf, way, add)
	s.use(leaf, way, add)
	if way == nil {
		for _, f := range s.obstructed(leaf) {
			add(f)
		}
		s.strength([]*x509.Certificate{leaf}, add)
		return out
	}
	s.strength(way.anchored(), add)
	add(Finding{Code: Trusted})
	s.order(way, add)
	return out
}

// End is when the first certificate ends that browsers need for the site.
func (s Sent) End() time.Time {
	leaf, _ := s.Leaf()
	if way := s.way(leaf); way != nil {
		return way.end()
	}
	return leaf.NotAfter
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

func (s Sent) dates(leaf *x509.Certificate, w way, add adder) {
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
	for _, c := range w.anchored() {
		if left := c.NotAfter.Sub(s.Now); left < soon && c.NotAfter.Before(leaf.NotAfter) {
			add(Finding{Code: IssuerEndsSoon, Subject: name(c), When: c.NotAfter, Days: int(left.Hours() / 24)})
		}
	}
}

func name(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return c.Subject.String()
}

// strength judges the keys and signatures of the certificates that are needed, the site's own first.
func (s Sent) strength(needed []*x509.Certificate, add adder) {
	good := true
	add = func(add adder) adder {
		return func(f Finding) { good = false; add(f) }
	}(add)
	for i, c := range needed {
		switch key := c.PublicKey.(type) {
		case *rsa.PublicKey:
			if n := key.N.BitLen(); n < minRSA {
				add(Finding{Code: ShortRSA, Number: s.number(c), Bits: n})
			}
		case *ecdsa.PublicKey:
			switch n := key.Curve.Params().BitSize; {
			case n < 256:
				add(Finding{Code: ShortCurve, Number: s.number(c), Bits: n})
			case n > 384 && i == 0:
				add(Finding{Code: OddKey, Algorithm: "ECDSA on " + key.Curve.Params().Name})
			}
		default:
			if i == 0 {
				add(Finding{Code: OddKey, Algorithm: c.PublicKeyAlgorithm.String()})
			}
		}
		if obsolete(c) {
			add(Finding{Code: OldSignature, Number: s.number(c), Algorithm: c.SignatureAlgorithm.String()})
		}
	}
	if good {
		add(Finding{Code: Strong})
	}
}
