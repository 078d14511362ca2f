package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/pen"
	"idletally/internal/wire"
)

// A signer says by which key of theirs somebody signs.
type signer struct {
	sign bool
	key  string // file
}

func signFlags(c *cobra.Command, s *signer) {
	c.Flags().BoolVar(&s.sign, "sign", false, "sign it by a key that your ssh-agent has, as the roster names it")
	c.Flags().StringVar(&s.key, "key", "",
		"sign it by this key: a private key's file, or FILE.pub of one that your ssh-agent has")
}

func (s signer) given() bool { return s.sign || s.key != "" }

// signed shows what somebody is to sign, and signs it. Meant returns how a text says something else than is meant: the
// service wrote it, and is not believed.
func (s signer) signed(
	c *cobra.Command, ask wire.ToSign, meant func(statement.Statement) error,
) (*roster.Signed, error) {
	text := []byte(ask.Statement)
	st, err := statement.Parse(text)
	if err == nil {
		err = meant(st)
	}
	if err != nil {
		return nil, fmt.Errorf("the service wants something else signed than you said: %w", err)
	}
	p, name, err := s.pen(c, ask.Keys)
	if err != nil {
		return nil, err
	}

	signed, err := touch(c, p, name, text)
	if err != nil {
		return nil, err
	}
	return &signed, nil
}

// touch shows a text, and has a key sign it.
func touch(c *cobra.Command, p pen.Pen, name string, text []byte) (roster.Signed, error) {
	tell(c.ErrOrStderr(), "%s\n", strings.TrimRight(printable(string(text)), "\n"))
	tell(c.ErrOrStderr(), "\nsigning this by %s, %s: touch the key if it waits for that\n", name, p.Key.Fingerprint())
	sig, err := p.Sign(c.Context(), text)
	return roster.Signed{Statement: text, Key: p.Key, Signature: sig}, err
}

// pen returns what signs, and its name in the roster.
func (s signer) pen(c *cobra.Command, keys []wire.RosterKey) (p pen.Pen, name string, err error) {
	named := func(k signature.Key) (string, bool) {
		i := slices.IndexFunc(keys, func(x wire.RosterKey) bool { return x.Text == k.String() })
		if i < 0 {
			return "", false
		}
		return keys[i].Name, true
	}

	if s.key != "" && !strings.HasSuffix(s.key, ".pub") {
		p, err = pen.InFile(s.key, func() ([]byte, error) {
			b, err := prompter(c, false)("Passphrase of " + s.key + ": ")
			return []byte(b), err
		})
		if err != nil {
			return p, "", err
		}
		name, ok := named(p.Key)
		if !ok {
			return p, "", fmt.Errorf("the roster does not have %s, %s, as a key of yours", s.key, p.Key.Fingerprint())
		}
		return p, name, nil
	}

	var only signature.Key
	if s.key != "" {
		if only, err = pen.Public(s.key); err != nil {
			return p, "", err
		}
	}
	held, err := pen.OfAgent(c.Context(), os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return p, "", err
	}
	for _, p := range held {
		if name, ok := named(p.Key); ok && (s.key == "" || p.Key == only) {
			return p, name, nil
		}
	}
	return p, "", fmt.Errorf("your ssh-agent has none of your keys that the roster has (%s): add one with ssh-add",
		strings.Join(namesOf(keys), ", "))
}

func namesOf(keys []wire.RosterKey) (out []string) {
	for _, k := range keys {
		out = append(out, k.Name+" "+k.Fingerprint)
	}
	if len(out) == 0 {
		return []string{"none"}
	}
	return out
}

// ofPlan returns how a statement says something else of a plan than somebody wants to say, as they looked at it.
func ofPlan(want wire.WantedStatement, plan, digest string) func(statement.Statement) error {
	return func(s statement.Statement) error {
		switch {
		case s.Says != want.Says:
			return fmt.Errorf("%q in place of %q", s.Says, want.Says)
		case s.Plan != plan:
			return fmt.Errorf("of plan %s", s.Plan)
		case s.Digest.String() != digest:
			return fmt.Errorf("of the digest %s", s.Digest)
		case s.Reason != statement.Line(want.Reason):
			return errors.New("another reason")
		}
		for _, w := range s.Words {
			if w.Text != statement.Line(want.Words[w.Caution]) {
				return fmt.Errorf("other words on caution %s", w.Caution)
			}
		}
		return nil
	}
}

// errToSign says that hosts of a plan take signatures alone.
func errToSign(hosts []string) error {
	return usageError{errors.New("people sign plans of " + strings.Join(hosts, ", ") +
		" by keys of their own: give --sign, or --key FILE")}
}
