package signature

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/testkit"
	"idletally/internal/testkit/passkeys"
	"idletally/internal/testkit/seeded"
)

var must = testkit.Must

var message = []byte("idletally statement 1\nsays: approved\n")

var terms = Terms{Site: "tally.example", Origins: []string{"https://tally.example", "https://tally.example:7780"}}

// keygen makes a key with the system's own program, and what signs with it for a namespace.
func keygen(t *testing.T, kind ...string) (Key, func(namespace string, message []byte) []byte) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "key")
	run := func(stdin []byte, args ...string) []byte {
		c := exec.CommandContext(t.Context(), "ssh-keygen", args...)
		c.Stdin = bytes.NewReader(stdin)
		out, err := c.Output()
		if err != nil {
			t.Fatalf("ssh-keygen %v: %v", args, err)
		}
		return out
	}
	run(nil, append([]string{"-q", "-N", "", "-C", "", "-f", file, "-t"}, kind...)...)
	public, err := os.ReadFile(file + ".pub")
	must(t, err)
	key, err := ParseKey(strings.TrimSpace(string(public)))
	must(t, err)

	return key, func(namespace string, message []byte) []byte {
		block, _ := pem.Decode(unlined(run(message, "-q", "-Y", "sign", "-f", file, "-n", namespace)))
		if block == nil {
			t.Fatal("ssh-keygen gave no signature")
		}
		return block.Bytes
	}
}

// unlined makes PEM's markers of those that SSH signatures have.
func unlined(armoured []byte) []byte {
	return bytes.ReplaceAll(armoured, []byte("SSH SIGNATURE"), []byte("S"))
}

// What the system's own program signs is taken; for any other purpose, key or message it is not.
func TestSSH(t *testing.T) {
	for _, c := range []struct {
		name string
		kind []string
	}{
		{"ed25519", []string{"ed25519"}},
		{"P-256", []string{"ecdsa", "-b", "256"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			key, sign := keygen(t, c.kind...)
			other, _ := keygen(t, c.kind...)
			blob := sign(Namespace, message)
			must(t, key.Verify(message, Signature{SSH: blob}, terms))

			refuses(t, "another message", key.Verify(append(message, '\n'), Signature{SSH: blob}, terms))
			refuses(t, "another key", other.Verify(message, Signature{SSH: blob}, terms))
			for _, namespace := range []string{"file", "git", "statement@idletally2", "Statement@idletally"} {
				refuses(t, namespace, key.Verify(message, Signature{SSH: sign(namespace, message)}, terms))
			}
		})
	}
}

func refuses(t *testing.T, what string, err error) {
	t.Helper()
	if !errors.Is(err, ErrRefused) {
		t.Errorf("%s: %v, want a refusal", what, err)
	}
}

// Every single bit of a signature counts: turned over, it is none any more.
func TestEveryBitOfASignature(t *testing.T) {
	key, sign := keygen(t, "ed25519")
	blob := sign(Namespace, message)
	for bit := range 8 * len(blob) {
		blob[bit/8] ^= 1 << (bit % 8)
		if key.Verify(message, Signature{SSH: blob}, terms) == nil {
			t.Errorf("bit %d of %d makes no difference", bit, 8*len(blob))
		}
		blob[bit/8] ^= 1 << (bit % 8)
	}
	for n := range blob {
		refuses(t, "a part of it", key.Verify(message, Signature{SSH: blob[:n]}, terms))
	}
	refuses(t, "something behind it", key.Verify(message, Signature{SSH: append(bytes.Clone(blob), 0)}, terms))
}

// hardware is a security key of SSH, as PROTOCOL.u2f describes one, and what of it can be set.
type hardware struct {
	flags       byte
	application string // that it signs for; its public key says ssh:
	format      string
}

