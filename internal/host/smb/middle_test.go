//go:build linux

package smb

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/host/fileserver"
)

// Commands, and where things stand in an answer (MS-SMB2 2.2.1, 2.2.4, 2.2.6).
const (
	cmdNegotiate    = 0
	cmdSessionSetup = 1
	cmdTreeConnect  = 3
	cmdCreate       = 5
	cmdQueryInfo    = 16

	atStatus    = 8
	atCommand   = 12
	atFlags     = 16
	atMessage   = 24
	atSession   = 40
	atSignature = 48
	atBody      = 64

	signedFlag = 8
)

var le = binary.LittleEndian

// middle stands between an agent and the server, knows no password, and passes on what change makes of each answer.
func middle(t *testing.T, change func(answer []byte) []byte) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go between(near, change)
		}
	}()
	return l.Addr().String()
}

func between(near net.Conn, change func([]byte) []byte) {
	defer near.Close()
	far, err := net.Dial("tcp", server.Address())
	if err != nil {
		return
	}
	defer far.Close()

	go func() {
		_, _ = io.Copy(far, near)
		far.Close()
	}()
	for {
		var head [4]byte
		if _, err := io.ReadFull(far, head[:]); err != nil {
			return
		}
		answer := make([]byte, binary.BigEndian.Uint32(head[:]))
		if _, err := io.ReadFull(far, answer); err != nil {
			return
		}
		answer = change(answer)
		if answer == nil { // nothing comes any more
			continue
		}
		binary.BigEndian.PutUint32(head[:], uint32(len(answer)))
		if _, err := near.Write(append(head[:], answer...)); err != nil {
			return
		}
	}
}

func clear(answer []byte) bool { return len(answer) > atBody+4 && string(answer[:4]) == "\xfeSMB" }

func is(answer []byte, command uint16) bool {
	return clear(answer) && le.Uint16(answer[atCommand:]) == command
}

// lastSetup reports whether an answer ends the sign-in.
func lastSetup(answer []byte) bool {
	return is(answer, cmdSessionSetup) && le.Uint32(answer[atStatus:]) == 0
}

// setup changes the flags of the answer that ends the sign-in.
func setup(flags uint16, unsigned bool) func([]byte) []byte {
	return func(a []byte) []byte {
		if lastSetup(a) {
			le.PutUint16(a[atBody+2:], flags)
			if unsigned {
				le.PutUint32(a[atFlags:], le.Uint32(a[atFlags:])&^signedFlag)
				copy(a[atSignature:atBody], make([]byte, 16))
			}
		}
		return a
	}
}

// forged answers whatever is asked after the sign-in in clear, as if all were well, and all belonged to
// whoever wants it.
func forged() func([]byte) []byte {
	var session []byte
	message := uint64(2)
	return func(a []byte) []byte {
		if clear(a) && le.Uint16(a[atCommand:]) <= cmdSessionSetup {
			session, message = slices.Clone(a[atSession:atSignature]), max(message, le.Uint64(a[atMessage:]))
			return a
		}

		message++
		out := make([]byte, atBody+16)
		copy(out, "\xfeSMB")
		le.PutUint16(out[4:], 64)
		le.PutUint16(out[atCommand:], cmdTreeConnect)
		le.PutUint16(out[14:], 10) // credits
		le.PutUint32(out[atFlags:], 1)
		le.PutUint64(out[atMessage:], message)
		copy(out[atSession:], session)
		le.PutUint16(out[atBody:], 16)
		out[atBody+2] = 1 // a disk
		le.PutUint32(out[atBody+4:], 0x8000)
		return out
	}
}

