// Package pens makes keys by which tests sign as people do.
package pens

import (
	"crypto/ed25519"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"testing"

	"idletally/internal/core/signature"
	"idletally/internal/testkit"
)

// A Pen is an Ed25519 key of SSH, and what signs by it.
type Pen struct {
	Key     signature.Key
	private ed25519.PrivateKey
}

// New makes the pen of a number, the same each time.
func New(t testing.TB, number uint64) Pen {
	t.Helper()
	seed := make([]byte, ed25519.SeedSize)
	binary.BigEndian.PutUint64(seed, number+1)
	private := ed25519.NewKeyFromSeed(seed)
	blob := append(counted([]byte(signature.SSHEd25519)), counted(private.Public().(ed25519.PublicKey))...)
	key, err := signature.ParseKey(signature.SSHEd25519 + " " + base64.StdEncoding.EncodeToString(blob))
	testkit.Must(t, err)
	return Pen{key, private}
}

// Sign signs a message.
func (p Pen) Sign(message []byte) signature.Signature {
	sig := ed25519.Sign(p.private, signature.Signable(message))
	return signature.Assemble(p.Key, append(counted([]byte(signature.SSHEd25519)), counted(sig)...))
}

// SignFor signs a message as SSH does for any namespace, such as that of files or of commits.
func (p Pen) SignFor(namespace string, message []byte) signature.Signature {
	digest := sha512.Sum512(message)
	signed := []byte("SSHSIG")
	for _, part := range [][]byte{[]byte(namespace), nil, []byte("sha512"), digest[:]} {
		signed = append(signed, counted(part)...)
	}
	inner := append(counted([]byte(signature.SSHEd25519)), counted(ed25519.Sign(p.private, signed))...)
	public := append(counted([]byte(signature.SSHEd25519)), counted(p.private.Public().(ed25519.PublicKey))...)
	whole := binary.BigEndian.AppendUint32([]byte("SSHSIG"), 1)
	for _, part := range [][]byte{public, []byte(namespace), nil, []byte("sha512"), inner} {
		whole = append(whole, counted(part)...)
	}
	return signature.Signature{SSH: whole}
}

// counted is a string of RFC 4251 section 5.
func counted(b []byte) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)
}
