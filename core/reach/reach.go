// Package reach decides which addresses of networks strangers may make us, or a step of theirs, speak to: those of the
// world, and none of the machine, the house or the link it is in, unless whoever runs the machine lets some through.
package reach

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// inner are the ranges that are not of the world, besides those net/netip knows (IANA special-purpose address
// registries: RFC 6890 and those after it).
var inner = prefixes("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
	"192.0.0.0/24", "192.168.0.0/16",
	"198.18.0.0/15", "224.0.0.0/4", "240.0.0.0/4",
	"::/128", "::1/128", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8")

// carrying are ranges whose addresses carry one of IPv4, and where in them it begins, in bytes: NAT64 (RFC 6052) and
// 6to4 (RFC 3056). What they carry decides.
var carrying = map[netip.Prefix]int{netip.MustParsePrefix("64:ff9b::/96"): 12, netip.MustParsePrefix("2002::/16"): 2}

func prefixes(list ...string) (out []netip.Prefix) {
	for _, text := range list {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

// Inner lists the ranges of IPv4 that are not of the world.
func Inner() (list []netip.Prefix) {
	for _, p := range inner {
		if p.Addr().Is4() {
			list = append(list, p)
		}
	}
	return list
}

// World tells whether an address is one of the world.
func World(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	if !a.IsValid() {
		return false
	}
	for _, p := range inner {
		if p.Contains(a) {
			return false
		}
	}
	for p, at := range carrying {
		if p.Contains(a) {
			bytes := a.As16()
			return World(netip.AddrFrom4([4]byte(bytes[at : at+4])))
		}
	}
	return true
}

// Allowance is what whoever runs a machine lets through: a name or range, at one port or any.
type Allowance struct {
	Name  string       // of a host, in lower case; "" when it is a range
	Range netip.Prefix // of addresses
	Port  uint16       // 0: any
}

// ParseAllowance reads NAME:PORT, ADDRESS:PORT, RANGE, or RANGE:PORT with an IPv6 range in brackets.
func ParseAllowance(text string) (a Allowance, err error) {
	host, port := text, ""
	if _, err := netip.ParsePrefix(text); err != nil {
		if _, err := netip.ParseAddr(text); err != nil {
			if i := strings.LastIndexByte(text, ':'); i >= 0 {
				host, port = text[:i], text[i+1:]
			}
		}
	}
	if port != "" {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return a, fmt.Errorf("%q ends with no port", text)
		}
		a.Port = uint16(n)
	}
	host = strings.TrimSuffix(strings.TrimPrefix(host, "["), "]")
	if p, err := netip.ParsePrefix(host); err == nil {
		a.Range = p.Masked()
		return a, nil
	}
	if addr, err := netip.ParseAddr(host); err == nil {
		a.Range = netip.PrefixFrom(addr.Unmap(), addr.Unmap().BitLen())
		return a, nil
	}
	if host == "" || strings.ContainsAny(host, " /:@*") || a.Port == 0 {
		return a, fmt.Errorf("%q is nothing that can be let through: write NAME:PORT, ADDRESS:PORT or a range such as "+
			"10.2.0.0/16", text)
	}
	a.Name = strings.ToLower(strings.TrimSuffix(host, "."))
	return a, nil
}

// Policy is what may be spoken to. The zero value is the world and nothing else.
type Policy struct{ Through []Allowance }

// Named tells whether a name is let through at a port, whatever its address is.
func (p Policy) Named(name string, port uint16) bool {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	for _, a := range p.Through {
		if a.Name != "" && a.Name == name && (a.Port == 0 || a.Port == port) {
			return true
		}
	}
	return false
}

// May tells whether an address may be spoken to at a port.
func (p Policy) May(to netip.Addr, port uint16) bool {
	to = to.Unmap()
	if World(to) {
		return true
	}
	for _, a := range p.Through {
		if a.Name == "" && a.Range.Contains(to) && (a.Port == 0 || a.Port == port) {
			return true
		}
	}
	return false
}
