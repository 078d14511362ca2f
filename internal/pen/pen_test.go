package pen

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/signature"
	"idletally/internal/testkit"
	"idletally/internal/testkit/sshkeys"
)

var must = testkit.Must

// keygen makes a key in a folder of its own, and returns its file.
func keygen(t *testing.T, kind, passphrase string) string {
	t.Helper()
	return sshkeys.New(t, filepath.Join(t.TempDir(), "key"), kind, passphrase)
}

// What a real agent and real files sign is what is accepted, for each kind of key; a kind that is not stays out.
func TestPens(t *testing.T) {
	var files []string
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		files = append(files, keygen(t, kind, ""))
	}
	socket := sshkeys.Agent(t, files...)
	message := []byte("idletally statement 1\n")

	held, err := OfAgent(t.Context(), socket)
	must(t, err)
	if len(held) != 2 {
		t.Fatalf("%d keys can sign, want 2: not the one of RSA", len(held))
	}
	for i, p := range held {
		t.Run(p.Key.Kind(), func(t *testing.T) {
			public, err := Public(files[i] + ".pub")
			must(t, err)
			own, err := InFile(files[i], nil)
			must(t, err)
			if p.Comment != "purser" || p.Key != public || own.Key != public {
				t.Errorf("the key is told as %+v, %v and %v", p, own.Key, public)
			}

			for _, by := range []Pen{p, own} {
				s, err := by.Sign(t.Context(), message)
				must(t, err)
				must(t, public.Verify(message, s, signature.Terms{}))
				if public.Verify(append(message, ' '), s, signature.Terms{}) == nil {
					t.Error("it holds for something else")
				}
			}
			told, err := exec.Command("ssh-keygen", "-l", "-f", files[i]).Output()
			must(t, err)
			if !strings.Contains(string(told), " "+public.Fingerprint()+" ") {
				t.Errorf("its fingerprint is %s, and ssh-keygen says %s", public.Fingerprint(), told)
			}
		})
	}

	for _, f := range []string{files[2], files[2] + ".pub"} {
		_, one := InFile(f, nil)
		_, other := Public(f)
		if one == nil || other == nil {
			t.Errorf("%s is taken", f)
		}
	}
}

// What is signed verifies by the system's own program, as docs/formats.md says, and changed it does not.
func TestVerifiedByHand(t *testing.T) {
	file := keygen(t, "ed25519", "")
	p, err := InFile(file, nil)
	must(t, err)
	message := []byte("idletally statement 1\nsays: approved\n")
	s, err := p.Sign(t.Context(), message)
	must(t, err)

	dir := t.TempDir()
	armoured := "-----BEGIN SSH SIGNATURE-----\n" + base64.StdEncoding.EncodeToString(s.SSH) +
		"\n-----END SSH SIGNATURE-----\n"
	must(t, os.WriteFile(filepath.Join(dir, "signature"), []byte(armoured), 0o600))
	must(t, os.WriteFile(filepath.Join(dir, "signers"), []byte("purser "+p.Key.String()+"\n"), 0o600))
	verify := func(message []byte) error {
		c := exec.Command("ssh-keygen", "-Y", "verify", "-f", filepath.Join(dir, "signers"), "-I", "purser", "-n",
			signature.Namespace, "-s", filepath.Join(dir, "signature"))
		c.Stdin = bytes.NewReader(message)
		out, err := c.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	must(t, verify(message))
	if verify(append(message, '\n')) == nil {
		t.Error("another statement verifies")
	}
}

// An encrypted key asks for its passphrase, and takes no other.
func TestPassphrase(t *testing.T) {
	file := keygen(t, "ed25519", "seven bells")
	asked := func(words string) func() ([]byte, error) {
		return func() ([]byte, error) { return []byte(words), nil }
	}
	_, err := InFile(file, asked("seven bells"))
	must(t, err)
	if _, err := InFile(file, asked("eight bells")); err == nil {
		t.Error("another passphrase opens it")
	}
	if _, err := InFile(file, func() ([]byte, error) { return nil, os.ErrClosed }); !errors.Is(err, os.ErrClosed) {
		t.Errorf("nobody gave one: %v", err)
	}
}

// An agent that is not there, or has forgotten the key, is an error and no wait.
func TestNoAgent(t *testing.T) {
	for _, socket := range []string{"", filepath.Join(t.TempDir(), "none")} {
		if _, err := OfAgent(t.Context(), socket); !errors.Is(err, ErrNoAgent) {
			t.Errorf("%q: %v", socket, err)
		}
	}

	socket := sshkeys.Agent(t, keygen(t, "ed25519", ""))
	held, err := OfAgent(t.Context(), socket)
	must(t, err)
	sshkeys.Ask(t, socket, "-q", "-D")
	began := time.Now()
	if _, err := held[0].Sign(t.Context(), []byte("x")); err == nil || time.Since(began) > Patience {
		t.Errorf("a key that is gone signs: %v", err)
	}
}
