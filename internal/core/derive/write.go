package derive

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

var plain = regexp.MustCompile(`^(/[a-zA-Z0-9_./*-]*|[a-z_][a-zA-Z0-9_./-]*)$`)

// scalar writes text as a YAML value.
func scalar(s string) string {
	if plain.MatchString(s) &&
		!slices.Contains([]string{"yes", "no", "true", "false", "null", "on", "off", "y", "n"}, s) {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// patterns writes a rule's paths: one beside its key, several a line each.
func patterns(items []*item) string {
	if len(items) == 1 {
		return " " + scalar(baseline.Written(items[0].pattern()))
	}
	var b strings.Builder
	for _, it := range items {
		b.WriteString("\n      - " + scalar(baseline.Written(it.pattern())))
	}
	return b.String()
}

// value writes a label.
func (g *general) value(key int, l label) string {
	v := g.w.values[key][l]
	switch {
	case l == anything:
		return "any"
	case v.byHost != nil:
		return `"${` + g.w.variable(key, l) + `}"`
	case strings.HasPrefix(v.text, "["),
		slices.Contains([]string{"files", "folders", "immutable", "append-only"}, perm.TermKeys[key]) && !v.loose:
		return v.text
	}
	return scalar(v.text)
}

// text writes the draft; a remark may stand over each rule.
func (g *general) text(remark func(int) string, places int) string {
	var b strings.Builder
	for _, h := range g.hosts {
		if h.Note != "" {
			fmt.Fprintf(&b, "# Derived from %s.\n", h.Note)
		}
	}

	var names, roots []string
	for _, h := range g.hosts {
		names = append(names, scalar(h.Host))
	}

	for _, r := range g.roots {
		roots = append(roots, scalar(baseline.Written(r)))
	}

	if remark != nil {
		fmt.Fprintf(&b, "# Over each rule stands of how many of the %d paths it decides something.\n", places)
	}

	fmt.Fprintf(&b, "idletally: %s\napplication: %s\nhosts: {names: [%s]}\nroots: [%s]\n", baseline.LanguageVersion,
		scalar(g.application), strings.Join(names, ", "), strings.Join(roots, ", "))
	g.variables(&b)
	b.WriteString("rules:\n")
	taken := map[string]bool{}

	for i, r := range g.rules {
		if remark != nil {
			fmt.Fprintf(&b, "  # %s\n", remark(i))
		}

		fmt.Fprintf(&b, "  - rule: %s\n", g.name(r, taken))
		fmt.Fprintf(&b, "    paths:%s\n", patterns(r.items))
		if only := r.items[0].only; only != "" {
			fmt.Fprintf(&b, "    only: %s\n", only)
		}

		for key, name := range perm.TermKeys {
			if l, ok := r.items[0].set[key]; ok {
				fmt.Fprintf(&b, "    %s: %s\n", name, g.value(key, l))
			}
		}
	}

	return b.String()
}

// variables writes the values that differ from host to host.
func (g *general) variables(b *strings.Builder) {
	used := map[string]bool{}
	head := "variables:\n"
	for _, r := range g.rules {
		for key := range perm.TermKeys {
			l, ok := r.items[0].set[key]
			if !ok || g.w.values[key][l].byHost == nil || used[g.w.variable(key, l)] {
				continue
			}

			used[g.w.variable(key, l)] = true
			var by []string
			for i, h := range g.hosts {
				by = append(by, h.Host+": "+strconv.Quote(g.w.values[key][l].byHost[i]))
			}

			fmt.Fprintf(b, "%s  # The hosts differ here: decide which is right, or keep both.\n  %s: {%s}\n", head,
				g.w.variable(key, l), strings.Join(by, ", "))
			head = ""
		}
	}
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// name calls a rule after the place that it speaks of.
func (g *general) name(r *block, taken map[string]bool) string {
	it := r.items[0]
	words := it.parts[min(it.from, len(it.parts)):]
	if len(words) == 0 {
		words = []string{map[bool]string{true: "everything", false: "root"}[it.below]}
		if len(g.roots) > 1 {
			words = append(words, it.parts[max(0, len(it.parts)-1):]...)
		}
	}

	name := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(strings.Join(words, "-")), "-"), "-")
	if name == "" {
		name = "each"
	}

	if len(name) > 48 {
		name = strings.Trim(name[len(name)-48:], "-")
	}

	base := name
	if taken[name] && !it.below && len(words) > 0 {
		name = base + "-itself"
	}

	for n := 2; taken[name]; n++ {
		name = base + "-" + strconv.Itoa(n)
	}

	taken[name] = true
	return name
}

// walk visits every path of every host, with what the draft wants of it.
func (g *general) walk(
	ctx context.Context, visit func(host int, want *perm.Desired, k perm.Kind, found perm.Set),
) error {
	text := g.text(nil, 0)
	for i, h := range g.hosts {
		m, err := compile(text, h)
		if err != nil {
			return err
		}

		err = tree.Fold(ctx, h.Source, h.Forest, (*baseline.State)(nil),
			func(path string, e tree.Entry, in *baseline.State) (*baseline.State, error) {
				at := in
				if in == nil {
					at = m.Root(path)
				} else {
					at = m.Step(in, e.Name)
				}

				visit(i, m.Desired(at, e.Kind, e.Set), e.Kind, e.Set)
				return at, nil
			})

		if err != nil {
			return err
		}
	}

	return nil
}

// limit declares, of modes that are left free, the bits that they have in common.
func (g *general) limit(ctx context.Context) error {
	type spot struct {
		rule int
		key  string
	}
	common := map[spot]*perm.Common{}
	err := g.walk(ctx, func(host int, want *perm.Desired, k perm.Kind, found perm.Set) {
		key := map[perm.Kind]string{perm.File: "files", perm.Folder: "folders"}[k]
		if want == nil || key == "" || found.IsZero() {
			return
		}
		rule, said := want.Rule[perm.AspectMode]
		if !said || want.Mode != nil {
			return
		}

		if common[spot{rule, key}] == nil {
			common[spot{rule, key}] = &perm.Common{}
		}

		common[spot{rule, key}].See(found)
	})

	for s, c := range common {
		if v := c.Value(); v != "" {
			for _, it := range g.rules[s.rule].items {
				it.set[g.w.keys[s.key]] = g.w.label(g.w.keys[s.key], word{text: v, loose: true})
			}
		}
	}

	return err
}

// measure tells what each rule explains, and writes it down.
func (g *general) measure(ctx context.Context) (Draft, error) {
	var out Draft
	decides := make([]int, len(g.rules))
	type seen struct {
		want *perm.Desired
		kind perm.Kind
		host int
	}
	counts := map[seen]int{}
	err := g.walk(ctx, func(host int, want *perm.Desired, k perm.Kind, _ perm.Set) { counts[seen{want, k, host}]++ })
	if err != nil {
		return Draft{}, err
	}

	for s, n := range counts {
		out.Places += n
		if s.want == nil {
			continue
		}

		by := map[int]bool{}
		free := false
		for a, rule := range s.want.Rule {
			by[rule] = true
			free = free || s.want.Text(a, s.kind, perm.Set{}, g.hosts[s.host].Directory) == "any"
		}

		for rule := range by {
			decides[rule] += n
		}

		if free {
			out.Free += n
		}
	}

	out.Text = g.text(func(i int) string {
		share := fmt.Sprintf("%d (%.1f %%)", decides[i], 100*float64(decides[i])/float64(max(out.Places, 1)))
		if slices.Contains(slices.Collect(maps.Values(g.rules[i].items[0].set)), anything) {
			share += "; any: what is there follows no rule, or differs from host to host"
		}
		return share
	}, out.Places)

	taken := map[string]bool{}
	for i, r := range g.rules {
		out.Rules = append(out.Rules, Rule{g.name(r, taken), decides[i]})
	}

	return out, nil
}
