// Package authority is the service's own certificate authority and the key that signs orders.
// Both live in files of the service's folder, never in the database: whoever changes rows there
// cannot make an agent act.
package authority

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"idletally/internal/atomicfile"
)

// An Authority signs certificates and orders.
type Authority struct {
	cert   *x509.Certificate
	key    *ecdsa.PrivateKey
	PEM    []byte // of the certificate
	Orders ed25519.PrivateKey
}

const (
	authorityLife = 10 * 365 * 24 * time.Hour
	carriedLife   = 400 * 24 * time.Hour
	agentLife     = 30 * 24 * time.Hour // agents renew theirs when a third of it is over
	serverLife    = 30 * 24 * time.Hour
)

// Open reads the authority from a folder, or makes it at the first start: one that counts for the service's names alone.
func Open(dir string, names []string) (*Authority, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("keys folder: %w", err)
	}
	a := &Authority{}
	keyPEM, err := keep(filepath.Join(dir, "authority.key"), func() ([]byte, error) {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		return private(k)
	})
	if err != nil {
		return nil, err
	}
	k, err := parsePrivate(keyPEM)
	if err != nil {
		return nil, fmt.Errorf("authority.key in %s: %w", dir, err)
	}
	var ok bool
	if a.key, ok = k.(*ecdsa.PrivateKey); !ok {
		return nil, fmt.Errorf("authority.key in %s is no ECDSA key", dir)
	}
	a.PEM, err = keep(filepath.Join(dir, "authority.pem"), func() ([]byte, error) {
		t := template("Idle Tally authority", authorityLife)
		t.IsCA, t.BasicConstraintsValid, t.MaxPathLenZero = true, true, true
		t.KeyUsage = x509.KeyUsageCertSign
		constrain(t, names)
		der, err := x509.CreateCertificate(rand.Reader, t, t, a.key.Public(), a.key)
		if err != nil {
			return nil, err
		}
		return certPEM(der), nil
	})
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(a.PEM)
	if block == nil {
		return nil, fmt.Errorf("authority.pem in %s holds no certificate", dir)
	}
	if a.cert, err = x509.ParseCertificate(block.Bytes); err != nil {
		return nil, fmt.Errorf("authority.pem in %s: %w", dir, err)
	}
	orders, err := keep(filepath.Join(dir, "orders.key"), func() ([]byte, error) {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		return private(k)
	})
	if err != nil {
		return nil, err
	}
	if a.Orders, err = OrderKey(orders); err != nil {
		return nil, fmt.Errorf("orders.key in %s: %w", dir, err)
	}
	return a, nil
}

// OrderKey reads the key that signs orders, as its file has it.
func OrderKey(file []byte) (ed25519.PrivateKey, error) {
	k, err := parsePrivate(file)
	if err != nil {
		return nil, err
	}
	key, ok := k.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("it is no Ed25519 key")
	}
	return key, nil
}

// constrain has an authority count for some names and addresses and for nothing else (RFC 5280, 4.2.1.10): whoever has its key is none of
// the sites that a browser trusts besides. A name stands for what is below it, too.
func constrain(t *x509.Certificate, names []string) {
	t.PermittedDNSDomainsCritical = true
	t.PermittedDNSDomains = []string{"idletally.invalid"} // where there is none, any would count
	dns, addresses := split(names)
	t.PermittedDNSDomains = append(t.PermittedDNSDomains, dns...)
	for _, ip := range append(addresses, net.IPv4(127, 0, 0, 1)) {
		if v4 := ip.To4(); v4 != nil {
			ip = v4
		}
		t.PermittedIPRanges = append(t.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(8*len(ip), 8*len(ip))})
	}
}

