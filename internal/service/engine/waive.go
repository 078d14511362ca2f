package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// maxWaived is how long a waiver may last: what is for ever belongs in the baseline.
const maxWaived = 366 * 24 * time.Hour

// Waive accepts findings until a date, and compares the last snapshots with the baseline anew.
func (d *Engine) Waive(ctx context.Context, in wire.NewWaiver, by string) (store.Waiver, error) {
	var has perm.Value
	_, doc, hosts, err := d.Published(ctx, in.Application)
	if err == nil && in.Group != "" {
		has, err = d.ofGroup(ctx, hosts, &in)
	}

	w := store.Waiver{
		Application: in.Application,
		Host:        in.Host,
		Pattern:     in.Paths,
		Rule:        in.Rule,
		Kind:        in.Kind,
		Aspect:      in.Aspect,
		Found:       in.Found,
		FoundValue:  string(has),
		Reason:      in.Reason,
		Author:      by,
		Ends:        in.Ends,
	}

	if err != nil {
		return w, err
	}
	if err := checkWaiver(in, doc, hosts); err != nil {
		return w, err
	}
	if w.ID, err = d.Store.AddWaiver(ctx, w); err != nil {
		return w, err
	}

	return w, d.CompareAll(ctx, in.Application)
}

// checkWaiver returns what is wrong with a waiver, if anything is.
func checkWaiver(in wire.NewWaiver, doc *baseline.Document, hosts []store.Host) error {
	if _, err := baseline.ParsePattern(in.Paths); err != nil {
		return fmt.Errorf("%w: %w", ErrBad, err)
	}

	left := time.Until(in.Ends)
	switch {
	case left <= 0:
		return fmt.Errorf("%w: the waiver would end before it begins: give a date to come", ErrBad)
	case left > maxWaived:
		return fmt.Errorf("%w: a waiver lasts a year at most: what is to stay belongs in the baseline", ErrBad)
	case in.Host != "" && !slices.ContainsFunc(hosts, func(h store.Host) bool { return h.Name == in.Host }):
		return fmt.Errorf("%w: the baseline of %s does not apply to host %s", ErrBad, in.Application, in.Host)
	case in.Rule != "" && !slices.ContainsFunc(doc.Rules, func(r baseline.Rule) bool { return r.Name == in.Rule }):
		return fmt.Errorf("%w: the published baseline of %s has no rule %q", ErrBad, in.Application, in.Rule)
	case in.Kind != "" && new(perm.Kind).UnmarshalText([]byte(in.Kind)) != nil:
		return fmt.Errorf("%w: kind %q is unknown: file, folder, link and so on", ErrBad, in.Kind)
	case in.Aspect != "" && !slices.Contains(perm.AllAspects, perm.Aspect(in.Aspect)):
		return fmt.Errorf("%w: aspect %q is unknown", ErrBad, in.Aspect)
	}

	return nil
}

// ofGroup makes a waiver one of the findings of a group: on its host, of the same rule, kind and aspect, in the
// folder that holds them all. It returns the value that was found.
func (d *Engine) ofGroup(ctx context.Context, hosts []store.Host, in *wire.NewWaiver) (has perm.Value, err error) {
	if in.Paths != "" {
		return "", fmt.Errorf("%w: say which findings: by paths, or by their group", ErrBad)
	}

	for _, h := range hosts {
		if in.Host != "" && in.Host != h.Name {
			continue
		}
		r, err := d.Store.CurrentReport(ctx, in.Application, h.Name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return "", err
		}
		groups, err := d.Store.Groups(ctx, r.ID, maxGroups)
		if err != nil {
			return "", err
		}

		for _, g := range groups {
			if g.ID != in.Group { // of the host that was named, or the first that shows it
				continue
			}

			paths := baseline.Quote(string(g.Example))
			if g.Count > 1 {
				paths = strings.TrimSuffix(baseline.Quote(string(g.Folder)), "/") + "/**"
			}

			in.Host, in.Paths, in.Rule, in.Kind, in.Aspect, in.Found = h.Name, pathname.Escape(paths), g.Rule,
				g.Kind.String(), string(g.Aspect), g.Found
			return g.Has, nil
		}
	}

	return "", fmt.Errorf("%w: no group %q in the newest reports of %s: see idletally drift show", ErrBad, in.Group,
		in.Application)
}

// waivers returns those that apply to a host.
func (d *Engine) waivers(ctx context.Context, application, host string) (*drift.Waivers, error) {
	rows, err := d.Store.CountingWaivers(ctx, application)
	if err != nil {
		return nil, err
	}

	var list []drift.Waiver
	for _, w := range rows {
		if w.Host == "" || w.Host == host {
			list = append(list, drift.Waiver{
				ID:      w.ID,
				Pattern: w.Pattern,
				Rule:    w.Rule,
				Kind:    w.Kind,
				Aspect:  perm.Aspect(w.Aspect),
				Has:     perm.Value(w.FoundValue),
				Found:   w.Found,
			})
		}
	}

	return drift.NewWaivers(list)
}

// learn stores what the words of waivers were found to stand for.
func (d *Engine) learn(ctx context.Context, w *drift.Waivers) error {
	for id, value := range w.Meant() {
		if err := d.Store.LearnWaiver(ctx, id, string(value)); err != nil {
			return fmt.Errorf("what waiver %s accepts: %w", id, err)
		}
	}
	return nil
}

// Waived returns for a report's groups which waiver accepts them now.
func (d *Engine) Waived(ctx context.Context, r store.Report, groups []store.Group) (map[string]store.Waiver, error) {
	if !slices.ContainsFunc(groups, func(g store.Group) bool { return g.Waiver != "" }) {
		return nil, nil
	}
	rows, err := d.Store.CountingWaivers(ctx, r.Application)
	if err != nil {
		return nil, err
	}
	out := map[string]store.Waiver{}
	for _, g := range groups {
		if i := slices.IndexFunc(rows, func(w store.Waiver) bool { return w.ID == g.Waiver }); i >= 0 {
			out[g.ID] = rows[i]
		}
	}
	return out, nil
}
