//go:build linux

package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/tree"
	"idletally/internal/service/authority"
	"idletally/internal/wire"
)

// A Forgery is an order that nobody approved.
type Forgery struct {
	File string // for "agent carry", on the host
	Path string // of what it opens to everybody, from the host's root on
}

// Forge does what somebody can who has stolen the service with all of its keys: it makes an order that opens the
// private key of ticketing to everybody on a host, in the names of two people who never saw it, and signs it by the
// service's own key. With it goes what people have signed of other plans.
func (s *Stage) Forge(host string, signed []roster.Signed) (f Forgery, err error) {
	f = Forgery{File: "/etc/forged.order", Path: "/srv/ticketing/keys/gate.key"}
	b, err := os.ReadFile(filepath.Join(s.Dir, "service", "keys", "orders.key"))
	if err != nil {
		return f, err
	}
	key, err := authority.OrderKey(b)
	if err != nil {
		return f, err
	}
	enrolment, err := s.enrolment(host)
	if err != nil {
		return f, err
	}
	before, after, err := opened(filepath.Join(s.Root(host), f.Path))
	if err != nil {
		return f, err
	}

	chunk := plan.EncodeChunk([]plan.Step{{Path: f.Path, Kind: perm.File, Before: before, After: after}})
	m := plan.Manifest{
		Format:      1,
		ID:          "0forged0forged00",
		Kind:        plan.Adjustment,
		Application: "ticketing",
		Hosts: []plan.HostPart{
			{Host: host, Roots: []string{"/srv"}, Steps: 1, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}
	order, signature := plan.Order{
		Enrolment:  enrolment,
		Run:        m.ID,
		Digest:     plan.Digest(m.Bytes()),
		Host:       host,
		Author:     "quartermaster",
		ApprovedBy: []string{"harbourmaster"},
		Expires:    time.Now().Add(time.Hour).UTC().Truncate(time.Second),
	}.Sign(key)

	w := wire.Work{
		ID:        m.ID,
		Kind:      wire.WorkRun,
		Order:     order,
		Signature: signature,
		Manifest:  m.Bytes(),
		Signed:    signed,
	}
	out, err := os.Create(filepath.Join(s.Root(host), f.File))
	if err != nil {
		return f, err
	}
	head := archive.OrderHead{Host: host, Chunks: 1, Work: w}
	err = archive.WriteOrder(out, head, func(int) ([]byte, error) { return chunk, nil })
	return f, errors.Join(err, out.Close())
}

// enrolment returns which enrolment of a host counts. The service's database has it, too.
func (s *Stage) enrolment(host string) (string, error) {
	b, err := os.ReadFile(filepath.Join(s.Root(host), "var/lib/idletally-agent/agent.json"))
	if err != nil {
		return "", err
	}
	var settings struct {
		Enrolment string `json:"enrolment"`
	}
	if err := json.Unmarshal(b, &settings); err != nil {
		return "", fmt.Errorf("settings of %s: %w", host, err)
	}
	return settings.Enrolment, nil
}

// opened returns what a file has, and the same with its mode open to everybody.
func opened(file string) (before, after perm.Set, err error) {
	var st syscall.Stat_t
	if err := syscall.Stat(file, &st); err != nil {
		return before, after, err
	}
	is := posix.State{UID: st.Uid, GID: st.Gid, Mode: mode.Mode(st.Mode & 0o7777)}
	open := is
	open.Mode = 0o666
	return is.Set(), open.Set(), nil
}

// Carry stops a host's agent, has the host carry out an order that lies there, starts the agent again, and returns what
// the host said.
func (s *Stage) Carry(host, order string) (said string, err error) {
	if a := s.Agents[host]; a != nil {
		a.Stop()
	}
	said, err = s.Run(host, "agent", "carry", order, order+".report")
	return said, errors.Join(err, os.Remove(filepath.Join(s.Root(host), order+".report")), s.StartAgent(host))
}
