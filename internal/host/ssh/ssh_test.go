package ssh

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"idletally/internal/testkit"
)

var must = testkit.Must

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"db1":                "root db1:22",
		"keeper@db1":         "keeper db1:22",
		"keeper@db1:2222":    "keeper db1:2222",
		"keeper@[2001::1]:7": "keeper [2001::1]:7",
		"2001::1":            "root [2001::1]:22",
		"a@b@db1":            "a@b db1:22", // names may hold it
		"@db1":               "",
		"keeper@":            "",
		"keeper@db1:":        "",
		"db1/x":              "",
		"a:b:c":              "",
		"-oProxyCommand=x y": "",
	} {
		t.Run(text, func(t *testing.T) {
			a, err := Parse(text)
			if got := a.User + " " + a.Address; err == nil && got != want || err != nil && want != "" {
				t.Errorf("%s: %s, %v; want %s", text, got, err, want)
			}
		})
	}
}

func TestQuote(t *testing.T) {
	for text, want := range map[string]string{"": "''", "a b": "'a b'", "it's $(x)\n": `'it'\''s $(x)` + "\n'"} {
		t.Run(text, func(t *testing.T) {
			if got := Quote(text); got != want {
				t.Errorf("%q: %s, want %s", text, got, want)
			}
		})
	}
}

func TestFits(t *testing.T) {
	elf := func(machine byte) []byte { return append([]byte("\x7fELF"), append(make([]byte, 14), machine, 0)...) }
	for _, c := range []struct {
		uname   string
		program []byte
		says    string
	}{
		{"Linux x86_64\n", elf(62), ""},
		{"Linux aarch64", elf(183), ""},
		{"Linux aarch64", elf(62), "--ssh-copy"},
		{"Linux x86_64", elf(183), "is for linux/arm64"},
		{"Linux x86_64", []byte("#!/bin/sh"), "no program"},
		{"Plan9 mips", elf(62), "built for Linux"},
		{"", elf(62), "built for Linux"},
	} {
		t.Run(c.uname, func(t *testing.T) {
			err := fits(c.uname, c.program)
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%q: %v, want %q", c.uname, err, c.says)
			}
		})
	}
}

func newKey(t *testing.T) (ssh.Signer, []byte) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	must(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	must(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	must(t, err)
	return signer, pem.EncodeToMemory(block)
}

// pretender is a server that signs anybody in, and does with their channels what a test says.
func pretender(t *testing.T, with func(c *ssh.ServerConn, ch ssh.Channel, line string)) Access {
	t.Helper()
	dir := t.TempDir()
	host, _ := newKey(t)
	_, key := newKey(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	t.Cleanup(func() { l.Close() })
	a := Access{
		Address:    l.Addr().String(),
		User:       "keeper",
		Key:        filepath.Join(dir, "key"),
		KnownHosts: filepath.Join(dir, "known"),
	}

	must(t, os.WriteFile(a.Key, key, 0o600))
	must(t, os.WriteFile(a.KnownHosts, []byte(knownhosts.Line([]string{a.Address}, host.PublicKey())+"\n"), 0o600))
	conf := &ssh.ServerConfig{
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil },
	}
	conf.AddHostKey(host)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				c, channels, requests, err := ssh.NewServerConn(conn, conf)
				if err != nil {
					return
				}

				go ssh.DiscardRequests(requests)
				for nc := range channels {
					ch, reqs, err := nc.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range reqs {
							if r.Type != "exec" {
								_ = r.Reply(false, nil)
								continue
							}

							_ = r.Reply(true, nil)
							var line struct{ Text string }
							_ = ssh.Unmarshal(r.Payload, &line)
							go with(c, ch, line.Text)
						}
					}()
				}
			}()
		}
	}()

	return a
}

func end(ch ssh.Channel, code uint32) {
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
	ch.Close()
}

func TestRun(t *testing.T) {
	t.Parallel()
	a := pretender(t, func(_ *ssh.ServerConn, ch ssh.Channel, line string) {
		switch {
		case strings.Contains(line, "long"):
			for range 40 {
				if _, err := ch.Write(make([]byte, 64<<10)); err != nil {
					break
				}
			}
			end(ch, 0)

		case strings.Contains(line, "sudo"):
			fmt.Fprintln(ch.Stderr(), "sudo: a password is required")
			end(ch, 1)
		case strings.Contains(line, "fail"):
			fmt.Fprint(ch.Stderr(), strings.Repeat("x", 1<<20)+"the end \x1b[31m")
			end(ch, 3)
		default:
			fmt.Fprint(ch, line)
			end(ch, 0)
		}
	})

	h, err := Dial(t.Context(), a)
	must(t, err)
	defer h.Close()

	if out, err := h.Run(nil, "echo", "a 'b'", "$(c)"); err != nil || out != `'echo' 'a '\''b'\''' '$(c)'` {
		t.Errorf("%s, %v", out, err)
	}

	if _, err := h.Run(nil, "fail"); err == nil || len(err.Error()) > 5*maxSaid ||
		!strings.Contains(err.Error(), `the end \x1b[31m`) || !strings.Contains(err.Error(), "status 3") {
		t.Errorf("%.200v", err)
	}

	if out, err := h.Run(nil, "long"); err == nil {
		t.Errorf("%d bytes are taken", len(out))
	}

	a.Sudo = true
	s, err := Dial(t.Context(), a)
	must(t, err)
	defer s.Close()

	if _, err := s.Run(nil, "/usr/bin/idletally", "agent", "stdio"); err == nil ||
		!strings.Contains(err.Error(), "keeper ALL=(root) NOPASSWD: /usr/bin/idletally agent stdio") {
		t.Error(err)
	}
}

