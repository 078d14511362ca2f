// Package pen signs by keys of a person: those that an ssh-agent holds, security keys among them, and those in files.
// No key leaves either, and nothing of them is kept.
package pen

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	sshagent "golang.org/x/crypto/ssh/agent"

	"idletally/internal/core/signature"
)

// Patience is how long an ssh-agent is waited for: somebody may have to touch a key, or to type its number.
const Patience = 2 * time.Minute

// maxFile bounds the size of key files, in bytes.
const maxFile = 64 << 10

// A Pen signs by one key.
type Pen struct {
	Key     signature.Key
	Comment string // what an agent calls the key
	sign    func(ctx context.Context, data []byte) (*ssh.Signature, error)
}

// Sign signs a message for the one purpose that signatures of people serve here.
func (p Pen) Sign(ctx context.Context, message []byte) (signature.Signature, error) {
	s, err := p.sign(ctx, signature.Signable(message))
	if err != nil {
		return signature.Signature{}, fmt.Errorf("the key %s did not sign: %w", p.Key.Fingerprint(), err)
	}

	made := signature.Assemble(p.Key, ssh.Marshal(s))
	if err := p.Key.Verify(message, made, signature.Terms{}); err != nil {
		return made, fmt.Errorf("the key %s: %w", p.Key.Fingerprint(), err)
	}
	return made, nil
}

// ErrNoAgent says that no ssh-agent can be asked.
var ErrNoAgent = errors.New("no ssh-agent can be asked")

// OfAgent returns the pens of an ssh-agent's keys, of kinds that can sign here. Socket is where it listens, as
// SSH_AUTH_SOCK has it.
func OfAgent(ctx context.Context, socket string) (pens []Pen, err error) {
	err = withAgent(ctx, socket, func(a sshagent.ExtendedAgent) error {
		keys, err := a.List()
		if err != nil {
			return err
		}

		for _, k := range keys {
			own, err := signature.ParseKey(keyText(k))
			if err != nil {
				continue // of a kind that does not sign here
			}
			sign := func(ctx context.Context, data []byte) (s *ssh.Signature, err error) {
				err = withAgent(ctx, socket, func(a sshagent.ExtendedAgent) error {
					s, err = a.Sign(k, data)
					return err
				})
				return s, err
			}
			pens = append(pens, Pen{own, k.Comment, sign})
		}
		return nil
	})
	return pens, err
}

func withAgent(ctx context.Context, socket string, do func(sshagent.ExtendedAgent) error) error {
	if socket == "" {
		return fmt.Errorf("%w: SSH_AUTH_SOCK is not set: start one, and add a key with ssh-add", ErrNoAgent)
	}
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()

	c, err := (&net.Dialer{}).DialContext(ctx, "unix", socket)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoAgent, err)
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })()

	err = do(sshagent.NewClient(c))
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return err
}

func keyText(k ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))
}

// Public reads the public half of a key from a file of its own, FILE.pub.
func Public(file string) (signature.Key, error) {
	b, err := read(file)
	if err != nil {
		return signature.Key{}, err
	}
	k, _, _, _, err := ssh.ParseAuthorizedKey(b)
	if err != nil {
		return signature.Key{}, fmt.Errorf("%s: %w", file, err)
	}
	own, err := signature.ParseKey(keyText(k))
	if err != nil {
		return own, fmt.Errorf("%s: %w", file, err)
	}
	return own, nil
}

// InFile returns the pen of a private key's file. Passphrase is asked for one where the file is encrypted.
func InFile(file string, passphrase func() ([]byte, error)) (Pen, error) {
	b, err := read(file)
	if err != nil {
		return Pen{}, err
	}

	s, err := ssh.ParsePrivateKey(b)
	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		var words []byte
		if words, err = passphrase(); err == nil {
			s, err = ssh.ParsePrivateKeyWithPassphrase(b, words)
		}
	}
	if err != nil {
		return Pen{}, fmt.Errorf("%s: %w: a key that hardware holds signs by way of an ssh-agent: ssh-add %s", file,
			err, file)
	}

	own, err := signature.ParseKey(keyText(s.PublicKey()))
	if err != nil {
		return Pen{}, fmt.Errorf("%s: %w", file, err)
	}
	return Pen{own, file, func(_ context.Context, data []byte) (*ssh.Signature, error) {
		return s.Sign(rand.Reader, data)
	}}, nil
}

func read(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()

	b, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err == nil && len(b) > maxFile {
		err = fmt.Errorf("%s has more than %d bytes: it is no key", file, maxFile)
	}
	return b, err
}
