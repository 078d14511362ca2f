// Package subtree asks about all that is in a folder of a snapshot at once: on which paths somebody can do something,
// and what a change would make of that. What nobody can reach is not looked at.
//
//	t, err := snapshot.Ask(ctx, subtree.Query{Under: "/srv", Operation: access.Write, Now: access.NewAsker(who)})
//	// t.Held paths of t.Looked can be written; t.Groups sums them up by equal permissions
package subtree

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Snapshot is a hash tree with what lies above its roots.
type Snapshot struct {
	Source tree.Source
	Forest tree.Hash
	Ways   []access.Way // to each root, the root included, as the host had it

	// Where other mounts and subvolumes begin, which snapshots do not hold: who scans a host knows. A place
	// whose permissions could not be read has none.
	Mounts map[pathname.Path]access.Place
}

// root finds the way to the root that a path lies under.
func (s Snapshot) root(path string) access.Way {
	var found access.Way
	for _, w := range s.Ways {
		if len(w) == 0 {
			continue
		}
		at := string(w[len(w)-1].Path)
		if pathname.Under(path, at) && (found == nil || len(at) > len(found[len(found)-1].Path)) {
			found = w
		}
	}
	return found
}

// Content is what a snapshot has of what is in a path: a node where the path is a folder that was
// read, and otherwise, of a folder, the reason why there is none.
type Content struct {
	Node *tree.Node
	Gap  string
	tree.Extra
}

// Way returns the way to a path, with its content. Folders above the roots have a way, and no content.
func (s Snapshot) Way(ctx context.Context, path string) (access.Way, Content, error) {
	var c Content
	if err := pathname.Check(path); err != nil {
		return nil, c, err
	}

	for _, w := range s.Ways {
		for i, p := range w {
			if p.Path == w[len(w)-1].Path { // the root; a link may have led back to it
				continue
			}
			if string(p.Path) == path {
				return w[:i+1], Content{Gap: "it lies above the roots of the snapshot"}, nil
			}
		}
	}

	steps, node, err := tree.Trace(ctx, s.Source, s.Forest, path)
	if err != nil {
		return nil, c, err
	}

	entry := steps[len(steps)-1]
	c = Content{node, entry.Gap.String(), entry.Extra}
	above := s.root(path)
	way := slices.Clone(above)
	if above == nil {
		// Of what is not known nothing may be said: its zero set is an answer of its own.
		for at := pathname.Folder(steps[0].Name); ; at = pathname.Folder(at) {
			way = slices.Insert(way, 0, access.Place{Path: pathname.Path(at), Kind: perm.Folder})
			if at == "/" {
				break
			}
		}
		way = append(way, access.Place{Path: pathname.Path(steps[0].Name)})
	}

	last := len(way) - 1
	way[last].Kind, way[last].Set = steps[0].Kind, steps[0].Set
	at := steps[0].Name

	for _, e := range steps[1:] {
		at = pathname.Join(at, e.Name)
		way = append(way, access.Place{
			Path:  pathname.Path(at),
			Kind:  e.Kind,
			Set:   e.Set,
			Mount: way[last].Mount,
			Top:   e.Gap == tree.Mount,
		})
	}

	return way, c, nil
}

// Suppose says what a path's state would be, in a folder that is as supposed; a nil one leaves everything as it is.
type Suppose func(path string, f perm.Found) perm.Set

// On is a way as it would be.
func (f Suppose) On(w access.Way) access.Way {
	if f == nil {
		return w
	}
	w = slices.Clone(w)
	folder := perm.Set{}
	for i := range w {
		w[i].Set = f(string(w[i].Path), perm.In(folder, w[i].Kind, w[i].Set))
		folder = w[i].Set
	}
	return w
}

// A SubtreeQuery asks what somebody can do below a folder.
type Query struct {
	Under     string // "": every root
	Operation access.Operation
	Now       *access.Asker
	// Then is asked beside it, where set: the same account with another group, or the same with
	// permissions as they would be.
	Then    *access.Asker
	Suppose Suppose
	// Behind asks as if every folder could be traversed: what a path's own permissions would allow as soon as a way
	// led to it.
	Behind bool
	After  string // paths are listed from here on
	Limit  int    // how many paths are listed
	Weigh  bool   // says of each entry of the folder how much of what is in it is held
	Names  *perm.Directory
}

