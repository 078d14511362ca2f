// Package desk is the work of the service that is neither network nor storage: checking
// baselines against hosts, holding snapshots against them, and drafting plans.
package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// A Desk does it on one store.
type Desk struct {
	Store *store.Store
	Log   *slog.Logger
	Memo  *drift.Memo // of folders that are as declared, on whichever host
}

// ErrBad says that what was asked for cannot be done as it was asked.
var ErrBad = errors.New("cannot do this")

// Parse reads a text for no host in particular, with what it includes.
func (d *Desk) Parse(ctx context.Context, text string) (*baseline.Document, error) {
	return baseline.ParseFor([]byte(text), baseline.Env{Fetch: d.fetch(ctx)})
}

// ParseOn reads a text as it reads for one host.
func (d *Desk) ParseOn(ctx context.Context, text, host string) (*baseline.Document, error) {
	h, err := d.Store.Host(ctx, host)
	if err != nil {
		return nil, err
	}
	return baseline.ParseFor([]byte(text), baseline.Env{Host: h.Name, Tags: h.Tags(), Fetch: d.fetch(ctx)})
}

// fetch gives what is published of other applications, for includes.
func (d *Desk) fetch(ctx context.Context) func(string) ([]byte, error) {
	return func(application string) ([]byte, error) {
		e, err := d.Store.Edition(ctx, application, 0)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fmt.Errorf("no baseline of %s is published", application)
		}
		return []byte(e.Text), err
	}
}

// Check parses a text and says what the hosts it applies to cannot follow.
func (d *Desk) Check(ctx context.Context, text string) (*baseline.Document, wire.Checked, error) {
	out := wire.Checked{Hosts: []string{}, Errors: []*baseline.Error{}, Problems: []wire.HostProblem{}, Warnings: []baseline.Warning{}}
	doc, err := d.Parse(ctx, text)
	if err != nil {
		var faults baseline.Errors
		if !errors.As(err, &faults) {
			return nil, out, err
		}
		out.Errors = faults
		return nil, out, nil
	}
	out.OK, out.Application, out.Rules = true, doc.Application, len(doc.Rules)
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
					out.Errors = append(out.Errors, &baseline.Error{Position: f.Position, Message: "on host " + h.Name + ": " + f.Message})
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
			out.Problems = append(out.Problems, wire.HostProblem{Host: name, Problem: baseline.Problem{Position: baseline.Position{Line: 1, Column: 1},
				Message: fmt.Sprintf("no host is called %q: invite it with: idletally host invite %s", name, name)}})
		}
	}
	return doc, out, nil
}

