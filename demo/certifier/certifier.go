// Package certifier stands in for an authority that issues certificates by ACME (RFC 8555) to whoever proves over a
// TLS connection (RFC 8737) that a name is theirs. It stores nothing, and every name leads to one address.
package certifier

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// A Server issues certificates.
type Server struct {
	Issued int // how many it has given

	web  *httptest.Server
	at   string // where every name leads to
	key  *ecdsa.PrivateKey
	cert *x509.Certificate

	mu       sync.Mutex
	nonces   map[string]bool
	accounts map[string]*jose.JSONWebKey
	orders   map[string]*order
}

type order struct {
	account, name, token string
	proved               bool
	certificate          []byte
}

// Start starts one; names are resolved to one address.
func Start(at string) (*Server, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}

	t := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "Saltmarsh certifier"},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(24 * time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageCertSign,
	}

	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}

	s := &Server{
		at:       at,
		key:      key,
		nonces:   map[string]bool{},
		accounts: map[string]*jose.JSONWebKey{},
		orders:   map[string]*order{},
	}

	if s.cert, err = x509.ParseCertificate(der); err != nil {
		return nil, err
	}

	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", s.directory)
	mux.HandleFunc("HEAD /nonce", func(w http.ResponseWriter, _ *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.nonce(w)
	})

	for path, do := range map[string]func(w http.ResponseWriter, r *http.Request, c call) error{
		"/account": s.account, "/order": s.order, "/order/{id}": s.show, "/authorization/{id}": s.authorization,
		"/challenge/{id}": s.challenge, "/finalize/{id}": s.finalize, "/certificate/{id}": s.certificate,
	} {
		mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) {
			s.mu.Lock()
			defer s.mu.Unlock()

			s.nonce(w)
			c, err := s.read(r)
			if err == nil {
				err = do(w, r, c)
			}

			if err != nil {
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(http.StatusBadRequest)
				_ = json.NewEncoder(w).Encode(map[string]any{
					"type":   "urn:ietf:params:acme:error:malformed",
					"detail": err.Error(),
				})
			}
		})
	}

	s.web = httptest.NewTLSServer(mux)
	return s, nil
}

// Directory returns the URL of the ACME directory.
func (s *Server) Directory() string { return s.web.URL + "/directory" }

// Trust returns the certificate by which its own address is trusted, in PEM form.
func (s *Server) Trust() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.web.Certificate().Raw})
}

// Root is what the certificates that it gives are trusted by, in PEM form.
func (s *Server) Root() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.cert.Raw})
}

// Close ends it.
func (s *Server) Close() { s.web.Close() }

func (s *Server) directory(w http.ResponseWriter, _ *http.Request) {
	give(w, http.StatusOK, map[string]string{
		"newNonce":   s.web.URL + "/nonce",
		"newAccount": s.web.URL + "/account",
		"newOrder":   s.web.URL + "/order",
	})
}

// nonce adds a nonce to an answer; each counts once.
func (s *Server) nonce(w http.ResponseWriter) {
	n := rand.Text()
	s.nonces[n] = true
	w.Header().Set("Replay-Nonce", n)
}

func give(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// A call is a signed request.
type call struct {
	account string
	key     *jose.JSONWebKey
	payload []byte
}

// read verifies who signed a call (RFC 8555, section 6).
func (s *Server) read(r *http.Request) (c call, err error) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	if err != nil {
		return c, err
	}
	signed, err := jose.ParseSignedJSON(string(body), []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return c, err
	}
	head := signed.Signatures[0].Protected
	if !s.nonces[head.Nonce] {
		return c, errors.New("the nonce is not one of ours, or was used")
	}
	delete(s.nonces, head.Nonce)
	if url, _ := head.ExtraHeaders["url"].(string); url != s.web.URL+r.URL.Path {
		return c, fmt.Errorf("it is signed for %s", url)
	}

	c.key = head.JSONWebKey
	if c.key == nil {
		c.account = head.KeyID
		c.key = s.accounts[c.account]
		if c.key == nil {
			return c, errors.New("no such account")
		}
	}

	c.payload, err = signed.Verify(c.key)
	return c, err
}

func (s *Server) account(w http.ResponseWriter, _ *http.Request, c call) error {
	c.account = fmt.Sprintf("%s/account/%d", s.web.URL, len(s.accounts)+1)
	s.accounts[c.account] = c.key
	w.Header().Set("Location", c.account)
	give(w, http.StatusCreated, map[string]string{"status": "valid"})
	return nil
}

