package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// maxGroups bounds the groups of a report that are looked at.
const maxGroups = 100_000

// maxSteps bounds a plan.
const maxSteps = 1_000_000

// builder gathers a plan's steps host by host.
type builder struct {
	d      *Engine
	id     string
	parts  []plan.HostPart
	chunks []store.Chunk
	groups []wire.PlanGroup
	left   []wire.Left
	room   int // that they take, in bytes
	more   int // that are left, beyond those which are listed
	total  int
	ask    wire.Draft
	// By host, in place of chunks, where somebody only wants to see what it would come to: nothing is drafted then, and
	// no host is asked.
	steps map[string][]plan.Step
}

// The waves of a plan for which nothing was asked for.
const (
	usualFirst  = 1
	usualStopAt = 10
)

// What a plan says of paths that it leaves is bounded in number and in bytes: paths may be long.
const (
	maxLeft     = 500
	maxLeftRoom = 1 << 20
)

func (b *builder) leave(host, path, why string) {
	x := wire.Left{Host: host, Path: pathname.Escape(path), Why: why}
	if room := len(x.Path) + len(why); len(b.left) < maxLeft && b.room+room <= maxLeftRoom {
		b.left, b.room = append(b.left, x), b.room+room
	} else {
		b.more++
	}
}

// add adds one host's steps: sorted, in chunks, with equal changes grouped.
func (b *builder) add(host string, roots []string, steps []plan.Step, dir *perm.Directory) error {
	steps = slices.DeleteFunc(steps, func(s plan.Step) bool {
		if !s.Fits() {
			b.leave(host, s.Path, "its path or its access list is too long for a plan: change it on the host")
		}
		return !s.Fits()
	})

	if len(steps) == 0 {
		return nil
	}
	b.total += len(steps)
	if b.total > maxSteps {
		return fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad, maxSteps)
	}

	slices.SortFunc(steps, func(x, y plan.Step) int { return pathname.Compare(x.Path, y.Path) })
	b.keep(host, roots, steps)
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
			g = &wire.PlanGroup{
				Host:    host,
				Kind:    s.Kind.String(),
				Before:  perm.Describe(s.Kind, s.Before, dir),
				After:   perm.Describe(s.Kind, s.After, dir),
				Effect:  effect,
				Word:    effect.Word(),
				Meaning: effect.String(),
				Folder:  pathname.Folder(s.Path),
				Example: s.Path,
			}

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

// keep keeps a host's sorted steps: for a plan in chunks.
func (b *builder) keep(host string, roots []string, steps []plan.Step) {
	part := plan.HostPart{Host: host, Roots: pathname.EscapeAll(roots), Steps: len(steps)}
	if b.steps != nil {
		b.parts, b.steps[host] = append(b.parts, part), steps
		return
	}

	n := 0
	for c := range slices.Chunk(steps, plan.StepsPerChunk) {
		data := plan.EncodeChunk(c)
		part.Chunks = append(part.Chunks, plan.Digest(data))
		b.chunks = append(b.chunks, store.Chunk{Host: host, N: n, Data: data})
		n++
	}
	b.parts = append(b.parts, part)
}