// Permits says which names the authority does not count for.
func (a *Authority) Permits(names []string) error {
	c, err := a.server(names)
	if err != nil {
		return err
	}
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	if _, err := c.Leaf.Verify(x509.VerifyOptions{Roots: pool}); err != nil {
		return fmt.Errorf("the service's authority was made for other names (%w): give these no longer with --name, or have people come by a certificate of their own (--people)", err)
	}
	return nil
}

func split(names []string) (dns []string, addresses []net.IP) {
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			addresses = append(addresses, ip)
		} else {
			dns = append(dns, n)
		}
	}
	return dns, addresses
}

// keep reads a file, or makes it whole and then names it.
func keep(file string, create func() ([]byte, error)) ([]byte, error) {
	b, err := os.ReadFile(file)
	if !errors.Is(err, os.ErrNotExist) {
		return b, err
	}
	if b, err = create(); err != nil {
		return nil, err
	}
	if err := atomicfile.Write(file, b, 0o600); err != nil {
		return nil, fmt.Errorf("keep key: %w", err)
	}
	return b, nil
}

func private(k any) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

func parsePrivate(b []byte) (any, error) {
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, errors.New("it holds no key")
	}
	return x509.ParsePKCS8PrivateKey(block.Bytes)
}

func certPEM(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func template(name string, life time.Duration) *x509.Certificate {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil { // crypto/rand does not fail
		panic(err)
	}
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-5 * time.Minute), NotAfter: time.Now().Add(life), KeyUsage: x509.KeyUsageDigitalSignature}
}

// Fingerprint is the SHA-256 of the authority's certificate, for people to compare.
func (a *Authority) Fingerprint() string { return Fingerprint(a.cert.Raw) }

// Fingerprint gives the SHA-256 of a certificate.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// Agent signs a certificate for a host's agent, which renews it in time. Of the request only the key counts. It ends after thirty days,
// or before that at a time, unless that is zero.
func (a *Authority) Agent(host string, request []byte, end time.Time) (cert []byte, serial string, err error) {
	life := agentLife
	if !end.IsZero() {
		life = min(life, time.Until(end))
	}
	return a.agent(host, request, life)
}

// Carried signs one for a host that nothing leads to: somebody has to carry the next one there.
func (a *Authority) Carried(host string, request []byte) (cert []byte, serial string, err error) {
	return a.agent(host, request, carriedLife)
}

// AgentOf checks a certificate of some agent's that came by another way than a connection.
func (a *Authority) AgentOf(text []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("there is no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	_, err = c.Verify(x509.VerifyOptions{Roots: pool, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return c, err
}

func (a *Authority) agent(host string, request []byte, life time.Duration) (cert []byte, serial string, err error) {
	r, err := x509.ParseCertificateRequest(request)
	if err == nil {
		err = r.CheckSignature()
	}
	if err != nil {
		return nil, "", fmt.Errorf("certificate request: %w", err)
	}
	t := template(host, life)
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, r.PublicKey, a.key)
	if err != nil {
		return nil, "", fmt.Errorf("certificate: %w", err)
	}
	return certPEM(der), t.SerialNumber.Text(16), nil
}

// Server gives the TLS settings of the service: its certificate, made anew before it ends, and
// agents' certificates checked where they are given.
func (a *Authority) Server(names []string) *tls.Config {
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	var mu sync.Mutex
	var current *tls.Certificate
	return &tls.Config{
		MinVersion: tls.VersionTLS13,
		ClientAuth: tls.VerifyClientCertIfGiven,
		ClientCAs:  pool,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			mu.Lock()
			defer mu.Unlock()
			if current == nil || time.Until(current.Leaf.NotAfter) < serverLife/3 {
				c, err := a.server(names)
				if err != nil {
					return nil, err
				}
				current = c
			}
			return current, nil
		},
	}
}

func (a *Authority) server(names []string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := template("Idle Tally", serverLife)
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	t.DNSNames, t.IPAddresses = split(names)
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der, bytes.Clone(a.cert.Raw)}, PrivateKey: key, Leaf: leaf}, nil
}
