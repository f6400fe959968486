package reach

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"trimlantern/core/address"
	"trimlantern/core/hops"
	"trimlantern/core/mixed"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/work"
)

// maxTravel is after how many hops a visitor's browser gives up.
const maxTravel = 20

// Travel follows a journey hop by hop, as a visitor who comes for the first time.
func Travel(ctx context.Context, j *work.Job, journey *hops.Journey) error {
	client, err := j.Web()
	if err != nil {
		return err
	}
	Follow(ctx, client.Visitor("", nil), journey)
	return nil
}

// Follow goes the way of a journey as a browser does: 301, 302 and 303 turn what was sent into a question
// (RFC 9110 §15.4), cookies are kept, and a page that sends its visitors on by itself is a step of the way.
func Follow(ctx context.Context, visitor *fetch.Client, journey *hops.Journey) {
	method, at := journey.Method, journey.Typed
	seen := map[string]bool{}
	for range maxTravel {
		res, location, page, err := visitor.StepIn(ctx, method, at)
		if err != nil {
			journey.Err = probe.Failure(err)
			journey.Far = probe.Unreachable(err)
			if len(journey.Hops) > 0 {
				journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method})
			}
			return
		}
		cookie := len(res.Cookies()) > 0
		by := ""
		if location == "" && method == http.MethodGet && res.StatusCode < 400 {
			location, by, journey.Steered = onward(at, res.Header, "text/html", page)
		}
		journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method, Status: res.StatusCode, Location: location, By: by, Cookie: cookie && location != ""})
		if location == "" || seen[method+at] && !cookie {
			return
		}
		seen[method+at] = true
		if method == "POST" && res.StatusCode <= 303 {
			method = "GET"
		}
		at = location
	}
}

// onward returns where a page sends its visitors by itself, and by what. One by which a script may send some of them is
// only returned as steered.
func onward(at string, header http.Header, typ string, page []byte) (to, by, steered string) {
	u, err := url.Parse(at)
	if err != nil || len(page) == 0 && header.Get("Refresh") == "" {
		return "", "", ""
	}
	for _, o := range mixed.Read(mixed.Answer{URL: u, Type: typ, Header: header, Body: page}).Onward {
		if o.Sure {
			return o.To, o.By, ""
		}
		if steered == "" {
			steered = o.To
		}
	}
	return "", "", steered
}

// OtherName returns the name that visitors of a site type as well, with www or without, where nobody named it.
// People do not type www before a name below another.
func OtherName(j *work.Job, site address.Site) (names []string) {
	bare := strings.TrimPrefix(site.Host, "www.")
	if registered, err := publicsuffix.EffectiveTLDPlusOne(bare); err != nil || registered != bare || j.Offline {
		return nil
	}
	for _, name := range []string{bare, "www." + bare} {
		if !slices.Contains(j.Site.NetworkHosts(), name) {
			names = append(names, name)
		}
	}
	return names
}
