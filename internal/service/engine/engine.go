// Package engine is the work of the service that is neither network nor storage: checking baselines against hosts,
// comparing snapshots with them, and drafting plans.
package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/plan"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// An Engine does this work on one store.
type Engine struct {
	Store *store.Store
	Log   *slog.Logger
	Memo  *drift.Memo // of folders that are as declared, on whichever host

	HookSecret func(hook string) []byte // by which a hook's notices are signed
	Mail       *Mail                    // nil: no notice goes by mail

	// Files asks a host which files lie at the paths of some steps, at most plan.StepsPerChunk of them. It returns
	// those of the steps whose paths are as they were seen, with the files, and why the others are not. ErrSilent
	// says that the host does not answer.
	Files func(
		ctx context.Context, host string, roots []string, steps []plan.Step,
	) (known []plan.Step, left []wire.Denied, err error)

	// Place waits until there is room for one of the chores. It may be nil.
	Place func(ctx context.Context, chore string) (within context.Context, leave func(), err error)

	// Shown is called when a snapshot from an agent has its report, and can be seen. It may be nil.
	Shown func(context.Context, store.Comparison)

	now     func() time.Time // by which notices are gathered; nil is the clock
	checked checked
	given   bell
	parsed  parsed
}

// ErrSilent says that a host does not answer.
var ErrSilent = errors.New("the host does not answer")

// ErrBad says that what was asked for cannot be done as it was asked.
var ErrBad = errors.New("cannot do this")

// Parse reads a text for no host in particular, with what it includes.
func (d *Engine) Parse(ctx context.Context, text string) (*baseline.Document, error) {
	return d.parse(ctx, text, baseline.Env{})
}

// ParseOn reads a text as it reads for one host.
func (d *Engine) ParseOn(ctx context.Context, text, host string) (*baseline.Document, error) {
	h, err := d.Store.Host(ctx, host)
	if err != nil {
		return nil, err
	}
	return d.parse(ctx, text, baseline.Env{Host: h.Name, Tags: h.Tags()})
}

// Check parses a text and says what the hosts it applies to cannot follow.
func (d *Engine) Check(ctx context.Context, text string) (*baseline.Document, wire.Checked, error) {
	out := wire.Checked{
		Hosts:    []string{},
		Errors:   []*baseline.Error{},
		Problems: []wire.HostProblem{},
		Warnings: []baseline.Warning{},
	}

	doc, err := d.Parse(ctx, text)
	if err != nil {
		var faults baseline.Errors
		if !errors.As(err, &faults) {
			return nil, out, err
		}

		out.Errors = faults
		return nil, out, nil
	}

	out.OK = true
	out.Application = doc.Application
	out.Rules = len(doc.Rules)
	hosts, err := d.hosts(ctx, doc)
	if err != nil {
		return nil, out, err
	}
	looks, err := d.lastLooks(ctx, doc.Application, hosts)
	if err != nil {
		return nil, out, err
	}

	for _, h := range hosts {
		out.Hosts = append(out.Hosts, h.Name)
		own := doc
		if doc.Varies {
			var faults baseline.Errors
			if own, err = d.ParseOn(ctx, text, h.Name); errors.As(err, &faults) {
				out.OK = false
				for _, f := range faults {
					out.Errors = append(out.Errors, &baseline.Error{
						Position: f.Position,
						Message:  "on host " + h.Name + ": " + f.Message,
					})
				}
				continue
			} else if err != nil {
				return nil, out, err
			}
		}

		i := slices.IndexFunc(looks, func(l lastLook) bool { return l.host == h.Name })
		if i < 0 {
			continue
		}

		_, problems := baseline.Compile(own, looks[i].dir)
		for _, p := range problems {
			out.Problems = append(out.Problems, wire.HostProblem{Host: h.Name, Problem: p})
		}
	}

	if out.OK {
		if out.Warnings, err = d.warn(ctx, doc, text, looks); err != nil {
			return nil, out, err
		}
	}

	for _, name := range doc.HostNames {
		if !slices.Contains(out.Hosts, name) {
			out.Problems = append(out.Problems, wire.HostProblem{
				Host: name,
				Problem: baseline.Problem{Position: baseline.Position{Line: 1, Column: 1},
					Message: fmt.Sprintf("no host is called %q: invite it with: idletally host invite %s", name, name)},
			})
		}
	}

	return doc, out, nil
}

func (d *Engine) hosts(ctx context.Context, doc *baseline.Document) (out []store.Host, err error) {
	for after := ""; ; {
		page, err := d.Store.Hosts(ctx, after, 500)
		if err != nil {
			return nil, err
		}
		for _, h := range page {
			if doc.Applies(h.Name, h.Tags()) {
				out = append(out, h)
			}
			after = h.Name
		}
		if len(page) < 500 {
			return out, nil
		}
	}
}

