package peer

import (
	"bufio"
	"net"
	"net/http"
	"net/netip"
	"testing"
)

func TestOf(t *testing.T) {
	proxies, err := ParseProxies([]string{"10.0.0.7", "10.20.0.0/16", "fd00:1::/32"})
	if err != nil {
		t.Fatal(err)
	}

	for _, c := range []struct {
		what, peer string
		forwarded  []string
		want       string
	}{
		{"nobody in front", "198.51.100.4:5000", nil, "198.51.100.4"},
		{"a stranger who says otherwise", "198.51.100.4:5000", []string{"203.0.113.1"}, "198.51.100.4"},
		{"a proxy", "10.0.0.7:5000", []string{"203.0.113.1"}, "203.0.113.1"},
		{"a proxy that says nothing", "10.0.0.7:5000", nil, "10.0.0.7"},
		{"what the caller wrote before the proxy", "10.0.0.7:5000", []string{"192.0.2.66, 203.0.113.1"}, "203.0.113.1"},
		{"two proxies", "10.0.0.7:5000", []string{"192.0.2.66", "203.0.113.1, 10.20.3.4"}, "203.0.113.1"},
		{"a proxy that calls itself", "10.20.0.1:5000", []string{"10.20.3.4"}, "10.20.3.4"},
		{"nonsense", "10.0.0.7:5000", []string{"203.0.113.1, nonsense"}, "10.0.0.7"},
		{"a port", "10.0.0.7:5000", []string{"203.0.113.1:4000"}, "203.0.113.1"},
		{"IPv6 in brackets", "[fd00:1::1]:5000", []string{"[2001:db8::9]:4000"}, "2001:db8::9"},
		{"IPv4 within IPv6", "[::ffff:10.0.0.7]:5000", []string{"203.0.113.1"}, "203.0.113.1"},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := &http.Request{RemoteAddr: c.peer, Header: http.Header{"X-Forwarded-For": c.forwarded}}
			if got := proxies.Of(r); got.String() != c.want {
				t.Errorf("%s: %s, want %s", c.what, got, c.want)
			}
		})
	}

	for _, bad := range []string{"", "proxy.example", "10.0.0.0/33", "0.0.0.0/0", "::/0"} {
		t.Run(bad, func(t *testing.T) {
			if _, err := ParseProxies([]string{bad}); err == nil {
				t.Errorf("%q was taken", bad)
			}
		})
	}
}

func TestPlace(t *testing.T) {
	place := func(text string) string { return Place(netip.MustParseAddr(text)) }
	if place("2001:db8:1:2::1") != place("2001:db8:1:2:ffff::9") {
		t.Error("addresses of one network are two places")
	}
	if place("2001:db8:1:2::1") == place("2001:db8:1:3::1") || place("203.0.113.1") == place("203.0.113.2") {
		t.Error("two networks, or two addresses, are one place")
	}
	if Place(netip.Addr{}) == "" {
		t.Error("no address has no name")
	}
}

// A proxy says by the PROXY protocol for whom it speaks; nobody else is understood, or holds anybody up.
func TestListen(t *testing.T) {
	for _, c := range []struct {
		what    string
		proxies []string
		send    string
		want    string // of the address; "" is the connection's own
	}{
		{"a proxy", []string{"127.0.0.1"}, "PROXY TCP4 203.0.113.9 127.0.0.1 4000 443\r\n", "203.0.113.9"},
		{"a proxy that says nothing", []string{"127.0.0.1"}, "", ""},
		{"somebody else", []string{"10.0.0.7"}, "PROXY TCP4 203.0.113.9 127.0.0.1 4000 443\r\n", ""},
		{"no proxies", nil, "PROXY TCP4 203.0.113.9 127.0.0.1 4000 443\r\n", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			proxies, err := ParseProxies(c.proxies)
			if err != nil {
				t.Fatal(err)
			}

			plain, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer plain.Close()

			out, err := net.Dial("tcp", plain.Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			defer out.Close()

			if _, err := out.Write([]byte(c.send + "hello\n")); err != nil {
				t.Fatal(err)
			}

			in, err := proxies.Listen(plain).Accept()
			if err != nil {
				t.Fatal(err)
			}
			defer in.Close()

			line, err := bufio.NewReader(in).ReadString('\n')
			if err != nil {
				t.Fatal(err)
			}

			want, said := c.want, "hello\n"
			if want == "" {
				want = "127.0.0.1"
				if c.send != "" { // it is what was said, and no more
					said = c.send
				}
			}

			if got := address(in.RemoteAddr().String()); got.String() != want || line != said {
				t.Errorf("from %s, %q", got, line)
			}
		})
	}
}
