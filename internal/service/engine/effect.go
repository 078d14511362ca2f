package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// lastLook is a host of an application with its newest snapshot.
type lastLook struct {
	host string
	snap store.Snapshot
	dir  *perm.Directory
}

// key names what was seen: if it is equal, tree and accounts are.
func (l lastLook) key() string { return string(l.snap.Forest) + string(l.snap.Directory) }

// lastLooks returns the newest snapshots of an application on hosts; those without one are left out.
func (d *Engine) lastLooks(ctx context.Context, application string, hosts []store.Host) (out []lastLook, err error) {
	for _, h := range hosts {
		l, err := d.lastLook(ctx, application, h.Name)
		if err != nil {
			return nil, err
		}
		if l != nil {
			out = append(out, *l)
		}
	}
	return out, nil
}

// lastLook returns the newest snapshot on a host, nil if there is none.
func (d *Engine) lastLook(ctx context.Context, application, host string) (*lastLook, error) {
	snap, err := d.Store.Newest(ctx, application, host)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	dir, err := d.Store.Directory(ctx, snap)
	return &lastLook{host, snap, dir}, err
}

func (d *Engine) matcher(ctx context.Context, text string, l lastLook) (*baseline.Matcher, error) {
	doc, err := d.ParseOn(ctx, text, l.host)
	if err != nil {
		return nil, err
	}
	m, _ := baseline.Compile(doc, l.dir)
	return m, nil
}

// maxWalks bounds the snapshots that one check walks.
const maxWalks = 20

// warn looks for what is probably not meant, on each host that has a snapshot, and puts equal
// warnings of several hosts together.
func (d *Engine) warn(
	ctx context.Context, doc *baseline.Document, text string, looks []lastLook,
) ([]baseline.Warning, error) {
	var out []baseline.Warning
	add := func(host string, all []baseline.Warning) {
		for _, w := range all {
			i := slices.IndexFunc(out, func(x baseline.Warning) bool {
				return x.Position == w.Position && x.About == w.About
			})
			if i < 0 {
				out = append(out, w)
				i = len(out) - 1
			}
			if host != "" {
				out[i].Hosts = append(out[i].Hosts, host)
			}
		}
	}

	if len(looks) == 0 {
		m, _ := baseline.Compile(doc, (&perm.Directory{}).Index())
		all, err := baseline.Warn(baseline.Facts{Matcher: m})
		add("", all)
		return out, err
	}

	seen := 0
	walked := map[string]bool{}
	for _, l := range looks {
		// Equal hosts say the same, and of many different ones some say enough.
		if walked[l.key()] && !doc.Varies {
			continue
		}
		walked[l.key()] = true
		if seen == maxWalks {
			break
		}
		m, err := d.matcher(ctx, text, l)
		if err != nil {
			return nil, err
		}

		all, err := baseline.Warn(baseline.Facts{
			Matcher: m,
			Walk: func(visit func(string, perm.Kind, perm.Set) error) error {
				return tree.Walk(ctx, d.Store, l.snap.Hash(), func(path string, e tree.Entry) error {
					return visit(path, e.Kind, e.Set)
				})
			},
		})

		if err != nil {
			return nil, fmt.Errorf("look for warnings on host %s: %w", l.host, err)
		}

		seen++
		add(l.host, all)
	}

	// Something that matches on one host and not on another is as it should be: hosts differ.
	out = slices.DeleteFunc(out, func(w baseline.Warning) bool {
		return (w.About == baseline.NeverMatches || w.About == baseline.Overruled && w.Example != "") &&
			len(w.Hosts) < seen
	})
	slices.SortStableFunc(out, func(a, b baseline.Warning) int { return (a.Line-b.Line)*10000 + a.Column - b.Column })
	return out, nil
}

