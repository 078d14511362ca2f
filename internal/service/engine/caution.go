package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/subtree"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// Steps returns a plan's steps from the very bytes that its digest stands for.
func (d *Engine) Steps(ctx context.Context, p store.Plan, part plan.HostPart, n int) ([]plan.Step, error) {
	b, err := d.Store.PlanChunk(ctx, p.ID, part.Host, n)
	if err != nil {
		return nil, err
	}
	return plan.CheckChunk(b, part.Chunks[n], part.Roots)
}

// Verify checks every stored step of a plan against its digest.
func (d *Engine) Verify(ctx context.Context, p store.Plan) error {
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return err
	}
	for _, part := range m.Hosts {
		for n := range part.Chunks {
			if _, err := d.Steps(ctx, p, part, n); err != nil {
				return err
			}
		}
	}
	return nil
}

// checked remembers what the checker said of some plans: it is asked again for each look at them.
type checked struct {
	mu   sync.Mutex
	said map[string][]plan.Caution // by plan, and what the hosts were seen to be
}

const maxChecked = 64

// maxMatter bounds the accounts of a host whose losses are told.
const maxMatter = 100

// Cautions checks a plan, from the bytes that are signed, against how its hosts were seen last.
func (d *Engine) Cautions(ctx context.Context, p store.Plan) ([]plan.Caution, error) {
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}

	snaps := map[string]store.Snapshot{}
	key := plan.Digest(p.Manifest).String()
	for _, part := range m.Hosts {
		snap, err := d.Store.Newest(ctx, p.Application, part.Host)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}

		snaps[part.Host] = snap
		key += " " + snap.ID
	}

	d.checked.mu.Lock()
	said, ok := d.checked.said[key]
	d.checked.mu.Unlock()
	if ok {
		return said, nil
	}

	said = []plan.Caution{}
	for _, part := range m.Hosts {
		c := plan.Checker{Host: part.Host, Identified: d.Files != nil}
		list, err := d.check(ctx, c, p.Application, snaps[part.Host], d.stepsOf(ctx, p, part))
		if err != nil {
			return nil, fmt.Errorf("check plan %s for host %s: %w", p.ID, part.Host, err)
		}
		said = append(said, list...)
	}
	graveFirst(said)

	d.checked.mu.Lock()
	defer d.checked.mu.Unlock()

	if d.checked.said == nil || len(d.checked.said) >= maxChecked {
		d.checked.said = map[string][]plan.Caution{}
	}

	d.checked.said[key] = said
	return said, nil
}

// graveFirst sorts cautions: the grave ones first, of whichever host.
func graveFirst(list []plan.Caution) {
	slices.SortStableFunc(list, func(a, b plan.Caution) int {
		switch {
		case a.Grave == b.Grave:
			return strings.Compare(a.Host, b.Host)
		case a.Grave:
			return -1
		}
		return 1
	})
}

// eachStep goes through steps of a host.
type eachStep func(visit func(plan.Step) error) error

// stepsOf goes through a plan's steps on a host.
func (d *Engine) stepsOf(ctx context.Context, p store.Plan, part plan.HostPart) eachStep {
	return func(visit func(plan.Step) error) error {
		for n := range part.Chunks {
			steps, err := d.Steps(ctx, p, part, n)
			if err != nil {
				return err
			}
			for _, s := range steps {
				if err := visit(s); err != nil {
					return err
				}
			}
		}

		return nil
	}
}

// check checks steps on a checker's host against how that was seen in a snapshot, if there is one.
func (d *Engine) check(
	ctx context.Context, c plan.Checker, application string, snap store.Snapshot, each eachStep,
) ([]plan.Caution, error) {
	if snap.ID != "" {
		var err error
		if c.Names, err = d.Store.Directory(ctx, snap); err != nil {
			return nil, err
		}
		ways, err := snap.Ways()
		if err != nil {
			return nil, err
		}

		seen := subtree.Snapshot{Source: d.Store, Forest: snap.Hash(), Ways: ways}
		c.Way = func(path string) (access.Way, error) {
			w, _, err := seen.Way(ctx, path)
			if tree.IsUntold(err) { // it went away meanwhile, or cannot be read any more
				return nil, nil
			}
			return w, err
		}

		c.Below = func(folder string, visit func(string, perm.Kind, perm.Set) bool) error {
			node, err := node(ctx, seen, folder)
			if err != nil || node == nil {
				return err
			}

			enough := errors.New("enough")
			err = tree.WalkBelow(ctx, d.Store, node, folder, func(path string, e tree.Entry) error {
				if !visit(path, e.Kind, e.Set) {
					return enough
				}
				return nil
			})

			if errors.Is(err, enough) {
				return nil
			}

			return err
		}
	}

	var err error
	if c.Matter, err = d.matter(ctx, application, c.Host, c.Names, each); err != nil {
		return nil, err
	}

	return c.Check(each)
}

// node returns a folder's content as it was seen; nil if it was not.
func node(ctx context.Context, seen subtree.Snapshot, folder string) (*tree.Node, error) {
	_, c, err := seen.Way(ctx, folder)
	if tree.IsUntold(err) {
		return nil, nil
	}
	return c.Node, err
}

// matter returns the accounts that matter to an application: those that its baseline names, and those in the plan's
// own states.
func (d *Engine) matter(
	ctx context.Context, application, host string, dir *perm.Directory, each eachStep,
) (out []perm.Principal, err error) {
	add := func(id perm.Principal) {
		if len(out) < maxMatter && !dir.IsGroup(id) && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	e, err := d.Store.Edition(ctx, application, 0)
	if err == nil {
		doc, err := d.ParseOn(ctx, e.Text, host)
		if err != nil {
			return nil, err
		}
		for _, id := range baseline.Named(doc, dir) {
			add(id)
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}

	seen := map[perm.Set]bool{}
	return out, each(func(s plan.Step) error {
		for _, set := range []perm.Set{s.Before, s.After} {
			if seen[set] {
				continue
			}
			seen[set] = true
			for _, m := range perm.Mentioned(set, dir) {
				add(m.ID)
			}
		}

		return nil
	})
}
