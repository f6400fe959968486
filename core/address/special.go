package address

import "net/netip"

// special are the networks that no public site is in: the blocks of the IANA IPv4 and IPv6 Special-Purpose Address
// Registries (RFC 6890) that are not globally reachable, with those that are set apart for multicast and for later use.
// Globally reachable exceptions inside them are in reachable.
var special = prefixes(
	"0.0.0.0/8",       // this network, RFC 791
	"10.0.0.0/8",      // private use, RFC 1918
	"100.64.0.0/10",   // shared between a provider and its customers, RFC 6598
	"127.0.0.0/8",     // loopback, RFC 1122
	"169.254.0.0/16",  // link-local, RFC 3927
	"172.16.0.0/12",   // private use, RFC 1918
	"192.0.0.0/24",    // IETF protocol assignments, RFC 6890
	"192.0.2.0/24",    // documentation, RFC 5737
	"192.88.99.0/24",  // relays of 6to4, withdrawn, RFC 7526
	"192.168.0.0/16",  // private use, RFC 1918
	"198.18.0.0/15",   // benchmarks, RFC 2544
	"198.51.100.0/24", // documentation, RFC 5737
	"203.0.113.0/24",  // documentation, RFC 5737
	"224.0.0.0/4",     // multicast, RFC 5771
	"240.0.0.0/4",     // reserved, and 255.255.255.255, RFC 1112, RFC 8190

	"::/128",         // unspecified, RFC 4291
	"::1/128",        // loopback, RFC 4291
	"64:ff9b:1::/48", // translation inside a network, RFC 8215
	"100::/64",       // discard only, RFC 6666
	"100:0:0:1::/64", // dummy, RFC 9780
	"2001::/23",      // IETF protocol assignments, RFC 2928
	"2001:db8::/32",  // documentation, RFC 3849
	"3fff::/20",      // documentation, RFC 9637
	"5f00::/16",      // segment routing, RFC 9602
	"fc00::/7",       // unique local, RFC 4193
	"fe80::/10",      // link-local, RFC 4291
	"fec0::/10",      // site-local, withdrawn, RFC 3879
	"ff00::/8",       // multicast, RFC 4291
)

var reachable = prefixes(
	"192.0.0.9/32", "192.0.0.10/32", // anycast of PCP and TURN, RFC 7723, RFC 8155
	"2001:1::1/128", "2001:1::2/128", "2001:1::3/128", // the same, and DNS-SD, RFC 9665
	"2001:3::/32", "2001:4:112::/48", "2001:20::/28", "2001:30::/28", // AMT, AS112, ORCHIDv2, drones
)

// embedded are the networks whose addresses carry an IPv4 address, and at which byte: traffic to them ends there.
var embedded = []struct {
	prefix netip.Prefix
	at     int
}{
	{netip.MustParsePrefix("64:ff9b::/96"), 12},    // NAT64, RFC 6052
	{netip.MustParsePrefix("2002::/16"), 2},        // 6to4, RFC 3056
	{netip.MustParsePrefix("2001::/32"), 4},        // the server of Teredo, RFC 4380; its clients are in 2001::/23 anyway
	{netip.MustParsePrefix("::/96"), 12},           // IPv4-compatible, withdrawn, RFC 4291
	{netip.MustParsePrefix("::ffff:0:0:0/96"), 12}, // IPv4-translated, RFC 2765
}

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func inAny(list []netip.Prefix, ip netip.Addr) bool {
	for _, p := range list {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

// IsPrivateIP reports whether an address is in a network that no public site is in, or leads into one by an IPv4 address in it.
func IsPrivateIP(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	if inAny(special, ip) && !inAny(reachable, ip) {
		return true
	}
	if ip.Is6() {
		b := ip.As16()
		for _, e := range embedded {
			if e.prefix.Contains(ip) {
				return IsPrivateIP(netip.AddrFrom4([4]byte(b[e.at : e.at+4])))
			}
		}
	}
	return false
}