func (s *Server) order(w http.ResponseWriter, _ *http.Request, c call) error {
	var ask struct {
		Identifiers []struct{ Type, Value string }
	}
	err := json.Unmarshal(c.payload, &ask)
	if err != nil || len(ask.Identifiers) != 1 || ask.Identifiers[0].Type != "dns" {
		return errors.Join(err, errors.New("want one name"))
	}
	id := fmt.Sprint(len(s.orders) + 1)
	s.orders[id] = &order{account: c.account, name: ask.Identifiers[0].Value, token: rand.Text()}
	w.Header().Set("Location", s.web.URL+"/order/"+id)
	give(w, http.StatusCreated, s.describe(id))
	return nil
}

func (s *Server) describe(id string) map[string]any {
	o := s.orders[id]
	out := map[string]any{"status": "pending", "identifiers": []any{map[string]string{"type": "dns", "value": o.name}},
		"authorizations": []string{s.web.URL + "/authorization/" + id}, "finalize": s.web.URL + "/finalize/" + id}
	switch {
	case o.certificate != nil:
		out["status"], out["certificate"] = "valid", s.web.URL+"/certificate/"+id
	case o.proved:
		out["status"] = "ready"
	}
	return out
}

// of finds an order of the caller.
func (s *Server) of(r *http.Request, c call) (string, *order, error) {
	id := r.PathValue("id")
	o := s.orders[id]
	if o == nil || o.account != c.account {
		return id, nil, errors.New("no such order")
	}
	return id, o, nil
}

func (s *Server) show(w http.ResponseWriter, r *http.Request, c call) error {
	id, _, err := s.of(r, c)
	if err == nil {
		w.Header().Set("Location", s.web.URL+"/order/"+id)
		give(w, http.StatusOK, s.describe(id))
	}
	return err
}

func (s *Server) challenges(id string) map[string]any {
	o, status := s.orders[id], "pending"
	if o.proved {
		status = "valid"
	}
	return map[string]any{
		"type":   "tls-alpn-01",
		"url":    s.web.URL + "/challenge/" + id,
		"token":  o.token,
		"status": status,
	}
}

func (s *Server) authorization(w http.ResponseWriter, r *http.Request, c call) error {
	id, o, err := s.of(r, c)
	if err != nil {
		return err
	}
	x := s.challenges(id)
	give(w, http.StatusOK, map[string]any{
		"status":     x["status"],
		"identifier": map[string]string{"type": "dns", "value": o.name},
		"challenges": []any{x},
	})
	return nil
}

// challenge checks whether the server of a name shows what only the account can have made (RFC 8737, section 3).
func (s *Server) challenge(w http.ResponseWriter, r *http.Request, c call) error {
	id, o, err := s.of(r, c)
	if err != nil {
		return err
	}
	print, err := c.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}

	want := sha256.Sum256([]byte(o.token + "." + base64.RawURLEncoding.EncodeToString(print)))

	// the proof is in the certificate
	conn, err := tls.Dial("tcp", s.at, &tls.Config{
		ServerName:         o.name,
		NextProtos:         []string{"acme-tls/1"},
		InsecureSkipVerify: true,
	})
	if err != nil {
		return err
	}
	defer conn.Close()

	shown := conn.ConnectionState().PeerCertificates[0]
	for _, x := range shown.Extensions {
		var got []byte
		if _, err := asn1.Unmarshal(x.Value, &got); x.Id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}) &&
			err == nil {
			o.proved = x.Critical && bytes.Equal(got, want[:]) && strings.Join(shown.DNSNames, " ") == o.name
		}
	}

	if !o.proved {
		return errors.New("the name does not show what it should")
	}

	give(w, http.StatusOK, s.challenges(id))
	return nil
}

func (s *Server) finalize(w http.ResponseWriter, r *http.Request, c call) error {
	id, o, err := s.of(r, c)
	if err != nil {
		return err
	}
	var ask struct{ CSR string }
	if err := json.Unmarshal(c.payload, &ask); err != nil {
		return err
	}
	der, err := base64.RawURLEncoding.DecodeString(ask.CSR)
	if err != nil {
		return err
	}

	request, err := x509.ParseCertificateRequest(der)
	if err == nil {
		err = request.CheckSignature()
	}

	if err != nil || !o.proved || strings.Join(request.DNSNames, " ") != o.name {
		return errors.Join(err, errors.New("the request is not for what was proved"))
	}

	t := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()),
		DNSNames:     request.DNSNames,
		NotBefore:    time.Now().Add(-time.Minute),
		NotAfter:     time.Now().Add(12 * time.Hour),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}

	if der, err = x509.CreateCertificate(rand.Reader, t, s.cert, request.PublicKey, s.key); err != nil {
		return err
	}

	o.certificate = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	s.Issued++
	w.Header().Set("Location", s.web.URL+"/order/"+id)
	give(w, http.StatusOK, s.describe(id))
	return nil
}

func (s *Server) certificate(w http.ResponseWriter, r *http.Request, c call) error {
	_, o, err := s.of(r, c)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, err = w.Write(o.certificate)
	return err
}
