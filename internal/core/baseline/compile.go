package baseline

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
)

// A Problem is something of a baseline that one host cannot follow.
type Problem struct {
	Position
	Rule    string `json:"rule"`
	Message string `json:"message"`
}

// A Matcher is a baseline compiled for one host: an automaton over path parts, so that the cost
// of a path hardly depends on the number of rules. It is not safe for concurrent use.
type Matcher struct {
	doc      *Document
	dir      *perm.Directory
	patterns []compiled
	interned map[string]*State
	start    *State
	wants    map[string]*perm.Want
}

type compiled struct {
	parts []string
	rule  int // -1: leave alone
}

// A pos is a pattern and how many of its parts are matched.
type pos struct{ pattern, part int }

// A State is where a path stands in all patterns at once.
type State struct {
	key      string
	literals map[string][]pos
	globs    []pos
	always   []pos
	fallback *State            // for names that no literal and no glob knows
	next     map[string]*State // for the others, by the positions they lead to
	rules    []int             // whose patterns end here, in the order of the document
	leave    bool
	wants    [perm.BlockDevice + 1]*perm.Want
}

// Compile makes a matcher. Accounts that the host does not know are problems; the aspects that
// need them stay undeclared there.
func Compile(d *Document, dir *perm.Directory) (*Matcher, []Problem) {
	m := &Matcher{doc: d, dir: dir, interned: map[string]*State{}, wants: map[string]*perm.Want{}}
	for _, p := range d.LeaveAlone {
		m.patterns = append(m.patterns, compiled{p.parts, -1})
	}
	for i, r := range d.Rules {
		for _, p := range r.Paths {
			m.patterns = append(m.patterns, compiled{p.parts, i})
		}
	}
	var all []pos
	for i := range m.patterns {
		all = append(all, pos{i, 0})
	}
	m.start = m.intern(all)
	return m, m.problems()
}

// Rule gives a rule of the document by its number.
func (m *Matcher) Rule(i int) *Rule { return &m.doc.Rules[i] }

// Root gives the state at an absolute path.
func (m *Matcher) Root(p string) *State {
	s := m.start
	for part := range strings.SplitSeq(strings.Trim(p, "/"), "/") {
		if part != "" {
			s = m.Step(s, part)
		}
	}
	return s
}

// Step gives the state of an entry in a folder.
func (m *Matcher) Step(s *State, name string) *State {
	lits, ok := s.literals[name]
	if !ok && len(s.globs) == 0 {
		return s.fallback
	}
	reached := slices.Clone(s.always)
	reached = append(reached, lits...)
	for _, g := range s.globs {
		if hit, _ := path.Match(m.patterns[g.pattern].parts[g.part], name); hit {
			reached = append(reached, pos{g.pattern, g.part + 1})
		}
	}
	if len(reached) == len(s.always) {
		return s.fallback
	}
	key := keyOf(reached)
	if n := s.next[key]; n != nil {
		return n
	}
	n := m.intern(reached)
	s.next[key] = n
	return n
}

func keyOf(ps []pos) string {
	b := make([]byte, 0, len(ps)*8)
	for _, p := range ps {
		b = append(b, byte(p.pattern), byte(p.pattern>>8), byte(p.pattern>>16), byte(p.part), byte(p.part>>8))
	}
	return string(b)
}

// intern finds or makes the state of some positions; ** matches nothing as well, so a position
// before it is one behind it too.
func (m *Matcher) intern(ps []pos) *State {
	seen := map[pos]bool{}
	var all []pos
	for len(ps) > 0 {
		p := ps[len(ps)-1]
		ps = ps[:len(ps)-1]
		if seen[p] {
			continue
		}
		seen[p] = true
		all = append(all, p)
		if parts := m.patterns[p.pattern].parts; p.part < len(parts) && parts[p.part] == "**" {
			ps = append(ps, pos{p.pattern, p.part + 1})
		}
	}
	slices.SortFunc(all, func(a, b pos) int {
		if a.pattern != b.pattern {
			return a.pattern - b.pattern
		}
		return a.part - b.part
	})
	key := keyOf(all)
	if s := m.interned[key]; s != nil {
		return s
	}
	s := &State{key: key, literals: map[string][]pos{}, next: map[string]*State{}}
	m.interned[key] = s
	ended := map[int]bool{}
	for _, p := range all {
		c := m.patterns[p.pattern]
		if p.part == len(c.parts) {
			if c.rule < 0 {
				s.leave = true
			} else if !ended[c.rule] {
				ended[c.rule] = true
				s.rules = append(s.rules, c.rule)
			}
			continue
		}
		to := pos{p.pattern, p.part + 1}
		switch part := c.parts[p.part]; {
		case part == "**":
			s.always = append(s.always, p)
		case part == "*":
			s.always = append(s.always, to)
		case strings.ContainsAny(part, "*?["):
			s.globs = append(s.globs, p)
		default:
			name := unquote(part)
			s.literals[name] = append(s.literals[name], to)
		}
	}
	slices.Sort(s.rules)
	s.fallback = s
	if !slices.Equal(s.always, all) { // else nothing moves: the state leads to itself
		s.fallback = m.intern(slices.Clone(s.always))
	}
	return s
}

