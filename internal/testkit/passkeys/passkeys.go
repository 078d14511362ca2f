// Package passkeys is what browsers and authenticators do (W3C Web Authentication), for tests: with all that either
// says at hand.
package passkeys

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"testing"

	"idletally/internal/testkit"
)

// A Key is an authenticator's.
type Key struct{ private crypto.Signer }

// New returns the key of an authenticator that has a private key.
func New(private crypto.Signer) Key { return Key{private} }

// Text returns the public half, a SubjectPublicKeyInfo in base64.
func (k Key) Text(t testing.TB) string {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(k.private.Public())
	testkit.Must(t, err)
	return base64.StdEncoding.EncodeToString(der)
}

// Client is what a browser says (section 5.8.1).
type Client struct {
	Type        string `json:"type"`
	Challenge   string `json:"challenge"`
	Origin      string `json:"origin"`
	CrossOrigin bool   `json:"crossOrigin"`
	TopOrigin   string `json:"topOrigin,omitempty"`
}

// Signing is what a browser says of a page that has a challenge signed.
func Signing(challenge []byte, origin string) Client {
	return Client{Type: "webauthn.get", Challenge: base64.RawURLEncoding.EncodeToString(challenge), Origin: origin}
}

// JSON returns the words as browsers write them.
func (c Client) JSON(t testing.TB) []byte {
	t.Helper()
	b, err := json.Marshal(c)
	testkit.Must(t, err)
	return b
}

// Answer returns what the key answers to a browser's words for a site: authenticatorData (section 6.1) with these
// flags, and the signature.
func (k Key) Answer(t testing.TB, site string, flags byte, client []byte) (authenticator, signature []byte) {
	t.Helper()
	id := sha256.Sum256([]byte(site))
	authenticator = append(id[:], flags, 0, 0, 0, 9)
	said := sha256.Sum256(client)
	data := append(bytes.Clone(authenticator), said[:]...)
	digest, options := data, crypto.SignerOpts(crypto.Hash(0))
	if _, ok := k.private.(ed25519.PrivateKey); !ok {
		sum := sha256.Sum256(data)
		digest, options = sum[:], crypto.SHA256
	}
	signature, err := k.private.Sign(rand.Reader, digest, options)
	testkit.Must(t, err)
	return authenticator, signature
}
