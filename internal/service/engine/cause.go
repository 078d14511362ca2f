package engine

import (
	"context"
	"errors"

	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/service/store"
)

// newcomers returns what a snapshot has and the previous one did not have; nil if there is none before, or if the
// snapshot was compared already: last is the newest report of its place.
func (d *Engine) newcomers(ctx context.Context, snap store.Snapshot, last store.Report) (*drift.Newcomers, error) {
	if last.Snapshot == snap.ID {
		return nil, nil
	}
	before, err := d.Store.Before(ctx, snap)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return drift.FindNewcomers(ctx, d.Store, before.Hash(), snap.Hash())
}

// noteCauses stores why new paths came out wrong, and why what was mended is wrong again.
func (d *Engine) noteCauses(ctx context.Context, r store.Report, fresh *drift.Newcomers, dir *perm.Directory) error {
	found, err := fresh.Causes(ctx, dir)
	if err != nil {
		return err
	}

	var causes []store.Cause
	for _, c := range found {
		causes = append(causes, store.Cause{
			Folder:   []byte(c.Folder),
			Kind:     uint8(c.Kind),
			Aspect:   string(c.Aspect),
			Paths:    c.Paths,
			Example:  []byte(c.Example),
			Declared: c.Declared,
			Found:    c.Found,
			Why:      c.Why,
			Instead:  c.Instead,
		})
	}

	back, err := d.cameBack(ctx, r)
	if err != nil {
		return err
	}
	known, err := d.Store.Causes(ctx, r.Application, r.Host, r.Created.AddDate(-1, 0, 0), 0, store.MaxCauses)
	if err != nil {
		return err
	}

	var mended []store.Cause
	for _, c := range known {
		if fresh.Mended(drift.Spot{Folder: string(c.Folder), Kind: perm.Kind(c.Kind), Aspect: perm.Aspect(c.Aspect)}) {
			mended = append(mended, c)
		}
	}

	return d.Store.NoteCauses(ctx, r.Application, r.Host, r.Created, append(causes, back...), mended)
}

// cameBack gathers, folder by folder, what was mended and is wrong again.
func (d *Engine) cameBack(ctx context.Context, r store.Report) ([]store.Cause, error) {
	if r.Returned == 0 {
		return nil, nil
	}
	groups, err := d.Store.Groups(ctx, r.ID, maxGroups)
	if err != nil {
		return nil, err
	}

	texts := map[string]store.Group{}
	for _, g := range groups {
		texts[g.ID] = g
	}

	rows, err := d.Store.Returned(ctx, r, 10_000)
	if err != nil {
		return nil, err
	}

	type spot struct {
		folder, aspect string
		kind           perm.Kind
	}
	by := map[spot]int{}
	var out []store.Cause

	for _, f := range rows {
		g := texts[f.Group]
		if g.Waiver != "" || f.Aspect == string(perm.AspectPresence) {
			continue
		}

		at := spot{pathname.Folder(string(f.Path)), f.Aspect, f.Kind}
		i, ok := by[at]
		if !ok {
			if len(out) == store.MaxCauses {
				continue
			}

			i = len(out)
			by[at] = i
			out = append(out, store.Cause{
				Folder:   []byte(at.folder),
				Kind:     uint8(f.Kind),
				Aspect:   f.Aspect,
				Again:    true,
				Example:  f.Path,
				Declared: g.Declared,
				Found:    g.Found,
				Why: "it was as declared, and is wrong again: something on the host sets it, such as a " +
					"deployment, a scheduled job, or files put back from an archive",
				Instead: "give what runs there the declared owner and modes, or declare what it needs",
			})
		}

		out[i].Paths++
	}

	return out, nil
}
