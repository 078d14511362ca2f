// Package passkey lets people sign in by passkeys and security keys (Web Authentication, W3C, level 2): what a
// browser is given, and what it returns. It stores nothing.
package passkey

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"slices"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/protocol/webauthncose"
	"github.com/go-webauthn/webauthn/webauthn"

	"idletally/internal/core/signature"
)

// A Site is what passkeys are made for: they are valid nowhere else.
type Site struct{ w *webauthn.WebAuthn }

// Life is how long a browser may take.
const Life = 5 * time.Minute

// NewSite is for how browsers reach the service, https://HOST[:PORT]; nil if that has no name, since passkeys are
// made for names alone.
func NewSite(public, name string) (*Site, error) {
	u, err := url.Parse(public)
	if err != nil || u.Hostname() == "" || net.ParseIP(u.Hostname()) != nil {
		return nil, err
	}

	timeout := webauthn.TimeoutConfig{Enforce: true, Timeout: Life, TimeoutUVD: Life}
	w, err := webauthn.New(&webauthn.Config{
		RPID:                  u.Hostname(),
		RPDisplayName:         "Idle Tally " + name,
		RPOrigins:             []string{public},
		AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey:      protocol.ResidentKeyRequirementPreferred,
			UserVerification: protocol.VerificationPreferred,
		},
		Timeouts: webauthn.TimeoutsConfig{Login: timeout, Registration: timeout},
	})

	if err != nil {
		return nil, fmt.Errorf("passkeys for %s: %w", public, err)
	}

	return &Site{w}, nil
}

// A Person is somebody with passkeys, as they are stored.
type Person struct {
	Handle []byte // which passkeys keep; at most 64 bytes, the same for as long as the person is the same
	Name   string
	Kept   [][]byte
}

type user struct {
	Person
	credentials []webauthn.Credential
}

func (u user) WebAuthnID() []byte                         { return u.Handle }
func (u user) WebAuthnName() string                       { return u.Name }
func (u user) WebAuthnDisplayName() string                { return u.Name }
func (u user) WebAuthnCredentials() []webauthn.Credential { return u.credentials }

func (p Person) user() (user, error) {
	u := user{Person: p}
	for _, k := range p.Kept {
		var c webauthn.Credential
		if err := json.Unmarshal(k, &c); err != nil {
			return u, err
		}
		u.credentials = append(u.credentials, c)
	}
	return u, nil
}

// ErrRefused says that what came back does not verify.
var ErrRefused = errors.New("the passkey's answer does not hold")

// refused keeps the library's reason for the log.
func refused(err error) error {
	var p *protocol.Error
	if errors.As(err, &p) {
		err = fmt.Errorf("%s: %s", p.Details, p.DevInfo)
	}
	return fmt.Errorf("%w: %w", ErrRefused, err)
}

// Begin returns, as JSON, what a browser needs to make a passkey, and the state that belongs to its answer.
func (s *Site) Begin(p Person) (options, state []byte, err error) {
	u, err := p.user()
	if err != nil {
		return nil, nil, err
	}
	var have []protocol.CredentialDescriptor
	for _, c := range u.credentials {
		have = append(have, c.Descriptor())
	}
	creation, session, err := s.w.BeginRegistration(u, webauthn.WithExclusions(have))
	if err != nil {
		return nil, nil, err
	}
	return both(creation.Response, session)
}

func both(options any, session *webauthn.SessionData) (o, s []byte, err error) {
	if o, err = json.Marshal(options); err == nil {
		s, err = json.Marshal(session)
	}
	return o, s, err
}

// Made takes the answer of a browser that made one, and returns its id and what is to be stored of it.
func (s *Site) Made(p Person, state, answer []byte) (id, kept []byte, err error) {
	u, err := p.user()
	if err != nil {
		return nil, nil, err
	}
	var session webauthn.SessionData
	if err := json.Unmarshal(state, &session); err != nil {
		return nil, nil, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return nil, nil, refused(err)
	}
	c, err := s.w.CreateCredential(u, session, parsed)
	if err != nil {
		return nil, nil, refused(err)
	}

	kept, err = json.Marshal(c)
	return c.ID, kept, err
}

