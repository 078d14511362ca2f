// Package drift compares a snapshot with a baseline: findings, per path and aspect, and groups of findings that are
// the same change.
package drift

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Finding is one path and one aspect where snapshot and baseline differ.
type Finding struct {
	Path     string
	Kind     perm.Kind
	Aspect   perm.Aspect
	Declared string
	Found    string
	Rule     int
	Severity baseline.Severity
	FoundSet perm.Set
	Above    perm.Set    // of the folder that it lies in, where that counts
	Mended   perm.Set    // what was found, with this aspect as declared
	Effect   perm.Effect // of going from what was declared to what was found
	Group    string
	Waiver   string // that accepts it
	Unread   bool   // the path could not be read now: this is how it was found before
}

// An Unread is a path that could not be judged, and why.
type Unread struct {
	Path string
	Why  string
}

// A Group is all findings of the same change: same rule, aspect and kind, and the same values declared and found.
type Group struct {
	ID       string
	Rule     string
	Why      string
	Severity baseline.Severity
	Aspect   perm.Aspect
	Kind     perm.Kind
	Declared string
	Found    string
	Wants    perm.Value `json:",omitempty"`
	Has      perm.Value `json:",omitempty"`
	Effect   perm.Effect
	Count    int
	Unread   int           `json:",omitempty"` // of them
	Folder   pathname.Path // the deepest folder that holds them all
	Example  pathname.Path // the first path of a walk
	Waiver   string        `json:",omitempty"` // that accepts them
}

// A Summary is what a comparison says as a whole.
type Summary struct {
	Paths    int // looked at
	Judged   int // of these, paths of which a rule asks anything
	Findings int // waived and unread ones included
	Unread   int
}

// A Report receives what a comparison finds, in the order of a walk.
type Report struct {
	Finding func(Finding) error
	Unread  func(Unread) error
	Earlier Earlier // nil where nothing was found before
}

// Earlier is what the previous comparison found. It is asked about what cannot be read now: a finding does not go
// away because nobody can look.
type Earlier interface {
	// Below hands out the paths that were not as declared at a path and below it, in the order of a walk, each once.
	Below(ctx context.Context, path string, gap tree.Gap, each func(Known) error) error
	// Missing reports whether a path that has to be there was missing.
	Missing(ctx context.Context, path string) (bool, error)
}

// A Known is a path as it was seen before.
type Known struct {
	Path string
	perm.Found
}

// add puts the counts of another part in.
func (s *Summary) add(o Summary) {
	s.Paths += o.Paths
	s.Judged += o.Judged
	s.Findings += o.Findings
	s.Unread += o.Unread
}

// Compare walks a snapshot and reports every difference, path by path in the order of a walk. The groups come back
// sorted: what opens most first, then by severity and number. Folders of which the memo knows that everything is as
// declared are not entered; it may be nil.
func Compare(
	ctx context.Context, src tree.Source, forest tree.Hash, m *baseline.Matcher, d *perm.Directory, memo *Memo,
	waivers *Waivers, to Report,
) (Summary, []Group, error) {
	c := &comparer{
		reader:  tree.NewReader(src),
		m:       m,
		d:       d,
		memo:    memo,
		waivers: waivers,
		to:      to,
		present: newPresence(m),
		filed:   map[filing]filed{},
		groups:  map[groupKey]*Group{},
		judged:  map[judgedKey][]perm.Difference{},
	}

	if memo != nil {
		names, err := d.Hash()
		if err != nil {
			return Summary{}, nil, err
		}

		c.fingerprint = m.Fingerprint()
		c.named = sha256.Sum256(append(c.fingerprint[:], names...))
	}

	nodes, err := c.reader.Load(ctx, forest)
	if err != nil {
		return Summary{}, nil, err
	}
	top, err := c.folder(ctx, &nodes[0], nil, perm.Set{})
	if err != nil {
		return Summary{}, nil, err
	}
	sum := top.sum
	if err := c.elsewhere(&nodes[0], &sum); err != nil {
		return sum, nil, err
	}
	if err := c.present.missing(ctx, c.wasMissing,
		func(path string, r baseline.Required, diff perm.Difference, unread bool) error {
			sum.Findings++
			return c.file(seen{path, perm.Found{Kind: r.Kind}, unread}, &diff)
		}); err != nil {
		return sum, nil, err
	}

	sum.Findings += c.carried
	out := make([]Group, 0, len(c.groups))
	for _, g := range c.groups {
		out = append(out, *g)
	}

	slices.SortFunc(out, func(a, b Group) int {
		for _, by := range []int{b.Weight() - a.Weight(), b.Count - a.Count, strings.Compare(a.ID, b.ID)} {
			if by != 0 {
				return by
			}
		}
		return 0
	})

	return sum, out, nil
}