func (b *builder) finish(ctx context.Context, kind plan.Kind, application, title, author string) (string, error) {
	if b.total == 0 {
		why := "nothing that was chosen needs a change"
		for i, l := range b.left[:min(len(b.left), 5)] {
			if text := l.Path + ": " + l.Why; i == 0 {
				why = text
			} else {
				why += "; " + text
			}
		}

		if n := len(b.left) - 5 + b.more; n > 0 {
			why += fmt.Sprintf("; and %d more", n)
		}

		return "", fmt.Errorf("%w: the plan would have no steps: %s", ErrBad, why)
	}

	if title == "" {
		steps := "steps"
		if b.total == 1 {
			steps = "step"
		}
		title = fmt.Sprintf("%s of %s: %d %s", strings.ToUpper(string(kind[:1]))+string(kind[1:]), application, b.total,
			steps)
	}

	m := plan.Manifest{Format: 1, ID: b.id, Kind: kind, Application: application, Title: title, Hosts: b.parts}
	if first := cmp.Or(b.ask.First, usualFirst); first < len(b.parts) {
		m.First, m.StopAt = first, cmp.Or(b.ask.StopAt, usualStopAt)
	}

	manifest := m.Bytes()
	digest := plan.Digest(manifest)
	if b.more > 0 {
		b.left = append(b.left, wire.Left{
			Path: "/",
			Why:  fmt.Sprintf("and %d more paths are left as they are", b.more),
		})
	}

	left, err := json.Marshal(b.left)
	if err != nil {
		return "", err
	}

	return b.id, b.d.Store.AddPlan(ctx,
		store.Plan{ID: b.id, Application: application, Kind: string(kind), Title: title, Author: author,
			Digest: digest[:], Manifest: manifest, Source: string(left)}, b.chunks, b.groups)
}

// DraftRemediation drafts a plan that mends chosen findings.
func (d *Engine) DraftRemediation(ctx context.Context, ask wire.Draft, author string) (string, error) {
	b := &builder{d: d, id: store.NewID(), ask: ask}
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
				b.leave(h.Name, "/", "the host has no drift report yet: take a snapshot of it")
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
			return "", fmt.Errorf("%w: a plan is for one application, these findings are of %s and %s", ErrBad,
				application, r.Application)
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

		// What somebody has accepted is mended only if it is chosen by itself.
		chosen := func(f store.Finding) bool {
			_, accepted := waived[f.Group]
			return c.all && !accepted || c.groups[f.Group] || c.seqs[f.Seq]
		}
		if ask.Folder != "" {
			folder, err := pathname.Unescape(ask.Folder)
			if err != nil {
				return "", fmt.Errorf("%w: folder: %w", ErrBad, err)
			}

			all := chosen
			chosen = func(f store.Finding) bool { return pathname.Under(string(f.Path), folder) && all(f) }
		}

		if err := d.remedy(ctx, b, r, chosen); err != nil {
			return "", err
		}
	}

	return b.finish(ctx, plan.Remediation, application, ask.Title, author)
}

// remedy makes one host's steps: all chosen aspects of a path in one step.
func (d *Engine) remedy(ctx context.Context, b *builder, r store.Report, chosen func(store.Finding) bool) error {
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
	all := remedies{b: b, host: r.Host, rules: m, anew: map[string]bool{}}
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
			if err := all.add(f); err != nil {
				return err
			}
		}

		if len(page) < 2000 {
			break
		}
	}

	if err := all.flush(); err != nil {
		return err
	}
	snap, err := d.Store.Snapshot(ctx, r.Snapshot)
	if err != nil {
		return err
	}
	steps, err := d.passedDown(ctx, b, snap, all.steps, all.anew)
	if err != nil {
		return err
	}

	return d.ready(ctx, b, r.Application, r.Host, doc.Roots, steps, nil)
}

// A remedies makes one step of all findings of a path, which are added one after the other.
type remedies struct {
	b     *builder
	host  string
	rules *baseline.Matcher

	steps []plan.Step
	anew  map[string]bool // paths that take their entries from above anew

	last    store.Finding
	aspects []perm.Aspect // of the last finding's path
}

// add adds a finding, or leaves its path if no plan can mend it.
func (m *remedies) add(f store.Finding) error {
	if why := beyondPlans(f); why != "" {
		m.b.leave(m.host, string(f.Path), why)
		return nil
	}
	if string(f.Path) != string(m.last.Path) {
		if err := m.flush(); err != nil {
			return err
		}
	}

	m.last = f
	m.aspects = append(m.aspects, perm.Aspect(f.Aspect))
	return nil
}

