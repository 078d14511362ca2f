package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/subtree"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/host/probe"
	"idletally/internal/host/scan"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

// begin comes before everything else: a child that tries as somebody else is this program once more, and nothing
// else.
func begin() { probe.Main() }

// ownCommands are those that only a Linux system has: the service runs there.
func ownCommands(o *options) []*cobra.Command {
	return []*cobra.Command{serveCommand(o), backupCommand(o), doctorCommand(o), openapiCommand()}
}

// gentleFlags let whoever runs a scan keep it from disturbing the host.
func gentleFlags(c *cobra.Command, g *scan.Throttle) {
	c.Flags().BoolVar(&g.Idle, "idle", false, "scan only when nobody else wants processor and disk")
	c.Flags().IntVar(&g.AtMost, "at-most", 0, "look at so many paths a second, at the most; 0 is no limit")
}

// runFlags are the flags of an agent that this system alone has; they take effect when the agent is made.
func runFlags(c *cobra.Command) (apply func(*agent.Agent)) {
	gentle := &scan.Throttle{}
	gentleFlags(c, gentle)
	return func(a *agent.Agent) { a.Gentle = gentle }
}

func thisMachine() (looker, error) { return here{localSource{&identity.Recent{}}}, nil }

// here is this machine.
type here struct{ localSource }

func (h here) Sight(ctx context.Context, path string) (wire.Sight, error) {
	return inquiry.Sight(ctx, h.localSource, path)
}

func (h here) List(ctx context.Context, path, account, after string, limit int) (wire.Listing, error) {
	name, err := pathname.Unescape(after)
	if err != nil {
		return wire.Listing{}, err
	}
	return inquiry.List(ctx, h.localSource, path, account, name, limit)
}

func (h here) New(ctx context.Context, path, account, umask string) (wire.Fresh, error) {
	return inquiry.NewIn(ctx, h.localSource, path, account, umask)
}

func (h here) Propose(ctx context.Context, account, path string, op access.Operation) (wire.Proposals, error) {
	return inquiry.Propose(ctx, h.localSource, nil, account, path, op)
}

func (h here) Restrict(
	ctx context.Context, only []string, path string, op access.Operation,
) (wire.Restriction, error) {
	return inquiry.Restrict(ctx, h.localSource, only, path, op)
}

func (h here) Decide(
	ctx context.Context, account, path string, op access.Operation, s wire.Supposed,
) (wire.Judgement, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Judgement{}, err
	}
	var ops []access.Operation
	if op != 0 {
		ops = append(ops, op)
	}
	return inquiry.Decide(ctx, h.localSource, account, path, ops, sup)
}

func (h here) Holders(ctx context.Context, path string, op access.Operation, s wire.Supposed) (wire.Holders, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Holders{}, err
	}
	return inquiry.Everybody(ctx, h.localSource, path, op, sup)
}

func (h here) Matrix(ctx context.Context, path string, s wire.Supposed) (wire.Matrix, error) {
	sup, err := h.suppose(s)
	if err != nil {
		return wire.Matrix{}, err
	}
	return inquiry.Matrix(ctx, h.localSource, path, 40, sup)
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

	return inquiry.BelowOf(ctx, h.localSource, inquiry.BelowAsk{
		Path:      ask.Path,
		Account:   ask.Account,
		Operation: ask.Operation,
		Suppose:   sup,
		Behind:    ask.Behind,
		After:     from,
		Limit:     ask.Limit,
	})
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
		return inquiry.Suppose{}, usageError{
			errors.New("an edition or a plan is with the service: give --host or --snapshot too"),
		}
	}
	return inquiry.SupposeOf(s.Joining, s.Privileges)
}

// localSource is this machine as a scene.
type localSource struct{ accounts *identity.Recent }

func (localSource) Origin() wire.Origin {
	name, _ := os.Hostname() // a machine without a name is this one all the same
	return wire.Origin{Host: name, Live: true}
}

func (s localSource) Path(ctx context.Context, path string, accounts ...string) (access.Found, error) {
	f, err := look.Path(path)
	if err != nil {
		return f, err
	}
	f.Directory, err = s.accounts.Read(ctx, accounts...)
	return f, err
}

func (s localSource) Folder(
	ctx context.Context, path, after string, limit int, accounts ...string,
) (access.Found, error) {
	f, err := look.Folder(ctx, path, after, limit)
	if err != nil {
		return f, err
	}
	f.Directory, err = s.accounts.Read(ctx, accounts...)
	return f, err
}

func (s localSource) Below(ctx context.Context, ask inquiry.BelowAsk) (subtree.Tally, *perm.Directory, error) {
	d, err := s.accounts.Read(ctx, ask.Account)
	if err != nil {
		return subtree.Tally{}, nil, err
	}
	q, err := inquiry.SubtreeQueryOf(d, ask)
	if err != nil {
		return subtree.Tally{}, nil, err
	}
	_, t, err := look.Below(ctx, os.TempDir(), ask.Path, q)
	return t, d, err
}
