package engine

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Bounds of what is looked at to say where findings come from: what lies beyond them has no origin.
const (
	maxSpots     = 50_000
	maxSpotBytes = 16 << 20 // of their folders
	maxLastActs  = 5000     // the newest ones of a place
	maxOrigins   = 10       // of a group, those of most findings
)

// A spots counts the findings of each group by where they lie. The zero value is ready to be used.
type spots struct {
	count map[spot]int
	bytes int
}

type spot struct {
	group string
	drift.Spot
}

// see counts a finding.
func (s *spots) see(f drift.Finding) {
	at := spot{f.Group, drift.Spot{Folder: pathname.Folder(f.Path), Kind: f.Kind, Aspect: f.Aspect}}
	if s.count[at] == 0 {
		if len(s.count) == maxSpots || s.bytes+len(at.Folder) > maxSpotBytes {
			return
		}
		if s.count == nil {
			s.count = map[spot]int{}
		}
		s.bytes += len(at.Folder)
		at.Folder = strings.Clone(at.Folder) // without the rest of the path
	}
	s.count[at]++
}

// noteOrigins stores for the groups of a report where their findings come from. Without that the report stands all the
// same.
func (d *Engine) noteOrigins(ctx context.Context, r store.Report, found spots) {
	if err := d.setOrigins(ctx, r, found); err != nil {
		d.Log.Error("where the findings of a report come from", "report", r.ID, "error", err)
	}
}

// setOrigins stores likely causes, and who did the last thing to paths.
func (d *Engine) setOrigins(ctx context.Context, r store.Report, found spots) error {
	if r.Findings == 0 {
		return nil
	}
	causes, err := d.likelyCauses(ctx, r, found)
	if err != nil {
		return err
	}
	doers, err := d.doers(ctx, r)
	if err != nil {
		return err
	}

	out := map[string]store.Origins{}
	for g, by := range causes {
		out[g] = store.Origins{Causes: most(by)}
	}
	for g, by := range doers {
		out[g] = store.Origins{Causes: out[g].Causes, Doers: most(by)}
	}
	return d.Store.SetOrigins(ctx, r.ID, out)
}

// likelyCauses counts the findings of each group by the cause that is known of their folder, or of the nearest one
// above it: what came with a whole tree has its cause where the tree came.
func (d *Engine) likelyCauses(ctx context.Context, r store.Report, found spots) (map[string]map[string]int, error) {
	known, err := d.Store.Causes(ctx, r.Application, r.Host, r.Created.AddDate(-1, 0, 0), 0, store.MaxCauses)
	if err != nil || len(known) == 0 {
		return nil, err
	}

	why := map[drift.Spot]string{}
	for _, c := range slices.Backward(known) { // the latest counts
		why[drift.Spot{Folder: string(c.Folder), Kind: perm.Kind(c.Kind), Aspect: perm.Aspect(c.Aspect)}] = c.Why
	}

	out := map[string]map[string]int{}
	for at, n := range found.count {
		for up := at.Spot; ; up.Folder = pathname.Folder(up.Folder) {
			if cause, ok := why[up]; ok {
				add(out, at.group, cause, n)
				break
			}
			if up.Folder == "/" || up.Folder == "" {
				break
			}
		}
	}
	return out, nil
}

// doers counts the findings of each group by who did the last thing to their paths, if that may have made them.
func (d *Engine) doers(ctx context.Context, r store.Report) (map[string]map[string]int, error) {
	acts, err := d.Store.LastActs(ctx, r.Application, r.Host, r.Created, maxLastActs)
	if err != nil || len(acts) == 0 {
		return nil, err
	}

	last := map[string]wire.Act{}
	for _, a := range acts { // the newest first
		if _, ok := last[string(a.Path)]; !ok {
			last[string(a.Path)] = a
		}
	}
	findings, err := d.Store.FindingsAt(ctx, r, slices.Collect(maps.Keys(last)))
	if err != nil {
		return nil, err
	}

	out := map[string]map[string]int{}
	for _, f := range findings {
		if a := last[string(f.Path)]; f.Since != nil && mayHaveMade(a, *f.Since) {
			add(out, f.Group, a.Whom(), 1)
		}
	}
	return out, nil
}

func add(to map[string]map[string]int, group, what string, n int) {
	if to[group] == nil {
		to[group] = map[string]int{}
	}
	to[group][what] += n
}

// most lists what stands behind most findings.
func most(by map[string]int) []wire.DriftOrigin {
	var out []wire.DriftOrigin
	for what, n := range by {
		out = append(out, wire.DriftOrigin{What: what, Findings: n})
	}
	slices.SortFunc(out, func(a, b wire.DriftOrigin) int {
		return cmp.Or(b.Findings-a.Findings, cmp.Compare(a.What, b.What))
	})
	return out[:min(len(out), maxOrigins)]
}
