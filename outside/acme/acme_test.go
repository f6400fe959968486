package acme

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"golang.org/x/crypto/acme"
)

func TestRefused(t *testing.T) {
	problem := func(status int, kind string) *acme.Error {
		return &acme.Error{StatusCode: status, ProblemType: "urn:ietf:params:acme:error:" + kind, Detail: "why", Header: http.Header{"Retry-After": {"90"}}}
	}
	for _, c := range []struct {
		what  string
		err   error
		kind  Kind
		again bool
		after time.Duration
		names int
	}{
		{"limited", problem(429, "rateLimited"), RateLimited, true, 90 * time.Second, 0},
		{"limited, with another type", problem(429, "serverInternal"), RateLimited, true, 90 * time.Second, 0},
		{"down", problem(503, "serverInternal"), Unreached, true, 90 * time.Second, 0},
		{"down, without a document", &acme.Error{StatusCode: 502}, Unreached, true, 0, 0},
		{"CAA", problem(403, "caa"), CAA, false, 90 * time.Second, 0},
		{"of names", &acme.Error{StatusCode: 400, ProblemType: "urn:ietf:params:acme:error:malformed", Subproblems: []acme.Subproblem{{Type: "urn:ietf:params:acme:error:caa", Identifier: &acme.AuthzID{Type: "dns", Value: "a.example"}}}}, "malformed", false, 0, 1},
		{"a proof", &acme.AuthorizationError{Identifier: "a.example", Errors: []error{problem(403, "dns")}}, DNS, false, 0, 1},
		{"a proof, without a reason", &acme.AuthorizationError{Identifier: "a.example"}, Unauthorized, false, 0, 0},
		{"an order", &acme.OrderError{Status: "invalid"}, Invalid, false, 0, 0},
		{"an order, with a reason", &acme.OrderError{Status: "invalid", Problem: problem(403, "caa")}, CAA, false, 90 * time.Second, 0},
		{"no connection", errors.New("connection refused"), Unreached, true, 0, 0},
		{"too large", ErrHuge, Broken, true, 0, 0},
		{"no JSON", errors.New("acme: error reading order: x"), Broken, true, 0, 0},
	} {
		var r *Refused
		if assert.ErrorAs(t, refused(Ordering, c.err), &r, c.what) {
			assert.Equal(t, []any{Ordering, c.kind, c.again, c.after, c.names}, []any{r.Step, r.Kind, r.Again(), r.After, len(r.Names)}, c.what)
		}
	}
	assert.Equal(t, context.Canceled, refused(Ordering, context.Canceled), "an interruption is none")
}

func TestPlainToken(t *testing.T) {
	for token, want := range map[string]bool{"evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr_oA": true, "": false, "../../etc/cron.d/x": false, "a/b": false, "a.b": false, "a b": false, "a\x00": false, "é": false} {
		assert.Equal(t, want, plainToken(token), "%q", token)
	}
}

func TestRetryAfter(t *testing.T) {
	for v, want := range map[string]time.Duration{"": 0, "5": 5 * time.Second, "-5": 0, "x": 0, "1h": 0, "1e3": 0, "99999999999999": longWait * time.Second, "Mon, 02 Jan 2006 15:04:05 GMT": 0} {
		assert.Equal(t, want, retryAfter(v), v)
	}
	soon := retryAfter(time.Now().Add(time.Hour).UTC().Format(http.TimeFormat))
	assert.InDelta(t, time.Hour, soon, float64(5*time.Second))
}
