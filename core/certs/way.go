package certs

import (
	"bytes"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"slices"
	"time"
)

// A way leads from a site's certificate to an authority that is trusted: each certificate is issued by the next (RFC 5280 §6).
// Browsers build it from what was sent in any order, and from the roots that they have. Other certificates that are sent change nothing:
//
//	leaf, intermediate, an expired root that signed the trusted one as well
type way []*x509.Certificate

// anchored is the part of the way that is not the authority's root. A root is trusted because it is known, not for its
// signature or its dates.
func (w way) anchored() way {
	if len(w) < 2 {
		return w
	}
	return w[:len(w)-1]
}

// end is when the first certificate of the way ends.
func (w way) end() time.Time {
	end := w[0].NotAfter
	for _, c := range w.anchored() {
		if c.NotAfter.Before(end) {
			end = c.NotAfter
		}
	}
	return end
}

// way returns the best way from the leaf, by which a browser takes it for a server's; nil where there is none. The leaf's own
// faults (its dates, its purpose, its extensions) are judged by themselves and close no way.
func (s Sent) way(leaf *x509.Certificate) way {
	ways, err := s.verify(leaf, x509.ExtKeyUsageServerAuth)
	if err != nil && !serves(leaf) {
		ways, _ = s.verify(leaf, x509.ExtKeyUsageAny)
	}
	if len(ways) == 0 {
		return nil
	}
	best := slices.MinFunc(ways, func(a, b []*x509.Certificate) int {
		if n := weak(a) - weak(b); n != 0 {
			return n
		}
		if n := way(b).end().Compare(way(a).end()); n != 0 {
			return n
		}
		return len(a) - len(b)
	})
	best[0] = leaf
	return best
}

// weak counts the certificates of a way whose keys are too short.
func weak(w way) (n int) {
	for _, c := range w.anchored() {
		if key, ok := c.PublicKey.(*rsa.PublicKey); ok && key.N.BitLen() < minRSA {
			n++
		}
	}
	return n
}

// verify builds the ways from the leaf, at a time at which the leaf is good.
func (s Sent) verify(leaf *x509.Certificate, usage x509.ExtKeyUsage) ([][]*x509.Certificate, error) {
	pool := x509.NewCertPool()
	for _, c := range s.Chain {
		if !c.Equal(leaf) {
			pool.AddCert(c)
		}
	}
	plain := *leaf
	plain.UnhandledCriticalExtensions = nil
	return plain.Verify(x509.VerifyOptions{Roots: s.Roots, Intermediates: pool, CurrentTime: during(s.Now, leaf), KeyUsages: []x509.ExtKeyUsage{usage}})
}

// during is the time nearest to now at which a certificate is good.
func during(now time.Time, c *x509.Certificate) time.Time {
	switch {
	case now.After(c.NotAfter):
		return c.NotAfter
	case now.Before(c.NotBefore):
		return c.NotBefore
	}
	return now
}

// serves reports whether a certificate is made for servers, as far as its extended key usage says.
func serves(c *x509.Certificate) bool {
	return len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) == 0 || slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth) || slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny)
}

// signs reports whether one certificate's key signed another. A signature by an obsolete algorithm is not read.
func signs(issuer, c *x509.Certificate) bool {
	if !bytes.Equal(issuer.RawSubject, c.RawIssuer) {
		return false
	}
	err := issuer.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature)
	var old x509.InsecureAlgorithmError
	return err == nil || errors.As(err, &old)
}

// obstructed returns what is in the way, where there is none: the faults of the certificates by which it would lead to an
// authority, or where it breaks off.
func (s Sent) obstructed(leaf *x509.Certificate) []Finding {
	if signs(leaf, leaf) {
		return []Finding{{Code: SelfSigned}}
	}
	led, faults, trusted := (&search{Sent: s, left: 300}).follow(way{leaf})
	if !trusted {
		top := led[len(led)-1]
		if signs(top, top) {
			return []Finding{{Code: Unknown, Subject: name(top)}}
		}
		f := Finding{Code: Incomplete, Subject: name(top), Issuer: top.Issuer.CommonName}
		if len(top.IssuingCertificateURL) > 0 {
			f.URL = top.IssuingCertificateURL[0]
		}
		return []Finding{f}
	}
	if len(faults) == 0 { // each is good by itself
		faults = []Finding{s.together(led)}
	}
	return faults
}