func (h hardware) sign(t *testing.T, message []byte) (Key, []byte) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	must(t, err)
	blob := appendString(appendString(appendString(nil, []byte(SSHSKEd25519)), public), []byte("ssh:"))
	key, err := ParseKey(SSHSKEd25519 + " " + base64.StdEncoding.EncodeToString(blob))
	must(t, err)

	signed := []byte(magic)
	for _, part := range []string{Namespace, "", "sha512", string(hashed("sha512", message))} {
		signed = appendString(signed, []byte(part))
	}
	application, sum := sha256.Sum256([]byte(h.application)), sha256.Sum256(signed)
	data := append(application[:], h.flags, 0, 0, 0, 7)
	data = append(data, sum[:]...)
	inner := appendString(appendString(nil, []byte(h.format)), ed25519.Sign(private, data))
	inner = append(inner, h.flags, 0, 0, 0, 7)

	whole := binary.BigEndian.AppendUint32([]byte(magic), version)
	for _, part := range [][]byte{blob, []byte(Namespace), nil, []byte("sha512"), inner} {
		whole = appendString(whole, part)
	}
	return key, whole
}

func TestSecurityKeys(t *testing.T) {
	for _, c := range []struct {
		name string
		key  hardware
		ok   bool
	}{
		{"touched", hardware{touched, "ssh:", SSHSKEd25519}, true},
		{"touched, and somebody verified", hardware{touched | 1<<2, "ssh:", SSHSKEd25519}, true},
		{"not touched", hardware{0, "ssh:", SSHSKEd25519}, false},
		{"verified, and not touched", hardware{1 << 2, "ssh:", SSHSKEd25519}, false},
		{"for another application", hardware{touched, "ssh:other", SSHSKEd25519}, false},
		{"in the form of a key that is none", hardware{touched, "ssh:", SSHEd25519}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			key, blob := c.key.sign(t, message)
			err := key.Verify(message, Signature{SSH: blob}, terms)
			if c.ok != (err == nil) || err != nil && !errors.Is(err, ErrRefused) {
				t.Errorf("%v, want accepted %t", err, c.ok)
			}
		})
	}
}

// A passkey is an authenticator's key, as statements have it.
type passkey struct {
	passkeys.Key
	key Key
}

func newPasskey(t *testing.T, private crypto.Signer) passkey {
	t.Helper()
	p := passkeys.New(private)
	key, err := ParseKey(WebAuthn + " " + p.Text(t))
	must(t, err)
	return passkey{p, key}
}

// answer returns what the key answers to a browser's words.
func (p passkey) answer(t *testing.T, site string, flags byte, client []byte) *Assertion {
	t.Helper()
	a := &Assertion{Client: client}
	a.Authenticator, a.Signature = p.Answer(t, site, flags, client)
	return a
}

func words(message []byte) passkeys.Client {
	return passkeys.Signing(Challenge(message), terms.Origins[0])
}

func signers(t *testing.T) map[string]crypto.Signer {
	t.Helper()
	p256, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	must(t, err)
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	must(t, err)
	return map[string]crypto.Signer{"P-256": p256, "Ed25519": ed, "RSA": rs}
}

func TestWebAuthn(t *testing.T) {
	const good = userPresent | userVerified
	for name, private := range signers(t) {
		t.Run(name, func(t *testing.T) {
			p := newPasskey(t, private)
			a := p.answer(t, terms.Site, good, words(message).JSON(t))
			must(t, p.key.Verify(message, Signature{WebAuthn: a}, terms))

			for _, c := range []struct {
				name  string
				site  string
				flags byte
				say   func(c *passkeys.Client)
			}{
				{"another site", "tally.example.attacker.example", good, func(*passkeys.Client) {}},
				{"no site", "", good, func(*passkeys.Client) {}},
				{"nobody there", terms.Site, userVerified, func(*passkeys.Client) {}},
				{"nobody verified", terms.Site, userPresent, func(*passkeys.Client) {}},
				{"neither", terms.Site, 0, func(*passkeys.Client) {}},
				{"an answer to being registered", terms.Site, good | attestedData, func(*passkeys.Client) {}},
				{"being registered", terms.Site, good, func(c *passkeys.Client) { c.Type = "webauthn.create" }},
				{"a payment", terms.Site, good, func(c *passkeys.Client) { c.Type = "payment.get" }},
				{"another message", terms.Site, good, func(c *passkeys.Client) { *c = words(message[1:]) }},
				{"no challenge", terms.Site, good, func(c *passkeys.Client) { c.Challenge = "" }},
				{"a challenge in another base64", terms.Site, good, func(c *passkeys.Client) { c.Challenge += "=" }},
				{"another page", terms.Site, good, func(c *passkeys.Client) { c.Origin = "https://attacker.example" }},
				{"a page below it", terms.Site, good, func(c *passkeys.Client) { c.Origin += ".attacker.example" }},
				{"another port", terms.Site, good, func(c *passkeys.Client) { c.Origin = "https://tally.example:1" }},
				{"in clear", terms.Site, good, func(c *passkeys.Client) { c.Origin = "http://tally.example" }},
				{"a frame", terms.Site, good, func(c *passkeys.Client) { c.CrossOrigin = true }},
				{"below another page", terms.Site, good, func(c *passkeys.Client) { c.TopOrigin = "https://attacker" }},
			} {
				t.Run(c.name, func(t *testing.T) {
					said := words(message)
					c.say(&said)
					a := p.answer(t, c.site, c.flags, said.JSON(t))
					refuses(t, c.name, p.key.Verify(message, Signature{WebAuthn: a}, terms))
				})
			}
		})
	}
}

