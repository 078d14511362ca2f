//go:build linux

package demo

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/wire"
)

// Signers are the people of the demo's roster, and what they may do.
var Signers = map[string][]string{
	"quartermaster": {roster.PutBack, roster.Submit},
	"harbourmaster": {roster.Approve},
	"bosun":         {}, // signs editions of the roster alone
}

// KeyFile returns the file of a person's private key, as SSH keeps such; its public half is in KeyFile.pub.
func (s *Stage) KeyFile(person string) string { return filepath.Join(s.Dir, "people", person, "key") }

// RosterFile returns the file of the roster's document.
func (s *Stage) RosterFile() string { return filepath.Join(s.Dir, "roster.txt") }

// makeKey makes somebody's key, and returns its public half. Keys that people work with lie in hardware: this one is
// the demo's, which is gone afterwards.
func (s *Stage) makeKey(person string) (k signature.Key, err error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return k, err
	}
	block, err := ssh.MarshalPrivateKey(private, person)
	if err != nil {
		return k, err
	}
	line, err := ssh.NewPublicKey(public)
	if err != nil {
		return k, err
	}

	file := s.KeyFile(person)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return k, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return k, err
	}
	text := ssh.MarshalAuthorizedKey(line)
	if err := os.WriteFile(file+".pub", text, 0o644); err != nil {
		return k, err
	}
	return signature.ParseKey(strings.TrimSpace(string(text)))
}

// Muster founds the roster, and has the hosts pin it.
func (s *Stage) Muster(ctx context.Context) error {
	document, fingerprint, err := s.Found(ctx)
	if err != nil {
		return err
	}
	for host := range Hosts {
		if err := s.PinRoster(host, document, fingerprint); err != nil {
			return err
		}
	}
	if s.Chartroom == nil {
		return nil
	}
	return s.PinChartroom(ctx, fingerprint)
}

// Found makes a key for each of the people of the roster, and founds it.
func (s *Stage) Found(ctx context.Context) (document []byte, fingerprint string, err error) {
	now := time.Now().UTC().Truncate(time.Second)
	r := roster.Roster{
		Edition:   1,
		Made:      now,
		Until:     now.AddDate(1, 0, 0),
		Threshold: 2,
		Approvals: []roster.Approvals{{Application: roster.Everything, People: 1}},
	}
	for person, rights := range Signers {
		key, err := s.makeKey(person)
		if err != nil {
			return nil, "", err
		}
		api, err := s.As(ctx, person)
		if err != nil {
			return nil, "", err
		}
		if _, err := api.AddSigningKey(ctx, wire.NewSigningKey{Name: "laptop", Key: key.String()}); err != nil {
			return nil, "", fmt.Errorf("key of %s: %w", person, err)
		}

		p := roster.Person{Name: person, Keys: []roster.NamedKey{{Name: "laptop", Key: key}}}
		for _, do := range rights {
			p.Rights = append(p.Rights, roster.Right{
				Do:          do,
				Application: roster.Everything,
				Host:        roster.Everything,
			})
		}
		r.People = append(r.People, p)
	}

	for i := range 3 { // kept offline, if it were no demo
		name := fmt.Sprintf("safe-%d", i+1)
		key, err := s.makeKey(name)
		if err != nil {
			return nil, "", err
		}
		r.Recovery = append(r.Recovery, roster.NamedKey{Name: name, Key: key})
	}
	r.Recover = 2
	r.Sort()

	if document, err = r.Bytes(); err != nil {
		return nil, "", err
	}
	if err := os.WriteFile(s.RosterFile(), document, 0o644); err != nil {
		return nil, "", err
	}
	admin, err := s.As(ctx, "admin")
	if err == nil {
		_, err = admin.ProposeRoster(ctx, string(document))
	}
	return document, r.Digest().String(), err
}

// PinRoster has a host pin a roster, on the host; its agent is started anew.
func (s *Stage) PinRoster(host string, document []byte, fingerprint string) error {
	if a := s.Agents[host]; a != nil {
		a.Stop()
	}
	if err := os.WriteFile(filepath.Join(s.Root(host), "etc/roster.txt"), document, 0o644); err != nil {
		return err
	}
	if out, err := s.Run(host, "agent", "roster", "pin", "/etc/roster.txt", "--fingerprint", fingerprint); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return s.StartAgent(host)
}

// Run runs the program on a host to its end, and returns what it says.
func (s *Stage) Run(host string, argv ...string) (string, error) {
	var out strings.Builder
	cmd := s.inside(host, append([]string{"/usr/sbin/idletally"}, argv...)...)
	cmd.Stdout, cmd.Stderr = &out, &out
	p, err := start(cmd, namespaces)
	if err != nil {
		return "", err
	}
	<-p.exited
	said := strings.TrimSpace(out.String())
	if !cmd.ProcessState.Success() {
		return said, fmt.Errorf("idletally %s on %s: exit code %d", strings.Join(argv, " "), host,
			cmd.ProcessState.ExitCode())
	}
	return said, nil
}
