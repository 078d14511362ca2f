package baseline

import (
	"slices"
	"strings"
)

// A value is what a variable, or a word for an account, stands for on the host that is read for.
type value struct {
	text  string
	known bool
}

const tagPrefix = "tag:"

// value reads one value for all hosts, or a mapping of hosts, tags and default to values. A host's
// own value counts before that of a tag, and that before the default.
func (r *reader) value(n *node, what string) value {
	if n.kind != aMapping {
		s, ok := r.raw(n, what)
		return value{s, ok}
	}

	r.varies = true
	var first, own, fallback value
	byTag := map[string]string{}

	for _, p := range n.pairs {
		r.spend(&r.spent.steps, 1, maxSteps, p.key, "pieces")
		key := p.key.text
		s, ok := r.raw(p.value, what+" on "+key)
		if !ok {
			continue
		}

		if !first.known {
			first = value{s, true}
		}

		tag, isTag := strings.CutPrefix(key, tagPrefix)
		switch {
		case key == "default":
			fallback = value{s, true}
		case !isTag && !Name.MatchString(key) || isTag && !Name.MatchString(tag):
			r.fail(p.key, "%s: %q is no host, no tag:NAME and not default", what, key)
		case isTag && slices.Contains(r.env.Tags, tag):
			byTag[s] = tag
		case key == r.env.Host:
			own = value{s, true}
		}
	}

	switch {
	case r.env.Host == "" && !fallback.known:
		return first // for no host in particular any will do
	case own.known:
		return own
	case len(byTag) > 1:
		var tags []string
		for _, t := range byTag {
			tags = append(tags, t)
		}

		slices.Sort(tags)
		r.fail(n, "%s: host %s has the tags %s, which give it different values: give the host its own", what,
			r.env.Host, strings.Join(tags, " and "))

	case len(byTag) == 1:
		for s := range byTag {
			return value{s, true}
		}
	}

	return fallback
}

// expand puts the values of variables in. ${for} stays for the entries of forms.
func (r *reader) expand(n *node, s string) (string, bool) {
	if !strings.Contains(s, "${") {
		return s, true
	}

	var b strings.Builder
	for {
		before, rest, found := strings.Cut(s, "${")
		b.WriteString(before)
		if !found {
			r.spend(&r.spent.expanded, b.Len(), maxExpanded, n, "bytes of text with variables in it")
			return b.String(), true
		}

		name, after, closed := strings.Cut(rest, "}")
		if !closed {
			r.fail(n, "%q: ${ without its }", s)
			return "", false
		}

		v, declared := r.variables[name]
		switch {
		case name == "for":
			b.WriteString("${for}")
		case !declared:
			r.fail(n, "there is no variable %q: declare it under variables", name)
			return "", false
		case !v.known:
			r.fail(n, "variable %q has no value on host %s: give it one there, or a default", name, r.env.Host)
			return "", false
		default:
			b.WriteString(v.text)
		}

		if b.Len() > MaxBytes {
			r.fail(n, "variable %q makes the text longer than %d bytes", name, MaxBytes)
			return "", false
		}

		s = after
	}
}