// together says why certificates that are good by themselves lead nowhere.
func (s Sent) together(led way) Finding {
	_, err := s.verify(led[0], x509.ExtKeyUsageAny)
	var invalid x509.CertificateInvalidError
	f := Finding{Code: IssuerUnfit, Err: err, Subject: name(led[len(led)-1])}
	if errors.As(err, &invalid) {
		f.Subject = name(invalid.Cert)
		switch invalid.Reason {
		case x509.CANotAuthorizedForThisName, x509.NameConstraintsWithoutSANs, x509.UnconstrainedName, x509.TooManyConstraints:
			f.Code, f.Names = IssuerForbids, s.Names
		}
	}
	return f
}

// search looks for the way that what was sent was meant to be. Certificates that sign each other in a circle must not keep it
// busy: left is how many more are looked at.
type search struct {
	Sent
	left int
}

// follow goes from the last certificate of a way to the next among what was sent, and returns the way with the fewest faults
// that leads to an authority; failing that, the longest.
func (s *search) follow(led way) (best way, faults []Finding, trusted bool) {
	at := led[len(led)-1]
	alone := *at
	alone.UnhandledCriticalExtensions = nil
	_, err := alone.Verify(x509.VerifyOptions{Roots: s.Roots, Intermediates: x509.NewCertPool(), CurrentTime: during(s.Now, at), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	best, trusted = led, err == nil
	if trusted || len(led) > len(s.Chain) {
		return best, nil, trusted
	}
	for _, c := range s.Chain {
		if s.left == 0 || slices.ContainsFunc(led, c.Equal) || !signs(c, at) {
			continue
		}
		s.left--
		further, more, ok := s.follow(append(slices.Clone(led), c))
		more = append(s.unfit(c), more...)
		if ok && (!trusted || len(more) < len(faults)) || !ok && !trusted && len(further) > len(best) {
			best, faults, trusted = further, more, ok
		}
	}
	return best, faults, trusted
}

// unfit says why a certificate cannot be an issuer on a way.
func (s Sent) unfit(c *x509.Certificate) (out []Finding) {
	if c.NotAfter.Before(s.Now) {
		out = append(out, Finding{Code: IssuerExpired, Subject: name(c), When: c.NotAfter})
	}
	if s.Now.Before(c.NotBefore) {
		out = append(out, Finding{Code: IssuerNotYet, Subject: name(c), When: c.NotBefore})
	}
	if !c.IsCA || c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageCertSign == 0 {
		out = append(out, Finding{Code: IssuerUnfit, Subject: name(c), Err: errors.New("it may not issue certificates")})
	}
	if !serves(c) {
		out = append(out, Finding{Code: IssuerUnfit, Subject: name(c), Err: errors.New("it may not issue certificates for servers")})
	}
	if len(c.UnhandledCriticalExtensions) > 0 {
		out = append(out, Finding{Code: IssuerUnfit, Subject: name(c), Err: errors.New("it has an extension that must be understood and is unknown: " + c.UnhandledCriticalExtensions[0].String())})
	}
	if obsolete(c) {
		out = append(out, Finding{Code: OldSignature, Number: s.number(c), Algorithm: c.SignatureAlgorithm.String()})
	}
	return out
}

// obsolete reports whether a certificate is signed with an algorithm that browsers refuse.
func obsolete(c *x509.Certificate) bool {
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		return true
	}
	return false
}

// number is the place of a certificate among what was sent, from 1; 0: it was not sent.
func (s Sent) number(c *x509.Certificate) int { return slices.IndexFunc(s.Chain, c.Equal) + 1 }

// order says where what was sent is not in the order of the way, and what is not needed for it.
func (s Sent) order(w way, add adder) {
	last := 0
	for i, c := range w {
		n := s.number(c)
		if n == 0 {
			break // the authority's root
		}
		if n != last+1 && i > 0 {
			add(Finding{Code: OutOfOrder, Number: last})
			return
		}
		last = n
	}
	for i, c := range s.Chain {
		if i >= last && !slices.ContainsFunc(s.Chain[:i], func(o *x509.Certificate) bool { return signs(c, o) }) {
			add(Finding{Code: Extra, Number: i + 1, Subject: name(c)})
		}
	}
}
