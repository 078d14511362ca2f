package authority

import (
	"bytes"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/succession"
)

var names = []string{"tally.harbour.example", "127.0.0.1"}

func open(t *testing.T, dir string) *Authority {
	t.Helper()
	a, err := Open(dir, names)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// serves reports whether somebody who trusts some authorities takes the service's certificate, by all that it is
// sent with.
func serves(t *testing.T, a *Authority, trusted []byte) error {
	t.Helper()
	c, err := a.server(names)
	if err != nil {
		t.Fatal(err)
	}

	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AppendCertsFromPEM(trusted)
	for _, der := range c.Certificate[1:] {
		ca, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		between.AddCert(ca)
	}

	_, err = c.Leaf.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, DNSName: names[0]})
	return err
}

// An authority is replaced: who trusts the one, the other or both takes the service's certificate until the
// former ends, and what either has signed counts until then.
func TestReplaceAuthority(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "keys")
	a := open(t, dir)
	old := bytes.Clone(a.PEM)
	before, _, err := a.Agent("skiff", request(t), time.Time{})
	if err != nil {
		t.Fatal(err)
	}

	if err := ReplaceAuthority(dir, nil); err != nil {
		t.Fatal(err)
	}

	if err := ReplaceAuthority(dir, nil); err == nil || !strings.Contains(err.Error(), "end the former one first") {
		t.Errorf("a third one: %v", err)
	}

	b := open(t, dir)
	if b.Fingerprint() == a.Fingerprint() || len(b.Issuers()) != 2 || b.Issuers()[1].Fingerprint != a.Fingerprint() {
		t.Fatalf("%+v after %s", b.Issuers(), a.Fingerprint())
	}

	block, _ := pem.Decode(b.PEM)
	newest := pem.EncodeToMemory(block)
	for what, trusted := range map[string][]byte{"the former": old, "the newest": newest, "both": b.PEM} {
		t.Run(what, func(t *testing.T) {
			if err := serves(t, b, trusted); err != nil {
				t.Errorf("who trusts %s: %v", what, err)
			}
		})
	}

	after, _, err := b.Agent("skiff", request(t), time.Time{})
	if err != nil {
		t.Fatal(err)
	}

	for _, c := range [][]byte{before, after} {
		if _, err := b.AgentOf(c); err != nil {
			t.Error(err)
		}
	}

	if _, err := a.AgentOf(after); err == nil {
		t.Error("the former authority signed it")
	}

	if err := b.Permits(names); err != nil {
		t.Error(err)
	}

	if err := b.Permits(append(names, "elsewhere.example")); err == nil {
		t.Error("it counts for any name")
	}

	beside, err := b.server(names)
	if err != nil {
		t.Fatal(err)
	}

	vouching, err := x509.ParseCertificate(beside.Certificate[1])
	if err != nil || time.Until(vouching.NotAfter) > 48*time.Hour || time.Until(beside.Leaf.NotAfter) > 48*time.Hour {
		t.Errorf("the former authority is vouched for until %s, %v", vouching.NotAfter, err)
	}

	if err := EndFormer(dir, false); !errors.Is(err, ErrTooEarly) {
		t.Errorf("before agents have come: %v", err)
	}

	if err := EndFormer(dir, true); err != nil {
		t.Fatal(err)
	}

	c := open(t, dir)
	if err := serves(t, c, old); err == nil {
		t.Error("who trusts the ended one alone takes it still")
	}

	if err := serves(t, c, newest); err != nil {
		t.Error(err)
	}

	if _, err := c.AgentOf(before); err == nil {
		t.Error("what the ended one signed counts")
	}

	if _, err := c.AgentOf(after); err != nil {
		t.Error(err)
	}

	// An agent of the ended one brings along what vouched for that, as anybody could keep it: the door does
	// not take it for that.
	block, _ = pem.Decode(before)
	leaf, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}

	brought := x509.NewCertPool()
	brought.AddCert(vouching)
	if _, err := leaf.Verify(x509.VerifyOptions{
		Roots:         c.Server(names).ClientCAs,
		Intermediates: brought,
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
	}); err == nil {
		t.Error("a certificate of the ended authority counts with what vouched for it")
	}

	if err := EndFormer(dir, true); err == nil {
		t.Error("there was one more to end")
	}

	if err := ReplaceAuthority(dir, []string{"pier.example"}); err != nil { // and again, for other names
		t.Fatal(err)
	}

	if d := open(t, dir); d.Permits([]string{"pier.example"}) == nil {
		t.Error("the former one counts for other names, and nobody says so")
	}
}

