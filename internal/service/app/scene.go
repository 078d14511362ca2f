package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/subtree"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/inquiry"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// stored is a snapshot as a scene.
type stored struct {
	row  store.Snapshot
	snap subtree.Snapshot
	dir  *perm.Directory
}

func (s *App) stored(ctx context.Context, id string) (*stored, error) {
	v, err := s.store.Snapshot(ctx, id)
	if err != nil {
		return nil, err
	}
	if v.State != lifecycle.SnapshotReady {
		return nil, fault.Conflict("the snapshot is " + string(v.State))
	}
	ways, err := v.Ways()
	if err != nil {
		return nil, err
	}
	dir, err := s.store.Directory(ctx, v)
	return &stored{v, subtree.Snapshot{Source: s.store, Forest: v.Hash(), Ways: ways}, dir}, err
}

func (s *stored) Origin() wire.Origin {
	return wire.Origin{Host: s.row.Host, Snapshot: s.row.ID, At: s.row.Taken}
}

func (s *stored) find(ctx context.Context, path string) (access.Found, *tree.Node, error) {
	way, c, err := s.snap.Way(ctx, path)
	if err := notInSnapshot(err); err != nil {
		return access.Found{}, nil, err
	}
	if err != nil {
		return access.Found{}, nil, err
	}
	return access.Found{
		Way:       way,
		Seen:      access.Seen{Place: way[len(way)-1], Gap: c.Gap, Links: uint64(c.Links)},
		Directory: s.dir,
	}, c.Node, nil
}

func (s *stored) Path(ctx context.Context, path string, _ ...string) (access.Found, error) {
	f, _, err := s.find(ctx, path)
	return f, err
}

func (s *stored) Folder(ctx context.Context, path, after string, limit int, _ ...string) (access.Found, error) {
	var f access.Found
	var n *tree.Node
	if path == "" { // the roots themselves
		nodes, err := tree.Load(ctx, s.snap.Source, s.snap.Forest)
		if err != nil {
			return f, err
		}
		f.Directory, n = s.dir, &nodes[0]
	} else {
		var err error
		if f, n, err = s.find(ctx, path); err != nil {
			return f, err
		}
		switch {
		case f.Seen.Kind != perm.Folder:
			return f, fault.Invalid(fmt.Sprintf("%s is a %s, not a folder", f.Seen.Path,
				f.Seen.Kind))
		case n == nil:
			return f, fault.Invalid(fmt.Sprintf("the content of %s is not in the snapshot: %s",
				f.Seen.Path, f.Seen.Gap))
		}
	}

	last := ""
	for _, e := range n.Entries {
		if after != "" && e.Name <= after {
			continue
		}

		if len(f.Entries) == limit {
			f.Next = pathname.Path(last)
			break
		}

		last = e.Name
		at := e.Name
		if path != "" {
			at = pathname.Join(path, e.Name)
		}

		x := access.Seen{
			Place: access.Place{
				Path:  pathname.Path(at),
				Kind:  e.Kind,
				Set:   e.Set,
				Mount: f.Seen.Mount,
				Top:   e.Gap == tree.Mount,
			},
			Gap:   e.Gap.String(),
			Links: uint64(e.Links),
		}

		f.Entries = append(f.Entries, x)
	}

	return f, nil
}

func (s *stored) Below(ctx context.Context, ask inquiry.BelowAsk) (subtree.Tally, *perm.Directory, error) {
	q, err := inquiry.SubtreeQueryOf(s.dir, ask)
	if err != nil {
		return subtree.Tally{}, nil, err
	}
	t, err := s.snap.Ask(ctx, q)
	if refused := notInSnapshot(err); refused != nil {
		err = refused
	}
	return t, s.dir, err
}

// notInSnapshot answers whoever asked for a path that a snapshot does not hold, or that could not be read; nil for
// other errors.
func notInSnapshot(err error) error {
	switch {
	case errors.Is(err, tree.ErrNoPath):
		return fault.NotFound(err.Error())
	case tree.IsUnread(err):
		return fault.Invalid(err.Error())
	}
	return nil
}