// What is put together of several answers, or changed anywhere, is none.
func TestEveryBitOfAnAssertion(t *testing.T) {
	p := newPasskey(t, signers(t)["Ed25519"])
	a := p.answer(t, terms.Site, userPresent|userVerified, words(message).JSON(t))
	for name, part := range map[string][]byte{
		"client": a.Client, "authenticator": a.Authenticator, "signature": a.Signature,
	} {
		t.Run(name, func(t *testing.T) {
			for bit := range 8 * len(part) {
				part[bit/8] ^= 1 << (bit % 8)
				if p.key.Verify(message, Signature{WebAuthn: a}, terms) == nil {
					t.Errorf("bit %d of %d makes no difference", bit, 8*len(part))
				}
				part[bit/8] ^= 1 << (bit % 8)
			}
		})
	}

	other := p.answer(t, terms.Site, userPresent|userVerified, words([]byte("something else")).JSON(t))
	mixed := Assertion{Client: a.Client, Authenticator: a.Authenticator, Signature: other.Signature}
	refuses(t, "another answer's signature", p.key.Verify(message, Signature{WebAuthn: &mixed}, terms))
	refuses(t, "both kinds", p.key.Verify(message, Signature{SSH: []byte{1}, WebAuthn: a}, terms))
	refuses(t, "neither kind", p.key.Verify(message, Signature{}, terms))
	refuses(t, "a passkey's for SSH", p.key.Verify(message, Signature{SSH: []byte{1}}, terms))
	refuses(t, "without a site", p.key.Verify(message, Signature{WebAuthn: a}, Terms{}))

	said := words(message).JSON(t)
	for _, twice := range []string{`{"origin":"https://attacker",`, `{"type":"webauthn.create",`} {
		a := p.answer(t, terms.Site, userPresent|userVerified, []byte(twice+string(said[1:])))
		if err := p.key.Verify(message, Signature{WebAuthn: a}, terms); err == nil {
			t.Errorf("a word that stands twice is taken: %s", twice)
		}
	}
}

// A key has one text: whoever ends it has ended all of it.
func TestKeys(t *testing.T) {
	key, _ := keygen(t, "ed25519")
	text := key.String()
	rsaShort, err := rsa.GenerateKey(rand.Reader, 1024)
	if err == nil {
		der, err := x509.MarshalPKIXPublicKey(rsaShort.Public())
		must(t, err)
		if _, err := ParseKey(WebAuthn + " " + base64.StdEncoding.EncodeToString(der)); err == nil {
			t.Error("an RSA key of 1024 bits is taken")
		}
	}

	blob := []byte(key.blob)
	for name, bad := range map[string]string{
		"empty":                "",
		"a comment":            text + " laptop",
		"a blank in front":     " " + text,
		"two blanks":           strings.Replace(text, " ", "  ", 1),
		"another kind":         strings.Replace(text, SSHEd25519, SSHP256, 1),
		"a certificate's kind": strings.Replace(text, SSHEd25519, "ssh-ed25519-cert-v01@openssh.com", 1),
		"RSA of SSH":           "ssh-rsa " + base64.StdEncoding.EncodeToString(appendString(nil, []byte("ssh-rsa"))),
		"cut off":              SSHEd25519 + " " + base64.StdEncoding.EncodeToString(blob[:len(blob)-1]),
		"something behind it":  SSHEd25519 + " " + base64.StdEncoding.EncodeToString(append(bytes.Clone(blob), 0)),
		"padding behind it":    text + "=",
		"line ends":            text + "\n",
		"no point":             p256Text(make([]byte, 65)),
		"a point not on it":    p256Text(append([]byte{4}, bytes.Repeat([]byte{1}, 64)...)),
		"too long":             WebAuthn + " " + strings.Repeat("A", MaxKey),
		"no key":               WebAuthn + " AAAA",
	} {
		t.Run(name, func(t *testing.T) {
			if k, err := ParseKey(bad); err == nil {
				t.Errorf("%q is taken for %v", bad, k)
			}
		})
	}
}

