// Package address knows a site's addresses: its names, its folder, and what
// counts as the site's own.
package address

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// Site is a site by its HTTPS address. The insecure forms that
// are to be replaced follow from it.
type Site struct {
	Host string   // canonical: ASCII (RFC 5891), lower case, no trailing dot
	Also []string // other names of the same site, canonical like Host
	Path string   // the site's folder: "" or "/museum", no trailing slash

	// Sisters are the other sites of the same network. Each has its own address, which stays its own: what
	// belongs to them is Ours, and Hosts does not name them.
	Sisters []Site
}

// Relation tells how a host, port and path stand to a site.
type Relation uint8

// The relations, from the nearest to the farthest.
const (
	Ours        Relation = iota // one of the site's names, its folder
	OutsidePath                 // one of the site's names, but not below its folder
	OtherPort                   // one of the site's names on a port of its own: another origin
	Subdomain                   // a name below one of the site's names that was not named
	LookAlike                   // contains the site's name without being it
	Private                     // loopback, private or local: a leftover of development
	Other                       // any other host
)

// String returns the relation in words, as findings show it.
func (r Relation) String() string {
	return [...]string{"ours", "outside the site's folder", "another port",
		"a sub-domain not named", "a look-alike", "a private address", "another host"}[r]
}

// ErrEmpty says that no address was given.
var ErrEmpty = errors.New("the site's address is empty; write it like https://ternrock.example")

// Parse reads the secure address of a site and its other names. The address
// needs the scheme https and may have a folder; a trailing slash is ignored.
// It returns an error that says what is wrong and what to write instead.
func Parse(raw string, also ...string) (Site, error) {
	raw = strings.TrimSpace(raw)
	if raw == "" {
		return Site{}, ErrEmpty
	}
	scheme, rest, found := strings.Cut(raw, "://")
	switch {
	case !found && !strings.Contains(raw, "/") && strings.Contains(raw, ".") && !strings.Contains(raw, ":"):
		return Site{}, fmt.Errorf("%q has no scheme; write https://%s", raw, raw)
	case !found:
		return Site{}, fmt.Errorf("%q is not an address; write it like https://ternrock.example", raw)
	case strings.EqualFold(scheme, "http"):
		return Site{}, fmt.Errorf("%q is the insecure address; give the HTTPS one: https://%s", raw, rest)
	case !strings.EqualFold(scheme, "https"):
		return Site{}, fmt.Errorf("%q has the scheme %q, which is not https; write https://%s", raw, scheme, rest)
	}
	u, err := url.Parse("https://" + rest)
	if err != nil {
		return Site{}, fmt.Errorf("%q is not an address: %w", raw, errors.Unwrap(err))
	}
	switch {
	case u.User != nil:
		return Site{}, fmt.Errorf("the address %q must not carry a user name or password", u.Redacted())
	case u.RawQuery != "" || u.ForceQuery || u.Fragment != "":
		return Site{}, fmt.Errorf("%q must end after the host or folder: take away what begins at ? or #", raw)
	case u.Port() != "" && u.Port() != "443":
		return Site{}, fmt.Errorf("%q names the port %s; a site that visitors open without a port needs none", raw, u.Port())
	}
	host, err := CanonicalHost(u.Hostname())
	if err != nil {
		return Site{}, fmt.Errorf("%q: %w", raw, err)
	}
	s := Site{Host: host, Path: strings.TrimRight(u.EscapedPath(), "/")}
	for _, name := range also {
		if strings.Contains(name, "/") {
			return Site{}, fmt.Errorf("%q is not a host name; another name of the site is given without scheme and path, like www.%s", name, host)
		}
		h, err := CanonicalHost(name)
		if err != nil {
			return Site{}, fmt.Errorf("the other name %q: %w", name, err)
		}
		if !s.ownsHost(h) {
			s.Also = append(s.Also, h)
		}
	}
	return s, nil
}

// CanonicalHost returns a host name in ASCII (RFC 5891), lower case, without a
// trailing dot. An IP address is returned in its usual form, without brackets, however it is written.
func CanonicalHost(host string) (string, error) {
	h := strings.TrimSuffix(strings.ToLower(strings.Trim(host, "[]")), ".")
	if h == "" {
		return "", errors.New("the host name is empty")
	}
	if ip, err := netip.ParseAddr(h); err == nil {
		return ip.String(), nil
	}
	if ip, ok := parseIPv4(h); ok {
		return ip.String(), nil
	}
	if plainASCII(h) {
		return h, nil
	}
	a, err := idna.Lookup.ToASCII(h)
	if err != nil || strings.HasPrefix(a, ".") || strings.Contains(a, "..") {
		return "", fmt.Errorf("%q is not a host name", host)
	}
	return strings.TrimSuffix(a, "."), nil
}

// plainASCII reports whether h holds only what a host name may hold in ASCII
// (and the underscore, which practice has).
func plainASCII(h string) bool {
	for i := 0; i < len(h); i++ {
		c := h[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_') {
			return false
		}
	}
	return !strings.Contains(h, "..") && h[0] != '.'
}

