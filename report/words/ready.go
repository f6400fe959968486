package words

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/point"
)

// What ready finds out about the names of a site: where they lead, and what listens there.
var (
	NameUnknown    = Sentence{"dns", point.Stop, "%[1]s cannot be looked up", "nobody who types it gets anywhere", "make an entry for it in the DNS, or remove it from also in the site file"}
	NameLeads      = Sentence{"dns", point.Good, "%[1]s is %[2]s", "", ""}
	NoPort80       = Sentence{"port-80", point.Care, "nothing listens on port 80 of %[1]s", "visitors who leave out https:// may get no answer", "let the server listen there, for the redirect"}
	NotChecked     = Sentence{"unreached", point.Stop, "%[1]s was not checked: this machine cannot reach it", "whether it is ready is not known", "run the same command on a machine that can reach it"}
	NamesApart     = Sentence{"dns-agree", point.Note, "the names of %[1]s lead to different addresses", "what is set up on one server may be missing on the other", ""}
	PartnerUnclear = Sentence{"partner", point.Note, "whether %[1]s leads anywhere is not known: the name server does not answer", "", ""}
	PartnerOther   = Sentence{"partner", point.Care, "%[1]s resolves, but is not one of the site's names", "its visitors are redirected nowhere, and the certificate may not cover it",
		"make it a name of the site (also in the site file, or --also %[1]s), or remove it from the DNS"}
	PartnerNone = Sentence{"partner", point.Note, "there is no %[1]s: visitors who type it get no answer", "", ""}
	TooFar      = Sentence{"far", point.Note, "%[1]s at %[2]s was not checked: this machine cannot reach that address", "", "run the same command on a machine that has IPv6"}
)

// What ready finds out about the servers of the site's zone.
var (
	NoIssuer        = Sentence{"caa", point.Care, "the DNS of %[1]s allows no authority to issue certificates (CAA)", "a new certificate, and each renewal, will be refused", "add a CAA record for your authority: %[1]s. CAA 0 issue \"AUTHORITY\""}
	OnlyIssuers     = Sentence{"caa", point.Note, "the DNS of %[1]s allows only %[2]s to issue certificates for %[3]s (CAA)", "others will refuse a new certificate", ""}
	ServerSilent    = Sentence{"dns-servers", point.Care, "%[1]s of %[2]s does not answer: %[3]s", "lookups are slow, or fail now and then", "ask whoever runs the zone"}
	ServersSilent   = Sentence{"dns-servers", point.Care, "%[1]s of %[2]s do not answer: %[3]s", "lookups are slow, or fail now and then", "ask whoever runs the zone"}
	ServersAgree    = Sentence{"dns-servers", point.Good, "%[1]s of %[2]s answered: %[3]s", "", ""}
	ServersDisagree = Sentence{"dns-servers", point.Care, "the %[1]d name servers of %[2]s do not agree on %[3]s: %[4]s", "visitors see one or the other",
		"if the name was moved just now, wait: others may keep the old answer for %[5]s; else ask whoever runs the zone"}
)

// What ready finds out about the certificates that are served, besides what they are themselves.
var (
	NoTLS             = Sentence{"tls", point.Stop, "no TLS for %[1]s at %[2]s: %[3]s", "visitors get no page over HTTPS", "let the server answer HTTPS for this name"}
	NoTLSPlain        = Sentence{"tls", point.Stop, "no TLS for %[1]s at %[2]s: %[3]s", "visitors get no page over HTTPS", "port 443 speaks plain HTTP: set up TLS there"}
	OldTLS            = Sentence{"tls-version", point.Stop, "%[1]s at %[2]s supports only %[3]s", "browsers no longer accept it", "let the server support TLS 1.2 and 1.3"}
	OtherCertificate  = Sentence{"alike", point.Care, "%[1]s shows another certificate at %[2]s than at %[3]s", "visitors see one or the other, depending on their network (IPv4 or IPv6)", "let all addresses serve the same, or remove the wrong one from the DNS"}
	CertificateGood   = Sentence{"certificate", point.Good, "the certificate for %[1]s at %[2]s is complete, trusted and good for %[3]s", "", ""}
	RevocationUnclear = Sentence{"revocation", point.Note, "whether the certificate for %[1]s was revoked is not known: %[2]s %[3]s", "", ""}
)