func p256Text(point []byte) string {
	blob := appendString(appendString(appendString(nil, []byte(SSHP256)), []byte("nistp256")), point)
	return SSHP256 + " " + base64.StdEncoding.EncodeToString(blob)
}

// A number has one form: with zeros in front, or a sign, it is none.
func TestNumbers(t *testing.T) {
	for _, c := range []struct {
		name string
		b    []byte
		want *big.Int
	}{
		{"small", []byte{5}, big.NewInt(5)},
		{"high bit", []byte{0, 0x80}, big.NewInt(128)},
		{"none", nil, nil},
		{"zero", []byte{0}, nil},
		{"padded", []byte{0, 5}, nil},
		{"negative", []byte{0x80}, nil},
		{"too long", append([]byte{1}, make([]byte, 33)...), nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := wire{b: appendString(nil, c.b)}
			n := w.number()
			if (c.want == nil) != w.bad || c.want != nil && n.Cmp(c.want) != 0 {
				t.Errorf("%v, bad %t, want %v", n, w.bad, c.want)
			}
		})
	}
}

// Keys that are read are written as they were, and nothing that is made up is a signature.
func FuzzParseKey(f *testing.F) {
	f.Add("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIA==")
	f.Add(p256Text(make([]byte, 65)))
	f.Fuzz(func(t *testing.T, text string) {
		k, err := ParseKey(text)
		if err == nil && k.String() != text {
			t.Errorf("%q is written %q", text, k)
		}
	})
}

func FuzzSSH(f *testing.F) {
	public, private, err := ed25519.GenerateKey(seededReader{})
	if err != nil {
		f.Fatal(err)
	}
	_ = private
	blob := appendString(appendString(nil, []byte(SSHEd25519)), public)
	key, err := ParseKey(SSHEd25519 + " " + base64.StdEncoding.EncodeToString(blob))
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, b []byte) {
		if key.Verify(message, Signature{SSH: b}, terms) == nil {
			t.Errorf("nobody signed %x", b)
		}
	})
}

// seededReader makes the same key each time.
type seededReader struct{}

func (seededReader) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = 7
	}
	return len(b), nil
}

// Random changes of whole signatures, of every kind: none is taken.
func TestMutations(t *testing.T) {
	r := seeded.Rand(t)
	key, sign := keygen(t, "ecdsa", "-b", "256")
	blob := sign(Namespace, message)
	for range 3000 {
		b := bytes.Clone(blob)
		switch r.IntN(4) {
		case 0:
			b[r.IntN(len(b))] = byte(r.Uint32())
		case 1:
			at := r.IntN(len(b))
			b = append(b[:at:at], b[min(len(b), at+1+r.IntN(8)):]...)
		case 2:
			at := r.IntN(len(b))
			b = append(b[:at:at], append([]byte{byte(r.Uint32())}, b[at:]...)...)
		default:
			at := r.IntN(len(b) - 4)
			binary.BigEndian.PutUint32(b[at:], r.Uint32())
		}
		if !bytes.Equal(b, blob) && key.Verify(message, Signature{SSH: b}, terms) == nil {
			t.Fatalf("%x is taken", b)
		}
	}
}
