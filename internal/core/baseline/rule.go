package baseline

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/caps"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

var (
	// What a form can say, and a rule too.
	formKeys = []string{
		"severity", "owner", "group", "files", "folders", "entries", "defaults", "capability", "immutable",
		"append-only", "grants", "inherits",
	}
	ruleKeys = append([]string{"rule", "paths", "why", "only", "exists", "form", "for"}, formKeys...)
)

//go:embed forms.yaml
var builtinForms []byte

// Forms names the starting points of the language.
var Forms = []string{
	"ordinary", "private", "programs", "private-key", "secret", "group-work", "drop", "web-content", "withheld",
}

// builtin reads the starting points of the language.
func (r *reader) builtin() {
	n, fault := parse(builtinForms)
	if fault != nil { // the text is ours
		panic(fault)
	}
	r.pairs(n, "forms", nil, func(key string, v *node) { r.forms[key] = v })
}

func (r *reader) rule(n *node) Rule {
	rule := Rule{Position: at(n), Severity: Serious, At: map[string]Position{}}
	if len(n.pairs) > 0 {
		rule.Position = n.pairs[0].key.Position
	}

	var form, only, exists *node
	var people []string
	r.pairs(n, "a rule", ruleKeys, func(key string, v *node) {
		rule.At[key] = at(v)
		switch key {
		case "rule":
			rule.Name = r.name(v, "rule")
		case "paths":
			rule.Paths = r.patterns(v, "paths")
		case "why":
			rule.Why, _ = r.raw(v, "why")
		case "only":
			only = v
		case "exists":
			exists = v
		case "form":
			form = v
		case "for":
			people = r.people(v)
		}
	})

	if only != nil {
		rule.Only = r.only(only)
	}

	if form != nil {
		r.take(form, &rule, people)
	}

	r.aspects(n, "a rule", ruleKeys, &rule, people)
	if exists != nil {
		r.exists(exists, &rule)
	}

	switch {
	case len(r.errs) > 0:
	case rule.Name == "":
		r.errs = append(r.errs, &Error{
			rule.Position, "the rule has no name: begin it with \"- rule: NAME\", findings refer to it",
		})
	case len(rule.Paths) == 0:
		r.errs = append(r.errs, &Error{
			rule.Position,
			fmt.Sprintf("rule %q has no paths: say where it holds, such as \"paths: /srv/app/**\"", rule.Name),
		})
	case rule.silent():
		r.errs = append(r.errs, &Error{
			rule.Position,
			fmt.Sprintf(
				"rule %q declares nothing: give a form, owner, group, files, folders, entries, defaults, "+
					"capability, immutable, append-only, grants, inherits or exists",
				rule.Name),
		})

	case form == nil && len(people) > 0 && !usesFor(n):
		r.errs = append(r.errs, &Error{
			rule.At["for"],
			fmt.Sprintf("rule %q: for is of use only with a form, or with ${for} in entries", rule.Name),
		})
	}

	return rule
}

// people reads for whom a form is.
func (r *reader) people(n *node) []string {
	names := r.words(n, "for")
	for _, p := range names {
		if !accountName.MatchString(p) {
			r.fail(n, "for: %q cannot be an account's name", p)
		}
	}
	return names
}

func usesFor(n *node) bool { return n.holds("${for}") }

// take adds a form's aspects, for a rule to adjust.
func (r *reader) take(n *node, rule *Rule, people []string) {
	name, ok := r.scalar(n, "form")
	if !ok {
		return
	}

	body := r.forms[name]
	if body == nil {
		known := make([]string, 0, len(r.forms))
		for f := range r.forms {
			known = append(known, f)
		}

		slices.Sort(known)
		r.fail(n, "there is no form %q: %s", name, suggest(name, known))
		return
	}

	r.spend(&r.spent.steps, body.size, maxSteps, n, "pieces")
	if usesFor(body) && len(people) == 0 {
		r.fail(n, "form %q needs to know for whom: add \"for: ACCOUNT\"", name)
		return
	}

	if !usesFor(body) && len(people) > 0 {
		r.fail(n, "form %q is for nobody in particular: leave \"for\" out", name)
	}

	sub := r.part()
	sub.bounded(func() { sub.aspects(body, "a form", formKeys, rule, people) })
	for _, e := range sub.errs { // they were told where the form stands; here the rule is told that it has none
		r.fail(n, "form %q: %s", name, e.Message)
	}

	for _, key := range []string{"files", "folders", "entries", "defaults"} { // warnings point at the form's name
		if _, own := rule.At[key]; !own {
			rule.At[key] = at(n)
		}
	}
}

