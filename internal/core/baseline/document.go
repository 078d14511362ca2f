package baseline

import (
	"fmt"
	"maps"
	"slices"
)

var (
	documentKeys = []string{
		"idletally", "application", "title", "hosts", "include", "variables", "accounts", "forms", "roots", "mounts",
		"leave-alone", "rules",
	}
	hostKeys = []string{"names", "tags"}
)

// keys collects a document's values by key, so that they can be read in the order in which they depend on each other,
// wherever they stand.
func (r *reader) keys(n *node) map[string]*node {
	seen := map[string]*node{}
	r.pairs(n, "a baseline", documentKeys, func(key string, v *node) { seen[key] = v })
	return seen
}

func (r *reader) document(n *node) *Document {
	d := &Document{Accounts: map[string]string{}}
	seen := r.keys(n)
	r.version(seen["idletally"])
	if v := seen["application"]; v != nil {
		d.Application = r.name(v, "application")
		r.including = append(r.including, d.Application)
	}

	if v := seen["title"]; v != nil {
		d.Title, _ = r.raw(v, "title")
	}

	if v := seen["hosts"]; v != nil {
		r.hosts(v, d)
	}

	r.shared(seen, d)
	if v := seen["roots"]; v != nil {
		d.Roots = r.roots(v)
	}

	if v := seen["mounts"]; v != nil {
		switch s, ok := r.scalar(v, "mounts"); {
		case ok && s == "enter":
			d.EnterMounts = true
		case ok && s != "report":
			r.fail(v, "mounts %q: want report (what is mounted below a root is a gap) or enter (it is looked at too)",
				s)
		}
	}

	if v := seen["leave-alone"]; v != nil {
		d.LeaveAlone = r.patterns(v, "leave-alone")
	}

	if v := seen["rules"]; v != nil {
		r.rules(v, d)
	}

	for _, key := range []string{"idletally", "application", "hosts", "roots", "rules"} {
		if seen[key] == nil && len(r.errs) == 0 {
			r.fail(n, "the baseline has no %q: %s", key, map[string]string{
				"idletally":   "begin with \"idletally: 1\", the language version",
				"application": "name the application, such as \"application: ticketing\"",
				"hosts":       "say which hosts, such as \"hosts: {tags: [ticketing]}\"",
				"roots":       "list the folders it keeps, such as \"roots: [/srv/ticketing]\"",
				"rules":       "list at least one rule",
			}[key])
		}
	}

	if seen["hosts"] != nil && len(d.HostNames)+len(d.HostTags) == 0 && len(r.errs) == 0 {
		r.fail(seen["hosts"], "hosts names no host: give names or tags")
	}

	r.underRoots(d)
	d.Varies, d.Includes = r.varies, slices.Sorted(maps.Keys(r.included))
	return d
}

func (r *reader) version(v *node) {
	if v == nil {
		return
	}
	if s, ok := r.raw(v, "the language version"); ok && s != LanguageVersion {
		r.fail(v, "language version %q is unknown: this program reads version %s", s, LanguageVersion)
	}
}

func (r *reader) hosts(v *node, d *Document) {
	r.pairs(v, "hosts", hostKeys, func(key string, v *node) {
		for _, s := range r.words(v, "hosts."+key) {
			if !Name.MatchString(s) {
				r.fail(v, "%q cannot be a host's name or tag: want a-z 0-9 . _ -", s)
			}
			if key == "names" {
				d.HostNames = append(d.HostNames, s)
			} else {
				d.HostTags = append(d.HostTags, s)
			}
		}
	})
}

// shared reads what baselines can include from each other. Included definitions come first, so that a baseline's own
// override them.
func (r *reader) shared(seen map[string]*node, d *Document) {
	if v := seen["include"]; v != nil {
		for _, name := range r.words(v, "include") {
			r.include(v, name, d)
		}
	}

	if v := seen["variables"]; v != nil {
		r.pairs(v, "variables", nil, func(key string, v *node) {
			if !Name.MatchString(key) || key == "for" {
				r.fail(v, "variable %q: want a name of a-z 0-9 . _ -, other than for", key)
			}
			r.variables[key] = r.value(v, "variable "+key)
		})
	}

	if v := seen["accounts"]; v != nil {
		r.pairs(v, "accounts", nil, func(key string, v *node) {
			x := r.value(v, "account "+key)
			if x.known && !accountName.MatchString(x.text) {
				r.fail(v, "account %q: %q cannot be an account's name", key, x.text)
			}
			d.Accounts[key] = x.text
		})
	}

	if v := seen["forms"]; v != nil {
		r.pairs(v, "forms", nil, func(key string, v *node) {
			if !Name.MatchString(key) {
				r.fail(v, "form %q: want a name of a-z 0-9 . _ -", key)
			}

			r.forms[key] = v
			var probe Rule // so that a mistake is told though no rule takes the form
			r.aspects(v, "a form", formKeys, &probe, []string{"somebody"})
		})
	}
}

// maxIncludes bounds how many baselines one baseline includes.
const maxIncludes = 50

// include reads what another application's published baseline shares.
func (r *reader) include(n *node, name string, d *Document) {
	if slices.Contains(r.including, name) {
		r.fail(n, "include %q leads in a circle: %v", name, append(slices.Clone(r.including), name))
		return
	}

	if r.included[name] {
		return // two ways lead to it: once is enough, and a web of includes stays small
	}

	if len(r.included) == maxIncludes {
		r.fail(n, "include %q: more than %d baselines are included", name, maxIncludes)
		return
	}

	r.included[name] = true
	if r.env.Fetch == nil {
		r.fail(n, "include %q is with the service: check with a session, not with --local", name)
		return
	}

	body, err := r.env.Fetch(name)
	if err != nil {
		r.fail(n, "include %q: %v", name, err)
		return
	}

	sub := r.part()
	sub.including = append(slices.Clone(r.including), name)
	sub.bounded(func() {
		if n := sub.body(body); n != nil {
			sub.shared(sub.keys(n), d)
		}
	})
	r.varies = r.varies || sub.varies

	for _, e := range sub.errs {
		r.errs = append(r.errs, &Error{
			at(n),
			fmt.Sprintf("included baseline %s, line %d: %s", name, e.Line, e.Message),
		})
	}
}

func (r *reader) rules(v *node, d *Document) {
	names := map[string]bool{}
	r.list(v, "rules", func(v *node) {
		if len(d.Rules) == MaxRules {
			r.stop(v, "more than %d rules: split the baseline", MaxRules)
		}
		rule := r.rule(v)
		if rule.Name != "" && names[rule.Name] {
			r.fail(v, "a second rule is called %q: findings name their rule, so names must differ", rule.Name)
		}
		names[rule.Name] = true
		d.Rules = append(d.Rules, rule)
	})
}