// flush makes the step of the path whose findings were added last.
func (m *remedies) flush() error {
	if len(m.aspects) == 0 {
		return nil
	}
	found, err := perm.ParseSet(string(m.last.FoundSet))
	if err != nil {
		return err
	}

	path, aspects := string(m.last.Path), m.aspects
	m.aspects = nil
	want := m.rules.Desired(m.rules.Root(path), m.last.Kind, found)
	after, err := want.ApplyOnly(perm.Found{Kind: m.last.Kind, Set: found}, aspects)
	if err != nil { // whoever made its list too long holds up no other path
		m.b.leave(m.host, path, "it cannot be made as declared: "+err.Error())
		return nil
	}

	m.anew[path] = want.Fetches(found, aspects)
	if after == found && !m.anew[path] {
		m.b.leave(m.host, path, "the chosen aspects cannot be changed without the others")
		return nil
	}
	m.steps = append(m.steps, plan.Step{Path: path, Kind: m.last.Kind, Before: found, After: after})
	return nil
}

// beyondPlans returns why no plan can mend a finding; "" if one can.
func beyondPlans(f store.Finding) string {
	switch {
	case f.Unread:
		return "it could not be read when the host was looked at last: nobody knows how it is now"
	case perm.Aspect(f.Aspect) == perm.AspectPresence:
		return "a plan changes permissions: it neither makes nor removes paths"
	case perm.Aspect(f.Aspect) == perm.AspectFlags:
		return "immutable and append-only flags are not changed by plans yet: set or clear them on the host"
	}
	return ""
}

// sawTheEnd reports whether a snapshot was begun after a run had ended on its host.
func sawTheEnd(snap store.Snapshot, run store.RunRow) bool {
	switch {
	case run.Ended == nil || snap.Taken == nil, snap.ID < run.ID: // asked for before the run began, whatever clocks say
		return false
	case snap.RequestedBy == "run "+run.ID: // the last look, which is asked for at the end
		return true
	}
	return !snap.Heard && snap.Created.After(*run.Ended) || snap.Taken.After(run.Ended.Add(time.Minute))
}

// ready adds a host's steps to a plan, as far as its newest snapshot suggests that they can be made; if that says
// nothing, all of them, and the run will tell.
func (d *Engine) ready(
	ctx context.Context, b *builder, application, host string, roots []string, steps []plan.Step,
	tells func(store.Snapshot) bool,
) error {
	snap, err := d.Store.Newest(ctx, application, host)
	if errors.Is(err, store.ErrNotFound) {
		return d.add(ctx, b, host, roots, steps, nil)
	}
	if err != nil {
		return err
	}
	dir, err := d.Store.Directory(ctx, snap)
	if err != nil {
		return err
	}
	if tells != nil && !tells(snap) {
		return d.add(ctx, b, host, roots, steps, dir)
	}

	slices.SortFunc(steps, func(x, y plan.Step) int { return pathname.Compare(x.Path, y.Path) })
	var sound []plan.Step
	without := map[string]bool{} // folders that stay as they are, though they were to change
	err = d.survey(ctx, snap, steps, func(s plan.Step, e *tree.Entry) {
		why := hindrance(s, e, dir)
		if folder := pathname.Folder(s.Path); why == "" && without[folder] && perm.TakesAnew(s.Before, s.After) {
			why = "it follows from a change of " + pathname.Escape(folder) + ", which is left as it is"
		}

		if why == "" {
			sound = append(sound, s)
			return
		}

		b.leave(host, s.Path, why)
		without[s.Path] = s.Kind == perm.Folder && (e == nil || e.Set != s.After)
	})

	if err != nil {
		return err
	}

	return d.add(ctx, b, host, roots, sound, dir)
}

// add adds a host's steps to a plan, with the files that they mean.
func (d *Engine) add(
	ctx context.Context, b *builder, host string, roots []string, steps []plan.Step, dir *perm.Directory,
) error {
	if b.steps != nil {
		return b.add(host, roots, steps, dir)
	}
	steps, err := d.identified(ctx, b, host, roots, steps)
	if err != nil {
		return err
	}
	return b.add(host, roots, steps, dir)
}