// Key returns the public half of a passkey, as rosters have it, and the id by which a browser knows it, of what is
// kept.
func Key(kept []byte) (k signature.Key, id []byte, err error) {
	var c webauthn.Credential
	if err := json.Unmarshal(kept, &c); err != nil {
		return k, nil, err
	}
	der, err := spki(c.PublicKey)
	if err != nil {
		return k, nil, fmt.Errorf("the passkey's key: %w", err)
	}
	k, err = signature.ParseKey(signature.WebAuthn + " " + base64.StdEncoding.EncodeToString(der))
	return k, c.ID, err
}

// spki returns a key of COSE (RFC 9053 section 7) as a SubjectPublicKeyInfo. Whoever made the passkey wrote it: none of
// its parts is believed.
func spki(cose []byte) ([]byte, error) {
	key, err := webauthncose.ParsePublicKey(cose)
	if err != nil {
		return nil, err
	}
	switch key := key.(type) {
	case webauthncose.EC2PublicKeyData:
		public, err := ecdh.P256().NewPublicKey(slices.Concat([]byte{4}, key.XCoord, key.YCoord))
		if err != nil {
			return nil, err
		}
		return x509.MarshalPKIXPublicKey(public)
	case webauthncose.OKPPublicKeyData:
		if len(key.XCoord) != ed25519.PublicKeySize {
			return nil, errors.New("it has another length than Ed25519 keys have")
		}
		return x509.MarshalPKIXPublicKey(ed25519.PublicKey(key.XCoord))
	case webauthncose.RSAPublicKeyData:
		if len(key.Exponent) == 0 || len(key.Exponent) > 4 || len(key.Modulus) > 512 {
			return nil, errors.New("it has another size than RSA keys that sign here")
		}
		e := 0
		for _, b := range key.Exponent {
			e = e<<8 | int(b)
		}
		return x509.MarshalPKIXPublicKey(&rsa.PublicKey{N: new(big.Int).SetBytes(key.Modulus), E: e})
	}
	return nil, errors.New("it is of a kind that nobody signs by here")
}

// AskOf returns, as JSON, what a browser needs to show one of somebody's passkeys, and the state that belongs to its
// answer. It reveals which they have: it is for somebody who has shown otherwise that they are this person.
func (s *Site) AskOf(p Person) (options, state []byte, err error) {
	u, err := p.user()
	if err != nil {
		return nil, nil, err
	}
	assertion, session, err := s.w.BeginLogin(u, webauthn.WithUserVerification(protocol.VerificationDiscouraged))
	if err != nil {
		return nil, nil, err
	}
	return both(assertion.Response, session)
}

// Ask returns, as JSON, what a browser needs to show a passkey, and the state that belongs to its answer. It does not
// reveal who has any.
func (s *Site) Ask() (options, state []byte, err error) {
	assertion, session, err := s.w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, nil, err
	}
	return both(assertion.Response, session)
}

// A Shown is a passkey that somebody showed.
type Shown struct {
	Kept     []byte // as it is to be kept from now on
	Verified bool   // its holder showed who they are, by a finger or a number: it is two factors in one
}

// Shown takes the answer of a browser that showed one; of finds whose the passkey of an id is, and returns all of
// theirs.
func (s *Site) Shown(state, answer []byte, of func(id []byte) (Person, error)) (out Shown, err error) {
	var session webauthn.SessionData
	if err := json.Unmarshal(state, &session); err != nil {
		return out, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return out, refused(err)
	}
	p, err := of(parsed.RawID)
	if err != nil {
		return out, err
	}
	u, err := p.user()
	if err != nil {
		return out, err
	}

	var c *webauthn.Credential
	if len(session.UserID) > 0 { // it was somebody's in particular that was asked for
		c, err = s.w.ValidateLogin(u, session, parsed)
	} else { // that the handle is theirs is checked where this returns to
		_, c, err = s.w.ValidatePasskeyLogin(func(_, _ []byte) (webauthn.User, error) { return u, nil }, session,
			parsed)
	}

	switch {
	case err != nil:
		return out, refused(err)
	case c.Authenticator.CloneWarning:
		return out, fmt.Errorf("%w: it counts less than it did: somebody may have copied it", ErrRefused)
	}

	out.Verified = parsed.Response.AuthenticatorData.Flags.HasUserVerified()
	out.Kept, err = json.Marshal(c)
	return out, err
}
