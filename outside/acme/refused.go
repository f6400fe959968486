package acme

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"golang.org/x/crypto/acme"

	"trimlantern/core/certs"
)

// Step is what an authority was asked for. The values are stable names.
type Step string

// The steps, in their order.
const (
	Directory Step = "directory"
	Account   Step = "account"
	Ordering  Step = "order"
	Proving   Step = "proof"
	Issuing   Step = "certificate"
	Revoking  Step = "revocation"
	Renewing  Step = "renewal-window"
)

// Kind is why an authority refused: the type of its problem document without the common prefix (RFC 8555 §6.7),
// or one of those below.
type Kind string

// Kinds that this package gives, and those of the standard that are told apart.
const (
	Unreached  Kind = "unreached"   // no answer
	Broken     Kind = "broken"      // an answer that the protocol does not know
	Invalid    Kind = "invalid"     // the order came to nothing, for no reason that is told
	NotOffered Kind = "not-offered" // the way of proof is not one of the authority's

	RateLimited    Kind = "rateLimited"
	CAA            Kind = "caa"
	Connection     Kind = "connection"
	DNS            Kind = "dns"
	Unauthorized   Kind = "unauthorized"
	TermsChanged   Kind = "userActionRequired"
	NeedsBinding   Kind = "externalAccountRequired"
	NoAccount      Kind = "accountDoesNotExist"
	Malformed      Kind = "malformed"
	BadName        Kind = "rejectedIdentifier"
	BadContact     Kind = "invalidContact"
	AlreadyRevoked Kind = "alreadyRevoked"
)

// Refused says that an authority did not do what it was asked for.
type Refused struct {
	Step   Step
	Kind   Kind
	Detail string        // in the authority's words
	Names  []NameProblem // what it says of single names
	After  time.Duration // it may be asked again after that; 0: it did not say
	See    string        // a URL at which a person can do something
	Err    error         // the cause; nil where the authority itself said no
}

// NameProblem is what an authority says of one name.
type NameProblem struct {
	Name   string
	Kind   Kind
	Detail string
}

// Error names the step, the kind and what was said.
func (r *Refused) Error() string {
	s := fmt.Sprintf("%s: %s", r.Step, r.Kind)
	if r.Detail != "" {
		s += ": " + r.Detail
	}
	for _, n := range r.Names {
		s += fmt.Sprintf("; %s: %s %s", n.Name, n.Kind, n.Detail)
	}
	if r.Err != nil {
		s += ": " + r.Err.Error()
	}
	return s
}

// Unwrap gives the cause.
func (r *Refused) Unwrap() error { return r.Err }

// Again reports whether the same question may have another answer later: nothing was wrong with it.
func (r *Refused) Again() bool {
	return r.Kind == Unreached || r.Kind == RateLimited || r.Kind == Broken
}

// kindOf takes the common prefix off a problem's type.
func kindOf(problem string) Kind {
	return Kind(problem[strings.LastIndexByte(problem, ':')+1:])
}

// refused makes what the library says into a *Refused.
func refused(step Step, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	r := &Refused{Step: step}
	var said *acme.Error
	var proof *acme.AuthorizationError
	var order *acme.OrderError
	switch {
	case errors.As(err, &r):
	case errors.As(err, &proof):
		r.Kind = Unauthorized
		for _, e := range proof.Errors {
			n := NameProblem{Name: proof.Identifier, Kind: Broken, Detail: e.Error()}
			if errors.As(e, &said) && said.ProblemType != "" {
				n.Kind, n.Detail = kindOf(said.ProblemType), said.Detail
			}
			r.Kind, r.Names = n.Kind, append(r.Names, n)
		}
	case errors.As(err, &order):
		r.Kind, r.Detail = Invalid, "the order is "+order.Status
		if order.Problem != nil {
			r.of(order.Problem)
		}
	case errors.As(err, &said):
		r.of(said)
	case errors.Is(err, ErrHuge), errors.Is(err, ErrRedirect), errors.Is(err, ErrClear), errors.Is(err, ErrOdd):
		r.Kind, r.Err = Broken, err
	case odd(err):
		r.Kind, r.Err = Broken, ErrOdd
	default:
		r.Kind, r.Err = Unreached, err
	}
	return r
}

// odd reports whether an answer could not be understood.
func odd(err error) bool {
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	return errors.As(err, &syntax) || errors.As(err, &typ) || strings.HasPrefix(err.Error(), "acme: ")
}

// of takes over what a problem document says.
func (r *Refused) of(e *acme.Error) {
	r.Kind, r.Detail, r.See = kindOf(e.ProblemType), e.Detail, e.Instance
	if r.Kind == "" {
		r.Kind = Broken
		if e.StatusCode >= 500 {
			r.Kind = Unreached
		}
		r.Detail = fmt.Sprintf("it answers %d", e.StatusCode)
	}
	if e.StatusCode == http.StatusTooManyRequests {
		r.Kind = RateLimited
	}
	if e.StatusCode >= 500 && r.Kind == "serverInternal" {
		r.Kind = Unreached
	}
	r.After = retryAfter(e.Header.Get("Retry-After"))
	for _, s := range e.Subproblems {
		if s.Identifier != nil {
			r.Names = append(r.Names, NameProblem{s.Identifier.Value, kindOf(s.Type), s.Detail})
		}
	}
}

// Window asks when a certificate is to be renewed (RFC 9773); nil where the authority does not say.
func (a *Authority) Window(ctx context.Context, leaf *x509.Certificate) (*certs.Window, error) {
	if a.renewal == "" {
		return nil, nil
	}
	id, err := certs.RenewalID(leaf)
	if err != nil {
		return nil, nil // it cannot be named: then it is renewed as any other
	}
	if err := a.own(a.renewal); err != nil {
		return nil, refused(Renewing, err)
	}
	var said struct {
		Window certs.Window `json:"suggestedWindow"`
	}
	if _, err := a.read(ctx, strings.TrimSuffix(a.renewal, "/")+"/"+id, &said); err != nil {
		return nil, refused(Renewing, err)
	}
	if !said.Window.Sound() {
		return nil, refused(Renewing, ErrOdd)
	}
	return &said.Window, nil
}
