package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/wire"
)

// A looker answers questions about paths and accounts: this machine, a host, or a snapshot.
type looker interface {
	Sight(ctx context.Context, path string) (wire.Sight, error)
	List(ctx context.Context, path, account, after string, limit int) (wire.Listing, error)
	New(ctx context.Context, path, account, umask string) (wire.Fresh, error)
	Decide(ctx context.Context, account, path string, op access.Operation, s wire.Supposed) (wire.Judgement, error)
	Propose(ctx context.Context, account, path string, op access.Operation) (wire.Proposals, error)
	Restrict(ctx context.Context, only []string, path string, op access.Operation) (wire.Restriction, error)
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
		return thisMachine()
	}
	c, err := o.client()
	return client.Looker{Client: c, Host: w.host, Snapshot: w.snapshot}, err
}

// typed makes a path of this machine absolute, and nothing more: a .. behind a link leads elsewhere than the text
// suggests.
func typed(path string) (string, error) {
	if filepath.IsAbs(path) {
		return path, nil
	}
	here, err := os.Getwd()
	if err != nil {
		return "", fmt.Errorf("find out which folder this is: %w", err)
	}
	return strings.TrimSuffix(here, "/") + "/" + path, nil
}

// path reads a path as it was typed: escaped text; on this machine possibly relative.
func (w *where) path(s string) (string, error) {
	raw, err := pathname.Unescape(s)
	if err != nil {
		return "", usageError{err}
	}
	if w.local() {
		return typed(raw)
	}
	if err := pathname.Check(raw); err != nil {
		return "", usageError{err}
	}
	return raw, nil
}
