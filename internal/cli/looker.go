//go:build linux

package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

// A looker answers questions about paths and accounts: this machine, a host, or a snapshot.
type looker interface {
	Sight(ctx context.Context, path string) (wire.Sight, error)
	List(ctx context.Context, path, account, after string, limit int) (wire.Listing, error)
	New(ctx context.Context, path, account, umask string) (wire.Fresh, error)
	Decide(ctx context.Context, account, path string, op access.Operation, s wire.Supposed) (wire.Judgement, error)
	Holders(ctx context.Context, path string, op access.Operation, s wire.Supposed) (wire.Holders, error)
	Matrix(ctx context.Context, path string, s wire.Supposed) (wire.Matrix, error)
	Below(ctx context.Context, ask wire.BelowAsk) (wire.Below, error)
	Account(ctx context.Context, name string) (wire.Account, error)
	Probe(ctx context.Context, account, path string) (wire.Probe, error)
}

// where holds the flags that say what is asked.
type where struct{ host, snapshot string }

const whereHelp = `

Without --host and --snapshot this machine is asked, and no service is needed.`

// flags adds them to all commands of a noun.
func (w *where) flags(c *cobra.Command) {
	c.PersistentFlags().StringVar(&w.host, "host", "", "ask this host now, through the service")
	c.PersistentFlags().StringVar(&w.snapshot, "snapshot", "", "ask this stored snapshot, through the service")
}

func (w *where) local() bool { return w.host == "" && w.snapshot == "" }

func (w *where) looker(o *options) (looker, error) {
	if w.host != "" && w.snapshot != "" {
		return nil, usageError{errors.New("give --host or --snapshot, not both")}
	}
	if w.local() {
		return here{scene{&identity.Recent{}}}, nil
	}
	c, err := o.client()
	return client.Looker{Client: c, Host: w.host, Snapshot: w.snapshot}, err
}

// path takes a path as it was typed: escaped text; on this machine perhaps relative.
func (w *where) path(s string) (string, error) {
	raw, err := pathname.Unescape(s)
	if err != nil {
		return "", usageError{err}
	}
	if w.local() {
		return filepath.Abs(raw)
	}
	if err := pathname.Check(raw); err != nil {
		return "", usageError{err}
	}
	return raw, nil
}

// here is this machine.
type here struct{ scene }

func (h here) Sight(ctx context.Context, path string) (wire.Sight, error) {
	return inquiry.Sight(ctx, h.scene, path)
}

func (h here) List(ctx context.Context, path, account, after string, limit int) (wire.Listing, error) {
	name, err := pathname.Unescape(after)
	if err != nil {
		return wire.Listing{}, err
	}
	return inquiry.List(ctx, h.scene, path, account, name, limit)
}

func (h here) New(ctx context.Context, path, account, umask string) (wire.Fresh, error) {
	return inquiry.NewIn(ctx, h.scene, path, account, umask)
}

func (h here) Decide(ctx context.Context, account, path string, op access.Operation, s wire.Supposed) (wire.Judgement, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Judgement{}, err
	}
	var ops []access.Operation
	if op != 0 {
		ops = append(ops, op)
	}
	return inquiry.Decide(ctx, h.scene, account, path, ops, sup)
}

func (h here) Holders(ctx context.Context, path string, op access.Operation, s wire.Supposed) (wire.Holders, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Holders{}, err
	}
	return inquiry.Everybody(ctx, h.scene, path, op, sup)
}

func (h here) Matrix(ctx context.Context, path string, s wire.Supposed) (wire.Matrix, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Matrix{}, err
	}
	return inquiry.Matrix(ctx, h.scene, path, 40, sup)
}

func (h here) Below(ctx context.Context, ask wire.BelowAsk) (wire.Below, error) {
	sup, err := h.suppose(ask.Supposed)
	if err != nil {
		return wire.Below{}, err
	}
	from, err := pathname.Unescape(ask.After)
	if err != nil {
		return wire.Below{}, err
	}
	return inquiry.BelowOf(ctx, h.scene, inquiry.BelowAsk{Path: ask.Path, Account: ask.Account, Operation: ask.Operation, Suppose: sup, Behind: ask.Behind, After: from, Limit: ask.Limit})
}

func (h here) Account(ctx context.Context, name string) (wire.Account, error) {
	d, err := identity.Read(ctx, name)
	if err != nil {
		return wire.Account{}, err
	}
	return inquiry.AccountOf(d, name)
}

func (h here) Probe(ctx context.Context, account, path string) (wire.Probe, error) {
	f, err := h.Path(ctx, path, account)
	if err != nil {
		return wire.Probe{}, err
	}
	s, err := inquiry.Subject(f.Directory, account)
	if err != nil {
		return wire.Probe{}, err
	}
	tries, err := agent.Try(ctx, f, s)
	if err != nil {
		return wire.Probe{}, fmt.Errorf("%w: run it as root", err)
	}
	return inquiry.Compare(h.Origin(), f, account, tries)
}

func (here) suppose(s wire.Supposed) (inquiry.Suppose, error) {
	if s.Edition != "" || s.Plan != "" {
		return inquiry.Suppose{}, usageError{errors.New("an edition or a plan is with the service: give --host or --snapshot too")}
	}
	return inquiry.SupposeOf(s.Joining, s.Privileges)
}

// scene is this machine as a scene.
type scene struct{ accounts *identity.Recent }

func (scene) Origin() wire.Origin {
	name, _ := os.Hostname() // a machine without a name is this one all the same
	return wire.Origin{Host: name, Live: true}
}

func (s scene) Path(ctx context.Context, path string, accounts ...string) (access.Found, error) {
	f, err := look.Path(path)
	if err != nil {
		return f, err
	}
	f.Directory, err = s.accounts.Read(ctx, accounts...)
	return f, err
}

func (s scene) Folder(ctx context.Context, path, after string, limit int, accounts ...string) (access.Found, error) {
	f, err := look.Folder(ctx, path, after, limit)
	if err != nil {
		return f, err
	}
	f.Directory, err = s.accounts.Read(ctx, accounts...)
	return f, err
}

func (s scene) Below(ctx context.Context, ask inquiry.BelowAsk) (access.Tally, *perm.Directory, error) {
	d, err := s.accounts.Read(ctx, ask.Account)
	if err != nil {
		return access.Tally{}, nil, err
	}
	q, err := inquiry.ReachOf(d, ask)
	if err != nil {
		return access.Tally{}, nil, err
	}
	_, t, err := look.Below(ctx, os.TempDir(), ask.Path, q)
	return t, d, err
}
