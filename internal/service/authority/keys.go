package authority

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"idletally/internal/atomicfile"
	"idletally/internal/core/succession"
)

// The files of the service's keys, in one folder.
const (
	authorityFile = "authority" // .key and .pem
	formerFile    = "authority-former"
	ordersFile    = "orders.key"
	stepsFile     = "succession.json" // of the keys that signed orders before
	secretsFile   = "secrets.key"
	nextPrefix    = "next-" // of what takes another's place
)

// Open reads the authority from a folder, or makes it at the first start: one that is valid for the service's names
// alone.
func Open(dir string, names []string) (*Authority, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("keys folder: %w", err)
	}
	if err := finish(dir); err != nil {
		return nil, err
	}

	a := &Authority{}
	key, err := keep(dir, authorityFile+".key", newIssuerKey)
	if err != nil {
		return nil, err
	}

	cert, err := keep(dir, authorityFile+".pem", func() ([]byte, error) {
		k, err := issuerKey(key)
		if err != nil {
			return nil, fmt.Errorf("%s.key in %s: %w", authorityFile, dir, err)
		}
		return selfSigned(k, names)
	})

	if err != nil {
		return nil, err
	}
	if a.newest, err = readIssuer(dir, authorityFile, key, cert); err != nil {
		return nil, err
	}
	a.PEM = cert
	if a.former, err = former(dir); err != nil {
		return nil, err
	}

	if a.former != nil && a.former.cert.Equal(a.newest.cert) {
		a.former = nil // its replacement was broken off before it was settled
	}

	if a.former != nil {
		a.PEM = slices.Concat(cert, certPEM(a.former.cert.Raw))
	}

	if err := a.readOrders(dir); err != nil {
		return nil, err
	}

	return a, nil
}

// readOrders reads the key that signs orders, the chain of handovers that leads to it, and what other keys are
// derived from.
func (a *Authority) readOrders(dir string) error {
	_, err := os.Stat(filepath.Join(dir, ordersFile))
	first := errors.Is(err, fs.ErrNotExist)
	orders, err := keep(dir, ordersFile, newOrders)
	if err != nil {
		return err
	}
	if a.Orders, err = OrderKey(orders); err != nil {
		return fmt.Errorf("%s in %s: %w", ordersFile, dir, err)
	}
	if a.Succession, err = readSteps(dir, a.Orders.Public().(ed25519.PublicKey)); err != nil {
		return err
	}

	secrets, err := keep(dir, secretsFile, func() ([]byte, error) {
		b := a.Orders.Seed() // earlier versions had no file for it: what is sealed is to open
		if first {
			_, _ = rand.Read(b) // it does not fail
		}
		return pem.EncodeToMemory(&pem.Block{Type: "IDLE TALLY SECRET", Bytes: b}), nil
	})

	if err != nil {
		return err
	}
	block, _ := pem.Decode(secrets)
	if block == nil || len(block.Bytes) < 32 {
		return fmt.Errorf("%s in %s holds no secret", secretsFile, dir)
	}

	a.Secrets = block.Bytes
	return nil
}

// ReplaceAuthority makes another authority for some names, or for those of the present one. Both are valid then,
// until EndFormer.
func ReplaceAuthority(dir string, names []string) error {
	a, err := opened(dir)
	if err != nil {
		return err
	}
	if a.former != nil {
		return fmt.Errorf("two authorities count already: end the former one first, with idletally keys end")
	}

	if len(names) == 0 {
		names = permitted(a.newest.cert)
		if names == nil {
			return errors.New("the authority counts for any name: give with --name those of the service")
		}
	}

	key, err := newIssuerKey()
	if err != nil {
		return err
	}
	k, err := issuerKey(key)
	if err != nil {
		return err
	}
	cert, err := selfSigned(k, names)
	if err != nil {
		return err
	}
	was, err := private(a.newest.key)
	if err != nil {
		return err
	}

	// The certificate is put there last: where it is, all is, and the next start removes what was broken off.
	return put(dir, []named{{formerFile + ".key", was}, {formerFile + ".pem", certPEM(a.newest.cert.Raw)},
		{nextPrefix + authorityFile + ".key", key}, {nextPrefix + authorityFile + ".pem", cert}})
}

