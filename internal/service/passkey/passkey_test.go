package passkey

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"testing"

	"github.com/go-webauthn/webauthn/protocol/webauthncbor"
	"github.com/go-webauthn/webauthn/webauthn"

	"idletally/internal/core/signature"
	"idletally/internal/testkit"
)

var must = testkit.Must

// cose writes a map of COSE.
func cose(t testing.TB, m map[int]any) []byte {
	t.Helper()
	b, err := webauthncbor.Marshal(m)
	must(t, err)
	return b
}

// kept is how the service keeps a passkey with such a key.
func kept(t testing.TB, key []byte) []byte {
	t.Helper()
	b, err := json.Marshal(webauthn.Credential{ID: []byte("an id"), PublicKey: key})
	must(t, err)
	return b
}

// The keys of passkeys are those that rosters have, whatever kind of authenticator made them.
func TestKey(t *testing.T) {
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	point, err := ec.PublicKey.Bytes()
	must(t, err)
	edwards, _, err := ed25519.GenerateKey(rand.Reader)
	must(t, err)
	big, err := rsa.GenerateKey(rand.Reader, 2048)
	must(t, err)
	for name, c := range map[string]struct {
		cose   map[int]any
		public any
	}{
		"P-256":   {map[int]any{1: 2, 3: -7, -1: 1, -2: point[1:33], -3: point[33:]}, &ec.PublicKey},
		"Ed25519": {map[int]any{1: 1, 3: -8, -1: 6, -2: []byte(edwards)}, edwards},
		"RSA":     {map[int]any{1: 3, 3: -257, -1: big.N.Bytes(), -2: []byte{1, 0, 1}}, &big.PublicKey},
	} {
		t.Run(name, func(t *testing.T) {
			k, id, err := Key(kept(t, cose(t, c.cose)))
			must(t, err)
			der, err := x509.MarshalPKIXPublicKey(c.public)
			must(t, err)
			if want := signature.WebAuthn + " " + base64.StdEncoding.EncodeToString(der); k.String() != want ||
				!bytes.Equal(id, []byte("an id")) {
				t.Errorf("%s (%q), want %s", k, id, want)
			}
		})
	}
}

// What somebody's authenticator made up is an error, and nothing else.
func TestKeysThatAreNone(t *testing.T) {
	zeros := make([]byte, 32)
	for name, key := range map[string][]byte{
		"nothing":            nil,
		"no map":             []byte("x"),
		"an unknown kind":    cose(t, map[int]any{1: 77}),
		"no point":           cose(t, map[int]any{1: 2, 3: -7, -1: 1}),
		"a point elsewhere":  cose(t, map[int]any{1: 2, 3: -7, -1: 1, -2: zeros, -3: zeros}),
		"a long point":       cose(t, map[int]any{1: 2, 3: -7, -1: 1, -2: make([]byte, 99), -3: zeros}),
		"a short Ed25519":    cose(t, map[int]any{1: 1, 3: -8, -1: 6, -2: zeros[:31]}),
		"no exponent":        cose(t, map[int]any{1: 3, 3: -257, -1: zeros}),
		"a short exponent":   cose(t, map[int]any{1: 3, 3: -257, -1: zeros, -2: []byte{3}}),
		"a long exponent":    cose(t, map[int]any{1: 3, 3: -257, -1: zeros, -2: zeros}),
		"an endless modulus": cose(t, map[int]any{1: 3, 3: -257, -1: make([]byte, 9999), -2: []byte{1, 0, 1}}),
	} {
		t.Run(name, func(t *testing.T) {
			if k, _, err := Key(kept(t, key)); err == nil {
				t.Errorf("it is a key: %s", k)
			}
		})
	}
	if _, _, err := Key([]byte("{")); err == nil {
		t.Error("what is kept cannot be read, and is a key")
	}
}

func FuzzKey(f *testing.F) {
	f.Add(cose(f, map[int]any{1: 2, 3: -7, -1: 1, -2: make([]byte, 32), -3: make([]byte, 32)}))
	f.Add(cose(f, map[int]any{1: 3, 3: -257, -1: make([]byte, 256), -2: []byte{1, 0, 1}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if k, _, err := Key(kept(t, b)); err == nil && k.Kind() != signature.WebAuthn {
			t.Errorf("a key of the kind %s", k.Kind())
		}
	})
}
