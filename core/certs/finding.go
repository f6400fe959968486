package certs

import (
	"time"

	"trimlantern/core/point"
)

// Code says what was found out about a certificate or its chain. The values are stable names.
type Code string

// The codes, with the fields of a Finding that they set.
const (
	NotFirst      Code = "not-first"      // the site's own certificate is Number of those that were sent
	Covers        Code = "covers"         // all names of the site: Names
	OtherNames    Code = "other-names"    // it is for Names, and for none of Wanted
	NamesMissing  Code = "names-missing"  // it is not for Names, of Wanted
	NotYet        Code = "not-yet"        // it begins When
	Expired       Code = "expired"        // it ended When
	EndsSoon      Code = "ends-soon"      // it ends in Days, When
	InDate        Code = "in-date"        // it is good for Days more, to When
	IssuerExpired Code = "issuer-expired" // Subject, an intermediate that is needed, ended When
	IssuerNotYet  Code = "issuer-not-yet" // Subject, an intermediate that is needed, begins When
	IssuerUnfit   Code = "issuer-unfit"   // Subject cannot have issued it, for Err
	IssuerForbids Code = "issuer-forbids" // Subject may not issue for Names
	NoSigning     Code = "no-signing"     // its key usage lacks digital signatures, which TLS needs
	OfAuthority   Code = "of-authority"   // it is one that may issue others
	OddExtension  Code = "odd-extension"  // it has an extension, Algorithm, that must be understood and is unknown
	Extra         Code = "extra"          // Number, Subject, was sent and issued nothing that was

	IssuerEndsSoon Code = "issuer-ends-soon" // Subject, an intermediate that is needed, ends in Days, When
	ShortRSA       Code = "short-rsa"        // certificate Number has an RSA key of Bits
	ShortCurve     Code = "short-curve"      // certificate Number has an elliptic key of Bits
	OddKey         Code = "odd-key"          // its key is of a kind, Algorithm, that browsers do not take
	OldSignature   Code = "old-signature"    // certificate Number is signed with Algorithm
	Strong         Code = "strong"           // keys and signatures are
	SelfSigned     Code = "self-signed"
	Unknown        Code = "unknown"    // it leads to Subject, whom browsers do not know
	Incomplete     Code = "incomplete" // Issuer, of Subject, was not sent; the authority offers it at URL
	Trusted        Code = "trusted"
	OutOfOrder     Code = "out-of-order"  // Number was not issued by the next
	OtherPurpose   Code = "other-purpose" // it is not made for servers
	LongLife       Code = "long-life"     // it was issued for Days; Most are allowed
	Revoked        Code = "revoked"       // When
	NoStaple       Code = "no-staple"     // it demands one, and none was sent
	BadStaple      Code = "bad-staple"    // Err
	OldStaple      Code = "old-staple"    // it ended When
)

// Finding is one thing that was found out. Fields that its code does not set are empty.
type Finding struct {
	Code    Code
	Names   []string  // of the certificate, or of the site
	Wanted  []string  // names of the site
	Subject string    // who a certificate is for
	Issuer  string    // who issued it
	Number  int       // of a certificate among those that were sent, from 1
	Bits    int       // of a key
	Days    int       // whole ones
	Most    int       // days that are allowed
	When    time.Time // the end, the beginning, the revocation
	URL     string
	Err     error

	Algorithm string // as the standard calls it; the number of an extension
}

// codes is the one table: which question a code answers, by the stable name of its point, and how much it matters.
var codes = map[Code]struct {
	id    string
	grade point.Grade
}{
	NotFirst:      {"first", point.Stop},
	Covers:        {"names", point.Good},
	OtherNames:    {"names", point.Stop},
	NamesMissing:  {"names", point.Stop},
	NotYet:        {"dates", point.Stop},
	Expired:       {"dates", point.Stop},
	EndsSoon:      {"dates", point.Care},
	InDate:        {"dates", point.Good},
	IssuerExpired: {"dates-chain", point.Stop},
	IssuerNotYet:  {"dates-chain", point.Stop},
	IssuerUnfit:   {"chain", point.Stop},
	IssuerForbids: {"chain", point.Stop},
	NoSigning:     {"purpose", point.Stop},
	OfAuthority:   {"own", point.Note},
	OddExtension:  {"purpose", point.Stop},
	Extra:         {"extra", point.Note},
	ShortRSA:      {"key", point.Stop},
	ShortCurve:    {"key", point.Stop},
	OddKey:        {"key", point.Stop},
	OldSignature:  {"signature", point.Stop},
	Strong:        {"key", point.Good},
	SelfSigned:    {"trust", point.Stop},
	Unknown:       {"trust", point.Stop},
	Incomplete:    {"chain", point.Stop},
	Trusted:       {"trust", point.Good},
	OutOfOrder:    {"order", point.Care},
	OtherPurpose:  {"purpose", point.Stop},
	LongLife:      {"life", point.Care},
	Revoked:       {"revoked", point.Stop},
	NoStaple:      {"staple", point.Stop},
	BadStaple:     {"staple", point.Care},
	OldStaple:     {"staple", point.Care},

	IssuerEndsSoon: {"dates-chain", point.Care},
}

// ID is the stable name of the question that the finding answers: "names", "dates", "trust" and so on.
func (f Finding) ID() string { return codes[f.Code].id }

// Grade says how much it matters.
func (f Finding) Grade() point.Grade { return codes[f.Code].grade }