// Published parses an application's published edition and lists its hosts.
func (d *Engine) Published(
	ctx context.Context, application string,
) (store.Edition, *baseline.Document, []store.Host, error) {
	e, err := d.Store.Edition(ctx, application, 0)
	if err != nil {
		return e, nil, nil, err
	}
	doc, err := d.Parse(ctx, e.Text)
	if err != nil {
		return e, nil, nil, fmt.Errorf("edition %d of %s: %w", e.Number, application, err)
	}
	hosts, err := d.hosts(ctx, doc)
	return e, doc, hosts, err
}

// AskSnapshot asks for a snapshot of an application on one of its hosts. Roots are for an application without a
// baseline, which would otherwise say them.
func (d *Engine) AskSnapshot(ctx context.Context, ask wire.NewSnapshot, by string) (string, error) {
	_, one, err := d.asker(ctx, ask.Application,
		wire.NewSnapshots{Whole: ask.Whole, Roots: ask.Roots, Cross: ask.Cross}, by)
	if err != nil {
		return "", err
	}
	return one(ask.Host)
}

// AskSnapshots asks for a snapshot of an application on each of its hosts, or on those that are named. A host that
// cannot be asked does not keep the others from it; asked is called for each with the outcome, in the order in which
// they are named, or else by name.
func (d *Engine) AskSnapshots(
	ctx context.Context, application string, ask wire.NewSnapshots, by string,
	asked func(host, id string, err error) error,
) error {
	hosts, one, err := d.asker(ctx, application, ask, by)
	if err != nil {
		return err
	}

	names := ask.Hosts
	if len(names) == 0 {
		for _, h := range hosts {
			names = append(names, h.Name)
		}
	}

	if len(names) == 0 {
		return fmt.Errorf("%w: no published baseline of %s applies to a host: name one, or one of its tags, in it",
			ErrBad, application)
	}

	for _, host := range names {
		id, err := one(host)
		if err != nil && !errors.Is(err, ErrBad) && !errors.Is(err, store.ErrNotFound) {
			return err // it is not the host's
		}
		if err := asked(host, id, err); err != nil {
			return err
		}
	}

	return nil
}

// asker returns the hosts of an application, and a function that asks for a snapshot of one. Its error concerns all
// of them.
func (d *Engine) asker(
	ctx context.Context, application string, ask wire.NewSnapshots, by string,
) (hosts []store.Host, one func(host string) (id string, err error), err error) {
	e, _, hosts, err := d.Published(ctx, application)
	switch {
	case len(ask.Roots) > 0 && errors.Is(err, store.ErrNotFound):
		roots, err := firstRoots(application, ask.Roots)
		return nil, func(host string) (string, error) {
			h, err := d.Store.Host(ctx, host)
			if err == nil {
				err = enrolled(h)
			}

			if err != nil {
				return "", err
			}

			return d.Store.AskSnapshot(ctx, h.Name, application, roots, true, ask.Cross, by)
		}, err

	case errors.Is(err, store.ErrNotFound):
		return nil, nil, fmt.Errorf(
			"%w: no baseline of %s is published yet that says which folders it keeps: name them as roots", ErrBad,
			application)
	case err != nil:
		return nil, nil, err
	case len(ask.Roots) > 0, ask.Cross:
		return nil, nil, fmt.Errorf(
			"%w: the published baseline of %s says which folders it keeps, and whether it enters mounts: leave "+
				"the roots out",
			ErrBad, application)
	}

	return hosts, func(host string) (string, error) {
		i := slices.IndexFunc(hosts, func(h store.Host) bool { return h.Name == host })
		if i < 0 {
			if _, err := d.Store.Host(ctx, host); err != nil {
				return "", err
			}
			return "", fmt.Errorf(
				"%w: the published baseline of %s does not apply to host %s: name the host or one of its tags in it",
				ErrBad, application, host)
		}

		if err := enrolled(hosts[i]); err != nil {
			return "", err
		}

		doc, err := d.parse(ctx, e.Text, baseline.Env{Host: host, Tags: hosts[i].Tags()})
		if err != nil {
			return "", fmt.Errorf("%w: edition %d of %s cannot be read for host %s: %w", ErrBad, e.Number, application,
				host, err)
		}

		return d.Store.AskSnapshot(ctx, host, application, doc.Roots, ask.Whole, doc.EnterMounts, by)
	}, nil
}

func enrolled(h store.Host) error {
	if h.Certificate == "" {
		return fmt.Errorf("%w: host %s has no agent yet: enrol it with the code that host invite gives", ErrBad, h.Name)
	}
	if h.Carried {
		return fmt.Errorf(
			"%w: host %s has no network: take its snapshot there with idletally snapshot save, and carry it here "+
				"for idletally snapshot import",
			ErrBad, h.Name)
	}
	return nil
}

