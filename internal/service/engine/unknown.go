package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"idletally/internal/core/verdict"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const (
	looksEvery = time.Minute
	// lasting is how long a place is in a state before that is told: a host that is just being looked at is known
	// again soon.
	lasting = 2 * time.Minute
)

// notKnown are the states that are told: it is not known how the place stands now.
var notKnown = []verdict.State{verdict.Never, verdict.Failed, verdict.Old, verdict.Behind, verdict.Unread}

// TellLooks tells of places that are not known any more as of now, and of those that are again.
func (d *Engine) TellLooks(ctx context.Context, at time.Time) error {
	before, err := d.Store.Unknowns(ctx)
	if err != nil {
		return err
	}

	was := make(map[where]store.Unknown, len(before))
	for _, u := range before {
		was[where{u.Application, u.Host}] = u
	}

	var all error
	err = d.eachPlace(ctx, at, func(application, host string, l verdict.Look) {
		key := where{application, host}
		u, ok := was[key]
		delete(was, key)
		state := l.State(at)
		if !slices.Contains(notKnown, state) {
			state = ""
		}

		if ok || state != "" {
			u.Application, u.Host = application, host
			all = errors.Join(all, d.tellLook(ctx, u, string(state), l, at))
		}
	})

	if err != nil {
		return errors.Join(all, err)
	}

	for _, u := range was { // no baseline is for it any more
		all = errors.Join(all, d.tellLook(ctx, u, "", verdict.Look{}, at))
	}

	return all
}

// tellLook records the state of a place, and tells of it when it has lasted.
func (d *Engine) tellLook(ctx context.Context, u store.Unknown, state string, l verdict.Look, at time.Time) error {
	switch {
	case u.Since.IsZero() || u.State != state:
		u.State, u.Since = state, at
		return d.Store.SetUnknown(ctx, u)
	case u.State == u.Told && state == "":
		return d.Store.DropKnown(ctx, u)
	case u.State == u.Told || at.Sub(u.Since) < lasting:
		return nil
	}

	mine, err := d.Store.TellUnknown(ctx, u)
	if err != nil || !mine {
		return err
	}

	n := wire.LooksNotice{Application: u.Application, Host: u.Host, State: u.State, Says: l.Says(at)}
	if state == "" {
		n.State, n.Says = "known", "no published baseline is for it any more"
	}

	if !l.At.IsZero() {
		n.Looked = &l.At
	}

	if state == "" && n.Looked != nil {
		n.Says = "known again"
	}

	return d.tell(ctx, wire.NoticeLooks, u.Application, u.Application+"/"+u.Host, nil, n)
}

// eachPlace tells how each application is known on each of its hosts.
func (d *Engine) eachPlace(
	ctx context.Context, at time.Time, visit func(application, host string, l verdict.Look),
) error {
	reports, err := d.Store.CurrentReports(ctx)
	if err != nil {
		return err
	}

	current := make(map[where]*store.Report, len(reports))
	for i, r := range reports {
		current[where{r.Application, r.Host}] = &reports[i]
	}

	known, err := d.Known(ctx, "", "", reports, at, 0)
	if err != nil {
		return err
	}
	apps, err := d.Store.Applications(ctx)
	if err != nil {
		return err
	}

	var all error
	for _, a := range apps {
		e, _, hosts, err := d.Published(ctx, a.Application)
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				all = errors.Join(all, err) // the others are told of all the same
			}
			continue
		}
		for _, h := range hosts {
			r := current[where{a.Application, h.Name}]
			visit(a.Application, h.Name, known.Of(e, h, r, 0))
		}
	}

	return all
}