// fewSteps are looked up one by one; with more of them the whole snapshot is walked.
const fewSteps = 500

// survey returns for each of some steps what a snapshot has at its path: nil for nothing, and an entry that is only a
// gap if it could not be read.
func (d *Engine) survey(
	ctx context.Context, snap store.Snapshot, steps []plan.Step, tell func(plan.Step, *tree.Entry),
) error {
	if len(steps) <= fewSteps {
		for _, s := range steps {
			e, _, err := tree.Lookup(ctx, d.Store, snap.Hash(), s.Path)
			var unread *tree.UnreadError
			switch {
			case errors.As(err, &unread):
				tell(s, &tree.Entry{Gap: unread.Gap})
			case errors.Is(err, tree.ErrNoPath):
				tell(s, nil)
			case err != nil:
				return err
			default:
				tell(s, &e)
			}
		}
		return nil
	}

	roots, err := snap.RootList()
	if err != nil {
		return err
	}

	order := tree.Order(roots)
	rest := slices.SortedFunc(slices.Values(steps), func(x, y plan.Step) int { return order(x.Path, y.Path) })
	var gap string // the last one, and why
	var at tree.Entry
	pass := func(s plan.Step) {
		if gap != "" && pathname.Under(s.Path, gap) {
			tell(s, &tree.Entry{Gap: at.Gap})
			return
		}
		tell(s, nil)
	}

	err = tree.Walk(ctx, d.Store, snap.Hash(), func(path string, e tree.Entry) error {
		for len(rest) > 0 && order(rest[0].Path, path) < 0 {
			pass(rest[0])
			rest = rest[1:]
		}

		if e.Gap != tree.NoGap {
			gap, at = path, e
		}

		if len(rest) > 0 && rest[0].Path == path {
			tell(rest[0], &e)
			rest = rest[1:]
		}

		return nil
	})

	for _, s := range rest {
		pass(s)
	}

	return err
}

// hindrance returns why a step cannot be made, as far as a snapshot shows; "" if nothing is in its way.
func hindrance(s plan.Step, e *tree.Entry, dir *perm.Directory) string {
	switch {
	case e == nil:
		return "it is not there any more: a plan neither makes nor removes paths"
	case e.Set.IsZero():
		return "it could not be read: " + e.Gap.String()
	case e.Kind != s.Kind:
		return fmt.Sprintf("it was a %s and is a %s now", s.Kind, e.Kind)
	case e.Set == s.After:
		return "it is as planned already"
	case e.Set != s.Before:
		return "it was changed again since: it is " + perm.Describe(e.Kind, e.Set, dir).String() + " now, and was " +
			perm.Describe(s.Kind, s.Before, dir).String()
	case e.Links > 1:
		return fmt.Sprintf("it has %d names (hard links): changing it here would change it under the others too",
			e.Links)
	case len(perm.Describe(e.Kind, e.Set, dir).Flags) > 0:
		return "it is " + strings.Join(perm.Describe(e.Kind, e.Set, dir).Flags, " and ") +
			": clear that on the host first"
	}

	return ""
}