// ReplaceOrders makes another key that signs orders. The one before signs that, and is deleted then.
func ReplaceOrders(dir string) error {
	a, err := opened(dir)
	if err != nil {
		return err
	}
	key, err := newOrders()
	if err != nil {
		return err
	}
	k, err := OrderKey(key)
	if err != nil {
		return err
	}
	line := append(a.Succession, succession.Next(a.Orders, k.Public().(ed25519.PublicKey), time.Now()))
	if err := succession.Check(line); err != nil {
		return err
	}
	steps, err := json.MarshalIndent(line, "", "  ")
	if err != nil {
		return err
	}

	return put(dir, []named{{nextPrefix + ordersFile, key}, {stepsFile, steps}})
}

// ErrTooEarly says that there may still be agents that know the former authority alone.
var ErrTooEarly = errors.New("agents may still come that know the former authority alone")

// EndFormer revokes the former authority. Unless it is forced, the newest has to have been there for as long as the
// certificate of an agent is valid: those who were away for longer have to be enrolled anew in any case.
func EndFormer(dir string, anyway bool) error {
	a, err := opened(dir)
	switch {
	case err != nil:
		return err
	case a.former == nil:
		return errors.New("one authority counts: there is none to end")
	}

	if until := a.newest.cert.NotBefore.Add(agentLife + time.Hour); !anyway && time.Now().Before(until) {
		return fmt.Errorf("%w: wait until %s, or give --now where idletally keys show names no host that does",
			ErrTooEarly, until.Format(time.DateOnly))
	}
	if err := errors.Join(os.Remove(filepath.Join(dir, formerFile+".pem")),
		os.Remove(filepath.Join(dir, formerFile+".key"))); err != nil {
		return fmt.Errorf("end the former authority: %w", err)
	}

	return atomicfile.SyncFolder(dir)
}

// Signers returns the keys that sign for the service of a folder, and those that did; the newest is first. Nothing is
// made or changed there.
func Signers(dir string) ([]ed25519.PublicKey, error) {
	b, err := os.ReadFile(filepath.Join(dir, ordersFile))
	if err != nil {
		return nil, err
	}
	key, err := OrderKey(b)
	if err != nil {
		return nil, fmt.Errorf("%s in %s: %w", ordersFile, dir, err)
	}
	newest := key.Public().(ed25519.PublicKey)
	line, err := readSteps(dir, newest)
	return signers(newest, line), err
}

// Signers returns the keys that sign, or signed, here; the newest is first.
func (a *Authority) Signers() []ed25519.PublicKey {
	return signers(a.Orders.Public().(ed25519.PublicKey), a.Succession)
}

func signers(newest ed25519.PublicKey, line []succession.Handover) []ed25519.PublicKey {
	return append([]ed25519.PublicKey{newest}, succession.Former(line)...)
}

// Issuer describes a valid authority.
type Issuer struct {
	Fingerprint string
	From, Until time.Time
}

// Issuers returns the valid authorities, the newest first.
func (a *Authority) Issuers() (list []Issuer) {
	for _, i := range a.issuers() {
		list = append(list, Issuer{Fingerprint(i.cert.Raw), i.cert.NotBefore, i.cert.NotAfter})
	}
	return list
}

// opened opens an existing folder.
func opened(dir string) (*Authority, error) {
	if _, err := os.Stat(filepath.Join(dir, ordersFile)); err != nil {
		return nil, fmt.Errorf("the service's keys: %w: give its folder with --data, as its own account or root", err)
	}
	return Open(dir, nil)
}

