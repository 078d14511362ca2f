package signature

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"errors"
	"math/big"
)

// The form of SSH signatures is described in PROTOCOL.sshsig, which OpenSSH's sources hold and several programs
// implement; keys that hardware holds in PROTOCOL.u2f.
const (
	magic   = "SSHSIG"
	version = 1
	// preferred is the hash that we sign by; "sha256" is taken, too.
	preferred = "sha512"

	touched = 1 << 0 // flags of a key that hardware holds: somebody touched it,
	// and verified who they are (1 << 2), which not every such key can do
)

// wire reads the data types of RFC 4251 section 5. After an error it reads nothing more.
type wire struct {
	b   []byte
	bad bool
}

func (w *wire) take(n int) []byte {
	if w.bad || n < 0 || n > len(w.b) {
		w.bad = true
		return nil
	}
	part := w.b[:n:n]
	w.b = w.b[n:]
	return part
}

func (w *wire) uint32() uint32 {
	b := w.take(4)
	if w.bad {
		return 0
	}
	return binary.BigEndian.Uint32(b)
}

func (w *wire) string() []byte {
	n := w.uint32()
	if n > MaxSignature {
		w.bad = true
	}
	return w.take(int(n))
}

// number reads a positive mpint in its shortest form.
func (w *wire) number() *big.Int {
	b := w.string()
	if len(b) == 0 || len(b) > 33 || b[0]&0x80 != 0 || b[0] == 0 && (len(b) == 1 || b[1]&0x80 == 0) {
		w.bad = true
		return nil
	}
	return new(big.Int).SetBytes(b)
}

// end reports whether all was read, and all of it was right.
func (w *wire) end() bool { return !w.bad && len(w.b) == 0 }

func appendString(b []byte, s []byte) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

// sshKey is a key of SSH. application is the one that a hardware key was made for.
type sshKey struct {
	verifier
	hardware    bool
	application []byte
}

// parseSSH reads the blob of a public key (RFC 4253 section 6.6, RFC 5656 section 3.1, RFC 8709 section 4).
func parseSSH(kind string, blob []byte) (verifier, error) {
	w := wire{b: blob}
	if string(w.string()) != kind {
		return nil, errors.New("the key is of another kind than it says, or of one that is not accepted")
	}

	k := sshKey{hardware: kind == SSHSKEd25519 || kind == SSHSKP256}
	switch kind {
	case SSHEd25519, SSHSKEd25519:
		public := w.string()
		if len(public) != ed25519.PublicKeySize {
			return nil, errors.New("the key has another length than Ed25519 keys have")
		}
		k.verifier = edKey{public}
	case SSHP256, SSHSKP256:
		curve, point := w.string(), w.string()
		if string(curve) != "nistp256" {
			return nil, errors.New("the key is of another curve than P-256")
		}
		public, err := parsePoint(point)
		if err != nil {
			return nil, err
		}
		k.verifier = public
	default:
		return nil, errors.New("keys of this kind are not accepted: want " + SSHEd25519 + ", " + SSHP256 + ", " +
			SSHSKEd25519 + ", " + SSHSKP256 + " or " + WebAuthn)
	}

	if k.hardware {
		k.application = w.string()
	}
	if !w.end() {
		return nil, errors.New("the key is cut off, or has something behind it")
	}
	return k, nil
}

// verifySSH checks an SSH signature over a message: that it is by this key, for our namespace, and whole.
func verifySSH(message, blob []byte, key Key, v verifier) error {
	if len(blob) > MaxSignature {
		return refused("it has %d bytes, at most %d are allowed", len(blob), MaxSignature)
	}

	w := wire{b: blob}
	begin, number := w.take(len(magic)), w.uint32()
	public, namespace, reserved, hash, inner := w.string(), w.string(), w.string(), w.string(), w.string()
	switch {
	case !w.end() || string(begin) != magic || number != version:
		return refused("it is not an SSH signature of version %d", version)
	case string(public) != key.blob:
		return refused("it is by another key")
	case string(namespace) != Namespace:
		return refused("it was made for the namespace %.60q, not for %q", namespace, Namespace)
	case len(reserved) > 0:
		return refused("it holds something reserved")
	}

	sum := hashed(string(hash), message)
	if sum == nil {
		return refused("it is over a hash that is not accepted: %.20q", hash)
	}
	signed := appendString([]byte(magic), namespace)
	signed = appendString(signed, reserved)
	signed = appendString(signed, hash)
	signed = appendString(signed, sum)
	return v.(sshKey).check(signed, inner, key.kind)
}

// Signable returns the bytes that an SSH key has to sign for a message: an agent of SSH is given these.
func Signable(message []byte) []byte {
	signed := appendString([]byte(magic), []byte(Namespace))
	signed = appendString(signed, nil)
	signed = appendString(signed, []byte(preferred))
	return appendString(signed, hashed(preferred, message))
}

// Assemble returns the SSH signature of a message, of what a key made of its Signable: a signature as RFC 4253 section
// 6.6 has it, which for keys that hardware holds has their flags and counter behind it.
func Assemble(key Key, inner []byte) Signature {
	b := binary.BigEndian.AppendUint32([]byte(magic), version)
	for _, part := range [][]byte{[]byte(key.blob), []byte(Namespace), nil, []byte(preferred), inner} {
		b = appendString(b, part)
	}
	return Signature{SSH: b}
}

// hashed returns a message's hash by name; nil for one that is not accepted.
func hashed(name string, message []byte) []byte {
	switch name {
	case "sha256":
		sum := sha256.Sum256(message)
		return sum[:]
	case "sha512":
		sum := sha512.Sum512(message)
		return sum[:]
	}
	return nil
}

// check checks the signature proper (RFC 4253 section 6.6, RFC 5656 section 3.1.2).
func (k sshKey) check(signed, inner []byte, kind string) error {
	w := wire{b: inner}
	format, blob := w.string(), w.string()
	if k.hardware {
		flags, counter := w.take(1), w.take(4)
		if !w.end() {
			return refused("it is cut off, or has something behind it")
		}
		if flags[0]&touched == 0 {
			return refused("nobody touched the key")
		}

		application, message := sha256.Sum256(k.application), sha256.Sum256(signed)
		signed = append(application[:], flags...)
		signed = append(signed, counter...)
		signed = append(signed, message[:]...)
	}
	if !w.end() || string(format) != kind {
		return refused("it is of another kind than its key, or cut off")
	}

	switch v := k.verifier.(type) {
	case edKey:
		if v.verify(signed, blob) {
			return nil
		}
	case p256Key:
		pair := wire{b: blob}
		r, s := pair.number(), pair.number()
		if pair.end() && v.verifyPair(signed, r, s) {
			return nil
		}
	}
	return refused("it does not fit what was signed")
}