// aspects reads what a rule or a form says of permissions.
func (r *reader) aspects(n *node, what string, known []string, rule *Rule, people []string) {
	who := func(v *node, what string) *Who {
		s, ok := r.scalar(v, what)
		if ok && !accountName.MatchString(s) {
			r.fail(v, "%s %q cannot be an account's name", what, s)
		}
		return &Who{at(v), s}
	}

	// Keys that are not known were told where the rule itself was read.
	quiet := newReader(Env{})
	visit := r.pairs
	if what == "a rule" {
		visit = quiet.pairs
	}

	visit(n, what, known, func(key string, v *node) {
		if slices.Contains(anyKeys, key) && r.takesBack(v, key, rule) {
			return
		}

		switch key {
		case "severity":
			s, ok := r.scalar(v, "severity")
			rule.Severity = Severity(s)
			if ok && !slices.Contains(Severities, rule.Severity) {
				r.fail(v, "severity %q is unknown: minor, serious or grave", s)
			}

		case "owner":
			rule.Owner = who(v, "owner")
		case "group":
			rule.Group = who(v, "group")
		case "files":
			rule.Files = r.mode(v)
		case "folders":
			rule.Folders = r.mode(v)
		case "entries", "defaults":
			g := r.grants(v, key, people)
			if key == "entries" {
				rule.Entries = g
			} else {
				rule.Defaults = g
			}

		case "capability":
			if s, ok := r.scalar(v, key); ok {
				c, err := caps.Parse(s)
				if err != nil {
					r.fail(v, "%v", err)
				}
				rule.Caps = &c
			}

		case "grants":
			rule.Shares = r.shareGrants(v)
		case "inherits":
			r.inherits(v, what, rule)

		case "immutable", "append-only":
			flag := flagKeys[key]
			if on, ok := r.yes(v, key); ok && on {
				rule.On, rule.Off = rule.On|flag, rule.Off&^flag
			} else if ok {
				rule.On, rule.Off = rule.On&^flag, rule.Off|flag
			}
		}
	})
}

// inherits reads whether a path takes entries from above. That it keeps nothing of what came down a change can say, and
// no declaration: nothing shows it afterwards.
func (r *reader) inherits(n *node, what string, rule *Rule) {
	s, ok := r.scalar(n, "inherits")
	yes := s == perm.InheritsFromAbove
	rule.Drops = what == "set" && s == perm.InheritsEmptied
	if ok && !yes && s != perm.InheritsStopped && !rule.Drops {
		r.fail(n, "inherits %q: want %q or %q", s, perm.InheritsFromAbove, perm.InheritsStopped)
	}
	rule.Inherits = &yes
}

// anyKeys are the keys that accept any: then the aspect is not judged after all.
var anyKeys = []string{
	"owner", "group", "files", "folders", "entries", "defaults", "capability", "immutable", "append-only", "grants",
	"inherits",
}

var flagKeys = map[string]perm.Flags{"immutable": perm.Immutable, "append-only": perm.AppendOnly}

const anyWord = "any"

// takesBack reads the word any, which clears what a form and earlier rules declared. A rule's own value overrides its
// form's any.
func (r *reader) takesBack(v *node, key string, rule *Rule) bool {
	rule.Any = slices.DeleteFunc(rule.Any, func(k string) bool { return k == key })
	if v.kind != aValue || v.text != anyWord {
		return false
	}

	switch key {
	case "owner":
		rule.Owner = nil
	case "group":
		rule.Group = nil
	case "files":
		rule.Files = nil
	case "folders":
		rule.Folders = nil
	case "entries":
		rule.Entries = nil
	case "defaults":
		rule.Defaults = nil
	case "capability":
		rule.Caps = nil
	case "grants":
		rule.Shares = nil
	case "inherits":
		rule.Inherits = nil
	default:
		rule.On, rule.Off = rule.On&^flagKeys[key], rule.Off&^flagKeys[key]
	}

	rule.Any = append(rule.Any, key)
	return true
}

func (r *reader) yes(n *node, what string) (bool, bool) {
	s, ok := r.scalar(n, what)
	switch {
	case !ok:
		return false, false
	case s == "yes" || s == "true":
		return true, true
	case s == "no" || s == "false":
		return false, true
	}
	r.fail(n, "%s %q: want yes or no", what, s)
	return false, false
}

var onlyWords = []string{
	"file", "folder", "link", "other", "executable", "not-executable", "with-entries", "without-entries",
}

