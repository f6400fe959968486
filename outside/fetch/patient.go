package fetch

import (
	"bytes"
	"io"
	"net/http"
	"sync/atomic"
	"time"
)

// patience asks again for what failed, after a pause that grows: a night's look at a site is to tell a fault that lasts from
// one that passes. Clients made of one another share it.
type patience struct {
	failed atomic.Int32 // requests in a row that failed for good: then the site is down, and it is not waited any more
}

// How patience asks.
const (
	patientTries = 6
	firstPause   = 400 * time.Millisecond
	down         = 6 // requests in a row
)

// roundTrip asks as often as it takes. The body is read, so that one that breaks off is asked for once more.
func (p *patience) roundTrip(ask http.RoundTripper, r *http.Request) (*http.Response, error) {
	for try, pause := 1, firstPause; ; try, pause = try+1, pause*2 {
		res, err := ask.RoundTrip(r)
		if err == nil {
			err = held(res)
		}
		if err == nil && !passing(res.StatusCode) {
			p.failed.Store(0)
			return res, nil
		}
		if try == patientTries || p.failed.Load() >= down || r.Body != nil && r.GetBody == nil {
			p.failed.Add(1)
			return res, err
		}
		select {
		case <-time.After(pause):
		case <-r.Context().Done():
			return res, err
		}
		if r.GetBody != nil {
			body, err := r.GetBody()
			if err != nil {
				return res, err
			}
			r = r.Clone(r.Context())
			r.Body = body
		}
	}
}

// held reads the body of an answer, as far as any reader of it goes.
func held(res *http.Response) error {
	b, err := io.ReadAll(io.LimitReader(res.Body, maxBody))
	res.Body.Close()
	res.Body = io.NopCloser(bytes.NewReader(b))
	return err
}

// passing reports whether a status may be another one in a moment.
func passing(status int) bool {
	return status >= 500 && status != http.StatusNotImplemented || status == http.StatusTooManyRequests || status == http.StatusRequestTimeout
}