func (d *Desk) hosts(ctx context.Context, doc *baseline.Document) (out []store.Host, err error) {
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
func (d *Desk) Published(ctx context.Context, application string) (store.Edition, *baseline.Document, []store.Host, error) {
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

// AskSnapshot has a snapshot of an application taken on one of its hosts. Roots are for an
// application without a baseline, which then says them.
func (d *Desk) AskSnapshot(ctx context.Context, ask wire.NewSnapshot, by string) (string, error) {
	application, host, roots := ask.Application, ask.Host, ask.Roots
	h, err := d.Store.Host(ctx, host)
	if err != nil {
		return "", err
	}
	e, _, hosts, err := d.Published(ctx, application)
	switch {
	case len(roots) > 0 && errors.Is(err, store.ErrNotFound):
		return d.firstLook(ctx, ask, h, by)
	case errors.Is(err, store.ErrNotFound):
		return "", fmt.Errorf("%w: no baseline of %s is published yet that says which folders it keeps: name them as roots", ErrBad, application)
	case err != nil:
		return "", err
	case len(roots) > 0, ask.Cross:
		return "", fmt.Errorf("%w: the published baseline of %s says which folders it keeps, and whether it enters mounts: leave the roots out", ErrBad, application)
	}
	if !slices.ContainsFunc(hosts, func(x store.Host) bool { return x.Name == host }) {
		return "", fmt.Errorf("%w: the published baseline of %s does not apply to host %s: name the host or one of its tags in it", ErrBad, application, host)
	}
	if err := enrolled(h); err != nil {
		return "", err
	}
	doc, err := d.ParseOn(ctx, e.Text, host)
	if err != nil {
		return "", fmt.Errorf("%w: edition %d of %s cannot be read for host %s: %w", ErrBad, e.Number, application, host, err)
	}
	return d.Store.AskSnapshot(ctx, host, application, doc.Roots, ask.Whole, doc.EnterMounts, by)
}

func enrolled(h store.Host) error {
	if h.Certificate == "" {
		return fmt.Errorf("%w: host %s has no agent yet: enrol it with the code that host invite gives", ErrBad, h.Name)
	}
	return nil
}

// firstLook has a snapshot taken from which a baseline can be derived.
func (d *Desk) firstLook(ctx context.Context, ask wire.NewSnapshot, h store.Host, by string) (string, error) {
	if !baseline.Name.MatchString(ask.Application) {
		return "", fmt.Errorf("%w: application %q: want 1 to 64 of a-z 0-9 . _ -", ErrBad, ask.Application)
	}
	var clean []string
	for _, text := range ask.Roots {
		root, err := pathname.Unescape(text)
		if err == nil {
			err = pathname.Check(root)
		}
		if err != nil {
			return "", fmt.Errorf("%w: root %q: %w", ErrBad, text, err)
		}
		for _, other := range clean {
			if pathname.Under(root, other) || pathname.Under(other, root) {
				return "", fmt.Errorf("%w: root %q and root %q lie in each other: keep the outer one", ErrBad, text, pathname.Escape(other))
			}
		}
		clean = append(clean, root)
	}
	if err := enrolled(h); err != nil {
		return "", err
	}
	return d.Store.AskSnapshot(ctx, h.Name, ask.Application, clean, true, ask.Cross, by)
}

// Compare holds a snapshot against the published edition and stores the report.
func (d *Desk) Compare(ctx context.Context, snap store.Snapshot) error {
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
	enc, err := json.Marshal(problems)
	if err != nil {
		return err
	}
	waivers, err := d.waivers(ctx, snap.Application, snap.Host)
	if err != nil {
		return err
	}
	fresh, err := d.newcomers(ctx, snap)
	if err != nil {
		return fmt.Errorf("what is new in snapshot %s: %w", snap.ID, err)
	}
	w, err := d.Store.NewReport(ctx, store.Report{Application: snap.Application, Edition: e.Number, Host: snap.Host, Snapshot: snap.ID, Problems: string(enc)})
	if err != nil {
		return err
	}
	sum, groups, err := drift.Compare(ctx, d.Store, snap.Hash(), m, dir, d.Memo, waivers, drift.Report{
		Finding: func(f drift.Finding) error {
			if fresh != nil {
				fresh.See(f)
			}
			return w.Finding(f)
		},
		Unread: w.Unread,
	})
	if err != nil {
		return fmt.Errorf("compare snapshot %s with edition %d of %s: %w", snap.ID, e.Number, snap.Application, err)
	}
	r, err := w.End(sum, groups)
	if err != nil || fresh == nil {
		return err
	}
	return d.noteCauses(ctx, r, fresh, dir)
}

// CompareAll holds the newest snapshot of each host against a newly published edition.
func (d *Desk) CompareAll(ctx context.Context, application string) error {
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

// CompareIncluding holds the newest snapshots of other applications against their baselines, where
// these take over from an application that has published another edition.
func (d *Desk) CompareIncluding(ctx context.Context, application string) error {
	all, err := d.Store.Applications(ctx)
	for _, e := range all {
		_, doc, _, parsed := d.Published(ctx, e.Application)
		switch {
		case errors.Is(parsed, store.ErrNotFound):
		case parsed != nil: // perhaps for what was published just now
			err = errors.Join(err, parsed)
		case slices.Contains(doc.Includes, application):
			err = errors.Join(err, d.CompareAll(ctx, e.Application))
		}
	}
	return err
}

// maxGroups bounds the groups of a report that are looked at.
const maxGroups = 100_000

// maxSteps bounds a plan.
const maxSteps = 1_000_000

// builder gathers a plan's steps host by host.
type builder struct {
	d      *Desk
	id     string
	parts  []plan.HostPart
	chunks []store.Chunk
	groups []wire.PlanGroup
	left   []wire.Left
	total  int
}

const maxLeft = 500

func (b *builder) leave(path, why string) {
	if len(b.left) < maxLeft {
		b.left = append(b.left, wire.Left{Path: pathname.Escape(path), Why: why})
	}
}

// add puts one host's steps in: sorted, in chunks, with equal changes grouped.
func (b *builder) add(host string, roots []string, steps []plan.Step, dir *perm.Directory) error {
	if len(steps) == 0 {
		return nil
	}
	if b.total += len(steps); b.total > maxSteps {
		return fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad, maxSteps)
	}
	slices.SortFunc(steps, func(x, y plan.Step) int { return pathname.Compare(x.Path, y.Path) })
	part := plan.HostPart{Host: host, Steps: len(steps)}
	for _, r := range roots {
		part.Roots = append(part.Roots, pathname.Escape(r))
	}
	n := 0
	for c := range slices.Chunk(steps, plan.StepsPerChunk) {
		data := plan.EncodeChunk(c)
		part.Chunks = append(part.Chunks, plan.Digest(data))
		b.chunks = append(b.chunks, store.Chunk{Host: host, N: n, Data: data})
		n++
	}
	b.parts = append(b.parts, part)
	type key struct {
		kind          perm.Kind
		before, after perm.Set
	}
	groups := map[key]*wire.PlanGroup{}
	var order []key
	for _, s := range steps {
		k := key{s.Kind, s.Before, s.After}
		g := groups[k]
		if g == nil {
			effect := perm.Between(s.Kind, s.Before, s.After, dir)
			g = &wire.PlanGroup{Host: host, Kind: s.Kind.String(), Before: perm.Describe(s.Before, dir), After: perm.Describe(s.After, dir),
				Effect: effect, Word: effect.Word(), Meaning: effect.String(), Folder: pathname.Folder(s.Path), Example: s.Path}
			groups[k] = g
			order = append(order, k)
		}
		g.Count++
		g.Folder = pathname.Widen(g.Folder, s.Path)
	}
	for _, k := range order {
		g := groups[k]
		g.Folder, g.Example = pathname.Escape(g.Folder), pathname.Escape(g.Example)
		b.groups = append(b.groups, *g)
	}
	return nil
}

func (b *builder) finish(ctx context.Context, kind plan.Kind, application, title, author string) (string, error) {
	if b.total == 0 {
		why := "nothing that was chosen needs a change"
		if len(b.left) > 0 {
			why = fmt.Sprintf("%s: %s", b.left[0].Path, b.left[0].Why)
		}
		return "", fmt.Errorf("%w: the plan would have no steps: %s", ErrBad, why)
	}
	if title == "" {
		title = fmt.Sprintf("%s of %s: %d steps", strings.ToUpper(string(kind[:1]))+string(kind[1:]), application, b.total)
	}
	m := plan.Manifest{Format: 1, ID: b.id, Kind: kind, Application: application, Title: title, Hosts: b.parts}
	manifest := m.Bytes()
	digest := plan.Digest(manifest)
	left, err := json.Marshal(b.left)
	if err != nil {
		return "", err
	}
	return b.id, b.d.Store.AddPlan(ctx, store.Plan{ID: b.id, Application: application, Kind: string(kind), Title: title, Author: author,
		Digest: digest[:], Manifest: manifest, Source: string(left)}, b.chunks, b.groups)
}

// DraftRemediation drafts a plan that mends chosen findings.
func (d *Desk) DraftRemediation(ctx context.Context, ask wire.Draft, author string) (string, error) {
	b := &builder{d: d, id: store.NewID()}
	type choice struct {
		groups map[string]bool
		seqs   map[int]bool
		all    bool
	}
	reports := map[string]*choice{}
	of := func(id string) *choice {
		if reports[id] == nil {
			reports[id] = &choice{groups: map[string]bool{}, seqs: map[int]bool{}}
		}
		return reports[id]
	}
	for _, g := range ask.Groups {
		of(g.Report).groups[g.Group] = true
	}
	for _, f := range ask.Findings {
		of(f.Report).seqs[f.Seq] = true
	}
	if ask.All {
		_, _, hosts, err := d.Published(ctx, ask.Application)
		if err != nil {
			return "", err
		}
		for _, h := range hosts {
			r, err := d.Store.CurrentReport(ctx, ask.Application, h.Name)
			if errors.Is(err, store.ErrNotFound) {
				b.leave("/", "host "+h.Name+" has no drift report yet: take a snapshot of it")
				continue
			}
			if err != nil {
				return "", err
			}
			of(r.ID).all = true
		}
	}
	if len(reports) == 0 {
		return "", fmt.Errorf("%w: choose findings, groups or all", ErrBad)
	}
	rows := make([]store.Report, 0, len(reports))
	for id := range reports {
		r, err := d.Store.Report(ctx, id)
		if err != nil {
			return "", err
		}
		rows = append(rows, r)
	}
	slices.SortFunc(rows, func(x, y store.Report) int { return strings.Compare(x.Host, y.Host) })
	application := ""
	byHost := map[string]bool{}
	for _, r := range rows {
		if application != "" && application != r.Application {
			return "", fmt.Errorf("%w: a plan is for one application, these findings are of %s and %s", ErrBad, application, r.Application)
		}
		if byHost[r.Host] {
			return "", fmt.Errorf("%w: findings of two reports of host %s: choose from the newest", ErrBad, r.Host)
		}
		application, byHost[r.Host] = r.Application, true
		c := reports[r.ID]
		groups, err := d.Store.Groups(ctx, r.ID, maxGroups)
		if err != nil {
			return "", err
		}
		waived, err := d.Waived(ctx, r, groups)
		if err != nil {
			return "", err
		}
		// What somebody has accepted is mended only where it is chosen by itself.
		chosen := func(f store.Finding) bool {
			_, accepted := waived[f.Group]
			return c.all && !accepted || c.groups[f.Group] || c.seqs[f.Seq]
		}
		if err := d.remedy(ctx, b, r, chosen); err != nil {
			return "", err
		}
	}
	return b.finish(ctx, plan.Remediation, application, ask.Title, author)
}

// remedy makes one host's steps: all chosen aspects of a path in one step.
func (d *Desk) remedy(ctx context.Context, b *builder, r store.Report, chosen func(store.Finding) bool) error {
	e, err := d.Store.Edition(ctx, r.Application, r.Edition)
	if err != nil {
		return err
	}
	doc, err := d.ParseOn(ctx, e.Text, r.Host)
	if err != nil {
		return err
	}
	dir, err := d.Store.ReportDirectory(ctx, r)
	if err != nil {
		return err
	}
	m, _ := baseline.Compile(doc, dir)
	var steps []plan.Step
	var aspects []perm.Aspect
	var last store.Finding
	flush := func() error {
		if len(aspects) == 0 {
			return nil
		}
		found, err := perm.ParseSet(string(last.FoundSet))
		if err != nil {
			return err
		}
		path := string(last.Path)
		after, err := m.Want(m.Root(path), last.Kind, found).ApplyOnly(last.Kind, found, aspects)
		aspects = nil
		if err != nil {
			return err
		}
		if after == found {
			b.leave(path, "the chosen aspects cannot be changed without the others")
			return nil
		}
		steps = append(steps, plan.Step{Path: path, Kind: last.Kind, Before: found, After: after})
		return nil
	}
	for after := 0; ; {
		page, err := d.Store.Findings(ctx, r, "", after, 2000)
		if err != nil {
			return err
		}
		for _, f := range page {
			after = f.Seq
			if !chosen(f) {
				continue
			}
			switch perm.Aspect(f.Aspect) {
			case perm.AspectPresence:
				b.leave(string(f.Path), "a plan changes permissions: it neither makes nor removes paths")
				continue
			case perm.AspectFlags:
				b.leave(string(f.Path), "immutable and append-only flags are not changed by plans yet: set or clear them on the host")
				continue
			}
			if string(f.Path) != string(last.Path) {
				if err := flush(); err != nil {
					return err
				}
			}
			last = f
			aspects = append(aspects, perm.Aspect(f.Aspect))
		}
		if len(page) < 2000 {
			break
		}
	}
	if err := flush(); err != nil {
		return err
	}
	return b.add(r.Host, doc.Roots, steps, dir)
}

// DraftRestore drafts a plan that puts back what a run changed.
func (d *Desk) DraftRestore(ctx context.Context, run, title, author string) (string, error) {
	row, err := d.Store.Run(ctx, run)
	if err != nil {
		return "", err
	}
	if row.State == "running" {
		return "", fmt.Errorf("%w: run %s is still running: wait for its end or halt it", ErrBad, run)
	}
	p, err := d.Store.Plan(ctx, row.Plan)
	if err != nil {
		return "", err
	}
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return "", err
	}
	b := &builder{d: d, id: store.NewID()}
	for _, part := range m.Hosts {
		var steps []plan.Step
		if err := d.Store.Originals(ctx, run, part.Host, func(list []plan.Step) error {
			for _, s := range list {
				s.Before, s.After = s.After, s.Before
				steps = append(steps, s)
			}
			return nil
		}); err != nil {
			return "", err
		}
		var roots []string
		for _, r := range part.Roots {
			raw, err := pathname.Unescape(r)
			if err != nil {
				return "", err
			}
			roots = append(roots, raw)
		}
		dir, err := d.Store.NewestDirectory(ctx, p.Application, part.Host)
		if err != nil {
			return "", err
		}
		if err := b.add(part.Host, roots, steps, dir); err != nil {
			return "", err
		}
	}
	if title == "" {
		title = "Put back: " + p.Title
	}
	return b.finish(ctx, plan.Restore, p.Application, title, author)
}