// What ready finds out about the server behind a proxy.
var (
	OriginOpen = Sentence{"origin", point.Care, "the server behind the proxy at %[1]s: %[2]s", "traffic between proxy and server is not encrypted, and the server must be told that visitors come over HTTPS",
		"use the redirect for a proxy (redirect show --proxy), never one by the server's own scheme: that one loops for ever"}
	OriginOpenTold    = Sentence{"origin", point.Note, "the server behind the proxy at %[1]s: %[2]s", "traffic between proxy and server is not encrypted; the host decides that", ""}
	OriginCertificate = Sentence{"origin", point.Care, "the certificate of the server behind the proxy at %[1]s: %[2]s", "a proxy that checks it will refuse it; one that does not can be lied to", "give the origin a certificate too"}
	OriginGood        = Sentence{"origin", point.Good, "the server behind the proxy at %[1]s has a valid certificate of its own", "", ""}
	OriginUnusable    = Sentence{"origin", point.Care, "the address of the server behind the proxy cannot be used: %[1]s", "it was not asked", "write --origin ADDRESS or ADDRESS:PORT"}
	OriginLoops       = Sentence{"forwarded", point.Stop, "the server behind the proxy redirects to HTTPS even when told that the visitor came over HTTPS", "behind a proxy that ends TLS that is a loop",
		"use the redirect for a proxy: trimlantern redirect show --proxy; it also tells the system behind"}
	OriginKnows = Sentence{"forwarded", point.Good, "the server behind the proxy knows when a visitor came over HTTPS", "", ""}
	OriginBlind = Sentence{"forwarded", point.Care, "the server behind the proxy answers the same, whether the visitor came over HTTPS or not", "once it redirects to HTTPS by its own scheme, that is a loop",
		"use the redirect for a proxy: trimlantern redirect show --proxy"}
)

// What ready finds out on the way to the front pages, and in what comes with them.
var (
	NoRedirectYet = Sentence{"redirect", point.Good, "%[1]s answers by itself, without a redirect", "", ""}
	FrontLoop     = Sentence{"loop", point.Stop, "%[1]s redirects in a loop", "no visitor sees a page; the usual cause is a proxy that ends TLS in front of a server that redirects by its own scheme", "%[2]s"}
	FrontSilent   = Sentence{"answer", point.Stop, "%[1]s: %[2]s", "visitors who type it get no page", "%[3]s"}
	FrontLeads    = Sentence{"answer", point.Good, "%[1]s leads to %[2]s", "", ""}
	HSTSSent      = Sentence{"hsts", point.Note, "%[1]s", "browsers insist on HTTPS until it expires: there is no way back before, and an expired certificate locks everybody out", ""}
	CookieOpen    = Sentence{"cookie", point.Note, "the cookie %[1]q comes without Secure", "it is sent over HTTP too, where anybody can read it; as a rule the system sets it so once its own address is secure", ""}
	ProxyInFront  = Sentence{"proxy", point.Note, "a proxy or cache stands in front (%[1]s)", "if TLS ends there, the server behind does not know of it", "ask the server behind it too: trimlantern ready --origin ADDRESS"}
)

// What ready finds out about the addresses that the system has of itself.
var (
	ConfigUnread      = Sentence{"locked", point.Care, "the system's configuration cannot be read: %[1]s", "an address may be locked there", "make it readable"}
	AddressLocked     = Sentence{"locked", point.Care, "%[1]s", "a change in the database does nothing there", "change it in the file, together with trimlantern apply: %[2]s"}
	AddressUnclear    = Sentence{"locked", point.Note, "%[1]s", "a change in the database does nothing there; whether it says https cannot be read", ""}
	AddressPerhaps    = Sentence{"locked", point.Note, "%[1]s", "if it is, a change in the database does nothing there", "look into that file, or look at the site after apply"}
	DatabaseSilent    = Sentence{"database", point.Care, "the database does not answer: %[1]s", "nothing can be changed in it", "check database in the site file"}
	AddressesElse     = Sentence{"addresses", point.Stop, "%[1]s", "the site file does not fit the database", "check site in the site file"}
	AddressSecure     = Sentence{"addresses", point.Good, "%[1]s is its %[2]s", "", ""}
	AddressToBeSecure = Sentence{"addresses", point.Good, "%[1]s is its %[2]s; trimlantern apply makes it secure", "", ""}
)

