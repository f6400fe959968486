//go:build real

package real

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// named starts a real name server at an address of its own.
func (b *bench) named(ip, zone string) {
	dir := filepath.Join(b.dir, ip)
	require.NoError(b.t, os.MkdirAll(dir, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, "zone"), []byte(zone), 0o644))
	port := freePort(b.t)
	conf := fmt.Sprintf("options { directory %q; pid-file \"named.pid\"; session-keyfile \"session.key\"; listen-on port %s { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; dnssec-validation no; };\ncontrols { };\nzone \"ternrock.example\" { type primary; file \"zone\"; };\n", dir, port)
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, "named.conf"), []byte(conf), 0o644))
	b.daemon("/usr/sbin/named", "-g", "-c", filepath.Join(dir, "named.conf"))
	b.relay(ip, port)
}

// relay waits for a name server at a port of loopback to have its zone (it listens before that) and hands questions
// to ip on to it: it listens only where the machine has an address.
func (b *bench) relay(ip, port string) {
	direct := net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "udp", "127.0.0.1:"+port)
	}}
	b.await("named", func() bool {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		_, err := direct.LookupNS(ctx, "ternrock.example")
		return err == nil
	})
	at, err := net.ListenPacket("udp", ip+":53")
	require.NoError(b.t, err)
	b.t.Cleanup(func() { at.Close() })
	go func() {
		for buf := make([]byte, 4096); ; {
			n, from, err := at.ReadFrom(buf)
			if err != nil {
				return
			}
			question := append([]byte{}, buf[:n]...)
			go func() {
				to, err := net.Dial("udp", "127.0.0.1:"+port)
				if err != nil {
					return
				}
				defer to.Close()
				_ = to.SetDeadline(time.Now().Add(5 * time.Second)) // no answer is none
				answer := make([]byte, 4096)
				if _, err := to.Write(question); err != nil {
					return
				}
				if n, err := to.Read(answer); err == nil {
					_, _ = at.WriteTo(answer[:n], from) // the same
				}
			}()
		}
	}()
}

// The servers of the zone are asked one by one, and who may issue certificates; real name servers answer.
func TestZone(t *testing.T) {
	t.Parallel()
	w := newWeb(t)
	root := w.museumFiles()
	w.apache(root)
	w.await("Apache", func() bool { return w.visits("http://"+host+"/media/lens.svg").status == 200 })
	ip, _, err := net.SplitHostPort(w.plain)
	require.NoError(t, err)
	net3 := fmt.Sprintf("127.%d.%d.", 1+rand.IntN(250), rand.IntN(250))
	zone := func(address, more string) string {
		return fmt.Sprintf("$TTL 2400\n@ IN SOA ns1 keeper 1 3600 600 86400 300\n@ IN NS ns1\n@ IN NS ns2\nns1 IN A %[1]s2\nns2 IN A %[1]s3\n@ IN A %[2]s\nwww IN CNAME @\n%[3]s", net3, address, more)
	}
	ask := func() string {
		code, out := w.try(append([]string{"ready", "--expires-within", "1h", "--resolver", net3 + "2", "--quiet"}, w.net()...)...)
		return fmt.Sprint(code, " ", strings.Join(strings.Fields(out), " "))
	}
	w.named(net3+"2", zone(ip, "@ IN CAA 0 issue \"authority.example; validationmethods=http-01\"\n@ IN CAA 0 iodef \"mailto:keeper@ternrock.example\"\n"))
	said := ask()
	assert.True(t, strings.HasPrefix(said, "1 "), said)
	assert.Contains(t, said, "1 name server of ternrock.example does not answer: ns2.ternrock.example")
	assert.Contains(t, said, "allows only authority.example to issue certificates for www.ternrock.example")
	w.named(net3+"3", zone(ip, ""))
	said = ask()
	assert.True(t, strings.HasPrefix(said, "0 "), said)
	assert.Contains(t, said, "2 name servers of ternrock.example answered: "+ip)

	other := newBench(t)
	net3 = fmt.Sprintf("127.%d.%d.", 1+rand.IntN(250), rand.IntN(250))
	other.named(net3+"2", zone(ip, "@ IN CAA 0 issue \";\"\n"))
	other.named(net3+"3", zone("127.0.0.77", "@ IN CAA 0 issue \";\"\n"))
	said = ask()
	assert.True(t, strings.HasPrefix(said, "1 "), said)
	assert.Contains(t, said, "the 2 name servers of ternrock.example do not agree on ternrock.example: 1 says 127.0.0.77")
	assert.Contains(t, said, "may keep the old answer for 40 minutes")
	assert.Contains(t, said, "allows no authority to issue certificates (CAA)")
}