// A Weight is how much somebody holds of an entry of a folder with all that is in it.
type Weight struct {
	Path         pathname.Path
	Kind         perm.Kind
	Held, Looked int64
}

// A Tally is what a query found.
type Tally struct {
	Looked  int64         `json:"looked" doc:"Paths that were decided one by one"`
	Held    int64         `json:"held" doc:"Paths on which the operation is allowed"`
	Then    int64         `json:"then" doc:"The same, as it would be; equal to held where nothing was supposed"`
	Gained  int64         `json:"gained"`
	Lost    int64         `json:"lost"`
	Closed  int64         `json:"closed" doc:"Folders that no way leads through: what is in them was not looked at"`
	Unread  int64         `json:"unread" doc:"Folders whose content the snapshot does not have"`
	Unknown int64         `json:"unknown,omitempty" doc:"Paths of which nobody knows: who is in a group that would turn the answer round the server does not tell"`
	Stopped string        `json:"stopped,omitempty" doc:"Why the way ends before the folder is reached at all"`
	Groups  []Equal       `json:"groups" doc:"Paths with equal permissions, many first"`
	Paths   []Reached     `json:"paths"`
	Next    pathname.Path `json:"next,omitempty" doc:"Give it as after to get what follows"`
	Weights []Weight      `json:"weights,omitempty"` // where they were asked for, the heaviest first
}

// Equal is paths with the same permissions.
type Equal struct {
	Kind    perm.Kind     `json:"kind"`
	Set     perm.Set      `json:"set"`
	Was     bool          `json:"was"`
	Is      bool          `json:"is"`
	Count   int64         `json:"count"`
	Folder  pathname.Path `json:"folder"` // the deepest that holds them all
	Example pathname.Path `json:"example"`
}

// Reached is one path.
type Reached struct {
	Path pathname.Path `json:"path"`
	Kind perm.Kind     `json:"kind"`
	Set  perm.Set      `json:"set"`
	Was  bool          `json:"was"`
	Is   bool          `json:"is"`
}

type view struct {
	asker   *access.Asker
	suppose Suppose
}

type group struct {
	kind    perm.Kind
	set     perm.Set
	was, is bool
}

type walk struct {
	Query
	snap   Snapshot
	reader *tree.Reader
	// helpers holds idle workers, one per extra CPU; nil if Suppose is set, because a Suppose func need not be safe
	// for concurrent use.
	helpers chan *walk
	views   []view
	asked   access.Place // what is asked about, with all that is below
	place   access.Place // that is being decided: here, so that no decision has to make room for one
	tally   Tally
	groups  map[group]*Equal
	last    group // and where it is kept: neighbours are mostly alike
	lastAt  *Equal
	path    []byte
	weights map[string]*Weight // by the entry of the folder that was asked about
	under   int                // where in a path that entry begins
	weighed *Weight            // the last: neighbours lie in the same
}

// maxWeights bounds how many entries are weighed.
const maxWeights = 2000

// weigh counts a path for the entry of the folder that it lies in.
func (r *walk) weigh(k perm.Kind, held bool) {
	end := len(r.path)
	if r.Under == "" { // each root by itself
		end = r.under
	} else if end <= r.under {
		return
	} else if i := bytes.IndexByte(r.path[r.under:], '/'); i >= 0 {
		end = r.under + i
	}

	w := r.weighed
	if w == nil || string(w.Path) != string(r.path[:end]) {
		w = r.weights[string(r.path[:end])]
		if w == nil {
			w = &Weight{Path: pathname.Path(r.path[:end]), Kind: k}
			r.weights[string(w.Path)] = w
		}
		r.weighed = w
	}

	w.Looked++
	if held {
		w.Held++
	}
}

// maxGroups bounds the groups that are kept apart.
const maxGroups = 10_000