// A host is lent nothing: neither the keys of whoever comes, nor a way through their machine. One that never
// ends is left.
func TestHostileHost(t *testing.T) {
	t.Parallel()
	refused := make(chan error, 8)
	a := pretender(t, func(c *ssh.ServerConn, ch ssh.Channel, line string) {
		for _, kind := range []string{"auth-agent@openssh.com", "forwarded-tcpip", "direct-tcpip", "session", "x11"} {
			_, _, err := c.OpenChannel(kind, nil)
			refused <- err
		}
		fmt.Fprint(ch.Stderr(), "a line without end "+strings.Repeat("x", 3*maxSaid)+"\nanother\r\n")
		_, _ = io.Copy(io.Discard, ch) // and it goes on when its input has ended
	})

	h, err := Dial(t.Context(), a)
	must(t, err)
	defer h.Close()

	lines := make(chan string, 100)
	r, err := h.Start(func(line string) { lines <- line }, "whatever")
	must(t, err)

	for range 5 {
		var open *ssh.OpenChannelError
		if err := <-refused; !errors.As(err, &open) {
			t.Errorf("a channel is opened for the host: %v", err)
		}
	}

	for last := ""; last != "another"; {
		select {
		case last = <-lines:
			if len(last) > maxSaid {
				t.Errorf("a line of %d bytes", len(last))
			}
		case <-time.After(10 * time.Second):
			t.Fatal("its last line does not come")
		}
	}

	begun := time.Now()
	must(t, r.Close())
	if err := r.Wait(); err == nil {
		t.Error("it has ended")
	}

	if took := time.Since(begun); took < dialTime/2 || took > 2*dialTime {
		t.Errorf("it was waited for %s", took)
	}
}

func TestKeys(t *testing.T) {
	t.Parallel()
	good := pretender(t, func(_ *ssh.ServerConn, ch ssh.Channel, _ string) { end(ch, 0) })
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		at := filepath.Join(dir, name)
		must(t, os.WriteFile(at, []byte(text), mode))
		return at
	}
	key, err := os.ReadFile(good.Key)
	must(t, err)
	known, err := os.ReadFile(good.KnownHosts)
	must(t, err)
	other, _ := newKey(t)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	must(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("ebb and flow"))
	must(t, err)

	for what, c := range map[string]struct {
		change func(a *Access)
		says   string
	}{
		"a key that others can read": {func(a *Access) { a.Key = write("open", string(key), 0o640) }, "mode 0640"},
		"no key":                     {func(a *Access) { a.Key = filepath.Join(dir, "none") }, "ssh key"},
		"something else":             {func(a *Access) { a.Key = write("else", "else", 0o600) }, "ssh key"},
		"a locked key": {func(a *Access) { a.Key = write("locked", string(pem.EncodeToMemory(locked)), 0o600) },
			"--ssh-passphrase-file"},
		"the wrong passphrase": {func(a *Access) {
			a.Key, a.Passphrase = write("wrong", string(pem.EncodeToMemory(locked)), 0o600), "flow and ebb"
		}, "ssh key"},
		"the right passphrase": {func(a *Access) {
			a.Key, a.Passphrase = write("right", string(pem.EncodeToMemory(locked)), 0o600), "ebb and flow"
		}, ""},
		"no known host": {func(a *Access) { a.KnownHosts = write("empty", "", 0o600) }, "is not known: compare it"},
		"no such file":  {func(a *Access) { a.KnownHosts = filepath.Join(dir, "none") }, "file of known hosts"},
		"another host's": {func(a *Access) {
			a.KnownHosts = write("other", knownhosts.Line([]string{a.Address}, other.PublicKey()), 0o600)
		}, "knows another"},
		"a revoked key": {func(a *Access) { a.KnownHosts = write("revoked", "@revoked "+string(known), 0o600) },
			"revoked"},
		"nobody is there": {func(a *Access) { a.Address = "127.0.0.1:1" }, "ssh to 127.0.0.1:1"},
		"as it should be": {func(*Access) {}, ""},
	} {
		t.Run(what, func(t *testing.T) {
			a := good
			c.change(&a)
			h, err := Dial(t.Context(), a)
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v, want %q", what, err, c.says)
			}

			if err == nil {
				h.Close()
			}
		})
	}
}

// One that takes the connection and says nothing is given up.
func TestSaysNothing(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()

	a := pretender(t, nil)
	a.Address = l.Addr().String()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close() // only at the end
		}
	}()

	begun := time.Now()
	if _, err := Dial(t.Context(), a); err == nil || time.Since(begun) > 2*dialTime {
		t.Errorf("%v after %s", err, time.Since(begun))
	}
}
