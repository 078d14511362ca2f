package authority

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

// given is a certificate in files that somebody else maintains.
type given struct {
	certificate, key string
	log              *slog.Logger

	mu     sync.Mutex
	now    *tls.Certificate
	read   [2]time.Time // when the files were last changed that it was read from
	looked time.Time
}

// lookAgain is how often the files are looked at.
const lookAgain = time.Second

// Given is for people and programs that trust the certificate in some files, which come with its key. Both are read
// again when they change; if they do not match then, the former certificate stays in use, and the log says so.
func Given(certificate, key string, log *slog.Logger) (*tls.Config, error) {
	g := &given{certificate: certificate, key: key, log: log}
	if err := g.load(); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS13, GetCertificate: g.get}, nil
}

func (g *given) load() error {
	var read [2]time.Time
	for i, file := range []string{g.certificate, g.key} {
		st, err := os.Stat(file)
		if err != nil {
			return fmt.Errorf("certificate for people: %w", err)
		}
		read[i] = st.ModTime()
	}

	if read == g.read {
		return nil
	}

	c, err := tls.LoadX509KeyPair(g.certificate, g.key)
	if err == nil && time.Now().After(c.Leaf.NotAfter) {
		err = fmt.Errorf("it ended on %s", c.Leaf.NotAfter.Format(time.DateOnly))
	}

	if err != nil {
		return fmt.Errorf("certificate for people in %s: %w", g.certificate, err)
	}

	g.now, g.read = &c, read
	return nil
}

func (g *given) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if time.Since(g.looked) > lookAgain {
		g.looked = time.Now()
		if err := g.load(); err != nil {
			g.log.Error("the certificate from before goes on", "error", err)
		}
	}
	return g.now, nil
}

// ACME is where a certificate for people comes from by the protocol of that name (RFC 8555), with the challenge by
// the connection itself (RFC 8737).
type ACME struct {
	Directory string // https://…
	Mail      string
	Folder    string // for the account's key and the certificates
	Names     []string
	Authority []byte // that its address is trusted by, in PEM form; nil are the system's
}

// TLS returns settings by which certificates are obtained and renewed when they are first asked for.
func (a ACME) TLS() (*tls.Config, error) {
	t := &tls.Config{MinVersion: tls.VersionTLS12}
	if a.Authority != nil {
		t.RootCAs = x509.NewCertPool()
		if !t.RootCAs.AppendCertsFromPEM(a.Authority) {
			return nil, errors.New("--acme-authority holds no certificate in PEM form")
		}
	}

	var names []string
	for _, n := range a.Names {
		if net.ParseIP(n) == nil && n != "localhost" {
			names = append(names, n)
		}
	}

	if len(names) == 0 {
		return nil, errors.New("--acme: give the name that people use, with --public or --name")
	}

	m := &autocert.Manager{
		Prompt:     autocert.AcceptTOS,
		Cache:      autocert.DirCache(a.Folder),
		HostPolicy: autocert.HostWhitelist(names...),
		Email:      a.Mail,
		Client: &acme.Client{
			DirectoryURL: a.Directory,
			HTTPClient: &http.Client{
				Timeout:   30 * time.Second,
				Transport: &http.Transport{TLSClientConfig: t, Proxy: http.ProxyFromEnvironment},
			},
		},
	}

	c := m.TLSConfig()
	c.MinVersion = tls.VersionTLS13
	return c, nil
}
