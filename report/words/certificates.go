package words

import (
	"fmt"
	"strings"

	"trimlantern/core/certs"
	"trimlantern/core/point"
)

const warning = "browsers show a warning in place of the site"

// Certificate says what was found out about a certificate, why it matters, and what to do.
func Certificate(f certs.Finding) point.Point {
	p := point.Point{ID: f.ID(), About: []string{}, Grade: f.Grade()}
	p.What, p.Why, p.Do = certificate(f)
	return p
}

// Certificates is Certificate for several.
func Certificates(all []certs.Finding) (points []point.Point) {
	for _, f := range all {
		points = append(points, Certificate(f))
	}
	return points
}

func certificate(f certs.Finding) (what, why, do string) {
	names, wanted, day := strings.Join(f.Names, ", "), strings.Join(f.Wanted, ", "), f.When.UTC().Format("2006-01-02")
	switch f.Code {
	case certs.NotFirst:
		return fmt.Sprintf("the site's own certificate is sent as number %d, not as the first", f.Number), "browsers take the first one for the site's", "put the site's own certificate first in the server's file"
	case certs.Covers:
		return "it covers " + names, "", ""
	case certs.OtherNames:
		if names == "" {
			names = "no name at all"
		}
		return "it is for " + names + ", not for " + strings.Join(f.Wanted, " or "), warning, "get a certificate for " + wanted + ", or let the server send the one that it has for them"
	case certs.NamesMissing:
		return "it does not cover " + names, "visitors who type that name get a warning, before any redirect can help", "get a certificate for all names: " + wanted
	case certs.NotYet:
		return "it begins on " + day, "browsers refuse it until then", "wait, or check the clock of the machine that made it"
	case certs.Expired:
		return "it expired on " + day, warning, "renew it, and let it renew by itself from now on"
	case certs.EndsSoon:
		return fmt.Sprintf("it ends in %d days, on %s", f.Days, day), "then " + warning, "renew it now, and find out why nothing did"
	case certs.InDate:
		return fmt.Sprintf("it is good for %d more days, to %s", f.Days, day), "", ""
	case certs.IssuerExpired:
		return fmt.Sprintf("the intermediate certificate %q ended on %s", f.Subject, day), "browsers that have no other refuse the site", "get the authority's newest intermediate certificate"
	case certs.IssuerNotYet:
		return fmt.Sprintf("the intermediate certificate %q begins on %s", f.Subject, day), "browsers refuse the site until then", "wait, or send the authority's present intermediate certificate"
	case certs.IssuerEndsSoon:
		return fmt.Sprintf("the intermediate certificate %q ends in %d days, on %s, before the site's own", f.Subject, f.Days, day), "then " + warning, "get the authority's newest intermediate certificate, or renew"
	case certs.IssuerUnfit:
		return fmt.Sprintf("browsers do not take %q for its issuer: %v", f.Subject, f.Err), warning, "get a certificate from a public authority, and send the intermediates that come with it"
	case certs.IssuerForbids:
		return fmt.Sprintf("%q may not issue certificates for %s", f.Subject, names), warning, "get a certificate from an authority that may"
	case certs.NoSigning:
		return "its key usage does not include digital signatures", "browsers refuse it: the key must sign the handshake", "get a certificate for a web server, with digital signature among its key usages"
	case certs.OfAuthority:
		return "it is an authority's own certificate, which may issue others", "some browsers refuse it for a site", "get a certificate for a web server from an authority"
	case certs.OddExtension:
		return "it has an extension that must be understood and that browsers do not know: " + f.Algorithm, "browsers refuse it", "get a certificate for a web server from an authority"
	case certs.Extra:
		return fmt.Sprintf("certificate %d that is sent, %q, is not needed for it", f.Number, f.Subject), "it makes each connection longer, and helps no browser", "leave it out of the server's file"
	case certs.ShortRSA:
		return fmt.Sprintf("certificate %d has an RSA key of %d bits", f.Number, f.Bits), "browsers refuse keys below 2048 bits", "make a new key, and get a certificate for it"
	case certs.ShortCurve:
		return fmt.Sprintf("certificate %d has an elliptic key of %d bits", f.Number, f.Bits), "browsers refuse it", "make a new key on P-256"
	case certs.OddKey:
		return "its key is of a kind that browsers do not take: " + f.Algorithm, "browsers know RSA, and ECDSA on P-256 and P-384", "make a new key on P-256, and get a certificate for it"
	case certs.OldSignature:
		return fmt.Sprintf("certificate %d is signed with an obsolete algorithm (%s)", f.Number, f.Algorithm), "browsers refuse it", "get a new certificate; authorities sign with SHA-256 today"
	case certs.Strong:
		return "its key and signatures are strong enough", "", ""
	case certs.SelfSigned:
		return "it is self-signed", "no browser trusts it", "get one from an authority"
	case certs.Unknown:
		return fmt.Sprintf("it comes from %q, which is no authority that browsers know", f.Subject), warning, "get one from a public authority; a private one must be installed on every visitor's machine"
	case certs.Incomplete:
		do = fmt.Sprintf("put the authority's intermediate certificate %q behind the site's own in the server's file", f.Issuer)
		if f.URL != "" {
			do += "; the authority offers it at " + f.URL
		}
		return fmt.Sprintf("chain incomplete: the server does not send %q, which issued %q", f.Issuer, f.Subject), "some browsers find it elsewhere, others and most programs refuse the site", do
	case certs.Trusted:
		return "it leads to an authority that browsers know", "", ""
	case certs.OutOfOrder:
		return fmt.Sprintf("the chain is out of order: number %d does not come from number %d", f.Number, f.Number+1), "older programs read it in order and refuse the site", "sort the server's file: the site's own certificate, then each one's issuer"
	case certs.OtherPurpose:
		return "it is not made for servers", "browsers refuse it: its extended key usage lacks server authentication", "get a certificate for a web server (TLS server authentication)"
	case certs.LongLife:
		return fmt.Sprintf("it was issued for %d days", f.Days), fmt.Sprintf("browsers refuse one from a public authority that was issued then for more than %d days", f.Most), "get one with a shorter life, and let it renew by itself"
	case certs.Revoked:
		return "its authority revoked it on " + day, "browsers refuse it as soon as they know", "get a new certificate, with a new key"
	case certs.NoStaple:
		return "it demands a stapled OCSP answer, and the server sends none", "browsers that honour it refuse the site", "turn OCSP stapling on in the server, or get a certificate without must-staple"
	case certs.BadStaple:
		return "the OCSP answer that the server staples cannot be used: " + f.Err.Error(), "some browsers refuse the site", "turn OCSP stapling off, or let the server fetch a new answer"
	case certs.OldStaple:
		return "the OCSP answer that the server staples ended on " + day, "some browsers refuse the site", "let the server fetch a new answer"
	}
	return "", "", ""
}