// Ask walks a snapshot, and goes only where a way leads: folders that nobody asked about can traverse are not
// entered.
func (s Snapshot) Ask(ctx context.Context, q Query) (Tally, error) {
	r := s.newWalk(ctx, q)
	if q.Suppose == nil {
		r.helpers = make(chan *walk, runtime.GOMAXPROCS(0)-1)
		for range cap(r.helpers) {
			own := q
			own.Now = access.NewAsker(q.Now.Subject)
			if q.Then != nil {
				own.Then = access.NewAsker(q.Then.Subject)
			}

			h := s.newWalk(ctx, own)
			h.helpers = r.helpers
			r.helpers <- h
		}
	}

	tops := []string{q.Under}
	if q.Under == "" {
		nodes, err := tree.Load(ctx, s.Source, s.Forest)
		if err != nil {
			return Tally{}, err
		}

		tops = tops[:0]
		for _, e := range nodes[0].Entries {
			tops = append(tops, e.Name)
		}
	}

	for _, top := range tops {
		if err := r.below(ctx, top); err != nil {
			return Tally{}, err
		}
	}

	for _, g := range r.groups {
		r.tally.Groups = append(r.tally.Groups, *g)
	}

	for _, w := range r.weights {
		if w.Held > 0 {
			r.tally.Weights = append(r.tally.Weights, *w)
		}
	}

	slices.SortFunc(r.tally.Weights, func(a, b Weight) int {
		return cmp.Or(-cmp.Compare(a.Held, b.Held), pathname.Compare(string(a.Path), string(b.Path)))
	})
	r.tally.Weights = r.tally.Weights[:min(len(r.tally.Weights), maxWeights)]
	slices.SortFunc(r.tally.Groups, func(a, b Equal) int {
		return cmp.Or(-cmp.Compare(a.Count, b.Count), pathname.Compare(string(a.Example), string(b.Example)))
	})
	if len(r.views) == 1 {
		r.tally.Then = r.tally.Held
	}

	return r.tally, nil
}

func (s Snapshot) newWalk(ctx context.Context, q Query) *walk {
	r := &walk{
		Query:  q,
		snap:   s,
		reader: tree.NewReader(s.Source),
		groups: map[group]*Equal{},
		views:  []view{{q.Now, nil}},
	}

	if q.Then != nil {
		r.views = append(r.views, view{q.Then, q.Suppose})
	}

	if q.Weigh {
		r.weights = map[string]*Weight{}
		r.under = len(q.Under) + 1
		if q.Under == "/" {
			r.under = 1
		}
	}

	return r
}

// below asks one folder and all that is in it.
func (r *walk) below(ctx context.Context, at string) error {
	way, c, err := r.snap.Way(ctx, at)
	if err != nil {
		return err
	}

	last := len(way) - 1
	state := make([]inside, len(r.views))
	for i, v := range r.views {
		w := v.suppose.On(way)
		state[i].open = true
		for j := range w[:last] {
			if r.Behind {
				break
			}
			if verdict := v.asker.Passes(&w[j]); !verdict.OK {
				state[i].open = false
				if i == 0 {
					why, _ := v.asker.Reason(verdict, nil, &w[j], access.Enter, r.Names)
					r.tally.Stopped = fmt.Sprintf("the way stops at %s: %s", w[j].Path, why)
				}
				break
			}
		}

		if f := w.FolderOf(last); f != nil {
			state[i].folder = *f
		}

		state[i].mount = way[last].Mount
	}

	e := tree.Entry{Kind: way[last].Kind, Set: way[last].Set}
	if c.Node == nil && e.Kind == perm.Folder {
		e.Gap = tree.Refused
		if way[last].Top {
			e.Gap = tree.Mount
		}
	}

	r.asked = way[last]
	r.path = append(r.path[:0], at...)
	if r.Under == "" {
		r.under, r.weighed = len(at), nil
	}

	return r.entry(ctx, &e, c.Node, state, at == "/")
}

// inside is how one view stands in the folder at hand, with the last decision: neighbours are
// mostly alike.
type inside struct {
	open   bool // the way led here
	folder access.Place
	mount  access.Mount

	known   bool
	kind    perm.Kind
	set     perm.Set
	ok      bool
	unknown bool
	through bool
	on      access.Mount // that the path lies on, or that begins there
}

