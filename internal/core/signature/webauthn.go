package signature

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/untrusted"
)

// An Assertion is the answer of a passkey or security key, as browsers give it.
type Assertion struct {
	Client        []byte `json:"client" doc:"What the browser says: clientDataJSON"`
	Authenticator []byte `json:"authenticator" doc:"What the key says: authenticatorData"`
	Signature     []byte `json:"signature" doc:"Over authenticatorData and the SHA-256 of clientDataJSON"`
}

// clientData is what of a browser's words is looked at (W3C, section 5.8.1).
type clientData struct {
	Type        string `json:"type"`
	Challenge   string `json:"challenge"`
	Origin      string `json:"origin"`
	CrossOrigin bool   `json:"crossOrigin"`
	TopOrigin   string `json:"topOrigin"`
}

// The flags of authenticator data (W3C, section 6.1), and how long it is at the least.
const (
	userPresent       = 1 << 0
	userVerified      = 1 << 2
	attestedData      = 1 << 6
	extensions        = 1 << 7
	authenticatorData = sha256.Size + 1 + 4
)

// Challenge returns what a browser has to be given to have a message signed: its SHA-256.
func Challenge(message []byte) []byte {
	sum := sha256.Sum256(message)
	return sum[:]
}

// verify checks an assertion as section 7.2 says, over a message whose hash was the challenge. Who could have been
// asked by another page, or touched a key without showing who they are, has signed nothing.
func (a *Assertion) verify(message []byte, key verifier, terms Terms) error {
	if len(a.Client) > MaxSignature || len(a.Authenticator) > MaxSignature || len(a.Signature) > MaxSignature {
		return refused("a part of it has more than %d bytes", MaxSignature)
	}

	client, err := parseClient(a.Client)
	if err != nil {
		return refused("what the browser says cannot be read: %w", err)
	}
	challenge := base64.RawURLEncoding.EncodeToString(Challenge(message))
	switch {
	case client.Type != "webauthn.get":
		return refused("it answers another request: %.40q", client.Type)
	case subtle.ConstantTimeCompare([]byte(client.Challenge), []byte(challenge)) != 1:
		return refused("it is over something else")
	case !slices.Contains(terms.Origins, client.Origin):
		return refused("it was made for the page of %.200q, which is none of %q", client.Origin, terms.Origins)
	case client.CrossOrigin || client.TopOrigin != "":
		return refused("it was made in a frame of another page")
	}

	if err := checkAuthenticator(a.Authenticator, terms.Site); err != nil {
		return err
	}
	sum := sha256.Sum256(a.Client)
	if !key.verify(slices.Concat(a.Authenticator, sum[:]), a.Signature) {
		return refused("it does not fit what was signed")
	}
	return nil
}

// parseClient reads a browser's words. A member that stands twice, or in other letters, says different things to
// different readers, and is refused.
func parseClient(b []byte) (c clientData, err error) {
	var whole map[string]json.RawMessage // one object, with nothing behind it
	if err := untrusted.JSON(b, 100, &whole); err != nil {
		return c, err
	}
	known := map[string]any{
		"type":        &c.Type,
		"challenge":   &c.Challenge,
		"origin":      &c.Origin,
		"crossOrigin": &c.CrossOrigin,
		"topOrigin":   &c.TopOrigin,
	}

	// Members of members are not looked at, and cannot be taken for these.
	d := json.NewDecoder(bytes.NewReader(b))
	if _, err := d.Token(); err != nil {
		return c, err
	}
	seen := map[string]bool{}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return c, err
		}
		lower := strings.ToLower(fmt.Sprint(name))
		if seen[lower] {
			return c, fmt.Errorf("%.40q stands twice", lower)
		}
		seen[lower] = true

		to := known[fmt.Sprint(name)]
		if to == nil {
			to = new(json.RawMessage)
		}
		if err := d.Decode(to); err != nil {
			return c, err
		}
	}
	return c, nil
}

// checkAuthenticator checks the authenticator's words for an assertion: for this site, by somebody who was there and
// showed who they are.
func checkAuthenticator(b []byte, site string) error {
	if len(b) < authenticatorData {
		return refused("what the key says is cut off")
	}

	want, flags := sha256.Sum256([]byte(site)), b[sha256.Size]
	switch {
	case site == "" || subtle.ConstantTimeCompare(b[:sha256.Size], want[:]) != 1:
		return refused("the key was made for another site than %q", site)
	case flags&userPresent == 0:
		return refused("nobody touched the key")
	case flags&userVerified == 0:
		return refused("the key did not verify who touched it")
	case flags&attestedData != 0:
		return refused("the key answers to be registered, not to sign")
	case flags&extensions == 0 && len(b) != authenticatorData:
		return refused("what the key says has something behind it")
	}
	return nil
}
