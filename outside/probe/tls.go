package probe

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"time"

	"trimlantern/outside/fetch"
)

// TLS is what a server showed in a handshake.
type TLS struct {
	Addr    string              `json:"addr"` // host:port that was asked
	Err     string              `json:"error,omitempty"`
	Version string              `json:"version,omitempty"`
	Chain   []*x509.Certificate `json:"-"`
	Staple  []byte              `json:"-"`               // the OCSP answer that came along
	Plain   bool                `json:"plain,omitempty"` // it speaks, but no TLS
	Far     bool                `json:"far,omitempty"`   // this machine has no way to it: that says nothing of the server
}

// handshakeTime bounds one handshake.
const handshakeTime = 10 * time.Second

// Handshake asks what listens at addr for the certificates of host. Nothing is
// verified: judging is the caller's.
func Handshake(ctx context.Context, addr, host string) TLS {
	out := TLS{Addr: addr}
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", addr)
	if err != nil {
		out.Err, out.Far = Failure(err), Unreachable(err)
		return out
	}
	defer raw.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = raw.SetDeadline(deadline) // else the dialer's bound counts
	}
	// Judged afterwards, also where no program would trust it; old versions too.
	conn := tls.Client(raw, &tls.Config{ServerName: host, InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, NextProtos: []string{"h2", "http/1.1"}})
	if err := conn.HandshakeContext(ctx); err != nil {
		answer, why := failure(err)
		out.Err, out.Plain = why, answer == "insecure" && why == "does not speak TLS"
		return out
	}
	state := conn.ConnectionState()
	out.Version, out.Chain, out.Staple = tls.VersionName(state.Version), state.PeerCertificates, state.OCSPResponse
	return out
}

// Addresses returns where a host's port is: what was said with --resolve, else all
// addresses of its name.
func Addresses(ctx context.Context, c *fetch.Client, host, port string) ([]string, error) {
	if to := c.Override(host, port); len(to) > 0 {
		return to, nil
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	ips, err := net.DefaultResolver.LookupIPAddr(ctx, host)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, ip := range ips {
		out = append(out, net.JoinHostPort(ip.String(), port))
	}
	return out, nil
}

// Known reports whether a name leads to a server: what was said of this very name with --resolve, else what
// the DNS says. An error says that the name server gave no answer.
func Known(ctx context.Context, c *fetch.Client, host string) (bool, error) {
	if c.Said(host, "443") || c.Said(host, "80") {
		return true, nil
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	ips, err := net.DefaultResolver.LookupIPAddr(ctx, host)
	var dns *net.DNSError
	if errors.As(err, &dns) && dns.IsNotFound {
		return false, nil
	}
	return len(ips) > 0, err
}

// Listens reports whether something takes connections at addr.
func Listens(ctx context.Context, addr string) error {
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", addr)
	if err != nil {
		return err
	}
	return conn.Close()
}
