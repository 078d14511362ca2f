package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// An authority counts for the names of its service, and makes nobody else of who has its key.
func TestConstraints(t *testing.T) {
	dir := t.TempDir()
	a, err := Open(dir, []string{"tally.saltmarsh.example", "192.0.2.7", "localhost"})
	if err != nil {
		t.Fatal(err)
	}

	if err := a.Permits([]string{"tally.saltmarsh.example", "192.0.2.7", "localhost", "127.0.0.1"}); err != nil {
		t.Error(err)
	}

	for _, other := range []string{
		"bank.example", "saltmarsh.example", "192.0.2.8", "::1", "nottally.saltmarsh.example",
	} {
		t.Run(other, func(t *testing.T) {
			if err := a.Permits([]string{other}); err == nil || !strings.Contains(err.Error(), "made for other names") {
				t.Errorf("%s: %v", other, err)
			}
		})
	}

	if b, err := Open(dir, []string{"bank.example"}); err != nil || b.Permits([]string{"bank.example"}) == nil {
		t.Errorf("another start widened it: %v", err)
	}

	if none, err := Open(t.TempDir(), nil); err != nil || none.Permits([]string{"bank.example"}) == nil {
		t.Errorf("an authority without names counts for all: %v", err)
	}

	// An agent's certificate names a host, which is no name on the network.
	if _, err := func() (*x509.Certificate, error) {
		text, _, err := a.Agent("slip-north", request(t), time.Time{})
		if err != nil {
			return nil, err
		}
		return a.AgentOf(text)
	}(); err != nil {
		t.Errorf("an agent's certificate: %v", err)
	}

	soon := time.Now().Add(time.Hour)
	text, _, err := a.Agent("slip-north", request(t), soon)
	if err != nil {
		t.Fatal(err)
	}

	if c, err := a.AgentOf(text); err != nil || c.NotAfter.After(soon.Add(time.Second)) {
		t.Errorf("it outlives its enrolment: %v, %v", c.NotAfter, err)
	}
}

// A certificate in files counts as soon as they change, and the one before goes on where they do not fit.
func TestGiven(t *testing.T) {
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	write := func(name string, life time.Duration) {
		t.Helper()
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}

		x := template(name, life)
		der, err := x509.CreateCertificate(rand.Reader, x, x, k.Public(), k)
		if err != nil {
			t.Fatal(err)
		}

		b, err := private(k)
		if err != nil {
			t.Fatal(err)
		}

		if err := os.WriteFile(key, b, 0o600); err != nil {
			t.Fatal(err)
		}

		if err := os.WriteFile(certificate, certPEM(der), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	var log strings.Builder
	at := func(c *tls.Config) string {
		t.Helper()
		x, err := c.GetCertificate(nil)
		if err != nil {
			t.Fatal(err)
		}

		return x.Leaf.Subject.CommonName
	}

	if _, err := Given(certificate, key, slog.Default()); err == nil {
		t.Error("files that are not there")
	}

	write("ended", -time.Minute)
	if _, err := Given(certificate, key, slog.Default()); err == nil || !strings.Contains(err.Error(), "it ended on") {
		t.Errorf("one that has ended: %v", err)
	}

	write("first", time.Hour)
	c, err := Given(certificate, key, slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}

	if got := at(c); got != "first" {
		t.Error(got)
	}

	time.Sleep(lookAgain + 50*time.Millisecond)
	write("second", time.Hour)
	if got := at(c); got != "second" {
		t.Errorf("after the files changed: %s", got)
	}

	time.Sleep(lookAgain + 50*time.Millisecond)
	if err := os.WriteFile(key, []byte("rust"), 0o600); err != nil {
		t.Fatal(err)
	}

	if got := at(c); got != "second" || !strings.Contains(log.String(), "goes on") {
		t.Errorf("with a damaged key: %s, %s", got, &log)
	}
}
