package baseline

import (
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// A Warning is something in a baseline that is allowed but probably not meant.
type Warning struct {
	Position
	Rule    string   `json:"rule"`
	About   About    `json:"about"`
	Message string   `json:"message"`
	Example string   `json:"example,omitempty" doc:"A path of the last snapshot that it is about"`
	Instead string   `json:"instead" doc:"What to write instead"`
	Hosts   []string `json:"hosts,omitempty" doc:"Where it showed; none where the text alone tells"`
}

// About names what a warning is about.
type About string

// What warnings are about.
const (
	NeverMatches  About = "never matches"
	Overruled     About = "overruled"
	EveryoneWrite About = "everyone writes"
	SetIDWritable About = "set-ID and writable"
	DenyOwners    About = "withholds from owners"
	DenyNothing   About = "withholds nothing"
	OnLink        About = "set on a link"
	InheritStops  About = "inheritance stops"
	ExecuteData   About = "execute on data"
	NobodysNumber About = "nobody's number"
	DenyMeets     About = "deny meets others"
	NobodyRepairs About = "nobody can repair"
)

// Facts is a host with what its last snapshot knows. Walk may be nil: there is no snapshot yet.
type Facts struct {
	Matcher *Matcher
	Walk    func(visit func(path string, k perm.Kind, found perm.Set) error) error
}

// tally is what a walk finds out about one rule.
type tally struct {
	matched, decided int
	first            string
	overruler        int // of the first path
	data, programs   int // files that it makes executable, by what they are now
	dataFirst        string
	link             string
	stops            string // a folder that it closes to the default entries of the folder above
	closed           string // a folder deep in a share that it closes to entries from above
}

// Warn looks for what is probably not meant: in the text, in the host's accounts, and in its
// last snapshot.
func Warn(f Facts) ([]Warning, error) {
	m := f.Matcher
	tallies := make([]tally, len(m.doc.Rules))
	if f.Walk != nil {
		if err := m.tally(f.Walk, tallies); err != nil {
			return nil, err
		}
	}

	same := map[string][]int{} // rules by their patterns
	for i, r := range m.doc.Rules {
		same[patternsOf(r)] = append(same[patternsOf(r)], i)
	}

	var out []Warning
	for i := range m.doc.Rules {
		r := &m.doc.Rules[i]
		add := func(key string, about About, example, instead, format string, args ...any) {
			at, ok := r.At[key]
			if !ok {
				at = r.Position
			}

			if example != "" {
				example = pathname.Escape(example)
			}

			out = append(out, Warning{
				Position: at,
				Rule:     r.Name,
				About:    about,
				Message:  fmt.Sprintf(format, args...),
				Example:  example,
				Instead:  instead,
			})
		}

		m.warnText(i, same[patternsOf(*r)], add)
		m.warnDeny(i, add)
		m.warnNumbers(i, add)
		m.warnShare(i, add)
		if f.Walk != nil {
			m.warnSeen(i, tallies[i], add)
			m.warnStopped(i, tallies[i], add)
		}
	}

	return out, nil
}

// who is an entry's account as it is written in a list.
func (g Grant) who() string {
	if g.Group {
		return "group:" + g.Name
	}
	return "user:" + g.Name
}

type adder func(key string, about About, example, instead, format string, args ...any)

// warnText tells what the text alone tells.
func (m *Matcher) warnText(i int, same []int, add adder) {
	r := &m.doc.Rules[i]
	if r.Files != nil && r.Files.Least(false)&0o002 != 0 {
		add("files", EveryoneWrite, "",
			"a mode without write for others; give those who write an entry, such as entries: [\"group:NAME:rw\"]",
			"everybody on the host can write the files of this rule (mode %s)", r.Files)
	}

	if r.Folders != nil {
		if least := r.Folders.Least(true); least&0o002 != 0 && least&mode.Sticky == 0 {
			add("folders", EveryoneWrite, "",
				"a mode without write for others; where everybody is to add and remove only their own, set the "+
					"sticky bit: 1777",
				"everybody on the host can add, remove and rename entries in the folders of this rule (mode %s)",
				r.Folders)
		}
	}

	if r.Files != nil {
		least := r.Files.Least(false)
		writers := least&0o022 != 0
		if r.Entries != nil {
			writers = writers ||
				slices.ContainsFunc(r.Entries.List, func(g Grant) bool { return g.Perm&mode.Write != 0 })
		}

		if least&(mode.SetUID|mode.SetGID) != 0 && least&0o111 != 0 && writers {
			add("files", SetIDWritable, "",
				"a mode in which only the owner writes, such as 4750, and entries without w",
				"these programs run with the identity of their owner or group, and others than the owner can write "+
					"them (mode %s): who writes one becomes that account",
				r.Files)
		}
	}

	if r.Only.Kinds == 1<<perm.Link && (r.Files != nil || r.Folders != nil || r.Entries != nil || r.Defaults != nil) {
		add("only", OnLink, "", "a rule for the target's path; of a link itself only owner and group can be declared",
			"links have no permissions of their own: this rule can say nothing of them but owner and group")
	}

	// The same paths, the same aspect, another value: the earlier one never counts.
	for _, j := range same {
		later := &m.doc.Rules[j]
		if j <= i || later.Only != r.Only && later.Only != (Only{}) {
			continue
		}
		for k := perm.File; k <= perm.Folder; k++ {
			mine := m.says(i, k)
			if len(mine) > 0 && r.Only.admits(k, r.Only.Must) &&
				!slices.ContainsFunc(mine, func(a perm.Aspect) bool { return !slices.Contains(m.says(j, k), a) }) {
				add("rule", Overruled, "", "one rule for both, or narrower paths for the later one",
					"all that this rule says of a %s, rule %q says differently of the same paths further down, and "+
						"the later rule wins",
					k, later.Name)
				return
			}
		}
	}
}

func patternsOf(r Rule) string {
	var b strings.Builder
	for _, p := range r.Paths {
		b.WriteString(p.Text)
		b.WriteByte(0)
	}
	return b.String()
}

// warnDeny warns of entries that grant nothing, written to keep somebody out, and says whom they affect.
func (m *Matcher) warnDeny(i int, add adder) {
	r := &m.doc.Rules[i]
	for _, x := range []struct {
		key string
		*Grants
	}{{"entries", r.Entries}, {"defaults", r.Defaults}} {
		if x.Grants == nil || !x.AtLeast {
			continue
		}
		for _, e := range x.List {
			if e.Perm == 0 && !e.Conditionally {
				add(x.key, DenyNothing, "",
					"without: ["+e.who()+"], for whom there is to be no entry, or a list of exactly these",
					"an entry without rights in at-least does not keep %s out: theirs may grant more than that",
					e.who())
				break
			}
		}
	}

	if r.Entries == nil || r.Entries.AtLeast {
		return
	}

	owners := m.owners()
	for _, g := range r.Entries.List {
		if g.Perm != 0 || g.Conditionally || !g.Group {
			continue
		}
		id, ok := m.find(g.Name, true)
		if !ok {
			continue
		}

		var hit, spared []string
		for _, a := range m.dir.Accounts {
			if !slices.Contains(a.Groups, id) {
				continue
			}
			if owners[a.ID] {
				hit = append(hit, a.Name)
			}
			if m.grantedElsewhere(r, a, id) {
				spared = append(spared, a.Name)
			}
		}

		if len(hit) > 0 {
			add("entries", DenyOwners, "",
				"entries for those who are to be kept out, one by one, or a group without the owners",
				"the entry for group %s keeps its members out, and %s, whom this baseline makes an owner, "+
					"is one of them",
				g.Name, strings.Join(hit, ", "))
		}

		if len(spared) > 0 {
			add("entries", DenyNothing, "", "an entry for each account that is to be kept out: user:NAME:---",
				"the entry for group %s does not keep %s out: one group that grants is enough (POSIX.1e draft 17, "+
					"23.1.5), and %s is in another that does",
				g.Name, strings.Join(spared, ", "), strings.Join(spared, ", "))
		}
	}
}

// warnNumbers warns of numbers without an account: whoever gets such a number later gets all that goes with it.
func (m *Matcher) warnNumbers(i int, add adder) {
	r := &m.doc.Rules[i]
	if len(m.dir.Accounts) == 0 { // there is no host yet
		return
	}

	check := func(key, name string, group bool) {
		if id, ok := m.find(name, group); ok && m.dir.Account(id) == nil {
			add(key, NobodysNumber, "", "the name of an account that the host has",
				"the host has no account or group with the number %s: whoever is given it next gets what goes with it",
				name)
		}
	}

	if r.Owner != nil {
		check("owner", r.Owner.Name, false)
	}

	if r.Group != nil {
		check("group", r.Group.Name, true)
	}

	for key, grants := range map[string]*Grants{"entries": r.Entries, "defaults": r.Defaults} {
		if grants != nil {
			for _, g := range grants.List {
				check(key, g.Name, g.Group)
			}
		}
	}
}

// owners lists the accounts that some rule makes an owner.
func (m *Matcher) owners() map[perm.Principal]bool {
	out := map[perm.Principal]bool{}
	for _, r := range m.doc.Rules {
		if r.Owner != nil {
			if id, ok := m.find(r.Owner.Name, false); ok {
				out[id] = true
			}
		}
	}
	return out
}

// grantedElsewhere reports whether a rule grants something to another group of an account.
func (m *Matcher) grantedElsewhere(r *Rule, a perm.Account, but perm.Principal) bool {
	for _, g := range r.Entries.List {
		if id, ok := m.find(g.Name, true); g.Group && g.Perm != 0 && ok && id != but && slices.Contains(a.Groups, id) {
			return true
		}
	}
	if r.Group == nil || r.Files == nil || r.Files.Least(false)&0o070 == 0 {
		return false
	}
	id, ok := m.find(r.Group.Name, true)
	return ok && id != but && slices.Contains(a.Groups, id)
}

// warnSeen warns of what the last snapshot shows.
func (m *Matcher) warnSeen(i int, t tally, add adder) {
	r := &m.doc.Rules[i]
	switch {
	case t.matched == 0 && t.link == "" && r.Exists == nil:
		add("paths", NeverMatches, "", "the path as it is on the hosts, or no rule at all",
			"no path of the last snapshot matches: the rule says nothing")
	case t.matched > 0 && t.decided == 0 && r.Exists == nil:
		add("rule", Overruled, t.first, "narrower paths for the later rule, or this rule after it",
			"on each of the %d paths that it matches, later rules overrule all that it says; there it is rule %q",
			t.matched, m.doc.Rules[t.overruler].Name)
	}

	if t.link != "" {
		add("paths", OnLink, t.link, "the path that the link leads to",
			"this path is a link, and links have no permissions of their own: nothing is declared of its target")
	}

	if t.stops != "" {
		add("defaults", InheritStops, t.stops, "defaults: derived, or the same default entries as above",
			"the folder above passes default entries on, and this one is to have none: what is made from here on "+
				"down no longer gets them")
	}

	if t.data > t.programs && t.data > 0 {
		add("files", ExecuteData, t.dataFirst,
			"files: u=rwX,g=rX,o= (execute only where it is), or only: [file, executable] beside the mode",
			"of %d files that this rule makes executable, %d are none now: data is not to be run", t.data+t.programs,
			t.data)
	}
}

// tally walks a snapshot once for all rules.
func (m *Matcher) tally(walk func(func(string, perm.Kind, perm.Set) error) error, to []tally) error {
	inherits := map[string]bool{} // folders that are to pass something on, of the way down
	return walk(func(path string, k perm.Kind, found perm.Set) error {
		s := m.Root(path)
		if s.leave || len(s.rules) == 0 {
			return nil
		}

		at := tallied{path, k, perm.TraitsOf(found), m.Desired(s, k, found)}
		for _, i := range s.rules {
			r, t := &m.doc.Rules[i], &to[i]
			if t.link == "" && at.isLinkOf(r) {
				t.link = path
			}
			if !r.Only.admits(k, at.traits) {
				continue
			}
			if says := m.says(i, k); len(says) > 0 {
				t.match(at, i, says)
				t.effects(at, i, r)
			}
		}

		if i, stops := at.stopsInheriting(inherits); stops && to[i].stops == "" {
			to[i].stops = path
		}
		return nil
	})
}

// tallied is a path as the rules that match it are counted by.
type tallied struct {
	path   string
	kind   perm.Kind
	traits perm.Traits
	want   *perm.Desired // nil where nothing is declared
}

// decides reports whether a rule decides an aspect of the path.
func (at tallied) decides(i int, a perm.Aspect) bool { return at.want != nil && at.want.Rule[a] == i }

// isLinkOf reports whether the path is a link that a rule names, and says something of that links do not have.
func (at tallied) isLinkOf(r *Rule) bool {
	return at.kind == perm.Link && (r.Files != nil || r.Folders != nil || r.Entries != nil) &&
		slices.ContainsFunc(r.Paths, func(p Pattern) bool { return p.exact() && p.literal() == at.path })
}

// match counts a path that a rule says something of.
func (t *tally) match(at tallied, i int, says []perm.Aspect) {
	t.matched++
	if t.first == "" {
		t.first = at.path
	}
	for _, a := range says {
		if at.decides(i, a) {
			t.decided++
		} else if at.want != nil && t.first == at.path {
			t.overruler = at.want.Rule[a]
		}
	}
}

// effects counts files that a rule makes executable, and remembers a folder that it closes.
func (t *tally) effects(at tallied, i int, r *Rule) {
	if t.closed == "" && at.kind == perm.Folder && deep(at.path) && r.Inherits != nil && !*r.Inherits &&
		at.decides(i, perm.AspectInheritance) {
		t.closed = at.path
	}

	if at.kind != perm.File || r.Files == nil || !at.decides(i, perm.AspectMode) || r.Files.Least(false)&0o111 == 0 {
		return
	}
	if at.traits&perm.Executable != 0 {
		t.programs++
	} else if t.data++; t.dataFirst == "" {
		t.dataFirst = at.path
	}
}

// stopsInheriting returns the rule by which a folder passes nothing on although the one above does. What passes
// something on is noted.
func (at tallied) stopsInheriting(inherits map[string]bool) (rule int, stops bool) {
	if at.kind != perm.Folder || at.want == nil || at.want.Defaults == nil {
		return 0, false
	}
	derived := at.want.Defaults.Derived
	switch {
	case derived && at.want.Entries == nil: // what it has, it passes on
		return 0, false
	case len(at.want.Defaults.List) > 0 || derived && len(at.want.Entries.List) > 0:
		inherits[at.path] = true
		return 0, false
	}
	return at.want.Rule[perm.AspectDefaults], inherits[pathname.Folder(at.path)]
}