func (in *inside) decide(v view, e *tree.Entry, q *walk, top bool) {
	op := q.Operation
	path := q.path
	d := q.Names
	begins, other := q.begins()

	set := e.Set
	if v.suppose != nil && !set.IsZero() {
		set = v.suppose(string(path), perm.In(in.folder.Set, e.Kind, set))
	}

	if in.known && in.kind == e.Kind && in.set == set && e.Gap != tree.Mount && !other {
		return
	}

	p := &q.place
	p.Path = ""
	p.Kind = e.Kind
	p.Set = set
	p.Mount = in.mount
	p.Top = e.Gap == tree.Mount
	if other {
		p.Mount, p.Top = begins.Mount, begins.Top
	}

	folder := &in.folder
	if top {
		folder, p.Path = nil, "/"
	}

	in.known = e.Gap != tree.Mount && !other
	in.kind = e.Kind
	in.set = set
	if e.Kind == perm.Folder { // only in one lies anything
		in.on = p.Mount
	}
	in.ok, in.unknown = v.asker.Judge(folder, p, op, d)
	in.through = e.Kind == perm.Folder && v.asker.Passes(p).OK
}

// begins returns what begins at the path at hand.
func (r *walk) begins() (at access.Place, other bool) {
	if r.asked.Top && string(r.path) == string(r.asked.Path) {
		return r.asked, true
	}
	if len(r.snap.Mounts) > 0 {
		at, other = r.snap.Mounts[pathname.Path(r.path)]
	}
	return at, other
}

// entry decides one path and goes on below it. r.path holds it.
func (r *walk) entry(ctx context.Context, e *tree.Entry, node *tree.Node, state []inside, top bool) error {
	if at, other := r.begins(); other {
		own := *e
		own.Set = at.Set
		e = &own
	}

	r.tally.Looked++
	var held [2]bool
	through, unknown := false, false

	for i := range state {
		if in := &state[i]; in.open {
			in.decide(r.views[i], e, r, top)
			held[i], unknown = in.ok, unknown || in.unknown
			in.through = in.through || r.Behind
			through = through || in.through
		}
	}

	if len(state) == 1 {
		held[1] = held[0]
	}

	if unknown {
		r.tally.Unknown++
	}

	if held[0] || held[1] {
		r.keep(e, held)
	}

	if r.weights != nil {
		r.weigh(e.Kind, held[0])
	}

	switch {
	case e.Kind != perm.Folder:
	case e.Gap != tree.NoGap:
		r.tally.Unread++
	case !through:
		r.tally.Closed++
	default:
		below := make([]inside, len(state))
		for i, in := range state { // one that is not open decided nothing: what it holds is of another path
			below[i] = inside{
				open:   in.open && in.through,
				mount:  in.on,
				folder: access.Place{Kind: perm.Folder, Set: in.set, Mount: in.on},
			}
			if len(r.path) == 1 { // what lies in / on a file server are its shares
				below[i].folder.Path = "/"
			}
		}
		return r.folder(ctx, node, below)
	}

	return nil
}

func (r *walk) folder(ctx context.Context, n *tree.Node, state []inside) error {
	if helper, half := r.helper(n); helper != nil {
		return r.share(ctx, helper, n, half, state)
	}
	return r.entries(ctx, n, 0, len(n.Entries), state)
}

// entries asks a part of a folder's entries and all that is in them. r.path holds the folder.
func (r *walk) entries(ctx context.Context, n *tree.Node, from, to int, state []inside) error {
	if err := ctx.Err(); err != nil {
		return err
	}

	base := len(r.path)
	if base > 1 {
		r.path = append(r.path, '/')
		base++
	}

	// Folders that nobody can traverse are not even loaded.
	nodes := tree.Children{
		Reader: r.reader,
		Of:     n,
		To:     to,
		Wanted: func(e *tree.Entry) bool { return r.passable(e, state) },
	}

	for i := from; i < to; i++ {
		e := &n.Entries[i]
		r.path = append(r.path[:base], e.Name...)
		var below *tree.Node
		if e.HasChild() && r.passable(e, state) {
			var err error
			if below, err = nodes.At(ctx, i); err != nil {
				return err
			}
		}

		if err := r.entry(ctx, e, below, state, false); err != nil {
			return err
		}
	}

	return nil
}

// sharedDepth is how far down the work is divided: further down it is not worth the handing over.
const sharedDepth = 8

// helper returns an idle worker, if there is one and the folder is worth dividing, and the number of the entry at
// which to divide it.
func (r *walk) helper(n *tree.Node) (h *walk, half int) {
	if r.helpers == nil || bytes.Count(r.path, []byte{'/'}) > sharedDepth {
		return nil, 0
	}

	var folders []int
	for i := range n.Entries {
		if n.Entries[i].HasChild() {
			folders = append(folders, i)
		}
	}

	if len(folders) < 2 {
		return nil, 0
	}

	select {
	case h := <-r.helpers:
		return h, folders[len(folders)/2-1] + 1
	default:
		return nil, 0
	}
}

