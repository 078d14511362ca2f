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
	traits   bool // some rule asks for more than the kind
	said     map[ruleKind][]perm.Aspect
}

type ruleKind struct {
	rule int
	kind perm.Kind
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
	wants    [perm.BlockDevice + 1][allTraits + 1]*perm.Want
}

const allTraits = perm.Executable | perm.WithEntries

// Compile makes a matcher. Accounts that the host does not know are problems; the aspects that
// need them stay undeclared there.
func Compile(d *Document, dir *perm.Directory) (*Matcher, []Problem) {
	m := &Matcher{doc: d, dir: dir, interned: map[string]*State{}, said: map[ruleKind][]perm.Aspect{}}
	for _, p := range d.LeaveAlone {
		m.patterns = append(m.patterns, compiled{p.parts, -1})
	}
	for i, r := range d.Rules {
		m.traits = m.traits || r.Only.Must|r.Only.MustNot != 0
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

// A Required is a path that must be there.
type Required struct {
	Rule     int
	Kind     perm.Kind // the one that is declared, or a file
	Declared string
	Found    string
	only     Only
}

// Admits says whether a path of a kind is what must be there.
func (r Required) Admits(k perm.Kind) bool { return r.only.admits(k, 0) }

// Required lists the paths that must be there; a later rule may say otherwise.
func (m *Matcher) Required() map[string]Required {
	out := map[string]Required{}
	for i := range m.doc.Rules {
		r := &m.doc.Rules[i]
		if r.Exists == nil || !*r.Exists {
			continue
		}
		for _, p := range r.Paths {
			path := p.literal()
			s := m.Root(path)
			if s.leave || m.presence(s) != i {
				continue
			}
			x := Required{Rule: i, Kind: perm.File, Declared: "there", Found: "missing", only: r.Only}
			for k := perm.File; k <= perm.BlockDevice; k++ {
				if r.Only.Kinds == 1<<k {
					x.Kind, x.Declared = k, "a "+k.String()
				}
			}
			out[path] = x
		}
	}
	return out
}

// presence gives the last rule that says whether a path is to be there; -1 where none does.
func (m *Matcher) presence(s *State) int {
	for _, i := range slices.Backward(s.rules) {
		if m.doc.Rules[i].Exists != nil {
			return i
		}
	}
	return -1
}

// literal is the path of a pattern without wildcards.
func (p Pattern) literal() string {
	parts := make([]string, len(p.parts))
	for i, part := range p.parts {
		parts[i] = unquote(part)
	}
	return "/" + strings.Join(parts, "/")
}

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
		case wildcard(part):
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

// wildcard says whether a pattern part stands for more than one name.
func wildcard(part string) bool {
	for i := 0; i < len(part); i++ {
		switch part[i] {
		case '\\':
			i++ // it quotes what follows
		case '*', '?', '[':
			return true
		}
	}
	return false
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

// Want gives what is declared for a path of a kind and state at a state of the matcher; nil where
// nothing is.
func (m *Matcher) Want(s *State, k perm.Kind, found perm.Set) *perm.Want {
	if s.leave {
		return &perm.Want{LeaveAlone: true}
	}
	if len(s.rules) == 0 {
		return nil
	}
	var t perm.Traits
	if m.traits {
		t = perm.TraitsOf(found)
	}
	if s.wants[k][t] == nil {
		w := &perm.Want{Rule: map[perm.Aspect]int{}}
		for _, i := range s.rules { // a later rule wins, aspect by aspect
			if m.doc.Rules[i].Only.admits(k, t) {
				m.add(w, i, k)
			}
		}
		s.wants[k][t] = w
	}
	if len(s.wants[k][t].Rule) == 0 {
		return nil
	}
	return s.wants[k][t]
}

// says lists the aspects that a rule declares for a kind of path, as far as its accounts are known.
func (m *Matcher) says(i int, k perm.Kind) []perm.Aspect {
	if out, ok := m.said[ruleKind{i, k}]; ok {
		return out
	}
	w := &perm.Want{Rule: map[perm.Aspect]int{}}
	m.add(w, i, k)
	var out []perm.Aspect
	for _, a := range append(slices.Clone(perm.Aspects), perm.AspectPresence) {
		if _, ok := w.Rule[a]; ok {
			out = append(out, a)
		}
	}
	m.said[ruleKind{i, k}] = out
	return out
}

func (m *Matcher) add(w *perm.Want, i int, k perm.Kind) {
	r := &m.doc.Rules[i]
	if r.Exists != nil {
		w.Absent, w.Rule[perm.AspectPresence] = !*r.Exists, i
	}
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
	md := map[perm.Kind]*mode.Wanted{perm.File: r.Files, perm.Folder: r.Folders}[k]
	if md != nil {
		w.Mode, w.Rule[perm.AspectMode] = md, i
	}
	if k == perm.Link {
		return
	}
	if r.Entries != nil {
		if l, ok := m.list(r.Entries.List, k); ok {
			w.Entries, w.AtLeast, w.Rule[perm.AspectEntries] = &l, r.Entries.AtLeast, i
			if d, at := w.Rule[perm.AspectDefaults]; at && m.doc.Rules[d].Defaults.Derived {
				m.derive(w, d)
			}
		}
	}
	if r.Defaults != nil && k == perm.Folder {
		if r.Defaults.Derived {
			m.derive(w, i)
		} else if l, ok := m.list(r.Defaults.List, k); ok {
			w.Defaults, w.Rule[perm.AspectDefaults] = &l, i
		}
	}
	if r.Caps != nil && k == perm.File {
		w.Caps, w.Rule[perm.AspectCaps] = r.Caps, i
	}
	if f := r.On | r.Off; f != 0 && (k == perm.File || k == perm.Folder) {
		w.On, w.Off, w.Rule[perm.AspectFlags] = w.On&^f|r.On, w.Off&^f|r.Off, i
	}
}

// derive makes the default entries those that the folder itself is to have, whichever rule says so.
func (m *Matcher) derive(w *perm.Want, rule int) {
	w.Rule[perm.AspectDefaults] = rule
	if w.Entries != nil {
		w.Defaults = w.Entries
	} else {
		w.Defaults = &posixacl.List{}
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
		if name = real; name == "" { // the word stands for nobody on this host
			return "", false
		}
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
		if real == "" {
			out = append(out, Problem{p, r.Name, fmt.Sprintf("the word %q stands for no %s on this host: give it a value there, or a default; what rule %q says of it cannot be judged", name, what, r.Name)})
			return
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
		for _, gs := range []*Grants{r.Entries, r.Defaults} {
			if gs != nil {
				for _, g := range gs.List {
					check(r, g.Position, g.Name, g.Group)
				}
			}
		}
	}
	return out
}
