//go:build linux

package agent

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/look"
	"idletally/internal/host/probe"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

// patience is how long an answer may take; whoever asked waits no longer.
const patience = time.Minute

// atOnce is how many questions are answered at the same time, so that a long one keeps nobody waiting.
const atOnce = 4

// listen answers questions beside the work at hand, until the context ends.
func (a *Agent) listen(ctx context.Context) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	free := make(chan struct{}, atOnce)
	return a.repeat(ctx, "questions", func() error {
		free <- struct{}{}
		q, err := a.api.Question(ctx)
		if err != nil || q == nil {
			<-free
			return err
		}
		wg.Go(func() {
			defer func() { <-free }()
			a.reply(ctx, *q)
		})
		return nil
	})
}

// reply answers one question. Where that fails whoever asked will ask again.
func (a *Agent) reply(ctx context.Context, q wire.Question) {
	start := time.Now()
	within, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r, err := a.answer(within, q)
	if err != nil {
		r = wire.Reply{Failed: err.Error()}
	}
	a.Log.Info("question", "id", q.ID, "kind", q.Kind, "path", q.Path, "account", q.Account, "failed", r.Failed, "took", time.Since(start).Round(time.Microsecond))
	err = a.api.Reply(ctx, q.ID, r)
	if s := client.Status(err); err != nil && s != http.StatusNotFound && s != http.StatusConflict { // with these nobody waits any more
		a.Log.Warn("answer could not be sent", "id", q.ID, "error", err)
	}
}

// answer looks, and changes nothing. What lies outside of this host's own list of roots is not
// shown, but for the folders that lead to what is.
func (a *Agent) answer(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	path := string(q.Path)
	if err := pathname.Check(path); err != nil {
		return r, err
	}
	// Of a file server's own top only the shares of the roots are shown.
	if !a.shows(path) && !(q.Kind == wire.AskPath && a.leads(path)) && (a.Server == nil || path != "/") {
		return r, fmt.Errorf("%s: this host's own list of roots does not hold it", q.Path)
	}
	if a.Server != nil {
		return a.shareAnswer(ctx, q)
	}
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
		f, err = look.Path(path)
	case wire.AskFolder:
		f, err = look.Folder(ctx, path, string(q.After), min(max(q.Limit, 1), wire.MaxFolder))
	case wire.AskBelow:
		f, err = a.below(ctx, q, dir, &r)
	case wire.AskProbe:
		f, err = a.probe(ctx, q, dir, &r)
	default:
		err = fmt.Errorf("the service asks a question of the unknown kind %q: is this agent older than the service?", q.Kind)
	}
	// A link may have led out of what may be shown, and not even an error may tell what is there.
	away := err == nil && q.Kind != wire.AskPath && !a.shows(string(f.Seen.Path))
	for _, p := range f.Way {
		away = away || !a.shows(string(p.Path)) && !a.leads(string(p.Path))
	}
	if away {
		return wire.Reply{}, fmt.Errorf("%s leads through a link to where this host's own list of roots shows nothing", q.Path)
	}
	r.Found = &f
	return r, err
}

// tell names a directory in a reply, and holds it where whoever asks does not know it.
func tell(r *wire.Reply, q wire.Question, dir *perm.Directory) (err error) {
	if r.Hash, err = dir.Hash(); err == nil && r.Hash != q.Known {
		r.Directory = dir
	}
	return err
}

// shows says whether a path lies in one of this host's own roots.
func (a *Agent) shows(path string) bool {
	return slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(path, own) })
}

// leads says whether a path is a folder above one of them.
func (a *Agent) leads(path string) bool {
	return slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(own, path) })
}

func (a *Agent) below(ctx context.Context, q wire.Question, dir *perm.Directory, r *wire.Reply) (access.Found, error) {
	reach, err := inquiry.ReachOf(dir, inquiry.BelowAsk{Path: string(q.Path), Account: q.Account, Operation: q.Operation,
		Suppose: inquiry.Suppose{Joining: q.Joining, Privileges: q.Privileges}, Behind: q.Behind, After: string(q.After), Limit: min(q.Limit, wire.MaxFolder)})
	if err != nil {
		return access.Found{}, err
	}
	f, t, err := look.Below(ctx, a.Folder, string(q.Path), reach)
	r.Tally = &t
	return f, err
}

// probe lets a child try as the account. The account's privileges are those of a fresh process.
func (a *Agent) probe(ctx context.Context, q wire.Question, dir *perm.Directory, r *wire.Reply) (access.Found, error) {
	f, err := look.Path(string(q.Path))
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
	uid, ok := s.ID.ID()
	if !ok || s.ID.IsGroup() {
		return nil, errors.New("a probe is made as one account: give its name or number")
	}
	ask := probe.Ask{UID: uid, Path: f.Seen.Path, Kind: f.Seen.Kind, Operations: access.For(f.Seen.Kind)}
	for _, g := range s.Groups {
		if n, ok := g.ID(); ok {
			ask.Groups = append(ask.Groups, n)
		}
	}
	if len(ask.Groups) == 0 {
		// A number that no account has is in no group; the kernel knows no process without one,
		// and this one is nobody's.
		ask.Groups = []uint32{nobodysGroup}
	}
	return probe.Run(ctx, ask)
}

const nobodysGroup = 1<<32 - 3
