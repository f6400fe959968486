package dns

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Key signs updates of a zone (TSIG, RFC 8945).
type Key struct {
	Name      string
	algorithm string
	secret    string
}

// keyStatement is how name servers write a key in their configuration.
var keyStatement = regexp.MustCompile(`(?s)^\s*key\s+"?([A-Za-z0-9._-]+)"?\s*\{(.*)\}\s*;?\s*$`)

var (
	keyAlgorithm = regexp.MustCompile(`(?m)(?:^|[\s;{])algorithm\s+"?(hmac-[a-z0-9.-]+)"?\s*;`)
	keySecret    = regexp.MustCompile(`(?m)(?:^|[\s;{])secret\s+"?([A-Za-z0-9+/=]+)"?\s*;`)
	comments     = regexp.MustCompile(`(?m)(?:#|//).*$`)
)

// algorithms are those that the standard has for updates; MD5 and SHA-1 are not taken.
var algorithms = map[string]string{"hmac-sha224": dns.HmacSHA224, "hmac-sha256": dns.HmacSHA256, "hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512}

// ReadKey reads a key as name servers write it: key "NAME" { algorithm hmac-sha256; secret "BASE64"; };
// Its errors do not repeat the text.
func ReadKey(text string) (Key, error) {
	m := keyStatement.FindStringSubmatch(comments.ReplaceAllString(text, ""))
	if m == nil {
		return Key{}, errors.New(`holds no key; it should read: key "NAME" { algorithm hmac-sha256; secret "…"; };`)
	}
	algorithm, secret := keyAlgorithm.FindStringSubmatch(m[2]), keySecret.FindStringSubmatch(m[2])
	if algorithm == nil || algorithms[algorithm[1]] == "" {
		return Key{}, errors.New("names no algorithm that is taken: hmac-sha224, hmac-sha256, hmac-sha384 or hmac-sha512")
	}
	if secret == nil {
		return Key{}, errors.New("holds no secret")
	}
	if _, err := base64.StdEncoding.DecodeString(secret[1]); err != nil {
		return Key{}, errors.New("holds a secret that is no base64")
	}
	return Key{dns.CanonicalName(m[1]), algorithms[algorithm[1]], secret[1]}, nil
}

// Resolvers returns the name servers that the system asks, as host:port.
func Resolvers() (out []string) {
	c, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	for _, s := range c.Servers {
		out = append(out, net.JoinHostPort(s, c.Port))
	}
	return out
}

// Server returns where the client's resolver is, as host:port.
func (c *Client) Server() string { return c.server }

// ServerAddr makes host:port of a name server that a user names, by an address or a name, with or without
// a port.
func ServerAddr(ctx context.Context, s string) (string, error) {
	host, port := s, "53"
	if h, p, err := net.SplitHostPort(s); err == nil {
		host, port = h, p
	}
	if ip, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return net.JoinHostPort(ip.String(), port), nil
	}
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	addrs, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil || len(addrs) == 0 {
		return "", fmt.Errorf("the name server %q cannot be looked up", host)
	}
	return net.JoinHostPort(addrs[0], port), nil
}

// TXT returns the texts that a server has for a name, behind aliases as far as the server says.
func (c *Client) TXT(ctx context.Context, server, name string) (texts []string, err error) {
	r, err := c.ask(ctx, server, name, dns.TypeTXT)
	if err != nil {
		return nil, err
	}
	for _, rr := range r.Answer {
		if txt, ok := rr.(*dns.TXT); ok {
			texts = append(texts, strings.Join(txt.Txt, ""))
		}
	}
	return texts, nil
}

// maxAliases bounds how many aliases are followed.
const maxAliases = 8

// Target returns the name that a name is an alias of in the end, as far as one server says; the name itself where
// it is none. No resolver is asked: it would remember for long that there is no such name yet.
func (c *Client) Target(ctx context.Context, server, name string) (string, error) {
	for range maxAliases {
		r, err := c.ask(ctx, server, name, dns.TypeCNAME)
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(r.Answer, func(rr dns.RR) bool {
			return rr.Header().Rrtype == dns.TypeCNAME && strings.EqualFold(strings.TrimSuffix(rr.Header().Name, "."), name)
		})
		if at < 0 {
			return name, nil
		}
		name = strings.ToLower(strings.TrimSuffix(r.Answer[at].(*dns.CNAME).Target, "."))
	}
	return "", fmt.Errorf("more than %d aliases, one after another", maxAliases)
}

// Zone returns the zone that a server has a name in.
func (c *Client) Zone(ctx context.Context, server, name string) (string, error) {
	r, err := c.ask(ctx, server, name, dns.TypeSOA)
	if err != nil {
		return "", err
	}
	for _, rr := range append(r.Answer, r.Ns...) {
		if soa, ok := rr.(*dns.SOA); ok && dns.IsSubDomain(soa.Hdr.Name, dns.Fqdn(name)) {
			return strings.TrimSuffix(soa.Hdr.Name, "."), nil
		}
	}
	return "", fmt.Errorf("it has no zone that %s is in", name)
}

// proofTTL is for how long others may keep the record of a proof, in seconds.
const proofTTL = 60

// ErrRefused says that a name server answered that it does not make a change.
var ErrRefused = errors.New("refuses the update")

// Change adds a text to a name of a zone, or removes that one text (dynamic update, RFC 2136), signed with key.
// The answer's signature is checked.
func Change(ctx context.Context, server, zone string, key Key, add bool, name, text string) error {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(zone))
	record := &dns.TXT{Hdr: dns.RR_Header{Name: dns.Fqdn(name), Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: proofTTL}, Txt: []string{text}}
	if add {
		m.Insert([]dns.RR{record})
	} else {
		m.Remove([]dns.RR{record})
	}
	m.SetTsig(key.Name, key.algorithm, 300, time.Now().Unix())
	c := &dns.Client{Net: "tcp", Timeout: answerTime, TsigSecret: map[string]string{key.Name: key.secret}}
	r, _, err := c.ExchangeContext(ctx, m, server)
	if r != nil && r.Rcode != dns.RcodeSuccess {
		return fmt.Errorf("the name server %s %w: %s", server, ErrRefused, refusals[r.Rcode])
	}
	if err != nil {
		return fmt.Errorf("the name server %s: %w", server, err)
	}
	return nil
}

// refusals are the answers to an update that are told apart (RFC 2136 §2.2, RFC 8945 §3).
var refusals = map[int]string{
	dns.RcodeRefused: "REFUSED: its policy does not let this key change that record",
	dns.RcodeNotAuth: "NOTAUTH: it does not know the key, the secret is another, the clocks differ, or the zone is not its own",
	dns.RcodeNotZone: "NOTZONE: the name is not in that zone", dns.RcodeServerFailure: "SERVFAIL: it cannot write the zone",
	dns.RcodeNotImplemented: "NOTIMP: it takes no updates", dns.RcodeFormatError: "FORMERR", dns.RcodeYXDomain: "YXDOMAIN", dns.RcodeYXRrset: "YXRRSET", dns.RcodeNXRrset: "NXRRSET",
}
