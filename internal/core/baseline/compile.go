package baseline

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"path"
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// A Problem is a part of a baseline that one host cannot follow.
type Problem struct {
	Position
	Rule    string `json:"rule"`
	Message string `json:"message"`
}

// A Matcher is a baseline compiled for one host: a finite automaton whose alphabet is the parts of paths, so that the
// cost of a path hardly depends on the number of rules.
//
// Each pattern is a nondeterministic automaton (NFA) whose states are the positions between its parts: a literal leads
// on by its name, a wildcard by the names that it matches, * by any name, and a position before ** stays where it is,
// with an empty (ε) transition behind the **. The matcher makes it deterministic by the subset construction, lazily: a
// [State] is a set of positions, closed under ε-transitions, and is made when a walk first gets there. Its transitions
// are those of literals and globs, and a default one for every other name. What the positions before ** contribute is
// the same all the way down, and is kept once, in the state's base.
//
// It is not safe for concurrent use.
type Matcher struct {
	doc      *Document
	dir      *perm.Directory
	patterns []compiled
	interned map[string]*State
	start    *State
	traits   bool // some rule asks for more than the kind
	reached  []pos
	key      []byte
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

// A glob is a pattern part with wildcards, and where it leads. A name is matched against it once, however many
// patterns have it.
type glob struct {
	part string
	to   []pos
}

// A State is where a path stands in all patterns at once. Most of a state is what ** keeps open all
// the way down, and that is the same for many states: it stands once, in their base.
type State struct {
	all []pos  // sorted
	key string // short for all
	// of the positions before ** and what follows from them; itself, where there are no others
	base      *State
	literals  map[string][]pos // from here on: of the positions that are not the base's
	globs     []glob
	onAny     []pos             // where any name leads
	byDefault *State            // for names that no literal and no glob knows
	next      map[string]*State // for the others, by the positions they lead to
	rules     []int             // whose patterns end here, in the order of the document; the base's too
	leave     bool
	wants     [perm.BlockDevice + 1][allTraits + 1]*perm.Desired
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

	nowhere := &State{next: map[string]*State{}}
	nowhere.base, nowhere.byDefault = nowhere, nowhere
	m.interned[""] = nowhere
	m.start = m.intern(nowhere, all)
	return m, m.problems()
}

// Fingerprint names all that decides what a matcher wants: patterns, conditions, and what is
// declared, with accounts as the host's own numbers. Matchers with equal fingerprints judge equal
// paths in states of equal keys alike, on whichever host.
func (m *Matcher) Fingerprint() [32]byte {
	b := make([]byte, 0, 256*len(m.patterns))
	number := func(n int) { b = binary.AppendUvarint(b, uint64(n+1)) }
	text := func(s string) {
		number(len(s))
		b = append(b, s...)
	}
	someone := func(name string, group bool) {
		id, _ := m.find(name, group) // whoever the host does not know is nobody
		text(string(id))
	}
	who := func(w *Who, group bool) {
		if w == nil {
			number(-1)
		} else {
			someone(w.Name, group)
		}
	}

	wanted := func(w *mode.Declared) {
		if w == nil {
			number(-1)
		} else {
			text(w.String())
		}
	}

	grants := func(g *Grants) {
		if g == nil {
			number(-1)
			return
		}

		b = fmt.Appendf(b, "%v %v", g.AtLeast, g.Derived)
		number(len(g.List))
		for _, e := range g.List {
			someone(e.Name, e.Group)
			b = fmt.Appendf(b, "%d %v", e.Perm, e.Conditionally)
		}

		number(len(g.Without))
		for _, e := range g.Without {
			someone(e.Name, e.Group)
		}
	}

	for _, p := range m.patterns {
		number(p.rule)
		number(len(p.parts))
		for _, part := range p.parts {
			text(part)
		}
	}

	for i := range m.doc.Rules {
		r := &m.doc.Rules[i]
		b = fmt.Appendf(b, "%d %d %d %d %d %q", r.Only.Kinds, r.Only.Must, r.Only.MustNot, r.On, r.Off, r.Any)
		who(r.Owner, false)
		who(r.Group, true)
		wanted(r.Files)
		wanted(r.Folders)
		grants(r.Entries)
		grants(r.Defaults)
		for _, said := range []bool{r.Caps != nil, r.Exists != nil} {
			b = fmt.Append(b, said)
		}

		if r.Caps != nil {
			text(*r.Caps)
		}

		if r.Exists != nil {
			b = fmt.Append(b, *r.Exists)
		}

		b = fmt.Append(b, r.Inherits != nil, r.Inherits != nil && *r.Inherits, r.Shares != nil)
		if r.Shares != nil {
			b = fmt.Append(b, r.Shares.AtLeast, len(r.Shares.List))
			for _, g := range r.Shares.List {
				id, _ := m.identity(g.Name)
				b = fmt.Append(b, g.Deny, g.Mask, g.Flags)
				text(string(id))
			}
			for _, x := range r.Shares.Without {
				id, _ := m.identity(x.Name)
				text(string(id))
			}
		}
	}

	return sha256.Sum256(b)
}

// Roots returns the folders that the baseline covers.
func (m *Matcher) Roots() []string { return m.doc.Roots }

// Rule returns a rule of the document by its number.
func (m *Matcher) Rule(i int) *Rule { return &m.doc.Rules[i] }

// A Required is a path that must be there.
type Required struct {
	Rule     int
	Kind     perm.Kind // the one that is declared, or a file
	Declared string
	Found    string
	Has      perm.Value // what was found, as it is known: the kind of what is there, or missing
	only     Only
}

// Wants returns what is declared, as it is known.
func (r Required) Wants() perm.Value { return perm.Value(fmt.Sprintf("kinds %x", r.only.Kinds)) }

// Admits reports whether a path of a kind is what must be there.
func (r Required) Admits(k perm.Kind) bool { return r.only.admits(k, 0) }

// Required lists the paths that must be there. A later rule can take that back.
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

			x := Required{Rule: i, Kind: perm.File, Declared: "there", Found: "missing", Has: "missing", only: r.Only}
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

// presence returns the last rule that says whether a path is to be there; -1 where none does.
func (m *Matcher) presence(s *State) int {
	for _, i := range slices.Backward(s.rules) {
		if m.doc.Rules[i].Exists != nil {
			return i
		}
	}
	return -1
}

// exact reports whether a pattern has no wildcards, and stands for one path.
func (p Pattern) exact() bool { return !slices.ContainsFunc(p.parts, Wild) }

// literal is the path of a pattern without wildcards.
func (p Pattern) literal() string {
	parts := make([]string, len(p.parts))
	for i, part := range p.parts {
		parts[i] = unquote(part)
	}
	return "/" + strings.Join(parts, "/")
}

// Root returns the state at an absolute path.
func (m *Matcher) Root(p string) *State {
	s := m.start
	for part := range strings.SplitSeq(strings.Trim(p, "/"), "/") {
		if part != "" {
			s = m.Step(s, part)
		}
	}
	return s
}

// live reports whether some pattern matches here, or may match below.
func (s *State) live() bool { return len(s.all) > 0 }

// Step returns the state of an entry in a folder.
func (m *Matcher) Step(s *State, name string) *State {
	m.reached = s.onName(m.reached[:0], name)
	if s.base != s {
		m.reached = s.base.onName(m.reached, name)
	}
	if len(m.reached) == 0 {
		return m.defaultState(s)
	}
	m.key = appendKey(m.key[:0], m.reached)
	if n := s.next[string(m.key)]; n != nil {
		return n
	}
	key := string(m.key)
	n := m.intern(s.base, append(slices.Clone(m.reached), s.anyName()...))
	s.next[key] = n
	return n
}

// onName appends where a name leads by a literal or a glob.
func (s *State) onName(to []pos, name string) []pos {
	to = append(to, s.literals[name]...)
	for _, g := range s.globs {
		if hit, _ := path.Match(g.part, name); hit {
			to = append(to, g.to...)
		}
	}
	return to
}

// anyName returns where any name leads.
func (s *State) anyName() []pos {
	if s.base == s {
		return s.onAny
	}
	return append(slices.Clone(s.onAny), s.base.onAny...)
}

// defaultState returns the state for a name that no literal and no glob knows.
func (m *Matcher) defaultState(s *State) *State {
	if s.byDefault == nil {
		s.byDefault = m.intern(s.base, s.anyName())
	}
	return s.byDefault
}

func appendKey(b []byte, ps []pos) []byte {
	for _, p := range ps {
		b = append(b, byte(p.pattern), byte(p.pattern>>8), byte(p.pattern>>16), byte(p.part), byte(p.part>>8))
	}
	return b
}

func keyOf(ps []pos) string { return string(appendKey(make([]byte, 0, len(ps)*5), ps)) }

func byPattern(a, b pos) int {
	if a.pattern != b.pattern {
		return a.pattern - b.pattern
	}
	return a.part - b.part
}

// open reports whether a position stands before **.
func (m *Matcher) open(p pos) bool {
	parts := m.patterns[p.pattern].parts
	return p.part < len(parts) && parts[p.part] == "**"
}

// closure adds what follows from positions before **, which matches nothing as well; two ** never
// stand side by side. The result is sorted.
func (m *Matcher) closure(ps []pos) []pos {
	for _, p := range ps {
		if m.open(p) {
			ps = append(ps, pos{p.pattern, p.part + 1})
		}
	}
	slices.SortFunc(ps, byPattern)
	return slices.Compact(ps)
}

// without drops the positions that a state has already.
func without(ps []pos, s *State) []pos {
	return slices.DeleteFunc(ps, func(p pos) bool {
		_, has := slices.BinarySearchFunc(s.all, p, byPattern)
		return has
	})
}

// merged puts two sorted lists together: most of a state is its base, and need not be sorted again.
func merged(a, b []pos) []pos {
	out := make([]pos, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if byPattern(a[0], b[0]) < 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// intern finds or makes the state of a base and further positions.
func (m *Matcher) intern(base *State, further []pos) *State {
	own := without(m.closure(further), base)
	if len(own) == 0 {
		return base
	}

	all := merged(base.all, own)
	full := keyOf(all)
	if s := m.interned[full]; s != nil {
		return s
	}

	sum := sha256.Sum256([]byte(full))
	s := &State{all: all, key: string(sum[:16]), next: map[string]*State{}, literals: map[string][]pos{}}
	m.interned[full] = s
	if slices.ContainsFunc(own, m.open) {
		var open []pos
		for _, p := range own {
			if m.open(p) {
				open = append(open, p)
			}
		}

		// What is open stays so all the way down: it makes a base of its own.
		if lasting := without(m.closure(slices.Clone(open)), base); len(lasting) == len(own) {
			base = s
		} else {
			base = m.intern(base, lasting)
			own = without(own, base)
		}
	}

	s.base = base
	if base == s {
		own = all
	} else {
		s.rules, s.leave = slices.Clone(base.rules), base.leave
	}

	for _, p := range own {
		c := m.patterns[p.pattern]
		if p.part == len(c.parts) {
			if c.rule < 0 {
				s.leave = true
			} else {
				s.rules = append(s.rules, c.rule)
			}
			continue
		}

		to := pos{p.pattern, p.part + 1}
		switch part := c.parts[p.part]; {
		case part == "**": // the base keeps it
		case part == "*":
			s.onAny = append(s.onAny, to)
		case Wild(part):
			i := slices.IndexFunc(s.globs, func(g glob) bool { return g.part == part })
			if i < 0 {
				i = len(s.globs)
				s.globs = append(s.globs, glob{part: part})
			}
			s.globs[i].to = append(s.globs[i].to, to)

		default:
			name := unquote(part)
			s.literals[name] = append(s.literals[name], to)
		}
	}

	slices.Sort(s.rules)
	s.rules = slices.Compact(s.rules)
	return s
}

// Wild reports whether a pattern part stands for more than one name.
func Wild(part string) bool {
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

// Desired returns what is declared for a path of a kind and state, given the matcher's state there; nil if nothing
// is.
func (m *Matcher) Desired(s *State, k perm.Kind, found perm.Set) *perm.Desired {
	if s.leave {
		return &perm.Desired{LeaveAlone: true}
	}
	if len(s.rules) == 0 {
		return nil
	}

	var t perm.Traits
	if m.traits {
		t = perm.TraitsOf(found)
	}

	if s.wants[k][t] == nil {
		w := &perm.Desired{Rule: map[perm.Aspect]int{}}
		for _, i := range s.rules { // a later rule wins, aspect by aspect
			if m.doc.Rules[i].Only.admits(k, t) {
				m.add(w, i, k)
			}
		}
		s.wants[k][t] = w.Ready()
	}

	if len(s.wants[k][t].Rule) == 0 {
		return nil
	}

	return s.wants[k][t]
}

// says lists the aspects that a rule declares for a kind of path, except those whose accounts are unknown.
func (m *Matcher) says(i int, k perm.Kind) []perm.Aspect {
	if out, ok := m.said[ruleKind{i, k}]; ok {
		return out
	}
	w := &perm.Desired{Rule: map[perm.Aspect]int{}}
	m.add(w, i, k)
	var out []perm.Aspect
	for _, a := range perm.AllAspects {
		if _, ok := w.Rule[a]; ok {
			out = append(out, a)
		}
	}
	m.said[ruleKind{i, k}] = out
	return out
}

func (m *Matcher) add(w *perm.Desired, i int, k perm.Kind) {
	r := &m.doc.Rules[i]
	for _, key := range r.Any {
		m.free(w, i, k, key)
	}

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

	md := map[perm.Kind]*mode.Declared{perm.File: r.Files, perm.Folder: r.Folders}[k]
	if md != nil {
		w.Mode, w.Rule[perm.AspectMode] = md, i
	}

	if k == perm.Link {
		return
	}

	m.share(w, i, k)
	if list, ok := m.entries(r.Entries, k); ok {
		w.Entries, w.Rule[perm.AspectEntries] = list, i
	}
	if list, ok := m.entries(r.Defaults, k); ok && k == perm.Folder {
		w.Defaults, w.Rule[perm.AspectDefaults] = list, i
	}

	if r.Caps != nil && k == perm.File {
		w.Caps, w.Rule[perm.AspectCaps] = r.Caps, i
	}

	if f := r.On | r.Off; f != 0 && (k == perm.File || k == perm.Folder) {
		w.On = w.On&^f | r.On
		w.Off = w.Off&^f | r.Off
		w.Rule[perm.AspectFlags] = i
	}
}

// free clears the declaration for key, and records rule i as the one that cleared it, so that explain can name it.
func (m *Matcher) free(w *perm.Desired, i int, k perm.Kind, key string) {
	file, folder := k == perm.File, k == perm.Folder
	switch {
	case key == "owner":
		w.Owner, w.Rule[perm.AspectOwner] = nil, i
	case key == "group":
		w.Group, w.Rule[perm.AspectGroup] = nil, i
	case key == "files" && file, key == "folders" && folder:
		w.Mode, w.Rule[perm.AspectMode] = nil, i
	case key == "entries" && k != perm.Link:
		w.Entries, w.Rule[perm.AspectEntries] = nil, i
	case key == "defaults" && folder:
		w.Defaults, w.Rule[perm.AspectDefaults] = nil, i
	case key == "grants" && k != perm.Link:
		w.Grants, w.Rule[perm.AspectGrants] = nil, i
	case key == "inherits" && k != perm.Link:
		w.Inherits, w.Rule[perm.AspectInheritance] = nil, i
	case key == "capability" && file:
		w.Caps, w.Rule[perm.AspectCaps] = nil, i
	case flagKeys[key] != 0 && (file || folder):
		w.On = w.On &^ flagKeys[key]
		w.Off = w.Off &^ flagKeys[key]
		w.Rule[perm.AspectFlags] = i
	}
}

// entries returns what a rule asks of the entries of a path of kind k. It is false if the rule asks nothing, or if the
// host does not know somebody: then nothing is declared there.
func (m *Matcher) entries(g *Grants, k perm.Kind) (*perm.DesiredEntries, bool) {
	if g == nil {
		return nil, false
	}

	out := &perm.DesiredEntries{AtLeast: g.AtLeast, Derived: g.Derived}
	for _, x := range g.List {
		who, ok := m.find(x.Name, x.Group)
		if !ok {
			return nil, false
		}
		p := x.Perm
		if x.Conditionally && k == perm.Folder {
			p |= mode.Execute
		}
		out.List = append(out.List, perm.DesiredEntry{Who: who, Perm: p})
	}

	for _, x := range g.Without {
		who, ok := m.find(x.Name, x.Group)
		if !ok {
			return nil, false
		}
		out.Without = append(out.Without, who)
	}
	return out, true
}

// real resolves an account alias of the baseline to the host's account name; "" if the alias is unset on this host.
func (m *Matcher) real(name string) string {
	if n, ok := m.doc.Accounts[name]; ok {
		return n
	}
	return name
}

// find returns the account or group that a rule names; false if the host knows nobody of that name.
func (m *Matcher) find(name string, group bool) (perm.Principal, bool) {
	name = m.real(name)
	if name == "" {
		return "", false
	}
	return m.dir.Find(name, group)
}

// identity returns whom an allow or deny entry names: an account, a group, or an identity that is the same
// everywhere.
func (m *Matcher) identity(name string) (perm.Principal, bool) {
	name = m.real(name)
	if name == "" {
		return "", false
	}
	return m.dir.FindAny(name)
}

// problems lists whom rules name and the host does not know.
func (m *Matcher) problems() (out []Problem) {
	unknown := func(r *Rule, p Position, name, what string) {
		says := fmt.Sprintf("the host has no %s %q: what rule %q says of it cannot be judged there", what, m.real(name),
			r.Name)
		if m.real(name) == "" {
			says = fmt.Sprintf("the word %q stands for no %s on this host: give it a value there, or a default; what "+
				"rule %q says of it cannot be judged", name, what, r.Name)
		}
		out = append(out, Problem{Position: p, Rule: r.Name, Message: says})
	}
	check := func(r *Rule, p Position, name string, group bool) {
		what := "account"
		if group {
			what = "group"
		}
		if _, ok := m.find(name, group); !ok {
			unknown(r, p, name, what)
		}
	}
	either := func(r *Rule, p Position, name string) {
		if _, ok := m.identity(name); !ok {
			unknown(r, p, name, "account or group")
		}
	}

	for i := range m.doc.Rules {
		r := &m.doc.Rules[i]
		if r.Owner != nil {
			check(r, r.Owner.Position, r.Owner.Name, false)
		}

		if r.Group != nil {
			check(r, r.Group.Position, r.Group.Name, true)
		}

		if r.Shares != nil {
			for _, g := range r.Shares.List {
				either(r, g.Position, g.Name)
			}
			for _, x := range r.Shares.Without {
				either(r, x.Position, x.Name)
			}
		}

		for _, gs := range []*Grants{r.Entries, r.Defaults} {
			if gs != nil {
				for _, g := range slices.Concat(gs.List, gs.Without) {
					check(r, g.Position, g.Name, g.Group)
				}
			}
		}
	}

	return out
}