// finish completes a replacement that was interrupted after it was settled.
func finish(dir string) error {
	there := func(name string) bool {
		_, err := os.Lstat(filepath.Join(dir, name))
		return err == nil
	}
	place := func(name string) error {
		if !there(nextPrefix + name) {
			return nil
		}
		return os.Rename(filepath.Join(dir, nextPrefix+name), filepath.Join(dir, name))
	}

	if there(nextPrefix + authorityFile + ".pem") {
		if err := errors.Join(place(authorityFile+".key"), place(authorityFile+".pem")); err != nil {
			return fmt.Errorf("replace the authority: %w", err)
		}
	}

	next, err := os.ReadFile(filepath.Join(dir, nextPrefix+ordersFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("replace the key that signs orders: %w", err)
	}
	key, err := OrderKey(next)
	if err != nil {
		return fmt.Errorf("%s in %s: %w", nextPrefix+ordersFile, dir, err)
	}
	if line, err := readSteps(dir, key.Public().(ed25519.PublicKey)); err != nil || line == nil {
		return nil // nobody signed that it follows: it was broken off before that
	}

	return place(ordersFile)
}

// readSteps reads the chain of handovers to a key.
func readSteps(dir string, to ed25519.PublicKey) (line []succession.Handover, err error) {
	b, err := os.ReadFile(filepath.Join(dir, stepsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}

	if err == nil {
		err = json.Unmarshal(b, &line)
	}

	if err == nil {
		err = succession.Check(line)
	}

	if err == nil && (len(line) == 0 || !bytes.Equal(line[len(line)-1].To, to)) {
		err = errors.New("it does not lead to the key that signs orders")
	}

	if err != nil {
		return nil, fmt.Errorf("%s in %s: %w", stepsFile, dir, err)
	}

	return line, nil
}

// former reads the authority before; nil if there is none.
func former(dir string) (*issuer, error) {
	cert, err := os.ReadFile(filepath.Join(dir, formerFile+".pem"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	key, err := os.ReadFile(filepath.Join(dir, formerFile+".key"))
	if err != nil {
		return nil, err
	}
	i, err := readIssuer(dir, formerFile, key, cert)
	return &i, err
}

func readIssuer(dir, name string, key, cert []byte) (i issuer, err error) {
	if i.key, err = issuerKey(key); err != nil {
		return i, fmt.Errorf("%s.key in %s: %w", name, dir, err)
	}
	block, _ := pem.Decode(cert)
	if block == nil {
		return i, fmt.Errorf("%s.pem in %s holds no certificate", name, dir)
	}
	if i.cert, err = x509.ParseCertificate(block.Bytes); err != nil {
		return i, fmt.Errorf("%s.pem in %s: %w", name, dir, err)
	}
	if !i.key.PublicKey.Equal(i.cert.PublicKey) {
		return i, fmt.Errorf("%s.pem in %s is the certificate of another key than %s.key", name, dir, name)
	}
	return i, nil
}

// selfSigned makes the certificate of an authority. Vouching for another authority is for the one before it.
func selfSigned(key *ecdsa.PrivateKey, names []string) ([]byte, error) {
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return nil, err
	}

	sum := sha256.Sum256(public)

	// Two side by side have names of their own.
	t := template(fmt.Sprintf("Idle Tally authority %x", sum[:4]), authorityLife)
	t.IsCA = true
	t.BasicConstraintsValid = true
	t.MaxPathLen = 1
	t.KeyUsage = x509.KeyUsageCertSign
	constrain(t, names)
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}

	return certPEM(der), nil
}

// permitted returns the names that an authority is valid for; nil if it is valid for any.
func permitted(c *x509.Certificate) (names []string) {
	for _, n := range c.PermittedDNSDomains {
		if n != noName {
			names = append(names, n)
		}
	}
	for _, r := range c.PermittedIPRanges {
		names = append(names, r.IP.String())
	}
	return names
}

func newIssuerKey() ([]byte, error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	return private(k)
}

func issuerKey(file []byte) (*ecdsa.PrivateKey, error) {
	k, err := parsePrivate(file)
	if err != nil {
		return nil, err
	}
	key, ok := k.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("it is no ECDSA key")
	}
	return key, nil
}

func newOrders() ([]byte, error) {
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return private(k)
}

// keep reads a file, or makes it whole and then names it.
func keep(dir, name string, create func() ([]byte, error)) ([]byte, error) {
	file := filepath.Join(dir, name)
	b, err := os.ReadFile(file)
	if !errors.Is(err, os.ErrNotExist) {
		return b, err
	}
	if b, err = create(); err != nil {
		return nil, err
	}
	if err := atomicfile.Write(file, b); err != nil {
		return nil, fmt.Errorf("keep key: %w", err)
	}
	return b, nil
}

type named struct {
	name    string
	content []byte
}

// put writes files one after another, and then moves them to their places.
func put(dir string, files []named) error {
	for _, f := range files {
		if err := atomicfile.Write(filepath.Join(dir, f.name), f.content); err != nil {
			return fmt.Errorf("keep key: %w", err)
		}
	}
	if err := finish(dir); err != nil {
		return err
	}
	return atomicfile.SyncFolder(dir)
}