// Whatever somebody changes who stands between an agent and its file server, and knows no password, nothing
// of it counts: no share is opened, and nobody's process ends. The same agent works when nobody is there.
func TestSomebodyBetween(t *testing.T) {
	t.Parallel()
	flip := func(at int) func([]byte) []byte {
		return func(a []byte) []byte {
			if !clear(a) && len(a) > at {
				a[at] ^= 1
			}
			return a
		}
	}

	negotiate := func(at int, value uint16) func([]byte) []byte {
		return func(a []byte) []byte {
			if is(a, cmdNegotiate) {
				le.PutUint16(a[atBody+at:], value)
			}
			return a
		}
	}

	both := func(list ...func([]byte) []byte) func([]byte) []byte {
		return func(a []byte) []byte {
			for _, f := range list {
				a = f(a)
			}
			return a
		}
	}

	for what, change := range map[string]func() func([]byte) []byte{
		"a guest":                  func() func([]byte) []byte { return setup(1, false) },
		"a guest, unsigned":        func() func([]byte) []byte { return setup(1, true) },
		"nobody":                   func() func([]byte) []byte { return setup(2, true) },
		"a guest who encrypts":     func() func([]byte) []byte { return setup(5, true) },
		"encryption taken back":    func() func([]byte) []byte { return setup(0, true) },
		"the last answer unsigned": func() func([]byte) []byte { return setup(4, true) },
		"no cipher":                func() func([]byte) []byte { return negotiate(6, 1) },
		"no cipher, and encryption": func() func([]byte) []byte {
			return both(negotiate(6, 1), setup(4, false))
		},
		"no cipher, encryption, unsigned": func() func([]byte) []byte {
			return both(negotiate(6, 1), setup(4, true))
		},
		"an older dialect": func() func([]byte) []byte { return negotiate(4, 0x0300) },
		"a much older one": func() func([]byte) []byte { return negotiate(4, 0x0202) },
		"any dialect":      func() func([]byte) []byte { return negotiate(4, 0x02ff) },
		"signing not wanted": func() func([]byte) []byte {
			return both(negotiate(2, 0), setup(1, true))
		},
		"answers forged in clear":              forged,
		"a guest, and answers forged in clear": func() func([]byte) []byte { return both(setup(1, true), forged()) },
		"a bit of what is encrypted":           func() func([]byte) []byte { return flip(60) },
		"a bit of its signature":               func() func([]byte) []byte { return flip(5) },
		"half of each answer": func() func([]byte) []byte {
			return func(a []byte) []byte {
				if is(a, cmdNegotiate) || is(a, cmdSessionSetup) {
					return a
				}
				return a[:len(a)/2]
			}
		},
		"answers of nothing": func() func([]byte) []byte { return func(a []byte) []byte { return a[:0] } },
	} {
		for _, plain := range []bool{false, true} {
			if plain &&
				(strings.Contains(what, "in clear") && !strings.Contains(what, "guest") || what == "no cipher" ||
					what == "encryption taken back") {
				// Where content may go in clear, its answers are signed: of those it is tried below.
				continue
			}

			name := what
			if plain {
				name += ", where content may go in clear"
			}

			t.Run(name, func(t *testing.T) {
				t.Parallel()
				a := Access{
					Address:  middle(t, change()),
					User:     "keeper",
					Password: password,
					Plain:    plain,
					Patience: 400 * time.Millisecond,
				}

				s, err := Dial(t.Context(), a)
				if err == nil {
					var x fileserver.Share
					if x, err = s.Open(t.Context(), "charts"); err == nil {
						_, err = fileserver.Look(x, "")
					}

					s.mu.Lock()
					s.ended = errors.New("the test is over")
					s.mu.Unlock()
				}

				if err == nil {
					t.Error("something was opened")
				}
			})
		}
	}

	t.Run("nobody there", func(t *testing.T) {
		s, err := Dial(t.Context(), Access{
			Address:  middle(t, func(a []byte) []byte { return a }),
			User:     "keeper",
			Password: password,
		})
		must(t, err)
		defer s.Close()

		x, err := s.Open(t.Context(), "charts")
		must(t, err)
		if _, err := fileserver.Look(x, ""); err != nil {
			t.Error(err)
		}
	})
}
