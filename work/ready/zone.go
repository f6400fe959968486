package ready

import (
	"errors"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/outside/dns"
	"trimlantern/outside/fetch"
	"trimlantern/report/words"
	"trimlantern/work"
)

// zone asks each name server of the site's zone, and which authorities may issue certificates. Names given
// with --resolve are skipped unless --resolver is given too.
func (r *readying) zone(client *fetch.Client, site address.Site) error {
	c, err := dns.New(r.o.Resolver)
	if errors.Is(err, dns.ErrNone) {
		return nil
	}
	if err != nil {
		return work.BadUse(err, "--resolver", "write the address of a name server: --resolver 192.0.2.53")
	}
	for _, name := range site.Hosts() {
		if r.o.Resolver == "" && len(client.Override(name, "443")) > 0 || r.job.Offline {
			continue
		}
		r.servers(c, name)
		issuers, at, err := c.Issuers(r.ctx, name)
		switch {
		case err != nil || at == "":
			// Who may issue is the authority's to ask as well: it says so where it may not.
		case len(issuers) == 0:
			r.add(name, words.NoIssuer, at)
		default:
			r.add(name, words.OnlyIssuers, at, strings.Join(issuers, ", "), name)
		}
	}
	return nil
}

// servers compares the answers of a zone's name servers.
func (r *readying) servers(c *dns.Client, name string) {
	zone, all, err := c.Servers(r.ctx, name)
	if err != nil || len(all) < 2 {
		return
	}
	said := map[string][]string{} // servers by what they answer
	var keep time.Duration
	var silent []string
	for _, s := range all {
		host, _, _ := net.SplitHostPort(s.Addr)
		if s.Addr == "" || address.IsPrivate(host) && !r.private(c, name) { // what a zone names must not steer us into a private network
			silent = append(silent, s.Name)
			continue
		}
		a, err := c.From(r.ctx, s.Addr, name)
		if err != nil {
			silent = append(silent, s.Name)
			continue
		}
		answer := strings.Join(a.Addrs, ", ")
		if answer == "" {
			answer = "no address"
		}
		said[answer] = append(said[answer], s.Name)
		keep = max(keep, a.TTL)
	}
	if len(silent) > 0 {
		quiet := words.ServerSilent
		if len(silent) > 1 {
			quiet = words.ServersSilent
		}
		r.add(name, quiet, words.Count(len(silent), "name server"), zone, strings.Join(silent, ", "))
	}
	switch len(said) {
	case 0:
	case 1:
		for answer, servers := range said {
			r.add(name, words.ServersAgree, words.Count(len(servers), "name server"), zone, answer)
		}
	default:
		answers := slices.SortedFunc(maps.Keys(said), func(a, b string) int {
			if n := len(said[b]) - len(said[a]); n != 0 {
				return n
			}
			return strings.Compare(a, b)
		})
		var parts []string
		total := 0
		for _, a := range answers {
			parts = append(parts, words.Answers(said[a], a))
			total += len(said[a])
		}
		r.add(name, words.ServersDisagree, total, zone, name, strings.Join(parts, "; "), words.Kept(keep))
	}
}

// private reports whether the site itself lives in a private network.
func (r *readying) private(c *dns.Client, name string) bool {
	addrs, err := c.Addresses(r.ctx, name)
	return err == nil && slices.ContainsFunc(addrs, address.IsPrivate)
}
