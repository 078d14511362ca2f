package agent

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"idletally/internal/private"
)

// Passwords of a file server are sealed in the agent's folder: AES-256-GCM, by a key in a file of its own, which may
// lie elsewhere, such as where systemd puts credentials. A copy of the folder without the key reveals nothing.

const keyFile = "seal.key"

// SealKey is the environment variable that names the file of the key; without it the key is in the agent's folder.
const SealKey = "IDLETALLY_SEAL_KEY"

func keyPath(folder string) string {
	if at := os.Getenv(SealKey); at != "" {
		return at
	}
	return filepath.Join(folder, keyFile)
}

// sealKey reads the key; if there is none yet and one is wanted, it is made.
func sealKey(folder string, create bool) (cipher.AEAD, error) {
	at := keyPath(folder)
	key, err := os.ReadFile(at)
	if errors.Is(err, os.ErrNotExist) && create {
		key = make([]byte, 32)
		rand.Read(key)
		if err = private.MkdirAll(filepath.Dir(at)); err == nil {
			err = private.WriteFile(at, key)
		}
	}

	if err != nil {
		return nil, fmt.Errorf("the key that passwords are sealed with: %w", err)
	}
	if len(key) != 32 {
		return nil, fmt.Errorf("%s is no key: it has %d bytes, want 32", at, len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}

	return cipher.NewGCM(block)
}

// seal encrypts a secret. Its purpose is part of the seal, so that no secret can be taken for another.
func seal(folder, what, secret string) ([]byte, error) {
	a, err := sealKey(folder, true)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, a.NonceSize())
	rand.Read(nonce)
	return a.Seal(nonce, nonce, []byte(secret), []byte(what)), nil
}

func unseal(folder, what string, sealed []byte) (string, error) {
	a, err := sealKey(folder, false)
	if err != nil {
		return "", err
	}
	if len(sealed) < a.NonceSize() {
		return "", fmt.Errorf("the sealed password of %s is too short", what)
	}
	b, err := a.Open(nil, sealed[:a.NonceSize()], sealed[a.NonceSize():], []byte(what))
	if err != nil {
		return "", fmt.Errorf("the password of %s cannot be unsealed: is %s the key that it was sealed with? %w", what,
			keyPath(folder), err)
	}
	return string(b), nil
}

// seal encrypts the password of the server and that of its directory.
func (f *FileServer) seal(folder string) (err error) {
	if f.Sealed, err = seal(folder, f.secret(f.User), f.Password); err == nil && f.LDAP != nil {
		f.LDAP.Sealed, err = seal(folder, f.directorySecret(), f.LDAP.Password)
	}
	return err
}

// unseal opens them again.
func (f *FileServer) unseal(folder string) (err error) {
	if f.Password, err = unseal(folder, f.secret(f.User), f.Sealed); err == nil && f.LDAP != nil {
		f.LDAP.Password, err = unseal(folder, f.directorySecret(), f.LDAP.Sealed)
	}
	return err
}

// Prober lets the agent try as an account of its file server, with that account's own password; without one it may
// not.
func Prober(ctx context.Context, folder, account, password string) error {
	s, err := Load(folder)
	if err != nil {
		return err
	}
	if s.Server == nil {
		return errors.New("this agent works for its own host, and tries there as anybody, without a password")
	}

	if password == "" {
		delete(s.Server.Probers, account)
		return s.save(folder)
	}

	c, err := s.Server.as(account, password).dial(ctx) // a wrong password is told now
	if err != nil {
		return err
	}

	_ = c.Close() // nothing more is asked of it
	sealed, err := seal(folder, s.Server.secret(account), password)
	if err != nil {
		return err
	}

	if s.Server.Probers == nil {
		s.Server.Probers = map[string][]byte{}
	}

	s.Server.Probers[account] = sealed
	return s.save(folder)
}

// secret names what a password is for.
func (f *FileServer) secret(account string) string { return account + " at " + f.Address }

func (f *FileServer) directorySecret() string { return f.LDAP.User + " at " + f.LDAP.URL }

// as returns the same server for another account, without privileges.
func (f *FileServer) as(account, password string) *FileServer {
	return &FileServer{
		Address:  f.Address,
		Domain:   f.Domain,
		Plain:    f.Plain,
		Kerberos: f.Kerberos,
		User:     account,
		Password: password,
	}
}
