package agent

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"idletally/internal/client"
	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/subtree"
	"idletally/internal/host/change"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

// patience is how long an answer may take; whoever asked waits no longer.
const patience = time.Minute

// atOnce is how many questions are answered at the same time, so that a long one does not block the others.
const atOnce = 4

// listen answers questions while other work goes on, until the context ends.
func (a *Agent) listen(ctx context.Context) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	free := make(chan struct{}, atOnce)
	return a.call(ctx, "questions", func() error {
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
	a.Log.Info("question", "id", q.ID, "kind", q.Kind, "path", q.Path, "account", q.Account, "failed", r.Failed, "took",
		time.Since(start).Round(time.Microsecond))
	err = a.api.Reply(ctx, q.ID, r)
	if s := client.Status(err); err != nil && s != http.StatusNotFound && s != http.StatusConflict {
		// With these nobody waits any more.
		a.Log.Warn("answer could not be sent", "id", q.ID, "error", err)
	}
}

// answer looks, and changes nothing. What lies outside of this host's own list of roots is not shown, except the
// folders that lead to them.
func (a *Agent) answer(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	if q.Kind == wire.AskFiles {
		return a.files(ctx, q)
	}
	path := a.host.spelled(string(q.Path))
	if err := pathname.Check(path); err != nil {
		return r, err
	}
	q.Path = pathname.Path(path)
	if !a.shows(path) && !(q.Kind == wire.AskPath && a.leads(path)) && !(path == "/" && a.host.top()) {
		return r, fmt.Errorf("%s: %s", q.Path, notShown)
	}
	return a.host.answer(ctx, q)
}

// files says which files lie at the paths of some steps, so that a plan can mean those and no others.
func (a *Agent) files(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	steps, err := plan.DecodeChunk(q.Steps)
	if err != nil {
		return r, err
	}
	reach, hangUp, err := a.host.fileSystem(ctx)
	if err != nil {
		return r, err
	}
	defer hangUp()

	roots := a.within(q.Roots)
	if reach == nil {
		reach = change.Own(roots)
	}
	defer reach.Close()

	var known []plan.Step
	for _, s := range steps {
		if err := ctx.Err(); err != nil {
			return r, err
		}

		why := ""
		if i := slices.IndexFunc(roots, func(own string) bool { return pathname.Under(s.Path, own) }); i < 0 {
			why = notShown
		} else if s.File, err = change.Identify(reach, roots[i], s); err != nil {
			why = err.Error()
		} else {
			known = append(known, s)
			continue
		}

		r.Left = append(r.Left, wire.Denied{Path: pathname.Escape(s.Path), Reason: why})
	}

	r.Steps = plan.EncodeChunk(known)
	return r, nil
}

// within returns those of a plan's roots that lie in this host's own, followed by the host's own: the first one that
// holds a path is where a run would open it. A root may be a mount of its own, and below a root no other mount is
// entered. Each of them will be opened, so that those beyond the number that a baseline may have are ignored.
func (a *Agent) within(roots []pathname.Path) (out []string) {
	for _, r := range roots[:min(len(roots), baseline.MaxRoots)] {
		if p := string(r); pathname.Check(p) == nil && a.shows(p) && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return append(out, a.roots...)
}

// notShown is all that is said of anything outside of this host's own list of roots, whatever is there.
const notShown = "this host's own list of roots does not hold it"

// tell names a directory in a reply, and adds its content if whoever asks does not know it.
func tell(r *wire.Reply, q wire.Question, dir *perm.Directory) (err error) {
	if r.Hash, err = dir.Hash(); err == nil && r.Hash != q.Known {
		r.Directory = dir
	}
	return err
}

// shows reports whether a path lies in one of this host's own roots.
func (a *Agent) shows(path string) bool {
	return slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(path, own) })
}

// leads reports whether a path is a folder above one of them.
func (a *Agent) leads(path string) bool {
	return slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(own, path) })
}

// subtreeQueryOf makes the core's question of one about all that is in a folder.
func (*Agent) subtreeQueryOf(dir *perm.Directory, q wire.Question) (subtree.Query, error) {
	return inquiry.SubtreeQueryOf(dir, inquiry.BelowAsk{
		Path:      string(q.Path),
		Account:   q.Account,
		Operation: q.Operation,
		Suppose:   inquiry.Suppose{Joining: q.Joining, Privileges: q.Privileges},
		Behind:    q.Behind,
		After:     string(q.After),
		Limit:     min(q.Limit, wire.MaxFolder),
	})
}
