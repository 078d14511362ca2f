package rpc

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
)

// canned is a server that says what it is told to, whatever it is asked.
type canned struct{ answers io.Reader }

func (c canned) Read(b []byte) (int, error)  { return c.answers.Read(b) }
func (c canned) Write(b []byte) (int, error) { return len(b), nil }

func packet(kind, flags byte, call uint32, body []byte) []byte {
	b := []byte{5, 0, kind, flags, 0x10, 0, 0, 0}
	b = binary.LittleEndian.AppendUint16(b, uint16(16+len(body)))
	b = append(b, 0, 0)
	b = binary.LittleEndian.AppendUint32(b, call)
	return append(b, body...)
}

func answer(call uint32, body []byte) []byte {
	return packet(response, firstFragment|lastFragment, call, append(make([]byte, 8), body...))
}

func bound() []byte {
	return packet(bindAck, firstFragment|lastFragment, 1, make([]byte, 36))
}

// names opens a policy at a server that then answers so.
func names(t testing.TB, then []byte) *Names {
	t.Helper()
	b := append(bound(), answer(2, make([]byte, 24))...)
	n, err := OpenNames(canned{bytes.NewReader(append(b, answer(3, then)...))})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestHostileServer(t *testing.T) {
	for _, c := range []struct {
		what  string
		bytes []byte
		says  string
	}{
		{"nothing", nil, "EOF"},
		{"another protocol", []byte("HTTP/1.1 400 Bad Request\r\n\r\n"), "no remote procedure call"},
		{"another interface", packet(13, 3, 1, make([]byte, 8)), "does not offer"},
		{"a name of a port that is longer than all",
			packet(bindAck, 3, 1, []byte{0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0, 0}), "does not offer"},
		{"another call's answer", packet(bindAck, 3, 9, make([]byte, 36)), "belongs to no call"},
		{"a fault", append(bound(), packet(fault, 3, 2, append(make([]byte, 8), 5, 0, 0, 0))...), "fault 0x5"},
		{"a refusal", append(bound(), answer(2, append(make([]byte, 20), 0x22, 0, 0, 0xc0))...), "status 0xc0000022"},
		{"half of it", append(bound(), answer(2, make([]byte, 10))...), "ends too early"},
		{"without end", append(bound(), bytes.Repeat(packet(response, 0, 2, make([]byte, 60000)), 200)...),
			"belongs to no call"},
	} {
		t.Run(c.what, func(t *testing.T) {
			if _, err := OpenNames(canned{bytes.NewReader(c.bytes)}); err == nil ||
				!strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v, want %q", c.what, err, c.says)
			}
		})
	}

	endless := append(bound(), packet(response, firstFragment, 2, make([]byte, 60000))...)
	endless = append(endless, bytes.Repeat(packet(response, 0, 2, make([]byte, 60000)), 200)...)
	if _, err := OpenNames(canned{bytes.NewReader(endless)}); err == nil ||
		!strings.Contains(err.Error(), "more than 8388608 bytes") {
		t.Errorf("an answer without end: %v", err)
	}

	many := binary.LittleEndian.AppendUint32(nil, 0)
	many = append(many, 1, 0, 0, 0, 1, 0, 0, 0, 0xff, 0xff, 0xff, 0x7f)
	if _, err := names(t, many).Of([]ntsd.SID{ntsd.Everyone}); err == nil || !strings.Contains(err.Error(), "at once") {
		t.Errorf("a list of two thousand millions: %v", err)
	}
}

func FuzzPrivileges(f *testing.F) {
	f.Add(make([]byte, 64), make([]byte, 64))
	f.Add(bytes.Repeat([]byte{1, 0, 0, 0}, 40), bytes.Repeat([]byte{1, 0, 0, 0}, 40))
	f.Fuzz(func(t *testing.T, holders, rights []byte) {
		if len(holders) > 3000 || len(rights) > 3000 {
			return
		}

		b := append(bound(), answer(2, make([]byte, 24))...)
		b = append(b, answer(3, holders)...)
		for call := range uint32(20) {
			b = append(b, answer(4+call, rights)...)
		}

		got, _ := Privileges(canned{bytes.NewReader(b)})
		for who, p := range got {
			if p&privilege.Everything != 0 || p == 0 {
				t.Errorf("%s holds %q", who, p)
			}
		}
	})
}

func FuzzNames(f *testing.F) {
	f.Add(make([]byte, 64))
	f.Add(bytes.Repeat([]byte{1, 0, 0, 0}, 40))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 30000 {
			return
		}
		got, err := names(t, b).Of([]ntsd.SID{ntsd.Everyone, ntsd.System})
		if err == nil && len(got) != 2 {
			t.Errorf("%d names", len(got))
		}
		sids, err := names(t, b).SIDs([]string{"a", "b", "c"})
		if err == nil && len(sids) != 3 {
			t.Errorf("%d identities", len(sids))
		}
	})
}

func FuzzAccounts(f *testing.F) {
	f.Add(make([]byte, 256))
	f.Fuzz(func(t *testing.T, b []byte) {
		stream := bound()
		for call := uint32(2); len(b) > 0 && call < 50; call++ { // each answer a piece of it
			n := min(len(b), 40+int(b[0]))
			stream, b = append(stream, answer(call, b[:n])...), b[n:]
		}
		_, _ = Accounts(canned{bytes.NewReader(stream)})
	})
}
