package app

import (
	"context"
	"errors"
	"slices"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// ListPathTimesRequest is the request of [App.ListPathTimes].
type ListPathTimesRequest struct {
	Host  string `query:"host" required:"true" maxLength:"64"`
	Path  string `query:"path" required:"true" maxLength:"131072"`
	After string `query:"after" maxLength:"16" doc:"What an earlier page gave as next: older snapshots"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"200" doc:"How many snapshots of the host are looked at, those of other folders among them"`
}

// ListPathTimes returns what a path was in the snapshots of its host, the newest first.
func (s *App) ListPathTimes(ctx context.Context, in *ListPathTimesRequest) (*wire.PathTimes, error) {
	if _, err := s.store.Host(ctx, in.Host); err != nil {
		return nil, err
	}
	raw, err := unescaped("path", in.Path)
	if err == nil {
		err = checked("path", raw)
	}
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Snapshots(ctx, "", in.Host, in.After, in.Limit)
	if err != nil {
		return nil, err
	}

	out := wire.PathTimes{Host: in.Host, Path: pathname.Escape(raw), Items: []wire.PathTime{}}
	if len(rows) == in.Limit {
		out.Next = rows[len(rows)-1].ID
	}
	if in.After == "" && len(rows) == 0 {
		return nil, fault.Conflict("host " + in.Host + " has no snapshot yet: take one first")
	}
	if in.After == "" {
		if out.Runs, out.MoreRuns, err = s.runsOf(ctx, in.Host, raw); err != nil {
			return nil, err
		}
	}

	spans, err := s.spansOf(ctx, raw, rows)
	known := map[string]*perm.Directory{} // few snapshots have accounts of their own
	for _, x := range spans {
		dir, err := s.accountsAt(ctx, x.newest, known)
		if err != nil {
			return nil, err
		}
		w, err := s.pathTime(ctx, x, dir)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, w)
	}
	return &out, err
}

// A span is for how long a path was in one state.
type span struct {
	path          string
	entry         tree.Entry // the zero value: it was not there
	gap           tree.Gap   // why it could not be read
	newest, first store.Snapshot
	before        *store.Snapshot // the last one that shows it otherwise
	count         int
}

// spansOf returns in which states snapshots show a path, the newest first; those of other folders say nothing of it.
func (s *App) spansOf(ctx context.Context, path string, rows []store.Snapshot) ([]span, error) {
	rows = slices.DeleteFunc(rows, func(v store.Snapshot) bool { return v.State != lifecycle.SnapshotReady })
	slices.SortStableFunc(rows, func(a, b store.Snapshot) int { return takenAt(b).Compare(takenAt(a)) })

	var out []span
	follow := tree.Follower{Source: s.store, Path: path}
	for _, v := range rows {
		holds, err := v.Holds(path)
		if err != nil {
			return nil, err
		}
		if !holds {
			continue
		}

		x := span{path: path, newest: v, first: v, count: 1}
		x.entry, err = follow.At(ctx, v.Hash())
		var unread *tree.UnreadError
		switch {
		case errors.As(err, &unread):
			x.gap = unread.Gap
		case errors.Is(err, tree.ErrNoPath):
		case err != nil:
			return nil, err
		default:
			x.gap = x.entry.Gap
		}

		if last := len(out) - 1; last >= 0 {
			if out[last].same(x) {
				out[last].first, out[last].count = v, out[last].count+1
				continue
			}
			out[last].before = &v
		}
		out = append(out, x)
	}
	return out, nil
}

func takenAt(v store.Snapshot) time.Time {
	if v.Taken == nil {
		return v.Created
	}
	return *v.Taken
}

// same reports whether a path was the same in two spans.
func (x span) same(y span) bool {
	return x.entry.Kind == y.entry.Kind && x.entry.Set == y.entry.Set && x.gap == y.gap
}

// accountsAt returns the accounts that went with a snapshot, from those that are known where they are the same.
func (s *App) accountsAt(
	ctx context.Context, v store.Snapshot, known map[string]*perm.Directory,
) (*perm.Directory, error) {
	if d, ok := known[string(v.Directory)]; ok {
		return d, nil
	}
	d, err := s.store.Directory(ctx, v)
	known[string(v.Directory)] = d
	return d, err
}

// pathTime returns a span as bodies have it, with who made it so, as far as the host's kernel told.
func (s *App) pathTime(ctx context.Context, x span, dir *perm.Directory) (wire.PathTime, error) {
	out := wire.PathTime{
		From:        takenAt(x.first),
		To:          takenAt(x.newest),
		Snapshot:    x.newest.ID,
		Application: x.newest.Application,
		Snapshots:   x.count,
		Gap:         x.gap.String(),
	}
	if x.entry.Kind != 0 {
		out.Kind = x.entry.Kind.String()
	}
	if !x.entry.Set.IsZero() {
		v := perm.Describe(x.entry.Kind, x.entry.Set, dir)
		out.Access = &v
	}
	if x.before == nil {
		return out, nil
	}

	since := takenAt(*x.before)
	out.After = &since
	acts, err := s.store.Acts(ctx, x.first.Application, x.first.Host, []string{x.path}, since, out.From)
	if a, ok := acts[x.path]; ok {
		out.By = &a
	}
	return out, err
}

// Bounds of what is looked through for the runs that changed a path.
const (
	maxRunsOn  = 10
	maxRunsMet = 40 // chunks of what they found
)

// runsOf returns which of the newest runs on a host changed a path, and whether there is more to look through.
func (s *App) runsOf(ctx context.Context, host, path string) (out []wire.PathRun, more bool, err error) {
	runs, err := s.store.RunsOn(ctx, host, maxRunsOn+1)
	if err != nil {
		return nil, false, err
	}
	if len(runs) > maxRunsOn {
		runs, more = runs[:maxRunsOn], true
	}

	left := maxRunsMet
	for _, r := range runs {
		st, err := s.changedBy(ctx, r.ID, host, path, &left)
		if err != nil {
			return nil, false, err
		}
		if st == nil {
			continue
		}
		w, err := s.pathRun(ctx, r, host, *st)
		if err != nil {
			return nil, false, err
		}
		out = append(out, w)
	}
	return out, more || left < 0, nil
}

// changedBy returns what a run did to a path on a host; nil if it is not in as many chunks of what the run found as are
// left to be looked through. Left is less than 0 where there were more.
func (s *App) changedBy(ctx context.Context, run, host, path string, left *int) (*plan.Step, error) {
	chunks, err := s.store.OriginalChunks(ctx, run, host)
	if err != nil {
		return nil, err
	}
	for n := range chunks {
		if *left <= 0 {
			*left = -1
			return nil, nil
		}
		*left--
		steps, err := s.store.Originals(ctx, run, host, n)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(steps, func(st plan.Step) bool { return st.Path == path }); i >= 0 {
			return &steps[i], nil
		}
	}
	return nil, nil
}

func (s *App) pathRun(ctx context.Context, r store.RunRow, host string, st plan.Step) (wire.PathRun, error) {
	out := wire.PathRun{Run: r.ID, By: r.StartedBy, Started: r.Started}
	p, err := s.store.Plan(ctx, r.Plan)
	if err != nil {
		return out, err
	}
	dir, err := s.store.NewestDirectory(ctx, p.Application, host)
	out.Title = p.Title
	out.Original = perm.Describe(st.Kind, st.Before, dir)
	out.Left = perm.Describe(st.Kind, st.After, dir)
	return out, err
}