// Effect returns how a text would judge the last snapshots, beside another text of the application; an empty one
// declares nothing.
func (d *Engine) Effect(ctx context.Context, old, text string) (wire.EditionEffect, error) {
	out := wire.EditionEffect{Hosts: []wire.HostEffect{}}
	doc, err := d.Parse(ctx, text)
	if err != nil {
		return out, fmt.Errorf("%w: %w", ErrBad, err)
	}

	varies := doc.Varies
	if old != "" {
		before, err := d.Parse(ctx, old)
		if err != nil {
			return out, fmt.Errorf("the edition before: %w", err)
		}
		varies = varies || before.Varies
	}

	out.Application = doc.Application
	hosts, err := d.hosts(ctx, doc)
	if err != nil {
		return out, err
	}
	looks, err := d.lastLooks(ctx, doc.Application, hosts)
	if err != nil {
		return out, err
	}

	known := map[string]*wire.HostEffect{} // equal hosts are judged once
	for _, l := range looks {
		if equal := known[l.key()]; equal != nil && !varies {
			h := *equal
			h.Host, h.Snapshot = l.host, l.snap.ID
			out.Hosts = append(out.Hosts, h)
			continue
		}

		fresh, err := d.matcher(ctx, text, l)
		if err != nil {
			return out, fmt.Errorf("%w: on host %s: %w", ErrBad, l.host, err)
		}

		var before *baseline.Matcher
		if old != "" {
			if before, err = d.matcher(ctx, old, l); err != nil {
				return out, fmt.Errorf("the edition before, on host %s: %w", l.host, err)
			}
		}

		v, shifts, err := drift.Judge(ctx, d.Store, l.snap.Hash(), before, fresh, l.dir)
		if err != nil {
			return out, err
		}

		h := wire.HostEffect{
			Host:     l.host,
			Snapshot: l.snap.ID,
			Before:   v.Before,
			After:    v.After,
			New:      v.New,
			Gone:     v.Gone,
			Changed:  v.Changed,
			Shifts:   []wire.Shift{},
		}

		for _, s := range shifts {
			h.Shifts = append(h.Shifts, wire.Shift{
				Kind:    s.Kind.String(),
				Aspect:  string(s.Aspect),
				Found:   s.Found,
				Was:     s.Was,
				Is:      s.Is,
				OldRule: s.OldRule,
				NewRule: s.NewRule,
				Word:    s.Effect.Word(),
				Meaning: s.Effect.String(),
				Count:   s.Count,
				Folder:  s.Folder.String(),
				Example: s.Example.String(),
			})
		}

		out.Hosts = append(out.Hosts, h)
		known[l.key()] = &h
	}

	for _, h := range hosts {
		if !slices.ContainsFunc(looks, func(l lastLook) bool { return l.host == h.Name }) {
			out.Unseen = append(out.Unseen, h.Name)
		}
	}

	return out, nil
}

// Explain returns which rule decides which aspect of a path, by an edition on a host. The path's state comes from the
// last snapshot; a path that is not in it is treated as a file without anything.
func (d *Engine) Explain(ctx context.Context, e store.Edition, host, path string) (wire.Explained, error) {
	out := wire.Explained{Host: host, Edition: e.Number}
	l, err := d.lastLook(ctx, e.Application, host)
	if err != nil {
		return out, err
	}
	if l == nil {
		return out, fmt.Errorf("%w: host %s has no snapshot of %s yet: take one first", ErrBad, host, e.Application)
	}
	m, err := d.matcher(ctx, e.Text, *l)
	if err != nil {
		return out, err
	}

	found := perm.Found{Kind: perm.File}
	switch way, _, err := tree.Trace(ctx, d.Store, l.snap.Hash(), path); {
	case err == nil:
		var folder perm.Set // of a root nobody has seen what it lies in
		if len(way) > 1 {
			folder = way[len(way)-2].Set
		}

		at := way[len(way)-1]
		found, out.Seen = perm.In(folder, at.Kind, at.Set), true
	case !tree.IsUntold(err):
		return out, err
	}

	out.Kind, out.Explanation = found.Kind.String(), m.Explain(path, found)
	return out, nil
}

// Editions reads two editions of an application; number 0 is the published one. Where none is published yet, the first
// of them says nothing.
func (d *Engine) Editions(ctx context.Context, application string, a, b int) (old, fresh store.Edition, err error) {
	if fresh, err = d.Store.Edition(ctx, application, b); err != nil {
		return old, fresh, err
	}
	old, err = d.Store.Edition(ctx, application, a)
	if a == 0 && errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	return old, fresh, err
}

// Against returns the text that an application's next edition is compared with: the published one, or none.
func (d *Engine) Against(ctx context.Context, text string) (string, error) {
	doc, err := d.Parse(ctx, text)
	if err != nil {
		return "", fmt.Errorf("%w: %s", ErrBad, strings.TrimSpace(err.Error()))
	}
	e, err := d.Store.Edition(ctx, doc.Application, 0)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return e.Text, err
}