// live is a host that answers through its agent.
type live struct {
	s    *App
	host string
	at   *time.Time
}

const (
	waitForAnswer = 15 * time.Second
	waitForWalk   = 75 * time.Second // an agent gives up after a minute
	askForAnswer  = 250 * time.Millisecond
)

func (s *App) live(ctx context.Context, host string) (*live, error) {
	h, err := s.store.Host(ctx, host)
	if err != nil {
		return nil, err
	}
	if h.Certificate == "" {
		return nil, fault.Conflict("host " + host + " has no agent yet: enrol it, or ask about a snapshot")
	}
	if h.Carried {
		return nil, fault.Conflict("host " + host + " has no network" +
			": ask about a snapshot, or on the host itself")
	}
	return &live{s: s, host: host}, nil
}

func (l *live) Origin() wire.Origin { return wire.Origin{Host: l.host, At: l.at, Live: true} }

// ask sends a question about one path to the host's agent and waits for the answer.
func (l *live) ask(ctx context.Context, q wire.Question, patience time.Duration) (wire.Reply, error) {
	known, hash, err := l.s.store.HostDirectory(ctx, l.host)
	if err != nil {
		return wire.Reply{}, err
	}
	q.Known = hash
	r, err := l.put(ctx, q, patience)
	if err != nil {
		return r, err
	}
	return l.take(r, known, hash)
}

// put sends a question to the host's agent and waits for what it says.
func (l *live) put(ctx context.Context, q wire.Question, patience time.Duration) (wire.Reply, error) {
	b, err := json.Marshal(q)
	if err != nil {
		return wire.Reply{}, err
	}
	id, err := l.s.store.Ask(ctx, l.host, b)
	if err != nil {
		return wire.Reply{}, err
	}

	l.s.notifier.wake(questionsOf(l.host))
	err = l.s.budgets.Away(ctx, Asking, func() error {
		b, err = l.await(ctx, id, patience)
		return err
	})
	if err != nil {
		return wire.Reply{}, busy(err)
	}

	return l.read(b)
}

// await waits for the answer to a question that was put.
func (l *live) await(ctx context.Context, id string, patience time.Duration) ([]byte, error) {
	defer l.s.notifier.wake(answerTo(id)) // nobody waits any more: the hub forgets
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()

	for {
		poked := l.s.notifier.wait(answerTo(id))
		b, err := l.s.store.Answer(ctx, id)
		if err != nil && ctx.Err() == nil {
			return nil, err
		}
		if b != nil {
			return b, nil
		}

		select {
		case <-poked:
		case <-time.After(askForAnswer):
		case <-ctx.Done():
			over, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			if err := l.s.store.Forget(over, id); err != nil {
				return nil, err
			}

			return nil, fault.NoAnswer(fmt.Sprintf(
				"host %s has not answered within %s: is its agent running? A stored snapshot can be asked instead",
				l.host, patience))
		}
	}
}

// read reads what an agent answered. Agents may be hostile: everything in it is checked as it is decoded, and
// whatever it says is shown as what that host says.
func (l *live) read(b []byte) (wire.Reply, error) {
	var r wire.Reply
	if err := untrusted.JSON(b, untrusted.MaxElements, &r); err != nil {
		return r, fault.BadAnswer(fmt.Sprintf("host %s answered what cannot be read: %v", l.host, err))
	}
	if r.Failed != "" {
		return r, fault.Invalid("host " + l.host + ": " + r.Failed)
	}
	return r, nil
}

// take checks that an answer has what every answer about a path has.
func (l *live) take(r wire.Reply, known *perm.Directory, hash string) (wire.Reply, error) {
	switch {
	case r.Directory != nil:
		r.Directory.Index()
	case r.Hash == hash && known != nil:
		r.Directory = known
	default:
		return r, fault.BadAnswer("host " + l.host + " answered without its accounts")
	}
	if r.Found == nil || len(r.Found.Way) == 0 {
		return r, fault.BadAnswer("host " + l.host + " answered without a way to the path")
	}
	r.Found.Directory = r.Directory
	now := time.Now().UTC().Truncate(time.Second)
	l.at = &now
	return r, nil
}