// HSTS explains what a Strict-Transport-Security header told browsers to remember (RFC 6797 §6.1).
func HSTS(header string) string {
	words := "the site already sends HSTS: " + header
	for _, part := range strings.Split(strings.ToLower(header), ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch name {
		case "max-age":
			if n, err := strconv.Atoi(strings.Trim(value, `"`)); err == nil {
				words += fmt.Sprintf("; browsers insist on HTTPS for %s", Count(n/86400, "more day"))
			}
		case "includesubdomains":
			words += ", on every name below the site's too"
		case "preload":
			words += "; it asks to be built into browsers, which takes months to undo"
		}
	}
	return words
}

// Kept says how long a cache may keep an answer.
func Kept(d time.Duration) string {
	if d >= 2*time.Hour {
		return Count(int(d.Hours()), "hour")
	}
	return Count(max(1, int(d.Minutes())), "minute")
}

// Answers says how many name servers gave one answer: "2 say 192.0.2.7 (ns1, ns2)".
func Answers(servers []string, answer string) string {
	say := "say"
	if len(servers) == 1 {
		say = "says"
	}
	return fmt.Sprintf("%d %s %s (%s)", len(servers), say, answer, strings.Join(servers, ", "))
}

// GoodFor says for how long a certificate is still good, in hours where days would be too coarse.
func GoodFor(d time.Duration) string {
	if d < 48*time.Hour {
		return Count(max(0, int(d.Hours())), "more hour")
	}
	return Count(int(d.Hours()/24), "more day")
}

// ForHost are the points that the people who run the server can do something about, by their IDs, and what is asked
// of them, in their words.
var ForHost = map[string]string{
	"dns": "a DNS entry for this name", "port-80": "a server that listens on port 80", "tls": "a server that answers HTTPS for this name",
	"tls-version": "TLS 1.2 and 1.3", "alike": "the same certificate on all addresses", "loop": "one redirect to HTTPS, which does not loop",
	"first": "the site's own certificate as the first one in the chain", "names": "a certificate for all names of the site", "dates": "a certificate that is valid now, and is renewed in time",
	"dates-chain": "the authority's current intermediate certificate", "key": "a certificate with a key of today's size", "signature": "a certificate that is signed with SHA-256",
	"trust": "a certificate from a public authority", "chain": "the whole certificate chain", "order": "the certificate chain in order", "purpose": "a certificate that is made for servers",
	"life": "a certificate that browsers accept: issued for at most 398 days", "staple": "a server that staples the OCSP answer", "revoked": "a new certificate",
	"origin": "a certificate on the server behind the proxy", "forwarded": "a server that knows when a visitor came over HTTPS (X-Forwarded-Proto)",
	"same-page": "the same site over HTTPS as over HTTP", "same-server": "the same site on all addresses", "answer": "an answer at this address", "nowhere": "a redirect with a Location",
	"port": "a redirect to the usual port", "elsewhere": "a redirect that stays on the site's name", "missing": "the same site over HTTPS as over HTTP", "broken": "a page in place of the error",
}

// What apply says of a site for which HTTPS does not work, or of which that is not known.
const (
	NotReady        = "nothing was changed: HTTPS does not work for the site yet: %[1]s"
	NotReadyDo      = "see trimlantern ready for all of it; when it works, run the same command again; --anyway changes the site all the same"
	NotReadyOffline = "Whether HTTPS works for the site was not looked at (--offline)"
	NotReadyAsked   = "Whether HTTPS works for the site was not looked at: it cannot be reached from here"
)