// The key that signs orders is replaced several times: each one leads to the newest, and what is sealed by
// other keys opens as before.
func TestReplaceOrders(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "keys")
	a := open(t, dir)
	first := a.Orders.Public().(ed25519.PublicKey)

	for n := range 3 {
		if err := ReplaceOrders(dir); err != nil {
			t.Fatal(err)
		}

		b := open(t, dir)
		newest := b.Orders.Public().(ed25519.PublicKey)
		if got, err := succession.Follow(first, b.Succession); err != nil || !bytes.Equal(got, newest) ||
			bytes.Equal(newest, first) || len(b.Succession) != n+1 {
			t.Errorf("%x leads to %x, %v; the newest is %x", first, got, err, newest)
		}

		if !bytes.Equal(a.Secrets, b.Secrets) {
			t.Error("what is sealed opens no more")
		}

		signers, err := Signers(dir)
		if err != nil || len(signers) != n+2 || !bytes.Equal(signers[0], newest) || !bytes.Equal(signers[1], first) {
			t.Errorf("signers: %x, %v", signers, err)
		}
	}

	former, err := private(a.Orders)
	if err != nil {
		t.Fatal(err)
	}

	block, _ := pem.Decode(former)
	for name, b := range contents(t, dir) {
		if kept, _ := pem.Decode(b); kept != nil && bytes.Equal(kept.Bytes, block.Bytes) {
			t.Errorf("the former key is in %s", name)
		}
	}
}

// The keys of an earlier version, which made all others of the one that signs orders.
func TestKeysOfAnEarlierVersion(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "keys")
	a := open(t, dir)
	if bytes.Equal(a.Secrets, a.Orders.Seed()) {
		t.Error("a new service makes other keys of the one that signs orders")
	}

	if err := os.Remove(filepath.Join(dir, secretsFile)); err != nil {
		t.Fatal(err)
	}

	for range 2 {
		if b := open(t, dir); !bytes.Equal(b.Secrets, a.Orders.Seed()) {
			t.Error("what was sealed does not open")
		}
		if err := ReplaceOrders(dir); err != nil {
			t.Fatal(err)
		}
	}
}

// A replacement that is broken off after any file that it writes: the next start has the keys from before or
// the new ones, and all of either.
func TestReplacementBrokenOff(t *testing.T) {
	for what, replace := range map[string]func(dir string) error{
		"authority": func(dir string) error { return ReplaceAuthority(dir, nil) }, "orders": ReplaceOrders,
	} {
		t.Run(what, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "keys")
			before := open(t, dir)
			was := contents(t, dir)
			if err := replace(dir); err != nil {
				t.Fatal(err)
			}

			is := contents(t, dir)
			after := open(t, dir)
			states := []map[string][]byte{was}
			add := func(change func(map[string][]byte)) {
				next := map[string][]byte{}
				for k, v := range states[len(states)-1] {
					next[k] = v
				}

				change(next)
				states = append(states, next)
			}

			switch what {
			case "authority":
				for _, f := range []string{formerFile + ".key", formerFile + ".pem"} {
					add(func(m map[string][]byte) { m[f] = is[f] })
				}
				for _, f := range []string{"authority.key", "authority.pem"} {
					add(func(m map[string][]byte) { m[nextPrefix+f] = is[f] })
				}
				for _, f := range []string{"authority.key", "authority.pem"} {
					add(func(m map[string][]byte) { m[f] = is[f]; delete(m, nextPrefix+f) })
				}
			case "orders":
				add(func(m map[string][]byte) { m[nextPrefix+ordersFile] = is[ordersFile] })
				add(func(m map[string][]byte) { m[stepsFile] = is[stepsFile] })
				add(func(m map[string][]byte) { m[ordersFile] = is[ordersFile]; delete(m, nextPrefix+ordersFile) })
			}

			for i, files := range states {
				broken := filepath.Join(t.TempDir(), "keys")
				if err := os.MkdirAll(broken, 0o700); err != nil {
					t.Fatal(err)
				}

				for name, b := range files {
					if err := os.WriteFile(filepath.Join(broken, name), b, 0o600); err != nil {
						t.Fatal(err)
					}
				}

				got := open(t, broken)
				same := func(x *Authority) bool {
					return got.Fingerprint() == x.Fingerprint() && bytes.Equal(got.PEM, x.PEM) &&
						got.Orders.Equal(x.Orders) && len(got.Succession) == len(x.Succession)
				}
				if !same(before) && !same(after) {
					t.Errorf("%s, broken off after %d: %s", what, i, got.Fingerprint())
				}

				if last := i == len(states)-1; last && !same(after) {
					t.Errorf("%s: not done at its end", what)
				}

				if err := replace(broken); err != nil && !strings.Contains(err.Error(), "end the former one first") {
					t.Errorf("%s, once more after %d: %v", what, i, err)
				}
			}
		})
	}
}

func contents(t *testing.T, dir string) map[string][]byte {
	t.Helper()
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	m := map[string][]byte{}
	for _, e := range list {
		if m[e.Name()], err = os.ReadFile(filepath.Join(dir, e.Name())); err != nil {
			t.Fatal(err)
		}
	}
	return m
}