// DraftRestore drafts a plan that puts back what a run changed, or some of it. What somebody changed since is left as
// it is, and reported.
func (d *Engine) DraftRestore(ctx context.Context, ask wire.Draft, author string) (string, error) {
	run, title := ask.Run, ask.Title
	wanted, err := Fitting(ask.Paths)
	if err != nil {
		return "", err
	}
	row, err := d.Store.Run(ctx, run)
	if err != nil {
		return "", err
	}
	if row.State == lifecycle.RunRunning {
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

	b := &builder{d: d, id: store.NewID(), ask: ask}
	for _, part := range m.Hosts {
		if len(ask.Hosts) > 0 && !slices.Contains(ask.Hosts, part.Host) {
			continue
		}

		var steps []plan.Step
		chunks, err := d.Store.OriginalChunks(ctx, run, part.Host)
		if err != nil {
			return "", err
		}

		for n := range chunks {
			list, err := d.Store.Originals(ctx, run, part.Host, n)
			if err != nil {
				return "", err
			}
			for _, s := range list {
				s.Before, s.After = s.After, s.Before
				if wanted(s.Path) {
					steps = append(steps, s)
				}
			}
		}

		var roots []string
		for _, r := range part.Roots {
			raw, err := pathname.Unescape(r)
			if err != nil {
				return "", err
			}
			roots = append(roots, raw)
		}

		// What was seen while the run was going on says nothing of how it left the host.
		if err := d.ready(ctx, b, p.Application, part.Host, roots, steps, func(snap store.Snapshot) bool {
			return sawTheEnd(snap, row)
		}); err != nil {
			return "", err
		}
	}

	if title == "" {
		title = "Put back: " + p.Title
	}

	return b.finish(ctx, plan.Restore, p.Application, title, author)
}

// Fitting reads patterns, and returns a function that reports whether one matches a path; without any, all match.
func Fitting(texts []string) (func(path string) bool, error) {
	if len(texts) == 0 {
		return func(string) bool { return true }, nil
	}
	var patterns []baseline.Pattern
	for _, text := range texts {
		p, err := baseline.ParsePattern(text)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrBad, err)
		}
		patterns = append(patterns, p)
	}
	all := baseline.NewPatterns(patterns)
	return func(path string) bool { return len(all.Match(path)) > 0 }, nil
}

// DraftReturn drafts a plan that makes a host as it was in an older snapshot, or some of it.
func (d *Engine) DraftReturn(ctx context.Context, ask wire.Draft, author string) (string, error) {
	wanted, err := Fitting(ask.Paths)
	if err != nil {
		return "", err
	}
	then, err := d.Store.Snapshot(ctx, ask.Snapshot)
	if err != nil {
		return "", err
	}
	if then.State != lifecycle.SnapshotReady {
		return "", fmt.Errorf("%w: snapshot %s is %s", ErrBad, then.ID, then.State)
	}
	now, err := d.Store.Newest(ctx, then.Application, then.Host)
	if err != nil {
		return "", err
	}
	roots, err := then.RootList()
	if err != nil {
		return "", err
	}

	b := &builder{d: d, id: store.NewID(), ask: ask}
	var steps []plan.Step
	_, _, err = drift.DiffSnapshots(ctx, d.Store, now.Hash(), then.Hash(), nil, func(c drift.Change) error {
		switch {
		case !wanted(c.Path):
		case c.After.Kind == 0:
			b.leave(then.Host, c.Path, "it was not there then")
		case c.Before.Kind == 0:
			b.leave(then.Host, c.Path, "it is not there any more: a plan neither makes nor removes paths")
		case c.Before.Kind != c.After.Kind:
			b.leave(then.Host, c.Path, fmt.Sprintf("it was a %s and is a %s now", c.After.Kind, c.Before.Kind))
		case c.Before.Set.IsZero() || c.After.Set.IsZero():
			b.leave(then.Host, c.Path, "it could not be read in one of the two snapshots")
		case c.Before.Set != c.After.Set:
			steps = append(steps, plan.Step{
				Path:   c.Path,
				Kind:   c.Before.Kind,
				Before: c.Before.Set,
				After:  c.After.Set,
			})
			if len(steps) > maxSteps {
				return fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad, maxSteps)
			}
		}

		return nil
	})

	if err == nil {
		err = d.ready(ctx, b, then.Application, then.Host, roots, steps, nil)
	}

	if err != nil {
		return "", err
	}

	title := ask.Title
	if title == "" {
		title = fmt.Sprintf("Return %s on %s to %s", then.Application, then.Host,
			then.Taken.Format("2006-01-02 15:04 MST"))
	}

	return b.finish(ctx, plan.Restore, then.Application, title, author)
}