// firstRoots reads the folders of a first look, from which a baseline can be derived.
func firstRoots(application string, roots []string) (clean []string, err error) {
	if !baseline.Name.MatchString(application) {
		return nil, fmt.Errorf("%w: application %q: want 1 to 64 of a-z 0-9 . _ -", ErrBad, application)
	}

	for _, text := range roots {
		root, err := pathname.Unescape(text)
		if err == nil {
			err = pathname.Check(root)
		}

		if err != nil {
			return nil, fmt.Errorf("%w: root %q: %w", ErrBad, text, err)
		}

		for _, other := range clean {
			if pathname.Under(root, other) || pathname.Under(other, root) {
				return nil, fmt.Errorf("%w: root %q and root %q lie in each other: keep the outer one", ErrBad, text,
					pathname.Escape(other))
			}
		}

		clean = append(clean, root)
	}

	return clean, nil
}

// Compare compares a snapshot with the published edition and stores the report.
func (d *Engine) Compare(ctx context.Context, snap store.Snapshot) error {
	e, err := d.Store.Edition(ctx, snap.Application, 0)
	if err != nil {
		return err
	}
	doc, err := d.ParseOn(ctx, e.Text, snap.Host)
	if err != nil {
		return fmt.Errorf("edition %d of %s for host %s: %w", e.Number, snap.Application, snap.Host, err)
	}
	dir, err := d.Store.Directory(ctx, snap)
	if err != nil {
		return err
	}

	m, problems := baseline.Compile(doc, dir)
	waivers, err := d.waivers(ctx, snap.Application, snap.Host)
	if err != nil {
		return err
	}
	last, err := d.Store.CurrentReport(ctx, snap.Application, snap.Host)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("the report before snapshot %s: %w", snap.ID, err)
	}
	fresh, err := d.newcomers(ctx, snap, last)
	if err != nil {
		return fmt.Errorf("what is new in snapshot %s: %w", snap.ID, err)
	}
	before, err := d.earlierThan(ctx, snap, last)
	if err != nil {
		return fmt.Errorf("what was found before snapshot %s: %w", snap.ID, err)
	}

	var found spots
	w, err := d.newReport(ctx, snap, e.Number, problems)
	if err != nil {
		return err
	}

	sum, groups, err := drift.Compare(ctx, d.Store, snap.Hash(), m, dir, d.Memo, waivers, drift.Report{
		Earlier: before,
		Finding: func(f drift.Finding) error {
			if fresh != nil && !f.Unread {
				fresh.See(f)
			}
			found.see(f)
			return w.Finding(ctx, f)
		},
		Unread: func(u drift.Unread) error { return w.Unread(ctx, u) },
	})

	if err != nil {
		return fmt.Errorf("compare snapshot %s with edition %d of %s: %w", snap.ID, e.Number, snap.Application, err)
	}
	r, err := w.End(ctx, sum, groups)
	if err != nil {
		return err
	}

	if err := d.tellFindings(ctx, r, groups); err != nil { // the report stands all the same
		d.Log.Error("notices of a report", "report", r.ID, "error", err)
	}
	if fresh != nil {
		err = d.noteCauses(ctx, r, fresh, dir)
	}
	d.noteOrigins(ctx, r, found)
	return errors.Join(err, d.learn(ctx, waivers))
}

// newReport begins a report of a snapshot.
func (d *Engine) newReport(
	ctx context.Context, snap store.Snapshot, edition int, problems []baseline.Problem,
) (*store.ReportWriter, error) {
	text, err := json.Marshal(problems)
	if err != nil {
		return nil, err
	}
	return d.Store.NewReport(ctx, store.Report{
		Application: snap.Application,
		Edition:     edition,
		Host:        snap.Host,
		Snapshot:    snap.ID,
		Problems:    string(text),
	})
}

// CompareAll compares the newest snapshot of each host with a newly published edition.
func (d *Engine) CompareAll(ctx context.Context, application string) error {
	_, _, hosts, err := d.Published(ctx, application)
	if err != nil {
		return err
	}
	var all error
	for _, h := range hosts {
		snap, err := d.Store.Newest(ctx, application, h.Name)
		if err == nil {
			err = d.Compare(ctx, snap)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			all = errors.Join(all, err)
		}
	}
	return all
}

// CompareIncluding compares the newest snapshots of other applications with their baselines, if these include an
// application that has published another edition.
func (d *Engine) CompareIncluding(ctx context.Context, application string) error {
	names, err := d.Including(ctx, application)
	for _, name := range names {
		err = errors.Join(err, d.CompareAll(ctx, name))
	}
	return err
}

// Including returns the applications whose published baselines include an application's, in their order. What could not
// be read is an error besides: perhaps for what was published just now.
func (d *Engine) Including(ctx context.Context, application string) (names []string, err error) {
	all, err := d.Store.Applications(ctx)
	for _, e := range all {
		_, doc, _, parsed := d.Published(ctx, e.Application)
		switch {
		case errors.Is(parsed, store.ErrNotFound):
		case parsed != nil:
			err = errors.Join(err, parsed)
		case slices.Contains(doc.Includes, application):
			names = append(names, e.Application)
		}
	}
	slices.Sort(names)
	return names, err
}
