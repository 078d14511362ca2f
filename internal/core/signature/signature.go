// Package signature verifies what people sign with keys of their own, which no service ever holds: SSH keys, in the
// open form of SSH signatures, and passkeys and security keys, by Web Authentication (W3C, level 2, section 7.2).
//
//	key, _ := signature.ParseKey("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI…")
//	err := key.Verify(statement, sig, signature.Terms{})   // nil: whoever has the key has signed these bytes
package signature

import (
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
)

// Namespace is what every SSH signature has to be made for. One that somebody made for anything else, such as a file
// or a commit, says nothing here.
const Namespace = "statement@idletally"

// MaxKey and MaxSignature bound the text of a key and a whole signature, in bytes.
const (
	MaxKey       = 2 << 10
	MaxSignature = 8 << 10
)

// ErrRefused says that a signature is none by this key over these bytes.
var ErrRefused = errors.New("the signature is refused")

func refused(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrRefused, fmt.Errorf(format, args...))
}

// A Key is the public half of somebody's key. It is comparable, and written in one way only.
type Key struct {
	kind string // the first word of its text
	blob string // what the second one encodes
}

// The kinds of keys: those of SSH by their own names (RFC 4253 section 6.6, RFC 5656, RFC 8709), and those of Web
// Authentication.
const (
	SSHEd25519   = "ssh-ed25519"
	SSHP256      = "ecdsa-sha2-nistp256"
	SSHSKEd25519 = "sk-ssh-ed25519@openssh.com"
	SSHSKP256    = "sk-ecdsa-sha2-nistp256@openssh.com"
	WebAuthn     = "webauthn"
)

// ParseKey reads a key's text: its kind and, in base64, its public half. For the kinds of SSH that is a line of an
// authorized_keys file without options and comment; for WebAuthn it is a SubjectPublicKeyInfo (RFC 5280 section 4.1)
// of P-256, Ed25519 or RSA. What ends in a comment is refused: a key has one text.
func ParseKey(text string) (Key, error) {
	if len(text) > MaxKey {
		return Key{}, fmt.Errorf("the key has %d bytes, at most %d are allowed", len(text), MaxKey)
	}
	kind, encoded, ok := strings.Cut(text, " ")
	if !ok {
		return Key{}, errors.New("want a kind of key and the key in base64, apart by one blank")
	}
	blob, err := base64.StdEncoding.Strict().DecodeString(encoded)
	if err != nil || base64.StdEncoding.EncodeToString(blob) != encoded {
		return Key{}, errors.New("the key is not in base64 (RFC 4648 section 4)")
	}

	k := Key{kind, string(blob)}
	if _, err := k.verifier(); err != nil {
		return Key{}, err
	}
	return k, nil
}

// String returns the key's text.
func (k Key) String() string {
	if k == (Key{}) {
		return ""
	}
	return k.kind + " " + base64.StdEncoding.EncodeToString([]byte(k.blob))
}

// Kind returns the kind of key: the first word of its text.
func (k Key) Kind() string { return k.kind }

// Fingerprint returns what people compare: "SHA256:" and the hash of the public half in base64 without padding, which
// for SSH keys is what ssh-keygen shows.
func (k Key) Fingerprint() string {
	sum := sha256.Sum256([]byte(k.blob))
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// MarshalText returns the key's text.
func (k Key) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the key's text.
func (k *Key) UnmarshalText(b []byte) (err error) {
	*k, err = ParseKey(string(b))
	return err
}

// Terms are what a signature has to satisfy besides being one.
type Terms struct {
	Site    string   // the relying party's id that WebAuthn keys are made for: a name
	Origins []string // from which browsers may have asked: https://NAME[:PORT]
}

// A Signature is what a key made of some bytes. Exactly one of its parts is set.
type Signature struct {
	SSH      []byte     `json:"ssh,omitempty" doc:"An SSH signature without its armour"`
	WebAuthn *Assertion `json:"webauthn,omitempty" doc:"What a passkey or security key made by way of a browser"`
}

// Verify returns an error unless the key's holder has signed exactly these bytes, for this purpose and no other. A
// key that hardware holds must have been touched; one of Web Authentication must have verified who touched it, too.
func (k Key) Verify(message []byte, s Signature, terms Terms) error {
	v, err := k.verifier()
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}

	switch {
	case (s.SSH == nil) == (s.WebAuthn == nil):
		return refused("it has to be an SSH signature or one of Web Authentication")
	case (k.kind == WebAuthn) != (s.WebAuthn != nil):
		return refused("a key of the kind %s does not make it", k.kind)
	case s.WebAuthn != nil:
		return s.WebAuthn.verify(message, v, terms)
	}
	return verifySSH(message, s.SSH, k, v)
}

// verifier returns what checks signatures of the key, and an error for a key that is none, or not in its one form.
func (k Key) verifier() (verifier, error) {
	if k.kind == WebAuthn {
		return parsePublic([]byte(k.blob))
	}
	return parseSSH(k.kind, []byte(k.blob))
}

// A verifier checks bare signatures: over the bytes themselves for Ed25519, over their SHA-256 for the others.
type verifier interface {
	verify(signed, signature []byte) bool
}
