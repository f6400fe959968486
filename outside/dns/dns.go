// Package dns asks name servers what the system's own resolver does not tell: which servers a zone has, what
// each of them answers, and which authorities may issue certificates for a name.
package dns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// ErrNone says that there is no name server to ask.
var ErrNone = errors.New("no name server is known")

// Client asks one resolver, and the servers of zones.
type Client struct {
	server string // host:port of the resolver
}

// answerTime bounds one question.
const answerTime = 5 * time.Second

// New makes a client of a resolver, an IP address with or without a port; "" is the first that the system
// names. It fails with ErrNone where that names none.
func New(server string) (*Client, error) {
	if server == "" {
		c, err := dns.ClientConfigFromFile("/etc/resolv.conf")
		if err != nil || len(c.Servers) == 0 {
			return nil, ErrNone
		}
		server = net.JoinHostPort(c.Servers[0], c.Port)
	}
	if ip, err := netip.ParseAddr(strings.Trim(server, "[]")); err == nil {
		server = net.JoinHostPort(ip.String(), "53")
	}
	if _, err := netip.ParseAddrPort(server); err != nil {
		return nil, fmt.Errorf("%q is not an address of a name server; write it like 192.0.2.53", server)
	}
	return &Client{server}, nil
}

// ask puts one question, over TCP where the answer does not fit.
func (c *Client) ask(ctx context.Context, server, name string, kind uint16) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(name), kind)
	m.SetEdns0(1232, false)
	d := &dns.Client{Timeout: answerTime}
	r, _, err := d.ExchangeContext(ctx, m, server)
	if err == nil && r.Truncated {
		d.Net = "tcp"
		r, _, err = d.ExchangeContext(ctx, m, server)
	}
	if err != nil {
		return nil, err
	}
	if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("answers %s", dns.RcodeToString[r.Rcode])
	}
	return r, nil
}

// Addresses returns the addresses that the resolver has for a name; none where there is no such name.
func (c *Client) Addresses(ctx context.Context, name string) ([]string, error) {
	a, err := c.From(ctx, c.server, name)
	return a.Addrs, err
}

// Answer is what one server says of a name.
type Answer struct {
	Addrs []string      // sorted
	TTL   time.Duration // for how long others may keep it
}

// From asks one server for the addresses of a name. An alias counts as what it stands for, as far as the
// server says.
func (c *Client) From(ctx context.Context, server, name string) (Answer, error) {
	var out Answer
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		r, err := c.ask(ctx, server, name, kind)
		if err != nil {
			return out, err
		}
		for _, rr := range r.Answer {
			addr := ""
			switch rr := rr.(type) {
			case *dns.A:
				addr = rr.A.String()
			case *dns.AAAA:
				addr = rr.AAAA.String()
			case *dns.CNAME:
				addr = "alias of " + strings.TrimSuffix(rr.Target, ".")
			}
			if ttl := time.Duration(rr.Header().Ttl) * time.Second; ttl > out.TTL {
				out.TTL = ttl
			}
			if addr != "" && !slices.Contains(out.Addrs, addr) {
				out.Addrs = append(out.Addrs, addr)
			}
		}
	}
	slices.Sort(out.Addrs)
	return out, nil
}

// Server is one of the servers of a zone.
type Server struct {
	Name string
	Addr string // host:port; "" where it cannot be looked up
}

// maxServers bounds how many servers of a zone are asked.
const maxServers = 8

// Servers returns the zone that a name is in and its servers.
func (c *Client) Servers(ctx context.Context, name string) (zone string, servers []Server, err error) {
	for at := strings.TrimSuffix(name, "."); strings.Contains(at, "."); _, at, _ = strings.Cut(at, ".") {
		r, err := c.ask(ctx, c.server, at, dns.TypeNS)
		if err != nil {
			return "", nil, err
		}
		for _, rr := range r.Answer {
			if ns, ok := rr.(*dns.NS); ok && len(servers) < maxServers {
				servers = append(servers, Server{Name: strings.TrimSuffix(ns.Ns, ".")})
			}
		}
		if len(servers) == 0 {
			continue
		}
		for i := range servers {
			addrs, err := c.Addresses(ctx, servers[i].Name)
			for _, a := range addrs {
				if _, perr := netip.ParseAddr(a); err == nil && perr == nil {
					servers[i].Addr = net.JoinHostPort(a, "53")
					break
				}
			}
		}
		slices.SortFunc(servers, func(a, b Server) int { return strings.Compare(a.Name, b.Name) })
		return at, servers, nil
	}
	return "", nil, nil
}

// Issuers returns which authorities may issue certificates for a name, or with *. for the names below it (CAA,
// RFC 8659), and the name that says so. With no such record anywhere at is "": then all may. An empty list with a
// name means that none may.
func (c *Client) Issuers(ctx context.Context, name string) (issuers []string, at string, err error) {
	bare, wild := strings.CutPrefix(strings.TrimSuffix(name, "."), "*.")
	for at = bare; strings.Contains(at, "."); _, at, _ = strings.Cut(at, ".") {
		r, err := c.ask(ctx, c.server, at, dns.TypeCAA)
		if err != nil {
			return nil, "", err
		}
		said := map[string][]string{} // by tag
		for _, rr := range r.Answer {
			caa, ok := rr.(*dns.CAA)
			if !ok {
				continue
			}
			tag := strings.ToLower(caa.Tag)
			domain, _, _ := strings.Cut(caa.Value, ";")
			said[tag] = append(said[tag], strings.TrimSpace(domain))
		}
		if len(said) == 0 {
			continue
		}
		tag := "issue"
		if wild && said["issuewild"] != nil {
			tag = "issuewild"
		}
		if said[tag] == nil { // it limits wildcards alone, or names an address for reports
			return nil, "", nil
		}
		for _, domain := range said[tag] {
			if domain != "" {
				issuers = append(issuers, domain)
			}
		}
		return issuers, at, nil
	}
	return nil, "", nil
}
