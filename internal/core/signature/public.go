package signature

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"math/big"
)

// Bounds of RSA moduli, in bits: shorter ones can be factored, longer ones take long to verify.
const (
	leastRSA = 2048
	mostRSA  = 4096
)

type edKey struct{ ed25519.PublicKey }

func (k edKey) verify(signed, signature []byte) bool {
	return ed25519.Verify(k.PublicKey, signed, signature)
}

// p256Key checks signatures in the ASN.1 form of RFC 3279 section 2.2.3.
type p256Key struct{ *ecdsa.PublicKey }

func (k p256Key) verify(signed, signature []byte) bool {
	sum := sha256.Sum256(signed)
	return ecdsa.VerifyASN1(k.PublicKey, sum[:], signature)
}

// verifyPair checks a signature that is two numbers.
func (k p256Key) verifyPair(signed []byte, r, s *big.Int) bool {
	sum := sha256.Sum256(signed)
	return ecdsa.Verify(k.PublicKey, sum[:], r, s)
}

// rsaKey checks signatures by RSASSA-PKCS1-v1_5 with SHA-256 (RFC 8017 section 8.2): RS256.
type rsaKey struct{ *rsa.PublicKey }

func (k rsaKey) verify(signed, signature []byte) bool {
	sum := sha256.Sum256(signed)
	return rsa.VerifyPKCS1v15(k.PublicKey, crypto.SHA256, sum[:], signature) == nil
}

// parsePublic reads a SubjectPublicKeyInfo that is written as Go writes it, which is the form of DER.
func parsePublic(der []byte) (verifier, error) {
	public, err := x509.ParsePKIXPublicKey(der)
	if err != nil {
		return nil, fmt.Errorf("the key is no public key: %w", err)
	}
	again, err := x509.MarshalPKIXPublicKey(public)
	if err != nil || !bytes.Equal(again, der) {
		return nil, errors.New("the key is not written in its one form")
	}

	switch k := public.(type) {
	case ed25519.PublicKey:
		return edKey{k}, nil
	case *ecdsa.PublicKey:
		if k.Curve == elliptic.P256() {
			return p256Key{k}, nil
		}
	case *rsa.PublicKey:
		if n := k.N.BitLen(); leastRSA <= n && n <= mostRSA {
			return rsaKey{k}, nil
		}
		return nil, fmt.Errorf("the RSA key has %d bits, want %d to %d", k.N.BitLen(), leastRSA, mostRSA)
	}
	return nil, errors.New("the key is of an algorithm that is not accepted: want P-256, Ed25519 or RSA")
}

// parsePoint reads an uncompressed point of P-256 (SEC 1 section 2.3.3), and checks that it lies on the curve.
func parsePoint(b []byte) (p256Key, error) {
	k, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), b)
	if err != nil {
		return p256Key{}, fmt.Errorf("the key is no point of P-256: %w", err)
	}
	return p256Key{k}, nil
}
