package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// WatchMark changes whenever a host may have to watch something else.
func (d *Engine) WatchMark(ctx context.Context, h store.Host) (string, error) {
	mark, err := d.Store.PublishedMark(ctx)
	return mark + " " + h.TagList, err
}

// WatchList returns what a host's agent is to watch: the roots of every published baseline that applies to it.
func (d *Engine) WatchList(ctx context.Context, h store.Host) (out []wire.WatchedPlace, err error) {
	out = []wire.WatchedPlace{}
	all, err := d.Store.Applications(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		roots, crossing, err := d.watched(ctx, a.Application, h)
		if err != nil && !errors.Is(err, ErrBad) && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if err == nil {
			out = append(out, wire.WatchedPlace{Application: a.Application, Roots: roots, Cross: crossing})
		}
	}
	return out, nil
}

// watched returns the roots of an application on a host, escaped, and whether other file systems below are kept.
func (d *Engine) watched(
	ctx context.Context, application string, h store.Host,
) (roots []string, crossing bool, err error) {
	e, err := d.Store.Edition(ctx, application, 0)
	if err != nil {
		return nil, false, err
	}

	doc, err := d.ParseOn(ctx, e.Text, h.Name)
	if err != nil {
		return nil, false, fmt.Errorf("%w: edition %d of %s cannot be read for host %s: %w", ErrBad, e.Number,
			application, h.Name, err)
	}
	if !doc.Applies(h.Name, h.Tags()) {
		return nil, false, fmt.Errorf("%w: the published baseline of %s does not apply to host %s", ErrBad, application,
			h.Name)
	}

	roots = pathname.EscapeAll(doc.Roots)
	slices.Sort(roots)
	return roots, doc.EnterMounts, nil
}

// maxActs bounds how many acts of processes are accepted with one snapshot.
const maxActs = 1000

// TakeHeard takes a snapshot that an agent made of its own accord, and has it compared with the baseline. It takes
// none that says what is known already: an agent that starts does not know what is.
func (d *Engine) TakeHeard(ctx context.Context, h store.Host, application string, in wire.Heard) error {
	roots, crossing, err := d.watched(ctx, application, h)
	if err != nil {
		return err
	}
	slices.Sort(in.Roots)
	if !slices.Equal(roots, in.Roots) || crossing != in.Cross {
		return fmt.Errorf("another edition of %s keeps other folders: %w", application, store.ErrConflict)
	}

	var raw []string
	for _, r := range roots {
		root, err := pathname.Unescape(r)
		if err != nil {
			return err
		}
		raw = append(raw, root)
	}

	var acts []wire.Act
	for _, a := range in.Acts[:min(len(in.Acts), maxActs)] {
		if slices.ContainsFunc(raw, func(r string) bool { return pathname.Under(string(a.Path), r) }) {
			acts = append(acts, sound(a))
		}
	}

	if err := d.Store.KeepActs(ctx, application, h.Name, acts); err != nil {
		return err
	}
	if same, err := d.known(ctx, application, h.Name, in.SnapshotDone); err != nil || same {
		return err
	}
	if _, err := d.Store.AddHeard(ctx, application, h.Name, raw, crossing, in.SnapshotDone); err != nil {
		return err
	}

	d.Given()
	return nil
}

// known reports whether the newest snapshot of a place says exactly the same.
func (d *Engine) known(ctx context.Context, application, host string, done wire.SnapshotDone) (bool, error) {
	last, err := d.Store.Latest(ctx, application, host)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	_, accounts, err := done.Directory.Encode()
	if err != nil {
		return false, err
	}
	ways, err := json.Marshal(done.Ways)
	if err != nil {
		return false, err
	}

	denied, err := json.Marshal(done.Denied)
	return last.Hash() == done.Forest && string(last.Directory) == string(accounts[:]) && last.WaysText != nil &&
			*last.WaysText == string(ways) && last.Denied == string(denied),
		err
}

// byWithin is how long before a finding was seen its cause may have happened: snapshots made of the host's own accord
// follow within seconds, or minutes if there is much to do.
const byWithin = 15 * time.Minute

// By returns who did the last thing to paths of a report, if that may have made what has been found there since a
// time.
func (d *Engine) By(ctx context.Context, r store.Report, since map[string]time.Time) (map[string]wire.Act, error) {
	if len(since) == 0 {
		return nil, nil
	}

	from := r.Created
	var paths []string
	for p, at := range since {
		paths = append(paths, p)
		if at.Before(from) {
			from = at
		}
	}

	acts, err := d.Store.Acts(ctx, r.Application, r.Host, paths, from.Add(-byWithin), r.Created)
	for p, a := range acts {
		if !mayHaveMade(a, since[p]) {
			delete(acts, p)
		}
	}

	return acts, err
}

// mayHaveMade reports whether an act may have made what was found since a time.
func mayHaveMade(a wire.Act, since time.Time) bool { return !a.At.Before(since.Add(-byWithin)) }

// sound keeps what an agent says of a process within bounds: the agent may be controlled by anybody.
func sound(a wire.Act) wire.Act {
	a.Others = nil // which the service tells, from what it was given before
	for _, s := range []*string{&a.What, &a.Command, &a.Program, &a.Account, &a.Login} {
		*s = strings.ToValidUTF8((*s)[:min(len(*s), 256)], "")
		*s = strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return -1
			}
			return r
		}, *s)
	}
	if now := time.Now(); a.At.After(now) || a.At.Before(now.Add(-24*time.Hour)) {
		a.At = now.UTC()
	}
	return a
}
