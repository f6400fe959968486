package words

import "time"

const again = "run the same command again: it continues where it stopped"

// asked is what an authority was doing when it refused, by the step's name.
var asked = map[string]string{
	"directory": "was asked for its directory", "account": "was asked for an account", "order": "was asked for a certificate",
	"proof": "looked at the proof", "certificate": "was to issue the certificate", "revocation": "was asked to revoke it", "renewal-window": "was asked when to renew",
}

// refusals is the one table of why an authority refuses, by the type of its problem document (RFC 8555 §6.7) or our own
// code: what happened and what to do. The values are the authority, what it was asked, and what it wants to be read.
var refusals = map[string]struct{ what, do string }{
	"unreached":               {"the authority %[1]s gave no usable answer when it %[2]s", again},
	"broken":                  {"the authority %[1]s gave an answer outside the protocol when it %[2]s", again},
	"rateLimited":             {"the authority limits how often it is asked", "run the same command again later; it did not say when"},
	"caa":                     {"the DNS does not let this authority issue the certificate (CAA)", "add a CAA record for it, or take an authority that is allowed"},
	"dns":                     {"the authority cannot look the names up, or does not find the record", "check the DNS with other resolvers, then run the same command again"},
	"connection":              {"the authority cannot connect to the site", "open port 80 to everybody, on every address of every name (IPv6 too); then run the same command again"},
	"unauthorized":            {"the authority does not allow that", "see what it says; for a new account, move the account's key away and run the same command again"},
	"userActionRequired":      {"the authority wants something done first: %[3]s", "do what it asks for, then run the same command again"},
	"externalAccountRequired": {"the authority wants accounts bound to one that it knows", "get an identifier and a key from it, then add --eab-id ID --eab-key-file FILE"},
	"accountDoesNotExist":     {"the authority no longer knows the account", "run the same command again with --accept-terms: it makes a new one"},
	"rejectedIdentifier":      {"the authority does not issue certificates for these names", "see what it says of them; private and made-up names get none from a public authority"},
	"invalidContact":          {"the authority does not accept the e-mail address", "name another one: --email ADDRESS"},
	"not-offered":             {"the authority does not offer this way of proof", "take another: --proof file, listener, dns-update, dns-program or dns-by-hand"},
	"invalid":                 {"the authority gave up on the order", again},
	"alreadyRevoked":          {"the certificate is already revoked", ""},
}

// alsoRefused are further types with the meaning of another.
var alsoRefused = map[string]string{
	"incorrectResponse": "unauthorized", "unsupportedIdentifier": "rejectedIdentifier", "malformed": "rejectedIdentifier", "badCSR": "rejectedIdentifier", "unsupportedContact": "invalidContact",
}

// Refusal says what it means that an authority refused at a step, for a reason of RFC 8555 or of ours, and what to do.
// see is what it wants to be read; after is how long it wants to be left alone.
func Refusal(authority, step, reason, see string, after time.Duration) (what, do string) {
	if same, ok := alsoRefused[reason]; ok {
		reason = same
	}
	is, known := refusals[reason]
	switch {
	case !known:
		return Fill("the authority %[1]s refused when it %[2]s (%[3]s)", authority, asked[step], reason), "see what it says"
	case reason == "broken" && step == "directory":
		is.do = "check the address: it must be that of the authority's directory"
	case reason == "rateLimited" && after > 0:
		is.do = "run the same command again in " + Span(after)
	case reason == "unauthorized" && step == "proof":
		is.what, is.do = "the authority did not find the proof, or found another", "see that all addresses of the names lead to this server, and no cache or proxy answers in its place; then run the same command again"
	case see == "":
		see = "its terms of service"
	}
	return Fill(is.what, authority, asked[step], see), is.do
}

// Span says how long something is, in one unit.
func Span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return Count(int(d.Hours()/24), "day")
	case d >= 2*time.Hour:
		return Count(int(d.Hours()), "hour")
	case d >= 2*time.Minute:
		return Count(int(d.Minutes()), "minute")
	}
	return Count(max(1, int(d.Seconds())), "second")
}
