package baseline

import (
	"fmt"
	"slices"

	"idletally/internal/core/perm"
)

// A Change is one hand-written change: which paths, and what is to become of them. It uses the language of rules.
type Change struct {
	Position
	Set   Rule  // how the paths are to be
	Where *Rule // only where they are like this now; nil: wherever they are
}

// Changes are applied in order: a later one starts from what an earlier one made.
type Changes struct {
	doc  *Document // roots and words for accounts
	List []Change
}

// MaxChanges bounds one text.
const MaxChanges = 500

var (
	changeKeys = []string{"paths", "only", "where", "set"}
	stateKeys  = []string{
		"owner", "group", "files", "folders", "entries", "defaults", "capability", "grants", "inherits",
	}
	setKeys = append([]string{"form", "for"}, stateKeys...)
)

// ParseChanges reads hand-written changes for the paths below some roots; words are those of a baseline
// for accounts, or nil. The error, if there is one, is an Errors with every fault found.
func ParseChanges(text []byte, roots []string, words map[string]string) (*Changes, error) {
	r := newReader(Env{})
	r.builtin()
	out := &Changes{doc: &Document{Roots: roots, Accounts: words}}
	r.bounded(func() {
		if body := r.body(text); body != nil {
			r.changes(body, out)
		}
	})
	if len(r.errs) > 0 {
		return nil, r.errs.sorted()
	}
	return out, nil
}

func (r *reader) changes(body *node, out *Changes) {
	seen := false
	r.pairs(body, "the text", []string{"changes"}, func(_ string, v *node) {
		seen = true
		r.list(v, "changes", func(n *node) { out.List = append(out.List, r.change(n)) })
	})
	switch {
	case len(r.errs) > 0:
	case !seen || len(out.List) == 0:
		r.fail(body, "nothing is to be changed: begin with \"changes:\" and list at least one change")
	case len(out.List) > MaxChanges:
		r.fail(body, "there are %d changes, at most %d are allowed", len(out.List), MaxChanges)
	}
	for _, c := range out.List {
		r.underRoots(&Document{Roots: out.doc.Roots, Rules: []Rule{c.Set}})
	}
}

func (r *reader) change(n *node) Change {
	c := Change{Position: at(n), Set: Rule{Position: at(n), Name: "change", At: map[string]Position{}}}
	var set, where *node
	r.pairs(n, "a change", changeKeys, func(key string, v *node) {
		switch key {
		case "paths":
			c.Set.Paths = r.patterns(v, "paths")
		case "only":
			c.Set.Only = r.only(v)
		case "where":
			where = v
		case "set":
			set = v
		}
	})

	if where != nil {
		c.Where = &Rule{
			Position: at(where),
			Name:     "where",
			Paths:    c.Set.Paths,
			Only:     c.Set.Only,
			At:       map[string]Position{},
		}
		r.aspects(where, "where", stateKeys, c.Where, nil)
	}

	if set != nil {
		r.set(set, &c.Set)
	}

	switch {
	case len(r.errs) > 0:
	case len(c.Set.Paths) == 0:
		r.fail(n, "the change has no paths: say where it is to be made, such as \"paths: /srv/app/**\"")
	case set == nil || c.Set.silent():
		r.fail(n,
			"the change sets nothing: give under \"set\" a form, owner, group, files, folders, entries, defaults, "+
				"capability, grants or inherits")
	case c.Where != nil && c.Where.silent():
		r.fail(where,
			"where names no condition: give owner, group, files, folders, entries, defaults, capability, grants or "+
				"inherits, or leave it out")
	}

	return c
}

// set reads what paths are to be: a form, as rules take one, and what is said besides, which counts.
func (r *reader) set(n *node, rule *Rule) {
	var form *node
	var people []string
	newReader(Env{}).pairs(n, "set", setKeys, func(key string, v *node) { // unknown keys are told below
		switch key {
		case "form":
			form = v
		case "for":
			people = r.people(v)
		}
	})

	switch {
	case form != nil:
		r.take(form, rule, people)
	case len(people) > 0 && !usesFor(n):
		r.fail(n, "for is of use only with a form, or with ${for} in entries")
	}
	r.aspects(n, "set", setKeys, rule, people)
}

// Named lists the accounts that a baseline's rules name, as a host knows them.
func Named(d *Document, dir *perm.Directory) (out []perm.Principal) {
	m := &Matcher{doc: d, dir: dir}
	seen := map[perm.Principal]bool{}
	add := func(name string, group bool) {
		if id, ok := m.find(name, group); ok && !seen[id] {
			seen[id] = true
			out = append(out, id)
		}
	}

	for i := range d.Rules {
		r := &d.Rules[i]
		if r.Owner != nil {
			add(r.Owner.Name, false)
		}
		for _, g := range []*Grants{r.Entries, r.Defaults} {
			if g != nil {
				for _, e := range g.List {
					add(e.Name, e.Group)
				}
			}
		}
	}

	return out
}

// silent reports whether a rule declares nothing.
func (r *Rule) silent() bool {
	return len(r.Any) == 0 && r.Owner == nil && r.Group == nil && r.Files == nil && r.Folders == nil &&
		r.Entries == nil && r.Defaults == nil &&
		r.Caps == nil && r.On|r.Off == 0 && r.Exists == nil && r.Shares == nil && r.Inherits == nil
}

// A Changer computes what changes make of a host's paths, with the host's accounts.
type Changer struct {
	steps   []changer
	dir     *perm.Directory
	Matched []int // how many paths each change has spoken of
}

type changer struct{ set, where *Matcher }

// For prepares the changes for a host. Whatever the host does not know is a problem, and then nothing may be changed.
func (c *Changes) For(dir *perm.Directory) (*Changer, []Problem) {
	out := &Changer{dir: dir, Matched: make([]int, len(c.List))}
	var all []Problem
	with := func(r Rule) *Matcher {
		m, problems := Compile(&Document{Roots: c.doc.Roots, Accounts: c.doc.Accounts, Rules: []Rule{r}}, dir)
		all = append(all, problems...)
		return m
	}
	for _, x := range c.List {
		s := changer{set: with(x.Set)}
		if x.Where != nil {
			s.where = with(*x.Where)
		}
		out.steps = append(out.steps, s)
	}
	return out, all
}

// Reaches reports whether some change may speak of a path, or of what is below it.
func (c *Changer) Reaches(path string) bool {
	return slices.ContainsFunc(c.steps, func(s changer) bool { return s.set.Root(path).live() })
}

// Change returns the state that a path is to have.
func (c *Changer) Change(path string, found perm.Found) (perm.Set, error) {
	at := found
	for i, s := range c.steps {
		want := s.set.Desired(s.set.Root(path), at.Kind, at.Set)
		if want == nil {
			continue
		}

		if s.where != nil {
			is := s.where.Desired(s.where.Root(path), at.Kind, at.Set)
			if is == nil || len(is.Differences(at, c.dir)) > 0 {
				continue
			}
		}

		c.Matched[i]++
		next, err := want.Apply(at)
		if err != nil {
			return found.Set, fmt.Errorf("change %d: %w", i+1, err)
		}

		at.Set = next
	}

	return at.Set, nil
}