// unquote takes the backslashes of a pattern part away: they quote wildcards.
func unquote(part string) string {
	if !strings.Contains(part, `\`) {
		return part
	}
	var b strings.Builder
	for i := 0; i < len(part); i++ {
		if part[i] == '\\' && i+1 < len(part) {
			i++
		}
		b.WriteByte(part[i])
	}
	return b.String()
}

// Key names a state: equal keys judge everything below alike.
func (s *State) Key() string { return s.key }

// Want gives what is declared for a path of a kind at a state; nil where nothing is.
func (m *Matcher) Want(s *State, k perm.Kind) *perm.Want {
	if s.leave {
		return &perm.Want{LeaveAlone: true}
	}
	if len(s.rules) == 0 {
		return nil
	}
	if s.wants[k] == nil {
		w := &perm.Want{Rule: map[perm.Aspect]int{}}
		for _, i := range s.rules { // a later rule wins, aspect by aspect
			m.add(w, i, k)
		}
		s.wants[k] = w
	}
	return s.wants[k]
}

func (m *Matcher) add(w *perm.Want, i int, k perm.Kind) {
	r := &m.doc.Rules[i]
	if r.Owner != nil {
		if id, ok := m.find(r.Owner.Name, false); ok {
			w.Owner, w.Rule[perm.AspectOwner] = &id, i
		}
	}
	if r.Group != nil {
		if id, ok := m.find(r.Group.Name, true); ok {
			w.Group, w.Rule[perm.AspectGroup] = &id, i
		}
	}
	md := map[perm.Kind]*mode.Mode{perm.File: r.Files, perm.Folder: r.Folders}[k]
	if md != nil {
		w.Mode, w.Rule[perm.AspectMode] = md, i
	}
	if k == perm.Link {
		return
	}
	if r.Entries != nil {
		if l, ok := m.list(*r.Entries, k); ok {
			w.Entries, w.Rule[perm.AspectEntries] = &l, i
		}
	}
	if r.Defaults != nil && k == perm.Folder {
		if l, ok := m.list(*r.Defaults, k); ok {
			w.Defaults, w.Rule[perm.AspectDefaults] = &l, i
		}
	}
}

func (m *Matcher) list(grants []Grant, k perm.Kind) (posixacl.List, bool) {
	l := posixacl.List{}
	for _, g := range grants {
		id, ok := m.find(g.Name, g.Group)
		if !ok {
			return nil, false
		}
		n, _ := id.ID()
		e := posixacl.Entry{Tag: posixacl.User, ID: n, Perm: g.Perm}
		if g.Group {
			e.Tag = posixacl.Group
		}
		if g.Conditionally && k == perm.Folder {
			e.Perm |= mode.Execute
		}
		l = append(l, e)
	}
	l.Sort()
	return l, true
}

func (m *Matcher) find(name string, group bool) (perm.Principal, bool) {
	if real, ok := m.doc.Accounts[name]; ok {
		name = real
	}
	if group {
		return m.dir.Group(name)
	}
	return m.dir.User(name)
}

func (m *Matcher) problems() (out []Problem) {
	check := func(r *Rule, p Position, name string, group bool) {
		if _, ok := m.find(name, group); ok {
			return
		}
		what := "account"
		if group {
			what = "group"
		}
		real := name
		if n, ok := m.doc.Accounts[name]; ok {
			real = n
		}
		out = append(out, Problem{p, r.Name, fmt.Sprintf("the host has no %s %q: what rule %q says of it cannot be judged there", what, real, r.Name)})
	}
	for i := range m.doc.Rules {
		r := &m.doc.Rules[i]
		if r.Owner != nil {
			check(r, r.Owner.Position, r.Owner.Name, false)
		}
		if r.Group != nil {
			check(r, r.Group.Position, r.Group.Name, true)
		}
		for _, gs := range []*[]Grant{r.Entries, r.Defaults} {
			if gs != nil {
				for _, g := range *gs {
					check(r, g.Position, g.Name, g.Group)
				}
			}
		}
	}
	return out
}
