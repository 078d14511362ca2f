package agent

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"time"

	"idletally/internal/core/succession"
	"idletally/internal/wire"
)

const (
	trustEvery = time.Hour // how often an agent compares what it knows of its service, at about
	// The time within which agents do so when the service comes back, so that not all of them do at once.
	trustSoon      = 10 * time.Second
	maxAuthorities = 4
	maxAuthority   = 64 << 10 // of all of them in PEM form, in bytes: it is kept
)

// keepTrust keeps up with the keys of the service, and compares the history with what this host was shown of it,
// until the context ends.
func (a *Agent) keepTrust(ctx context.Context) error {
	return a.repeat(ctx, "keys and history", func() error {
		if err := a.askKeys(ctx); err != nil {
			return err
		}
		if err := a.compareHistory(ctx); err != nil { // which is signed by the newest key
			return err
		}

		select {
		case <-ctx.Done():
		case <-time.After(trustEvery/2 + mathrand.N(trustEvery)):
		case <-a.greeted:
			select {
			case <-ctx.Done():
			case <-time.After(mathrand.N(trustSoon)):
			}
		}

		return nil
	})
}

// greet has keys and history checked soon: the service was away for a while, and may have other keys.
func (a *Agent) greet() {
	select {
	case a.greeted <- struct{}{}:
	default:
	}
}

// askKeys asks which keys the service has, believes of the answer what it may, and has the certificate signed by the
// newest authority.
func (a *Agent) askKeys(ctx context.Context) error {
	got, err := a.api.Keys(ctx, a.knownKeys())
	if err != nil || len(got.Authorities) == 0 { // an older service
		return err
	}

	authorities, err := readAuthorities(got.Authorities)
	if err != nil {
		a.Log.Error("what the service says of its keys is not believed", "error", err)
		return nil
	}

	news, err := a.believe(got.Authorities, got.Succession)
	if errors.Is(err, succession.ErrBroken) {
		a.Log.Error("what the service says of its keys is not believed", "error", err)
		return nil
	}

	if err != nil {
		return err
	}

	if leaf := a.cert.Load().Leaf; leaf.CheckSignatureFrom(authorities[0]) != nil {
		if err := a.Renew(ctx); err != nil {
			return fmt.Errorf("a certificate of the newest authority: %w", err)
		}
		news = true
	}

	if news {
		_, err = a.api.Keys(ctx, a.knownKeys()) // so that it is seen there who follows
	}

	return err
}

// believe stores which authorities count, as told by a holder of their certificate, or keeps the known ones if none
// are told; and the key that signs orders, if a chain of handovers leads to it from the known one. It reports whether
// anything is new.
func (a *Agent) believe(authorities []byte, line []succession.Handover) (news bool, err error) {
	a.keys.Lock()
	defer a.keys.Unlock()

	if authorities == nil {
		authorities = a.Authority
	}

	to, err := succession.Follow(a.OrderKey, line)
	if err != nil {
		return false, err
	}
	other, others := !bytes.Equal(to, a.OrderKey), !bytes.Equal(authorities, a.Authority)
	if !other && !others {
		return false, nil
	}
	if err := a.amend(func(s *Settings) { s.OrderKey, s.Authority = to, authorities }); err != nil {
		return false, err
	}

	if other {
		a.Log.Warn("another key signs orders from now on", "was", hex.EncodeToString(a.OrderKey), "is",
			hex.EncodeToString(to))
		a.OrderKey = to
	}

	if others {
		a.Log.Warn("the service has other authorities from now on", "fingerprints", fingerprints(authorities))
		a.Authority = authorities
		err = a.api.Trust(authorities)
	}

	return true, err
}

// orderKey is the key that signs orders, as far as this host knows.
func (a *Agent) orderKey() ed25519.PublicKey {
	a.keys.Lock()
	defer a.keys.Unlock()
	return a.OrderKey
}

func (a *Agent) knownKeys() wire.KnownKeys {
	a.keys.Lock()
	defer a.keys.Unlock()
	return wire.KnownKeys{Authorities: fingerprints(a.Authority), OrderKey: a.OrderKey}
}

// amend changes the stored settings as they are at that moment: who may be probed can be changed while an agent runs.
func (a *Agent) amend(change func(*Settings)) error {
	a.settings.Lock()
	defer a.settings.Unlock()
	now, err := Load(a.Folder)
	if err != nil {
		return err
	}
	change(&now)
	return now.save(a.Folder)
}

// readAuthorities reads the certificates of authorities, the newest first.
func readAuthorities(text []byte) (list []*x509.Certificate, err error) {
	if len(text) > maxAuthority {
		return nil, fmt.Errorf("authorities of more than %d bytes", maxAuthority)
	}

	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("an authority: %w", err)
		}
		if !c.IsCA {
			return nil, fmt.Errorf("%s is no authority", c.Subject)
		}
		list = append(list, c)
		if len(list) > maxAuthorities {
			return nil, fmt.Errorf("more than %d authorities", maxAuthorities)
		}
	}

	if list == nil {
		return nil, errors.New("no authority")
	}

	return list, nil
}

// fingerprints returns the SHA-256 of certificates in PEM form.
func fingerprints(text []byte) (list []string) {
	for block, rest := pem.Decode(text); block != nil && len(list) < maxAuthorities; block, rest = pem.Decode(rest) {
		sum := sha256.Sum256(block.Bytes)
		list = append(list, hex.EncodeToString(sum[:]))
	}
	return list
}
