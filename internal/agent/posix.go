//go:build linux

package agent

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"idletally/internal/core/access"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
	"idletally/internal/host/change"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/host/probe"
	"idletally/internal/host/scan"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

// remembered is what an agent of a Linux system keeps beside.
type remembered struct {
	Gentle   *scan.Throttle // how scans keep out of the way; nil: not at all
	accounts identity.Recent
	owners   identity.Owners
	held     sync.Map // by the name of a cache: the mutex of who uses it
}

// linuxHost is the Linux system that the agent runs on.
type linuxHost struct{ a *Agent }

func ownHost(a *Agent) host { return &linuxHost{a} }

func (h *linuxHost) top() bool { return false }

func (h *linuxHost) unwatchable() string { return "" }

func (h *linuxHost) spelled(path string) string { return path }

func (h *linuxHost) watch(ctx context.Context, list []wire.WatchedPlace) { h.a.follow(ctx, list) }

// fileSystem returns nothing: a run opens this system's own paths by itself.
func (h *linuxHost) fileSystem(context.Context) (change.FileSystem, func(), error) {
	return nil, func() {}, nil
}

func (h *linuxHost) answer(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	a, path := h.a, string(q.Path)
	accounts := q.Accounts
	if q.Account != "" && q.Account != inquiry.Everyone {
		accounts = append(accounts, q.Account)
	}

	dir, err := a.accounts.Read(ctx, accounts...)
	if err != nil {
		return r, err
	}
	if err := tell(&r, q, dir); err != nil {
		return r, err
	}

	var f access.Found
	switch q.Kind {
	case wire.AskPath:
		f, err = a.bounds().Path(path)
	case wire.AskFolder:
		f, err = a.bounds().Folder(ctx, path, string(q.After), min(max(q.Limit, 1), wire.MaxFolder))
	case wire.AskBelow:
		f, err = a.below(ctx, q, dir, &r)
	case wire.AskProbe:
		f, err = a.probe(ctx, q, dir, &r)
	default:
		err = fmt.Errorf("the service asks a question of the unknown kind %q: is this agent older than the service?",
			q.Kind)
	}

	if errors.Is(err, look.ErrOutside) { // a link has led there
		return wire.Reply{}, fmt.Errorf("%s: %s", q.Path, notShown)
	}

	r.Found = &f
	return r, err
}

// bounds are where this host's own list of roots lets questions look.
func (a *Agent) bounds() look.Bounds {
	return look.Bounds{Pass: func(path string) bool { return a.shows(path) || a.leads(path) }, Show: a.shows}
}

func (a *Agent) below(ctx context.Context, q wire.Question, dir *perm.Directory, r *wire.Reply) (access.Found, error) {
	reach, err := a.subtreeQueryOf(dir, q)
	if err != nil {
		return access.Found{}, err
	}
	f, t, err := a.bounds().Below(ctx, a.Folder, string(q.Path), reach)
	r.Tally = &t
	return f, err
}

// probe lets a child try as the account. The account's privileges are those of a fresh process.
func (a *Agent) probe(ctx context.Context, q wire.Question, dir *perm.Directory, r *wire.Reply) (access.Found, error) {
	f, err := a.bounds().Shown(string(q.Path))
	if err != nil {
		return f, err
	}
	s, err := inquiry.Subject(dir, q.Account)
	if err != nil {
		return f, err
	}
	r.Tries, err = Try(ctx, f, s)
	return f, err
}

// Try has a child try everything that makes sense for a path.
func Try(ctx context.Context, f access.Found, s access.Subject) ([]access.Try, error) {
	uid, ok := unixid.Number(s.ID)
	if !ok || unixid.IsGroup(s.ID) {
		return nil, errors.New("a probe is made as one account: give its name or number")
	}

	ask := probe.Ask{
		UID:        uid,
		Path:       f.Seen.Path,
		Kind:       f.Seen.Kind,
		Operations: access.For(f.Seen.Kind, f.Seen.Set.Scheme()),
	}

	for _, g := range s.Groups {
		if n, ok := unixid.Number(g); ok {
			ask.Groups = append(ask.Groups, n)
		}
	}

	if len(ask.Groups) == 0 {
		// A number without an account is in no group; but the kernel knows no process without a group, and this one
		// is nobody's.
		ask.Groups = []uint32{nobodysGroup}
	}

	return probe.Run(ctx, ask)
}

const nobodysGroup = 1<<32 - 3
