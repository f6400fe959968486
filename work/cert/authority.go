package cert

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"trimlantern/outside/acme"
	"trimlantern/outside/probe"
	"trimlantern/work"
)

// authorityFault says in a user's words what an authority answered, and what to do.
func authorityFault(err error, directory string) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var r *acme.Refused
	if !errors.As(err, &r) {
		if errors.Is(err, acme.ErrClear) {
			return work.BadUse(nil, fmt.Sprintf("%q is no https address", directory), "write the whole address of the authority's directory: --directory https://…")
		}
		return work.Failed(err, "the authority "+work.HostOf(directory), "run the same command again")
	}
	what, do := refusalWords(r, directory)
	return &work.Fault{Code: work.World, What: what, Do: do, Err: &told{r}}
}

// told carries a refusal along whose words are in the fault already.
type told struct{ *acme.Refused }

// Error adds what the authority said of single names.
func (t *told) Error() string {
	var parts []string
	for _, n := range t.Names {
		words := strings.Join(strings.Fields(n.Detail), " ")
		if n.Name != "" {
			words = n.Name + ": " + words
		}
		parts = append(parts, words)
	}
	if len(parts) == 0 && t.Detail != "" {
		parts = append(parts, strings.Join(strings.Fields(t.Detail), " "))
	}
	if len(parts) == 0 && t.Err != nil {
		parts = append(parts, probe.Failure(t.Err))
	}
	if len(parts) == 0 {
		parts = append(parts, string(t.Kind))
	}
	return strings.Join(parts, "; ")
}

// Unwrap gives the refusal.
func (t *told) Unwrap() error { return t.Refused }

// steps of the conversation, in words.
var authoritySteps = map[acme.Step]string{
	acme.Directory: "was asked for its directory", acme.Account: "was asked for an account", acme.Ordering: "was asked for a certificate",
	acme.Proving: "looked at the proof", acme.Issuing: "was to issue the certificate", acme.Revoking: "was asked to revoke it", acme.Renewing: "was asked when to renew",
}

// refusalWords say what a refusal means and what to do.
func refusalWords(r *acme.Refused, directory string) (what, do string) {
	host := work.HostOf(directory)
	again := "run the same command again: it goes on where it was"
	switch r.Kind {
	case acme.Unreached:
		return fmt.Sprintf("the authority %s gave no usable answer when it %s", host, authoritySteps[r.Step]), again
	case acme.Broken:
		do := "check the address: it must be that of the authority's directory"
		if r.Step != acme.Directory {
			do = again
		}
		return fmt.Sprintf("the authority %s answered something that the protocol does not know when it %s", host, authoritySteps[r.Step]), do
	case acme.RateLimited:
		if r.After > 0 {
			return "the authority limits how often it is asked", "run the same command again in " + spanWords(r.After)
		}
		return "the authority limits how often it is asked", "run the same command again later; it did not say when"
	case acme.CAA:
		return "the DNS does not let this authority issue the certificate (CAA)", "add a CAA record for it, or take an authority that is allowed"
	case acme.DNS:
		return "the authority cannot look the names up, or does not find the record", "check the DNS with other resolvers, then run the same command again"
	case acme.Connection:
		return "the authority cannot connect to the site", "open port 80 to everybody, on every address of every name (IPv6 too); then run the same command again"
	case acme.Unauthorized, "incorrectResponse":
		if r.Step == acme.Proving {
			return "the authority did not find the proof, or found another", "see that all addresses of the names lead to this server, and no cache or proxy answers in its place; then run the same command again"
		}
		return "the authority does not allow that", "see what it says; a new account: move the account's key away, then run the same command again"
	case acme.TermsChanged:
		see := r.See
		if see == "" {
			see = "its terms of service"
		}
		return "the authority wants something done first: " + see, "do what it asks for, then run the same command again"
	case acme.NeedsBinding:
		return "the authority wants accounts bound to one that it knows", "get an identifier and a key from it, then add --eab-id ID --eab-key-file FILE"
	case acme.NoAccount:
		return "the authority does not know the account any more", "run the same command again with --accept-terms: it makes a new one"
	case acme.BadName, "unsupportedIdentifier", "malformed", "badCSR":
		return "the authority does not issue certificates for these names", "see what it says of them; private and made-up names get none from a public authority"
	case acme.BadContact, "unsupportedContact":
		return "the authority does not take the e-mail address", "name another one: --email ADDRESS"
	case acme.NotOffered:
		return "the authority does not offer this way of proof", "take another: --proof file, listener, dns-update, dns-hook or dns-by-hand"
	case acme.Invalid:
		return "the authority gave the order up", again
	case acme.AlreadyRevoked:
		return "the certificate is revoked already", ""
	}
	return fmt.Sprintf("the authority %s said no when it %s (%s)", host, authoritySteps[r.Step], r.Kind), "see what it says"
}