// notLookedAt is why nothing is known of a root of the baseline: the snapshot was taken before it was added, or of
// other folders.
const notLookedAt = "not looked at yet"

// elsewhere reports the baseline's roots that the snapshot does not cover.
func (c *comparer) elsewhere(forest *tree.Node, sum *Summary) error {
	for _, root := range c.m.Roots() {
		if slices.ContainsFunc(forest.Entries, func(e tree.Entry) bool { return pathname.Under(root, e.Name) }) {
			continue
		}
		sum.Unread++
		c.present.away = append(c.present.away, root)
		if err := c.to.Unread(Unread{root, notLookedAt}); err != nil {
			return err
		}
	}
	return nil
}

type comparer struct {
	reader      *tree.Reader
	m           *baseline.Matcher
	d           *perm.Directory
	memo        *Memo
	fingerprint [32]byte // of what is declared
	named       [32]byte // and of the host's names
	waivers     *Waivers
	to          Report
	present     *presence
	filed       map[filing]filed
	groups      map[groupKey]*Group
	judged      map[judgedKey][]perm.Difference // few states stand under few declarations, on many paths
	last        judgedKey                       // and neighbours are mostly alike
	lastDiffs   []perm.Difference
	carried     int // findings of what could not be read now
	path        []byte
}

type judgedKey struct {
	want *perm.Desired
	perm.Found
}

const maxJudged = 100_000

func (c *comparer) differences(want *perm.Desired, f perm.Found) []perm.Difference {
	if want == nil {
		return nil
	}
	key := judgedKey{want, f}
	if key == c.last {
		return c.lastDiffs
	}

	diffs, ok := c.judged[key]
	if !ok {
		diffs = want.Differences(f, c.d)
		if len(c.judged) >= maxJudged {
			clear(c.judged)
		}
		c.judged[key] = diffs
	}

	c.last, c.lastDiffs = key, diffs
	return diffs
}

// known returns what the memo has of what is in a folder that has a set, at a state.
func (c *comparer) known(node tree.Hash, set perm.Set, state string) *judged {
	k := spot{node, weighty(set), c.fingerprint, state}
	if j := c.memo.get(k); j != nil {
		return j
	}
	k.fingerprint = c.named
	return c.memo.get(k)
}

// weighty is a folder's set if what is in it is judged by that.
func weighty(folder perm.Set) perm.Set { return perm.In(folder, perm.File, folder).Above }

// folder compares what is in a folder, or the roots of a forest. c.path holds the folder; in is
// where it stands in the baseline, and set how it is.
func (c *comparer) folder(ctx context.Context, n *tree.Node, in *baseline.State, set perm.Set) (*judged, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}

	j := &judged{}
	base := c.into()
	state := func(e *tree.Entry) *baseline.State {
		if n.Forest {
			return c.m.Root(e.Name)
		}
		return c.m.Step(in, e.Name)
	}

	nodes := tree.Children{
		Reader: c.reader,
		Of:     n,
		Wanted: func(e *tree.Entry) bool { return c.known(e.Child, e.Set, state(e).Key()) == nil },
	}
	for i := range n.Entries {
		e := &n.Entries[i]
		c.path = append(c.path[:base], e.Name...)
		s := state(e)
		it, counts := c.judge(e, s, set)
		j.sum.add(counts)
		if err := c.report(ctx, &it); err != nil {
			return nil, err
		}

		if e.HasChild() {
			below := c.known(e.Child, e.Set, s.Key())
			if below != nil && !c.present.awaits(c.path) {
				if err := c.replay(ctx, below); err != nil {
					return nil, err
				}
			} else {
				child, err := nodes.At(ctx, i)
				if err != nil {
					return nil, err
				}
				if below, err = c.folder(ctx, child, s, e.Set); err != nil {
					return nil, err
				}

				c.learn(e.Child, e.Set, s.Key(), below)
			}

			j.sum.add(below.sum)
			if len(below.items) > 0 {
				it.below, it.node, it.state = true, e.Child, s.Key()
			}
		}

		if c.memo != nil && (it.below || it.gap != tree.NoGap || len(it.diffs) > 0) {
			it.name = strings.Clone(e.Name)
			j.items = append(j.items, it)
		}
	}

	return j, nil
}

