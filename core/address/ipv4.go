package address

import (
	"net/netip"
	"strconv"
	"strings"
)

// parseIPv4 reads a host that browsers take for an IPv4 address: one to four numbers, decimal, octal
// or hexadecimal, of which the last fills what is left (URL Standard §3.5). ok is false for a name, and
// for numbers that do not fit.
func parseIPv4(host string) (ip netip.Addr, ok bool) {
	label := strings.TrimSuffix(host, ".")
	if label = label[strings.LastIndexByte(label, '.')+1:]; label == "" || label[0] < '0' || label[0] > '9' {
		return ip, false // nearly all names
	}
	parts := strings.Split(host, ".")
	if len(parts) > 4 {
		return ip, false
	}
	numbers := make([]uint64, len(parts))
	for i, p := range parts {
		base, digits := 10, p
		switch {
		case strings.HasPrefix(p, "0x") || strings.HasPrefix(p, "0X"):
			base, digits = 16, p[2:]
		case len(p) > 1 && p[0] == '0':
			base, digits = 8, p[1:]
		}
		if p == "" {
			return ip, false
		}
		if digits == "" { // "0x" is nought
			continue
		}
		n, err := strconv.ParseUint(digits, base, 64)
		if err != nil || digits[0] == '+' || strings.Contains(digits, "_") {
			return ip, false
		}
		numbers[i] = n
	}
	last := len(numbers) - 1
	if numbers[last] >= 1<<(8*(4-last)) {
		return ip, false
	}
	all := numbers[last]
	for i, n := range numbers[:last] {
		if n > 255 {
			return ip, false
		}
		all |= n << (8 * (3 - i))
	}
	return netip.AddrFrom4([4]byte{byte(all >> 24), byte(all >> 16), byte(all >> 8), byte(all)}), true
}
