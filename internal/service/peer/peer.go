// Package peer finds out where calls come from: that is how strangers are bounded.
package peer

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/pires/go-proxyproto"
)

// Proxies are the addresses of machines that stand in front of the service and say for whom they speak. Nobody else
// is believed.
type Proxies []netip.Prefix

// ParseProxies reads addresses and ranges, such as 10.0.0.7 and 10.20.0.0/16.
func ParseProxies(list []string) (Proxies, error) {
	var out Proxies
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if a, e := netip.ParseAddr(text); e == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		switch {
		case err != nil:
			return nil, fmt.Errorf("%q: want an address or a range of them, such as 10.20.0.0/16", text)
		case p.Bits() == 0:
			return nil, fmt.Errorf("%q is everybody: name the machines that stand in front of this service", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// Have reports whether an address is one of them.
func (p Proxies) Have(a netip.Addr) bool {
	for _, x := range p {
		if x.Contains(a.Unmap()) {
			return true
		}
	}
	return false
}

// maxHops is how many proxies may have passed a call on.
const maxHops = 16

// Of returns the address that a request comes from: that of the peer or, if the peer is a proxy, the last address in
// X-Forwarded-For that is none. The address is not valid if the peer has none.
func (p Proxies) Of(r *http.Request) netip.Addr {
	at := address(r.RemoteAddr)
	if !p.Have(at) {
		return at
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for n := 0; n < maxHops && n < len(hops) && p.Have(at); n++ {
		next := address(strings.TrimSpace(hops[len(hops)-1-n]))
		if !next.IsValid() { // what stands before it was written by whoever wrote that
			break
		}
		at = next
	}
	return at
}

// maxHello is how long a proxy may take to say for whom a connection is.
const maxHello = 5 * time.Second

// Listen takes connections of proxies to be from where these say, by the PROXY protocol (version 1 or 2); one that
// says nothing speaks for itself. From everybody else such words are not accepted.
func (p Proxies) Listen(l net.Listener) net.Listener {
	if len(p) == 0 {
		return l
	}
	return &proxyproto.Listener{
		Listener:          l,
		ReadHeaderTimeout: maxHello,
		ConnPolicy: func(o proxyproto.ConnPolicyOptions) (proxyproto.Policy, error) {
			if p.Have(address(o.Upstream.String())) {
				return proxyproto.USE, nil
			}
			return proxyproto.SKIP, nil
		},
	}
}

// address reads an address with or without a port.
func address(text string) netip.Addr {
	if host, _, err := net.SplitHostPort(text); err == nil {
		text = host
	}
	a, err := netip.ParseAddr(strings.Trim(text, "[]"))
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// Place names what one party can have of the addresses around this one: an IPv4 address, or the /64 of an IPv6
// address, since whoever has one address there has all (RFC 6177). An address that is not valid is one place, too.
func Place(a netip.Addr) string {
	if a.Is6() {
		return netip.PrefixFrom(a, 64).Masked().String()
	}
	return a.String()
}
