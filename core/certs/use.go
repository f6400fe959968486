package certs

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"slices"
	"time"

	"golang.org/x/crypto/ocsp"

	"trimlantern/core/point"
)

// use judges what the certificate is made for, how long it was issued for, and whether it was taken back.
func (s Sent) use(leaf *x509.Certificate, add adder) {
	if use := leaf.ExtKeyUsage; len(use)+len(leaf.UnknownExtKeyUsage) > 0 && !slices.Contains(use, x509.ExtKeyUsageServerAuth) && !slices.Contains(use, x509.ExtKeyUsageAny) {
		add("purpose", point.Stop, "it is not made for servers", "browsers refuse it: its extended key usage lacks server authentication", "get a certificate for a web server (TLS server authentication)")
	}
	if most := longest(leaf.NotBefore); leaf.NotAfter.Sub(leaf.NotBefore) > time.Duration(most)*24*time.Hour+time.Hour {
		add("life", point.Care, fmt.Sprintf("it was issued for %d days", int(leaf.NotAfter.Sub(leaf.NotBefore).Hours()/24)),
			fmt.Sprintf("browsers refuse one from a public authority that was issued then for more than %d days", most), "get one with a shorter life, and let it renew by itself")
	}
	s.stapled(leaf, add)
	for _, list := range s.Lists {
		i := slices.IndexFunc(list.RevokedCertificateEntries, func(e x509.RevocationListEntry) bool { return e.SerialNumber.Cmp(leaf.SerialNumber) == 0 })
		if i >= 0 && bytes.Equal(list.RawIssuer, leaf.RawIssuer) && s.signed(list) {
			revoked(list.RevokedCertificateEntries[i].RevocationTime, add)
			return
		}
	}
}

func revoked(when time.Time, add adder) {
	add("revoked", point.Stop, "its authority revoked it on "+when.UTC().Format("2006-01-02"), "browsers refuse it as soon as they know", "get a new certificate, with a new key")
}

// signed reports whether a list comes from one of the authorities that were sent or are trusted.
func (s Sent) signed(list *x509.RevocationList) bool {
	return slices.ContainsFunc(s.Chain, func(c *x509.Certificate) bool { return list.CheckSignatureFrom(c) == nil }) || s.Root != nil && list.CheckSignatureFrom(s.Root) == nil
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
func (s Sent) stapled(leaf *x509.Certificate, add adder) {
	if !s.Served {
		return
	}
	if len(s.Staple) == 0 {
		if mustStaple(leaf) {
			add("staple", point.Stop, "it demands a stapled OCSP answer, and the server sends none", "browsers that honour it refuse the site", "turn OCSP stapling on in the server, or get a certificate without must-staple")
		}
		return
	}
	var issuer *x509.Certificate
	for _, c := range append(slices.Clone(s.Chain), s.Root) {
		if c != nil && bytes.Equal(c.RawSubject, leaf.RawIssuer) && leaf.CheckSignatureFrom(c) == nil {
			issuer = c
		}
	}
	answer, err := ocsp.ParseResponseForCert(s.Staple, leaf, issuer)
	switch {
	case err != nil:
		add("staple", point.Care, "the OCSP answer that the server staples cannot be used: "+err.Error(), "some browsers refuse the site", "turn OCSP stapling off, or let the server fetch a new answer")
	case answer.Status == ocsp.Revoked:
		revoked(answer.RevokedAt, add)
	case !answer.NextUpdate.IsZero() && answer.NextUpdate.Before(s.Now):
		add("staple", point.Care, "the OCSP answer that the server staples ended on "+answer.NextUpdate.UTC().Format("2006-01-02"), "some browsers refuse the site", "let the server fetch a new answer")
	}
}