func (r *reader) only(n *node) (o Only) {
	for _, w := range r.words(n, "only") {
		switch w {
		case "file":
			o.Kinds |= 1 << perm.File
		case "folder":
			o.Kinds |= 1 << perm.Folder
		case "link":
			o.Kinds |= 1 << perm.Link
		case "other":
			o.Kinds |= 1<<perm.Socket | 1<<perm.Pipe | 1<<perm.CharDevice | 1<<perm.BlockDevice
		case "executable":
			o.Must |= perm.Executable
		case "not-executable":
			o.MustNot |= perm.Executable
		case "with-entries":
			o.Must |= perm.WithEntries
		case "without-entries":
			o.MustNot |= perm.WithEntries
		default:
			r.fail(n, "only %q is unknown: %s", w, suggest(w, onlyWords))
		}
	}

	if o.Must&o.MustNot != 0 {
		r.fail(n, "only asks for a thing and its opposite: it would never match")
	}

	return o
}

func (r *reader) exists(n *node, rule *Rule) {
	on, ok := r.yes(n, "exists")
	if !ok {
		return
	}
	rule.Exists = &on
	if !on {
		return
	}

	for _, p := range rule.Paths {
		if !p.exact() {
			r.fail(n, "exists: yes needs paths without wildcards, %q has one: nobody can say which path is missing",
				p.Text)
		}
	}

	if rule.Only.Must|rule.Only.MustNot != 0 {
		r.fail(n, "exists: yes goes with kinds only: what is not there is neither executable nor has it entries")
	}
}

func (r *reader) mode(n *node) *mode.Declared {
	s, ok := r.scalar(n, "mode")
	if !ok {
		return nil
	}

	if n.float {
		r.fail(n, "mode %q is not octal: want 1 to 4 digits 0 to 7, such as 0640", s)
		return nil
	}

	if w := r.modes[s]; w != nil {
		return w
	}

	w, err := mode.ParseWanted(s)
	if err != nil {
		r.fail(n, "%v", err)
		return nil
	}

	r.modes[s] = &w
	return &w
}

// grants reads entries: none; a list of exactly these; {at-least: […]}; for default entries also derived.
func (r *reader) grants(n *node, what string, people []string) *Grants {
	out := &Grants{List: []Grant{}}
	if n.kind == aValue {
		switch {
		case n.text == "none":
			return out
		case n.text == "derived" && what == "defaults":
			out.Derived = true
			return out
		}
	}

	switch n.kind {
	case aMapping:
		out.AtLeast = true
		r.pairs(n, what, []string{"at-least", "without"}, func(key string, v *node) {
			if key == "at-least" {
				out.List = r.grantList(v, what, people)
			} else {
				out.Without = r.without(v, what)
			}
		})
	default:
		out.List = r.grantList(n, what, people)
	}

	return out
}

// without reads who must have no entry: user:NAME or group:NAME.
func (r *reader) without(n *node, what string) (out []Grant) {
	r.list(n, what, func(v *node) {
		s, ok := r.scalar(v, what)
		kind, name, _ := strings.Cut(s, ":")
		switch {
		case !ok:
		case kind != "user" && kind != "group" || !accountName.MatchString(name):
			r.fail(v, "without %q: want user:NAME or group:NAME", s)
		default:
			out = append(out, Grant{Position: at(v), Group: kind == "group", Name: name})
		}
	})
	return out
}

func (r *reader) grantList(n *node, what string, people []string) []Grant {
	out := []Grant{}
	seen := map[string]bool{}
	one := func(v *node, s string) {
		parts := strings.Split(s, ":")
		if len(parts) != 3 || parts[0] != "user" && parts[0] != "group" {
			r.fail(v, "entry %q: want user:NAME:rwx or group:NAME:rwx", s)
			return
		}

		if !accountName.MatchString(parts[1]) {
			r.fail(v,
				"entry %q: %q cannot be an account's name; the owner's and the owning group's rights are in "+
					"files and folders",
				s, parts[1])
			return
		}

		g := Grant{Position: at(v), Group: parts[0] == "group", Name: parts[1]}
		letters := parts[2]
		if strings.Contains(letters, "X") {
			g.Conditionally = true
			letters = strings.Replace(letters, "X", "-", 1)
		}

		p, err := mode.ParsePerm(letters)
		if err != nil {
			r.fail(v, "entry %q: %v", s, err)
			return
		}

		g.Perm = p
		if key := parts[0] + ":" + parts[1]; seen[key] {
			r.fail(v, "entry %q: %s stands twice", s, key)
		} else {
			seen[key] = true
		}

		out = append(out, g)
	}

	r.list(n, what, func(v *node) {
		s, ok := r.scalar(v, what)
		switch {
		case !ok:
		case !strings.Contains(s, "${for}"):
			one(v, s)
		case len(people) == 0:
			r.fail(v, "entry %q: the rule does not say for whom: add \"for: ACCOUNT\"", s)
		default:
			r.spend(&r.spent.steps, len(people), maxSteps, v, "pieces")
			for _, p := range people {
				one(v, strings.ReplaceAll(s, "${for}", p))
			}
		}
	})

	return out
}
