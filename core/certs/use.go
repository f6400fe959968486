package certs

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"slices"
	"time"

	"golang.org/x/crypto/ocsp"
)

// use judges what the certificate is made for, how long it was issued for, and whether it was taken back.
func (s Sent) use(leaf *x509.Certificate, w way, add adder) {
	if !serves(leaf) {
		add(Finding{Code: OtherPurpose})
	}
	if leaf.KeyUsage != 0 && leaf.KeyUsage&x509.KeyUsageDigitalSignature == 0 {
		add(Finding{Code: NoSigning})
	}
	if leaf.IsCA {
		add(Finding{Code: OfAuthority})
	}
	if len(leaf.UnhandledCriticalExtensions) > 0 {
		add(Finding{Code: OddExtension, Algorithm: leaf.UnhandledCriticalExtensions[0].String()})
	}
	if most := longest(leaf.NotBefore); leaf.NotAfter.Sub(leaf.NotBefore) > time.Duration(most)*24*time.Hour+time.Hour {
		add(Finding{Code: LongLife, Days: int(leaf.NotAfter.Sub(leaf.NotBefore).Hours() / 24), Most: most})
	}
	s.stapled(leaf, w, add)
	for _, list := range s.Lists {
		i := slices.IndexFunc(list.RevokedCertificateEntries, func(e x509.RevocationListEntry) bool { return e.SerialNumber.Cmp(leaf.SerialNumber) == 0 })
		if i >= 0 && bytes.Equal(list.RawIssuer, leaf.RawIssuer) && s.signed(w, list) {
			add(Finding{Code: Revoked, When: list.RevokedCertificateEntries[i].RevocationTime})
			return
		}
	}
}

// signed reports whether a list comes from one of the authorities that were sent or are trusted.
func (s Sent) signed(w way, list *x509.RevocationList) bool {
	return slices.ContainsFunc(slices.Concat(s.Chain, w), func(c *x509.Certificate) bool { return list.CheckSignatureFrom(c) == nil })
}

// longest returns for how many days a public authority may issue a certificate at a time (CA/Browser Forum,
// Baseline Requirements §6.3.2).
func longest(issued time.Time) int {
	days := 1187
	for _, step := range []struct {
		from string
		days int
	}{{"2018-03-01", 825}, {"2020-09-01", 398}, {"2026-03-15", 200}, {"2027-03-15", 100}, {"2029-03-15", 47}} {
		if issued.UTC().Format("2006-01-02") >= step.from {
			days = step.days
		}
	}
	return days
}

// tlsFeature is the extension by which a certificate asks that the server staples an OCSP answer (RFC 7633).
var tlsFeature = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}

func mustStaple(c *x509.Certificate) bool {
	for _, e := range c.Extensions {
		var features []int
		if e.Id.Equal(tlsFeature) {
			_, err := asn1.Unmarshal(e.Value, &features)
			return err == nil && slices.Contains(features, 5) // status_request
		}
	}
	return false
}

// stapled judges the OCSP answer that the server sent along (RFC 6960).
func (s Sent) stapled(leaf *x509.Certificate, w way, add adder) {
	if !s.Served {
		return
	}
	if len(s.Staple) == 0 {
		if mustStaple(leaf) {
			add(Finding{Code: NoStaple})
		}
		return
	}
	var issuer *x509.Certificate
	for _, c := range slices.Concat(s.Chain, w) {
		if bytes.Equal(c.RawSubject, leaf.RawIssuer) && leaf.CheckSignatureFrom(c) == nil {
			issuer = c
		}
	}
	answer, err := ocsp.ParseResponseForCert(s.Staple, leaf, issuer)
	switch {
	case err != nil:
		add(Finding{Code: BadStaple, Err: err})
	case answer.Status == ocsp.Revoked:
		add(Finding{Code: Revoked, When: answer.RevokedAt})
	case !answer.NextUpdate.IsZero() && answer.NextUpdate.Before(s.Now):
		add(Finding{Code: OldStaple, When: answer.NextUpdate})
	}
}
