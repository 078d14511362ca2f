// Package authority is the service's own certificate authority and the key that signs orders. Both are in files of
// the service's folder, never in the database: whoever changes rows there cannot make an agent act. Either can be
// replaced; agents follow.
package authority

import (
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
	"sync"
	"time"

	"idletally/internal/core/succession"
)

// An Authority signs certificates and orders.
type Authority struct {
	newest issuer // signs what agents are given
	// The one before, which is all that agents know that were away since; nil if it has ended, or there was none.
	former *issuer

	PEM        []byte // of the certificates that count, the newest first
	Orders     ed25519.PrivateKey
	Succession []succession.Handover // leads from each key that signed orders before to the one that does
	Secrets    []byte                // what keys for other uses are made of
}

// An issuer is a certificate with its key.
type issuer struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

const (
	authorityLife = 10 * 365 * 24 * time.Hour
	carriedLife   = 400 * 24 * time.Hour
	agentLife     = 30 * 24 * time.Hour // agents renew theirs when a third of it is over
	serverLife    = 30 * 24 * time.Hour
	// besideLife is the lifetime of the service's own certificate while there are two authorities: for that long
	// somebody with the former one's key, and the cross-certificate, can pose as the service after the former one has
	// ended.
	besideLife = 48 * time.Hour
)

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

// noName is none that anybody has (RFC 6761, 6.4).
const noName = "idletally.invalid"

// constrain limits an authority to some names and addresses (RFC 5280, 4.2.1.10): whoever has its key can be none of
// the other sites that a browser trusts. A name stands for what is below it, too.
func constrain(t *x509.Certificate, names []string) {
	t.PermittedDNSDomainsCritical = true
	t.PermittedDNSDomains = []string{noName} // where there is none, any would count
	dns, addresses := split(names)
	t.PermittedDNSDomains = append(t.PermittedDNSDomains, dns...)
	for _, ip := range append(addresses, net.IPv4(127, 0, 0, 1)) {
		if v4 := ip.To4(); v4 != nil {
			ip = v4
		}
		t.PermittedIPRanges = append(t.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(8*len(ip), 8*len(ip))})
	}
}

// Permits returns which names the authority is not valid for.
func (a *Authority) Permits(names []string) error {
	c, err := a.server(names)
	if err != nil {
		return err
	}

	between := x509.NewCertPool()
	for _, der := range c.Certificate[1:] {
		if ca, err := x509.ParseCertificate(der); err == nil {
			between.AddCert(ca)
		}
	}

	for _, i := range a.issuers() {
		pool := x509.NewCertPool()
		pool.AddCert(i.cert)
		if _, err := c.Leaf.Verify(x509.VerifyOptions{Roots: pool, Intermediates: between}); err != nil {
			return fmt.Errorf(
				"the service's authority was made for other names (%w): give these no longer with --name, have "+
					"give people a certificate of their own (--people), or replace the authority (idletally keys "+
					"replace authority)",
				err)
		}
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
		NotBefore: time.Now().Add(-5 * time.Minute), NotAfter: time.Now().Add(life),
		KeyUsage: x509.KeyUsageDigitalSignature}
}

// Fingerprint is the SHA-256 of the authority's certificate, for people to compare.
func (a *Authority) Fingerprint() string { return Fingerprint(a.newest.cert.Raw) }

// Fingerprint returns the SHA-256 of a certificate.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// Agent signs a certificate for a host's agent, which renews it in time. Of the request only the key is used. It is
// valid for thirty days, or until a time before that, unless that is zero.
func (a *Authority) Agent(host string, request []byte, end time.Time) (cert []byte, serial string, err error) {
	life := agentLife
	if !end.IsZero() {
		life = min(life, time.Until(end))
	}
	return a.agent(host, request, life)
}

// IssueOffline signs one for a host without a network: somebody has to carry the next one there.
func (a *Authority) IssueOffline(host string, request []byte) (cert []byte, serial string, err error) {
	return a.agent(host, request, carriedLife)
}

// AgentOf checks an agent's certificate that came by another way than a connection.
func (a *Authority) AgentOf(text []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("there is no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	_, err = c.Verify(x509.VerifyOptions{Roots: a.roots(), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
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
	der, err := x509.CreateCertificate(rand.Reader, t, a.newest.cert, r.PublicKey, a.newest.key)
	if err != nil {
		return nil, "", fmt.Errorf("certificate: %w", err)
	}
	return certPEM(der), t.SerialNumber.Text(16), nil
}

// Server returns the TLS settings of the service: its certificate, renewed before it expires, and agents'
// certificates checked if they are presented.
func (a *Authority) Server(names []string) *tls.Config {
	var mu sync.Mutex
	var current *tls.Certificate
	return &tls.Config{
		MinVersion: tls.VersionTLS13,
		ClientAuth: tls.VerifyClientCertIfGiven,
		ClientCAs:  a.roots(),
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			mu.Lock()
			defer mu.Unlock()
			if current == nil || time.Until(current.Leaf.NotAfter) < a.serverLife()/3 {
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

	t := template("Idle Tally", a.serverLife())
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	t.DNSNames, t.IPAddresses = split(names)
	by, chain := a.newest, [][]byte{a.newest.cert.Raw}
	if a.former != nil {
		// Those who know the former authority alone see it sign the service's certificate, and those who know the
		// newest see that it vouches for the former one: "old with new" (RFC 4210, 4.4.1).
		by = *a.former
		old, err := x509.CreateCertificate(rand.Reader, vouched(by.cert), a.newest.cert, by.key.Public(), a.newest.key)
		if err != nil {
			return nil, err
		}

		chain = [][]byte{old, a.newest.cert.Raw}
	}

	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, key.Public(), by.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}

	return &tls.Certificate{Certificate: append([][]byte{der}, chain...), PrivateKey: key, Leaf: leaf}, nil
}

// serverLife is how long a certificate of the service's is valid.
func (a *Authority) serverLife() time.Duration {
	if a.former != nil {
		return besideLife
	}
	return serverLife
}

// vouched is the certificate of a former authority by the newest one, valid as long as the service's own: for
// services and not for agents, who would present it after the former one has ended.
func vouched(former *x509.Certificate) *x509.Certificate {
	t := template("", besideLife)
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	t.RawSubject, t.SubjectKeyId = former.RawSubject, former.SubjectKeyId
	t.IsCA = true
	t.BasicConstraintsValid = true
	t.MaxPathLenZero = true
	t.KeyUsage = x509.KeyUsageCertSign
	return t
}

// issuers returns the valid authorities, the newest first.
func (a *Authority) issuers() []issuer {
	if a.former == nil {
		return []issuer{a.newest}
	}
	return []issuer{a.newest, *a.former}
}

// roots is what agents' certificates are verified against.
func (a *Authority) roots() *x509.CertPool {
	pool := x509.NewCertPool()
	for _, i := range a.issuers() {
		pool.AddCert(i.cert)
	}
	return pool
}