// into appends a name to the folder that c.path holds, and returns where the name begins.
func (c *comparer) into() int {
	if len(c.path) > 1 {
		c.path = append(c.path, '/')
	}
	return len(c.path)
}

func (c *comparer) learn(node tree.Hash, set perm.Set, state string, j *judged) {
	k := spot{node, weighty(set), c.fingerprint, state}
	if len(j.items) > 0 {
		k.fingerprint = c.named
	}
	c.memo.put(k, j)
}

// replay reports what the memo knows of a folder. c.path holds the folder.
func (c *comparer) replay(ctx context.Context, j *judged) error {
	if len(j.items) == 0 {
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}

	base := c.into()
	for i := range j.items {
		it := &j.items[i]
		c.path = append(c.path[:base], it.name...)
		if err := c.report(ctx, it); err != nil {
			return err
		}
		if !it.below {
			continue
		}

		below := c.known(it.node, it.Set, it.state)
		if below != nil {
			if err := c.replay(ctx, below); err != nil {
				return err
			}
			continue
		}

		// It was forgotten meanwhile.
		nodes, err := c.reader.Load(ctx, it.node)
		if err != nil {
			return err
		}
		if below, err = c.folder(ctx, &nodes[0], c.m.Root(string(c.path)), it.Set); err != nil {
			return err
		}

		c.learn(it.node, it.Set, it.state, below)
	}

	return nil
}

// judge judges one path, in a folder that has a set. c.path holds it.
func (c *comparer) judge(e *tree.Entry, s *baseline.State, folder perm.Set) (item, Summary) {
	it, sum := item{Found: perm.In(folder, e.Kind, e.Set)}, Summary{Paths: 1}
	want := c.m.Desired(s, e.Kind, e.Set)
	if want.Judges(e.Kind, e.Set) {
		sum.Judged++
	}
	c.present.see(c.path, e.Kind)
	if e.Gap != tree.NoGap && (want == nil || !want.LeaveAlone) {
		sum.Unread++
		it.gap = e.Gap
	}
	if !e.Set.IsZero() && e.Gap != tree.Mount { // a mount point shows the other file system's root
		it.diffs = c.differences(want, it.Found)
		sum.Findings += len(it.diffs)
	}
	return it, sum
}

// report reports what there is to say of one path. c.path holds it.
func (c *comparer) report(ctx context.Context, it *item) error {
	if it.gap == tree.NoGap && len(it.diffs) == 0 {
		return nil
	}

	path := string(c.path)
	if it.gap != tree.NoGap {
		c.present.gap(path)
		if err := c.to.Unread(Unread{path, it.gap.String()}); err != nil {
			return err
		}
	}

	for i := range it.diffs {
		if err := c.file(seen{path, it.Found, false}, &it.diffs[i]); err != nil {
			return err
		}
	}

	if it.gap == tree.NoGap || c.to.Earlier == nil {
		return nil
	}

	return c.carry(ctx, path, it)
}