// share divides a folder's entries: the helper asks those from half on while r asks the others.
// What the helper found comes after what r found, as in the order of the paths.
func (r *walk) share(ctx context.Context, h *walk, n *tree.Node, half int, state []inside) error {
	h.path = append(h.path[:0], r.path...)
	h.tally = Tally{}
	h.last = group{}
	h.lastAt = nil
	h.weighed = nil
	h.under = r.under
	clear(h.groups)
	clear(h.weights)
	own, ended := slices.Clone(state), make(chan error, 1)
	go func() { ended <- h.entries(ctx, n, half, len(n.Entries), own) }()
	err := errors.Join(r.entries(ctx, n, 0, half, state), <-ended)
	r.add(h)
	r.helpers <- h
	return err
}

// add puts in what another found behind what r found.
func (r *walk) add(h *walk) {
	t := &r.tally
	t.Looked += h.tally.Looked
	t.Held += h.tally.Held
	t.Then += h.tally.Then
	t.Gained += h.tally.Gained
	t.Lost += h.tally.Lost
	t.Closed += h.tally.Closed
	t.Unread += h.tally.Unread
	t.Unknown += h.tally.Unknown

	for path, w := range h.weights {
		if mine := r.weights[path]; mine != nil {
			mine.Held, mine.Looked = mine.Held+w.Held, mine.Looked+w.Looked
		} else {
			own := *w
			r.weights[path] = &own
		}
	}

	for k, g := range h.groups {
		mine := r.groups[k]
		switch {
		case mine != nil:
			mine.Count += g.Count
			mine.Folder = pathname.Widen(mine.Folder, g.Folder)
		case len(r.groups) < maxGroups:
			r.groups[k] = g
		}
	}

	room := r.Limit - len(t.Paths)
	t.Paths = append(t.Paths, h.tally.Paths[:min(room, len(h.tally.Paths))]...)
	if t.Next == "" && (len(h.tally.Paths) > room || h.tally.Next != "") {
		t.Next = t.Paths[r.Limit-1].Path
	}
}

// passable reports whether anybody may get through a folder. Where permissions are supposed the
// path would be needed to know; then it is read in any case.
func (r *walk) passable(e *tree.Entry, state []inside) bool {
	for i := range state {
		if !state[i].open {
			continue
		}
		if r.Behind || r.views[i].suppose != nil {
			return true
		}
		p := access.Place{Kind: e.Kind, Set: e.Set}
		if r.views[i].asker.Passes(&p).OK {
			return true
		}
	}
	return false
}

func (r *walk) keep(e *tree.Entry, held [2]bool) {
	if held[0] {
		r.tally.Held++
	}

	if held[1] {
		r.tally.Then++
	}

	switch {
	case held[0] && !held[1]:
		r.tally.Lost++
	case held[1] && !held[0]:
		r.tally.Gained++
	}

	k := group{e.Kind, e.Set, held[0], held[1]}
	g := r.lastAt
	if g == nil || k != r.last {
		g = r.groups[k]
	}

	switch {
	case g != nil:
		g.Count++
		g.Folder = pathname.Widen(g.Folder, r.path)
	case len(r.groups) < maxGroups:
		path := string(r.path)
		g = &Equal{
			Kind:    e.Kind,
			Set:     e.Set,
			Was:     held[0],
			Is:      held[1],
			Count:   1,
			Folder:  pathname.Path(pathname.Folder(path)),
			Example: pathname.Path(path),
		}
		r.groups[k] = g
	}

	r.last, r.lastAt = k, g
	if len(r.tally.Paths) < r.Limit {
		if path := string(r.path); r.After == "" || pathname.Compare(path, r.After) > 0 {
			r.tally.Paths = append(r.tally.Paths, Reached{pathname.Path(path), e.Kind, e.Set, held[0], held[1]})
		}
	} else if r.Limit > 0 && r.tally.Next == "" {
		r.tally.Next = r.tally.Paths[r.Limit-1].Path
	}
}
