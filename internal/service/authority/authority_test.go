package authority

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func request(t *testing.T) []byte {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	r, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{DNSNames: []string{"i.am.the.service"}}, key)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestKeysStay(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "keys")
	a, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}

	b, err := Open(dir, nil)
	if err != nil {
		t.Fatal(err)
	}

	if a.Fingerprint() != b.Fingerprint() || !a.Orders.Equal(b.Orders) || !bytes.Equal(a.PEM, b.PEM) {
		t.Error("a second start made new keys")
	}

	for _, f := range []string{"authority.key", "orders.key"} {
		t.Run(f, func(t *testing.T) {
			if st, err := os.Stat(filepath.Join(dir, f)); err != nil || st.Mode().Perm() != 0o600 {
				t.Errorf("%s: %v, %v", f, st.Mode(), err)
			}

			if err := os.WriteFile(filepath.Join(dir, f), []byte("rust"), 0o600); err != nil {
				t.Fatal(err)
			}

			if _, err := Open(dir, nil); err == nil || !strings.Contains(err.Error(), f) {
				t.Errorf("with a damaged %s: %v", f, err)
			}

			os.RemoveAll(dir)
			if _, err := Open(dir, nil); err != nil {
				t.Fatal(err)
			}
		})
	}
}

func TestAgentCertificate(t *testing.T) {
	a, err := Open(t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}

	certPEM, serial, err := a.Agent("slip-north", request(t), time.Time{})
	if err != nil {
		t.Fatal(err)
	}

	block, _ := pem.Decode(certPEM)
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}

	if c.Subject.CommonName != "slip-north" || c.SerialNumber.Text(16) != serial || len(c.DNSNames) > 0 || c.IsCA {
		t.Errorf("certificate %+v", c.Subject)
	}

	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(a.PEM)
	if _, err := c.Verify(x509.VerifyOptions{
		Roots:     pool,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
	}); err != nil {
		t.Error(err)
	}

	if _, err := c.Verify(x509.VerifyOptions{
		Roots:     pool,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}); err == nil {
		t.Error("an agent's certificate would do for a service")
	}

	r := request(t)
	r[len(r)-5] ^= 1
	if _, _, err := a.Agent("x", r, time.Time{}); err == nil {
		t.Error("a request with a wrong signature was signed")
	}

	if _, _, err := a.Agent("x", []byte("junk"), time.Time{}); err == nil {
		t.Error("junk was signed")
	}
}

func TestServerCertificate(t *testing.T) {
	a, err := Open(t.TempDir(), []string{"localhost"})
	if err != nil {
		t.Fatal(err)
	}

	cfg := a.Server([]string{"localhost", "127.0.0.1"})
	first, err := cfg.GetCertificate(&tls.ClientHelloInfo{})
	if err != nil {
		t.Fatal(err)
	}

	again, err := cfg.GetCertificate(&tls.ClientHelloInfo{})
	if err != nil || first != again {
		t.Error("each connection makes a certificate of its own")
	}

	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(a.PEM)
	for _, name := range []string{"localhost", "127.0.0.1"} {
		t.Run(name, func(t *testing.T) {
			if _, err := first.Leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: name}); err != nil {
				t.Error(err)
			}
		})
	}

	if _, err := first.Leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: "elsewhere"}); err == nil {
		t.Error("the certificate is good for any name")
	}

	if time.Until(first.Leaf.NotAfter) > serverLife || cfg.MinVersion != tls.VersionTLS13 {
		t.Errorf("life %v, version %x", time.Until(first.Leaf.NotAfter), cfg.MinVersion)
	}
}
