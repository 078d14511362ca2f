package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/wish"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Bounds of what is told of changes that nobody has drafted yet: a plan tells the rest.
const (
	maxForeseenGroups   = 200
	maxForeseenLeft     = 100
	maxForeseenAffected = 200 // who gains, and as many who lose
)

// Foresee returns what changes would come to, from how the hosts were seen last. Nothing is stored, and no host is
// asked: a plan of the same may leave more.
func (d *Engine) Foresee(ctx context.Context, ask wire.Foresee) (out wire.Foreseen, err error) {
	if out.Text, err = wish.Changes(ask.Wishes); err != nil {
		return out, fmt.Errorf("%w: %w", ErrBad, err)
	}
	if out.Rules, err = wish.Rules(ask.Wishes, "wished"); err != nil {
		out.NoRules = err.Error()
	}

	b := &builder{d: d, steps: map[string][]plan.Step{}, ask: wire.Draft{
		Application: ask.Application,
		Hosts:       ask.Hosts,
		Changes:     out.Text,
	}}
	if err := d.adjustment(ctx, b); err != nil {
		return out, err
	}

	out.Steps, out.Hosts = b.total, []wire.ForeseenHost{}
	out.Cautions = []plan.Caution{}
	for _, part := range b.parts {
		h, cautions, err := d.foreseeHost(ctx, b, part)
		if err != nil {
			return out, err
		}
		out.Hosts = append(out.Hosts, h)
		out.Cautions = append(out.Cautions, cautions...)
	}
	graveFirst(out.Cautions)

	out.Gains, out.Losses, out.MoreGains, out.MoreLosses = affected(b.groups)
	slices.SortStableFunc(b.groups, func(x, y wire.PlanGroup) int { return cmp.Compare(y.Count, x.Count) })
	out.Groups = append([]wire.PlanGroup{}, b.groups[:min(len(b.groups), maxForeseenGroups)]...)
	out.MoreGroups = len(b.groups) - len(out.Groups)
	out.Left = append([]wire.Left{}, b.left[:min(len(b.left), maxForeseenLeft)]...)
	out.MoreLeft = len(b.left) - len(out.Left) + b.more
	return out, nil
}

// foreseeHost returns what is foreseen of one host, and what is to be wary of there.
func (d *Engine) foreseeHost(
	ctx context.Context, b *builder, part plan.HostPart,
) (h wire.ForeseenHost, cautions []plan.Caution, err error) {
	h = wire.ForeseenHost{Host: part.Host, Steps: part.Steps}
	snap, err := d.Store.Newest(ctx, b.ask.Application, part.Host)
	if err != nil {
		return h, nil, err
	}
	h.Snapshot, h.Taken = snap.ID, snap.Taken

	each := func(visit func(plan.Step) error) error {
		for _, s := range b.steps[part.Host] {
			if err := visit(s); err != nil {
				return err
			}
		}
		return nil
	}
	if cautions, err = d.check(ctx, plan.Checker{Host: part.Host}, b.ask.Application, snap, each); err != nil {
		return h, nil, err
	}
	return h, cautions, d.againstBaseline(ctx, b.ask.Application, snap, each, &h)
}

// againstBaseline counts the steps that bring a path to what is declared, and those that lead away from it.
func (d *Engine) againstBaseline(
	ctx context.Context, application string, snap store.Snapshot, each eachStep, h *wire.ForeseenHost,
) error {
	e, err := d.Store.Edition(ctx, application, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	doc, err := d.ParseOn(ctx, e.Text, snap.Host)
	if err != nil {
		return err
	}
	dir, err := d.Store.Directory(ctx, snap)
	if err != nil {
		return err
	}

	h.Edition = e.Number
	rules, _ := baseline.Compile(doc, dir)
	then := map[string]perm.Set{} // folders, as they will be
	return each(func(s plan.Step) error {
		if s.Kind == perm.Folder {
			then[s.Path] = s.After
		}
		declared := func(in, set perm.Set) bool {
			want := rules.Desired(rules.Root(s.Path), s.Kind, set)
			return want == nil || len(want.Differences(perm.In(in, s.Kind, set), dir)) == 0
		}
		switch was, is := declared(perm.Set{}, s.Before), declared(then[pathname.Folder(s.Path)], s.After); {
		case !is:
			h.Undeclared++
		case !was:
			h.Mended++
		}
		return nil
	})
}

// affected sums up who gains what by equal steps, and who loses it, whom it is about most first; and how many more of
// each there are than are told.
func affected(groups []wire.PlanGroup) (gains, losses []wire.Affected, moreGains, moreLosses int) {
	type party struct {
		who   string
		group bool
	}
	sum := func(of func(perm.Effect) []perm.Gain) ([]wire.Affected, int) {
		at := map[party]int{} // there may be as many of them as of paths
		out := []wire.Affected{}
		for _, g := range groups {
			for _, x := range of(g.Effect) {
				i, ok := at[party{x.Who, x.Group}]
				if !ok {
					i = len(out)
					at[party{x.Who, x.Group}] = i
					out = append(out, wire.Affected{Who: x.Who, Group: x.Group, Rights: []string{}})
				}
				out[i].Paths += g.Count
				for _, r := range x.Rights {
					if !slices.Contains(out[i].Rights, r) {
						out[i].Rights = append(out[i].Rights, r)
					}
				}
			}
		}
		slices.SortStableFunc(out, func(a, b wire.Affected) int { return cmp.Compare(b.Paths, a.Paths) })
		told := min(len(out), maxForeseenAffected)
		return out[:told], len(out) - told
	}
	gains, moreGains = sum(func(e perm.Effect) []perm.Gain { return e.Opens })
	losses, moreLosses = sum(func(e perm.Effect) []perm.Gain { return e.Closes })
	return gains, losses, moreGains, moreLosses
}
