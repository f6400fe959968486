package address

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestIsPrivateIP(t *testing.T) {
	for ip, private := range map[string]bool{
		"100.63.255.255": false, "100.64.0.0": true, "100.127.255.255": true, "100.128.0.0": false,
		"198.17.255.255": false, "198.18.0.0": true, "198.19.255.255": true, "198.20.0.0": false,
		"0.1.2.3": true, "10.0.0.1": true, "172.15.0.1": false, "172.31.0.1": true, "192.168.9.9": true, "169.254.169.254": true,
		"192.0.0.8": true, "192.0.0.9": false, "192.0.1.1": false, "224.0.0.251": true, "255.255.255.255": true, "8.8.8.8": false,
		"::": true, "::1": true, "::ffff:10.0.0.1": true, "::ffff:8.8.8.8": false, "::10.0.0.1": true, "::8.8.8.8": false,
		"64:ff9b::a00:1": true, "64:ff9b::808:808": false, "64:ff9b:1::1": true, "2002:a00:1::1": true, "2002:808:808::1": false,
		"::ffff:0:10.0.0.1": true, "fe80::1%eth0": true, "fec0::1": true, "fd00::1": true, "ff02::fb": true, "2001:db8::1": true, "3fff::1": true,
		"2001:0:808:808::1": true, "2001:20::1": false, "2001:4860:4860::8888": false, "2a00::1": false, "100::1": true, "5f00::1": true,
	} {
		assert.Equal(t, private, IsPrivateIP(netip.MustParseAddr(ip)), ip)
	}
}
