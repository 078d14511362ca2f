package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"idletally/internal/core/derive"
	"idletally/internal/core/lifecycle"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Derive drafts a baseline from what hosts look like that are right.
func (d *Engine) Derive(ctx context.Context, in wire.NewDerivation) (wire.Derived, error) {
	var out wire.Derived
	var hosts []derive.Seen
	add := func(snap store.Snapshot) error {
		for _, h := range hosts {
			if h.Host == snap.Host {
				return fmt.Errorf("%w: host %s is named twice: one snapshot of each host", ErrBad, snap.Host)
			}
		}

		host, err := d.Store.Host(ctx, snap.Host)
		if err != nil {
			return err
		}
		dir, err := d.Store.Directory(ctx, snap)
		if err != nil {
			return err
		}

		hosts = append(hosts, derive.Seen{
			Host:      snap.Host,
			Tags:      host.Tags(),
			Source:    d.Store,
			Forest:    snap.Hash(),
			Directory: dir,
			Note: fmt.Sprintf("host %s, snapshot %s, taken %s", snap.Host, snap.ID,
				snap.Taken.UTC().Format(time.RFC3339)),
		})

		return nil
	}

	for _, name := range in.Hosts {
		snap, err := d.Store.Newest(ctx, in.Application, name)
		if errors.Is(err, store.ErrNotFound) {
			return out, fmt.Errorf("%w: host %s has no snapshot of %s yet: take one first", ErrBad, name,
				in.Application)
		}

		if err == nil {
			err = add(snap)
		}

		if err != nil {
			return out, err
		}
	}

	for _, id := range in.Snapshots {
		snap, err := d.Store.Snapshot(ctx, id)
		if err == nil && (snap.State != lifecycle.SnapshotReady || snap.Application != in.Application) {
			err = fmt.Errorf("%w: snapshot %s is no finished one of %s", ErrBad, id, in.Application)
		}

		if err == nil {
			err = add(snap)
		}

		if err != nil {
			return out, err
		}
	}

	if len(hosts) == 0 {
		return out, fmt.Errorf("%w: name hosts or snapshots that are right", ErrBad)
	}
	draft, err := derive.Baseline(ctx, in.Application, hosts)
	if errors.Is(err, derive.ErrVaried) {
		return out, fmt.Errorf("%w: %w", ErrBad, err)
	}
	if err != nil {
		return out, err
	}

	out = wire.Derived{Text: draft.Text, Places: draft.Places, Free: draft.Free, Rules: []wire.DerivedRule{}}
	for _, r := range draft.Rules {
		out.Rules = append(out.Rules, wire.DerivedRule{
			Name:   r.Name,
			Places: r.Places,
			Share:  float64(r.Places) / float64(max(draft.Places, 1)),
		})
	}

	return out, nil
}