// String returns the site's secure address without a trailing slash.
func (s Site) String() string { return "https://" + s.Host + s.Path }

// Hosts returns all names of the site, the main one first, without those of its sisters.
func (s Site) Hosts() []string { return append([]string{s.Host}, s.Also...) }

// Network returns the site and its sisters, each without sisters of its own.
func (s Site) Network() []Site {
	alone := s
	alone.Sisters = nil
	return append([]Site{alone}, s.Sisters...)
}

// NetworkHosts returns the names of the site and of its sisters, each once.
func (s Site) NetworkHosts() (hosts []string) {
	for _, one := range s.Network() {
		for _, h := range one.Hosts() {
			if !slices.Contains(hosts, h) {
				hosts = append(hosts, h)
			}
		}
	}
	return hosts
}

// WithSisters returns the site with these sister sites. One that has no address of its own (it is the
// site, or a folder of it) is left out.
func (s Site) WithSisters(sisters ...Site) Site {
	s.Sisters = nil
	for _, sister := range sisters {
		if s.Relate(sister.Host, "", sister.Path+"/") != Ours {
			sister.Sisters = nil
			s.Sisters = append(s.Sisters, sister)
		}
	}
	return s
}

func (s *Site) ownsHost(h string) bool {
	if h == s.Host {
		return true
	}
	for _, a := range s.Also {
		if h == a {
			return true
		}
	}
	return false
}

// Relate tells how an address stands to the site. host may be in any form that
// CanonicalHost takes; port is "" or digits; path begins with "/" or is empty.
func (s Site) Relate(host, port, path string) Relation {
	h, err := CanonicalHost(host)
	if err != nil {
		return Other
	}
	nearest := s.relate(h, port, path)
	for i := range s.Sisters {
		if nearest == Ours {
			break
		}
		nearest = min(nearest, s.Sisters[i].relate(h, port, path))
	}
	return nearest
}

// relate is Relate for a canonical host and the site alone.
func (s *Site) relate(h, port, path string) Relation {
	if s.ownsHost(h) {
		switch {
		case !DefaultPort(port):
			return OtherPort
		case !s.ownsPath(path):
			return OutsidePath
		}
		return Ours
	}
	if IsPrivate(h) {
		return Private
	}
	if s.named(func(own string) bool { return strings.HasSuffix(h, "."+own) }) {
		return Subdomain
	}
	if s.named(func(own string) bool { return strings.Contains(h, own) }) {
		return LookAlike
	}
	return Other
}

// named reports whether a name of the site is such a one.
func (s *Site) named(such func(own string) bool) bool {
	return such(s.Host) || slices.ContainsFunc(s.Also, such)
}

// ownsPath reports whether path begins with the site's folder, whole segments of it. What
// follows may be the text around an address as well: a folder ends where no letter, digit or other
// character of a name follows.
func (s *Site) ownsPath(path string) bool {
	if s.Path == "" {
		return true
	}
	folder, err := url.PathUnescape(s.Path)
	if err != nil {
		folder = s.Path
	}
	p := 0
	for i := 0; i < len(folder); i++ {
		c, n := pathByte(path[p:])
		if n == 0 || c != folder[i] {
			return false
		}
		p += n
	}
	return !goesOn(path[p:])
}

// pathByte returns the first byte of a path, percent-encoded or not.
func pathByte(path string) (c byte, n int) {
	if path == "" {
		return 0, 0
	}
	if path[0] == '%' && len(path) > 2 {
		if v, err := strconv.ParseUint(path[1:3], 16, 8); err == nil {
			return byte(v), 3
		}
	}
	return path[0], 1
}

// goesOn reports whether a segment of a path goes on with what follows.
func goesOn(rest string) bool {
	var plain []byte
	for p := 0; p < len(rest) && len(plain) < 8; {
		c, n := pathByte(rest[p:])
		plain = append(plain, c)
		p += n
	}
	if len(plain) == 0 {
		return false
	}
	isName := func(b []byte) bool {
		r, _ := utf8.DecodeRune(b)
		return len(b) > 0 && (unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r))
	}
	switch c := plain[0]; c {
	case '-', '_', '~':
		return true
	case '.', '+', '$', '*', '@', '=':
		return isName(plain[1:])
	default:
		return isName(plain)
	}
}

// DefaultPort reports whether port, in digits, is none or the one that an
// insecure scheme has anyway: 80.
func DefaultPort(port string) bool {
	return port == "" || strings.TrimLeft(port, "0") == "80"
}

// IsPrivate reports whether a canonical host is an address that no public site has, or a name that only a local
// network knows.
func IsPrivate(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		return IsPrivateIP(ip)
	}
	if !strings.Contains(host, ".") {
		return true
	}
	for _, end := range []string{".localhost", ".local", ".internal"} {
		if strings.HasSuffix(host, end) {
			return true
		}
	}
	return false
}
