package baseline

import "idletally/internal/core/perm"

// A Decided is one aspect of one path: the rule that decides it, and the rules that it overrides.
type Decided struct {
	Aspect    perm.Aspect `json:"aspect"`
	Rule      string      `json:"rule"`
	Why       string      `json:"why,omitempty"`
	Declared  string      `json:"declared"`
	Found     string      `json:"found,omitempty" doc:"Where it differs"`
	Overruled []string    `json:"overruled,omitempty" doc:"Earlier rules that say otherwise"`
}

// An Explanation is what a baseline says of one path.
type Explanation struct {
	LeaveAlone bool      `json:"leave_alone,omitempty" doc:"No rule speaks of it"`
	Aspects    []Decided `json:"aspects"`
	NotFor     []string  `json:"not_for,omitempty" doc:"Rules whose patterns match, and whose conditions do not"`
}

// Explain says which rule decides which aspect of a path.
func (m *Matcher) Explain(path string, f perm.Found) Explanation {
	k, found := f.Kind, f.Set
	s := m.Root(path)
	out := Explanation{LeaveAlone: s.leave, Aspects: []Decided{}}
	if s.leave {
		return out
	}

	w := m.Desired(s, k, found)
	traits := perm.TraitsOf(found)
	by := map[perm.Aspect][]int{}

	for _, i := range s.rules {
		if !m.doc.Rules[i].Only.admits(k, traits) {
			out.NotFor = append(out.NotFor, m.doc.Rules[i].Name)
			continue
		}
		for _, a := range m.says(i, k) {
			by[a] = append(by[a], i)
		}
	}

	differs := map[perm.Aspect]string{}
	for _, d := range w.Differences(f, m.dir) {
		differs[d.Aspect] = d.Found
	}

	for _, a := range perm.AllAspects {
		rules := by[a]
		if len(rules) == 0 || w == nil {
			continue
		}

		r := m.Rule(w.Rule[a])
		x := Decided{Aspect: a, Rule: r.Name, Why: r.Why, Declared: w.Text(a, k, found, m.dir), Found: differs[a]}
		for _, i := range rules {
			if i != w.Rule[a] {
				x.Overruled = append(x.Overruled, m.Rule(i).Name)
			}
		}

		out.Aspects = append(out.Aspects, x)
	}

	return out
}
