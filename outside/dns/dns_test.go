package dns

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// resolver answers from a zone, as a resolver does.
func resolver(t *testing.T, records ...string) *Client {
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	zone := map[string][]dns.RR{}
	for _, r := range records {
		rr, err := dns.NewRR(r)
		require.NoError(t, err)
		key := rr.Header().Name + dns.TypeToString[rr.Header().Rrtype]
		zone[key] = append(zone[key], rr)
	}
	s := &dns.Server{PacketConn: pc, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg)
		m.SetReply(q)
		m.Answer = zone[q.Question[0].Name+dns.TypeToString[q.Question[0].Qtype]]
		if q.Question[0].Name == "broken.example." {
			m.Rcode = dns.RcodeServerFailure
		}
		_ = w.WriteMsg(m) // the client says what it got
	})}
	go func() { _ = s.ActivateAndServe() }() // it ends with the test
	t.Cleanup(func() { _ = s.Shutdown() })
	c, err := New(pc.LocalAddr().String())
	require.NoError(t, err)
	return c
}

func TestAsked(t *testing.T) {
	ctx := context.Background()
	c := resolver(t, "ternrock.example. 2400 IN A 192.0.2.7", "ternrock.example. 60 IN AAAA 2001:db8::7", "www.ternrock.example. 300 IN CNAME ternrock.example.",
		"ternrock.example. 300 IN NS ns2.host.example.", "ternrock.example. 300 IN NS ns1.host.example.", "ns1.host.example. 300 IN A 192.0.2.53",
		`ternrock.example. 300 IN CAA 0 issue "authority.example; account=7"`, `ternrock.example. 300 IN CAA 0 issuewild ";"`,
		`closed.example. 300 IN CAA 0 issue ";"`, `reports.example. 300 IN CAA 0 iodef "mailto:keeper@reports.example"`)
	a, err := c.From(ctx, c.server, "ternrock.example")
	require.NoError(t, err)
	assert.Equal(t, Answer{[]string{"192.0.2.7", "2001:db8::7"}, 40 * time.Minute}, a)
	a, err = c.From(ctx, c.server, "www.ternrock.example")
	require.NoError(t, err)
	assert.Empty(t, a.Addrs, "this server says only what it is asked for")
	zone, servers, err := c.Servers(ctx, "lamp.www.ternrock.example")
	require.NoError(t, err)
	assert.Equal(t, "ternrock.example", zone)
	assert.Equal(t, []Server{{"ns1.host.example", "192.0.2.53:53"}, {"ns2.host.example", ""}}, servers)
	for name, want := range map[string][]string{"shop.ternrock.example": {"authority.example"}, "closed.example": nil, "reports.example": nil, "free.example": nil} {
		issuers, at, err := c.Issuers(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, want, issuers, name)
		assert.Equal(t, map[string]string{"shop.ternrock.example": "ternrock.example", "closed.example": "closed.example"}[name], at, name)
	}
	_, err = c.Addresses(ctx, "broken.example")
	assert.ErrorContains(t, err, "SERVFAIL")
	_, err = New("not an address")
	assert.ErrorContains(t, err, "write it like 192.0.2.53")
}