// DraftAdjustment drafts a plan of hand-written changes, from how the hosts were seen last.
func (d *Engine) DraftAdjustment(ctx context.Context, ask wire.Draft, author string) (string, error) {
	b := &builder{d: d, id: store.NewID(), ask: ask}
	if err := d.adjustment(ctx, b); err != nil {
		return "", err
	}
	return b.finish(ctx, plan.Adjustment, ask.Application, ask.Title, author)
}

// adjustment makes the steps of hand-written changes.
func (d *Engine) adjustment(ctx context.Context, b *builder) error {
	ask, hosts := b.ask, slices.Clone(b.ask.Hosts)
	e, err := d.Store.Edition(ctx, ask.Application, 0)
	published := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}

	if len(hosts) == 0 {
		_, _, all, err := d.Published(ctx, ask.Application)
		if err != nil {
			return fmt.Errorf("%w: name the hosts: %w", ErrBad, err)
		}
		for _, h := range all {
			hosts = append(hosts, h.Name)
		}
	}

	slices.Sort(hosts)
	for _, host := range slices.Compact(hosts) {
		snap, err := d.Store.Newest(ctx, ask.Application, host)
		if errors.Is(err, store.ErrNotFound) {
			b.leave(host, "/", "the host was never looked at: take a snapshot of it")
			continue
		}

		if err != nil {
			return err
		}
		roots, err := snap.RootList()
		if err != nil {
			return err
		}

		var words map[string]string
		if published {
			doc, err := d.ParseOn(ctx, e.Text, host)
			if err != nil {
				return err
			}
			words = doc.Accounts
		}

		steps, err := d.adjust(ctx, b, snap, roots, words, ask.Changes)
		if err == nil {
			steps, err = d.passedDown(ctx, b, snap, steps, nil)
		}

		if err == nil {
			err = d.ready(ctx, b, ask.Application, host, roots, steps, nil)
		}

		if err != nil {
			return err
		}
	}

	return nil
}

// adjust makes one host's steps of hand-written changes.
func (d *Engine) adjust(
	ctx context.Context, b *builder, snap store.Snapshot, roots []string, words map[string]string, text string,
) ([]plan.Step, error) {
	changes, err := baseline.ParseChanges([]byte(text), roots, words)
	if err != nil {
		return nil, fmt.Errorf("%w: on host %s: %w", ErrBad, snap.Host, err)
	}
	dir, err := d.Store.Directory(ctx, snap)
	if err != nil {
		return nil, err
	}
	maker, problems := changes.For(dir)
	if len(problems) > 0 {
		return nil, fmt.Errorf("%w: on host %s: line %d: %s", ErrBad, snap.Host, problems[0].Line, problems[0].Message)
	}

	var steps []plan.Step
	err = tree.Fold(ctx, d.Store, snap.Hash(), perm.Set{},
		func(path string, e tree.Entry, folder perm.Set) (perm.Set, error) {
			if e.Set.IsZero() || e.Gap == tree.Mount {
				// Nothing is known of what was not read, and a mount point belongs to another file system.
				return e.Set, nil
			}

			if !maker.Reaches(path) {
				return e.Set, tree.ErrSkipFolder
			}
			after, err := maker.Change(path, perm.In(folder, e.Kind, e.Set))
			if err != nil || after == e.Set {
				return e.Set, err
			}

			steps = append(steps, plan.Step{Path: path, Kind: e.Kind, Before: e.Set, After: after})
			if len(steps) > maxSteps {
				return e.Set, fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad,
					maxSteps)
			}

			return e.Set, nil
		})

	for i, n := range maker.Matched {
		if n == 0 && err == nil {
			b.leave(snap.Host, "/",
				fmt.Sprintf("no path is as change %d (line %d) asks for", i+1, changes.List[i].Line))
		}
	}

	return steps, err
}