// carry reports again what was found before at a gap and below it, compared with what is declared now.
func (c *comparer) carry(ctx context.Context, path string, it *item) error {
	return c.to.Earlier.Below(ctx, path, it.gap, func(k Known) error {
		want := c.m.Desired(c.m.Root(k.Path), k.Kind, k.Set)
		diffs := c.differences(want, k.Found)
		for i := range diffs {
			if k.Path == path && it.tells(k.Kind, diffs[i].Aspect) {
				continue
			}
			c.carried++
			if err := c.file(seen{k.Path, k.Found, true}, &diffs[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// tells reports whether an item with a gap shows an aspect of its own path nevertheless: of what could be read in
// part the first ones are known.
func (it *item) tells(was perm.Kind, aspect perm.Aspect) bool {
	if it.Set.IsZero() || it.gap == tree.Mount { // a mount point shows the other file system's root
		return false
	}
	switch aspect {
	case perm.AspectOwner, perm.AspectGroup, perm.AspectMode, perm.AspectPresence:
		return true
	}
	return it.Kind != was || slices.ContainsFunc(it.diffs, func(d perm.Difference) bool { return d.Aspect == aspect })
}

// wasMissing reports whether a path in a folder that cannot be read now was missing before.
func (c *comparer) wasMissing(ctx context.Context, path string) (bool, error) {
	if c.to.Earlier == nil {
		return false, nil
	}
	return c.to.Earlier.Missing(ctx, path)
}

// filing is a difference, by where it is kept, and the waiver that accepts it.
type filing struct {
	diff   *perm.Difference
	waiver string
}

// filed is what a difference comes to: equal paths share it, since they share the difference.
type filed struct {
	group  *Group
	effect perm.Effect
}

// seen is a path as it is, or where it cannot be read now as it was before.
type seen struct {
	path string
	perm.Found
	unread bool
}

// file reports a finding and puts it in its group.
func (c *comparer) file(s seen, diff *perm.Difference) error {
	path := s.path
	k := s.Kind
	found := s.Set
	rule := c.m.Rule(diff.Rule)
	key := filing{diff, c.waivers.of(path, rule.Name, k, diff)}
	f, ok := c.filed[key]
	if !ok {
		if diff.Aspect != perm.AspectPresence {
			f.effect = perm.Between(k, diff.Mended, found, c.d)
		}

		gk := groupKey{diff.Rule, diff.Aspect, k, diff.Wants, diff.Has, f.effect.Key(), key.waiver}
		f.group = c.groups[gk]
		if f.group == nil {
			f.group = &Group{
				ID:       gk.id(),
				Rule:     rule.Name,
				Why:      rule.Why,
				Severity: rule.Severity,
				Aspect:   diff.Aspect,
				Kind:     k,
				Declared: diff.Declared,
				Found:    diff.Found,
				Wants:    diff.Wants,
				Has:      diff.Has,
				Effect:   f.effect,
				Folder:   pathname.Path(pathname.Folder(path)),
				Example:  pathname.Path(path),
				Waiver:   key.waiver,
			}
			c.groups[gk] = f.group
		}

		c.filed[key] = f
	}

	g := f.group
	g.Count++
	if s.unread {
		g.Unread++
	}

	g.Folder = pathname.Widen(g.Folder, path)
	return c.to.Finding(Finding{
		path, k, diff.Aspect, diff.Declared, diff.Found, diff.Rule, rule.Severity, found, s.Above, diff.Mended,
		f.effect, g.ID, key.waiver, s.unread,
	})
}

// Weight orders groups: opening to everyone weighs more than opening, opening more than closing,
// and each more the graver its rule.
func (g Group) Weight() int {
	w := 10 * slices.Index(baseline.Severities, g.Severity)
	switch {
	case g.Effect.OpensEveryone():
		w += 25
	case len(g.Effect.Opens) > 0:
		w += 15
	case len(g.Effect.Closes) > 0:
		w += 5
	}
	return w
}

type groupKey struct {
	rule       int
	aspect     perm.Aspect
	kind       perm.Kind
	wants, has perm.Value
	effect     string
	waiver     string
}

// id names a group the same way in every report, so that it can be pointed at.
func (k groupKey) id() string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%d\x00%s\x00%s\x00%s", k.rule, k.aspect, k.kind, k.wants, k.has,
		k.effect))
	if k.waiver != "" { // accepted ones stand apart; the others keep the name that they had
		sum = sha256.Sum256(append(sum[:], k.waiver...))
	}
	return hex.EncodeToString(sum[:6])
}