// lately is within what an agent that is running has called.
const lately = 2 * time.Minute

// files asks a host which files lie at the paths of some steps, at most a chunk of them. engine.ErrSilent says
// that nobody answers there.
func (s *App) files(
	ctx context.Context, host string, roots []string, steps []plan.Step,
) (known []plan.Step, left []wire.Denied, err error) {
	h, err := s.store.Host(ctx, host)
	if err != nil {
		return nil, nil, err
	}
	if h.Certificate == "" || h.Carried || h.LastSeen == nil || time.Since(*h.LastSeen) > lately {
		return nil, nil, engine.ErrSilent
	}

	patience := waitForAnswer
	if slices.ContainsFunc(steps, func(x plan.Step) bool { return perm.Empowers(x.Kind, x.Before, x.After) }) {
		patience = waitForWalk // files are read
	}

	l := &live{s: s, host: host}
	q := wire.Question{Kind: wire.AskFiles, Path: "/", Steps: plan.EncodeChunk(steps)}
	for _, root := range roots {
		q.Roots = append(q.Roots, pathname.Path(root))
	}
	r, err := l.put(ctx, q, patience)
	if fault.Is(err, fault.KindNoAnswer) || fault.Is(err, fault.KindInvalid) {
		// Its agent is of an earlier version, or is just going away.
		s.log.Warn("which files are meant is not known", "host", host, "error", err)
		return nil, nil, engine.ErrSilent
	}

	if err == nil {
		known, err = plan.DecodeChunk(r.Steps)
	}

	return known, r.Left, err
}

func (l *live) found(ctx context.Context, q wire.Question) (access.Found, error) {
	r, err := l.ask(ctx, q, waitForAnswer)
	if err != nil {
		return access.Found{}, err
	}
	return *r.Found, nil
}

func (l *live) Path(ctx context.Context, path string, accounts ...string) (access.Found, error) {
	return l.found(ctx, wire.Question{Kind: wire.AskPath, Path: pathname.Path(path), Accounts: accounts})
}

func (l *live) Folder(ctx context.Context, path, after string, limit int, accounts ...string) (access.Found, error) {
	if path == "" {
		return access.Found{}, fault.Invalid("path: say which folder of the host is to be listed")
	}
	return l.found(ctx, wire.Question{
		Kind:     wire.AskFolder,
		Path:     pathname.Path(path),
		After:    pathname.Path(after),
		Limit:    limit,
		Accounts: accounts,
	})
}

func (l *live) Below(ctx context.Context, ask inquiry.BelowAsk) (subtree.Tally, *perm.Directory, error) {
	if ask.Suppose.States != nil {
		return subtree.Tally{}, nil, fault.Invalid(
			"an edition or a plan can be supposed for a whole folder on a snapshot: give snapshot instead of host")
	}
	if ask.Path == "" {
		return subtree.Tally{}, nil, fault.Invalid("path: say which folder of the host is meant")
	}

	r, err := l.ask(ctx,
		wire.Question{
			Kind:       wire.AskBelow,
			Path:       pathname.Path(ask.Path),
			Account:    ask.Account,
			Joining:    ask.Suppose.Joining,
			Privileges: ask.Suppose.Privileges,
			Behind:     ask.Behind,
			Operation:  ask.Operation,
			After:      pathname.Path(ask.After),
			Limit:      ask.Limit,
		}, waitForWalk)

	if err == nil && r.Tally == nil {
		err = fault.BadAnswer("host " + l.host + " answered without a tally")
	}

	if err != nil {
		return subtree.Tally{}, nil, err
	}

	return *r.Tally, r.Directory, nil
}
