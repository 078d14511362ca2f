package models

import "testing"

// Findings are narrowed and ordered by what people ask of them, and the numbers follow what else is chosen.
func TestTriage(t *testing.T) {
	_, eval := page(t)
	type m = map[string]any
	effect := func(key, who string) m { return m{key: []any{m{"who": who, "rights": []string{"read"}}}} }
	groups := []any{
		m{"id": "a", "word": "opens", "severity": "minor", "rule": "logs", "aspect": "mode", "count": 7, "fresh": 2,
			"folder": "/z", "since": "2026-11-02", "effect": effect("opens", "everyone")},
		m{"id": "b", "word": "closes", "severity": "grave", "rule": "keys", "aspect": "mode", "count": 1,
			"folder": "/a", "since": "2026-11-03", "effect": effect("closes", "clerk")},
		m{"id": "c", "word": "both", "severity": "serious", "rule": "keys", "aspect": "entries", "count": 3,
			"returned": 3, "folder": "/m", "since": "2026-11-01", "effect": effect("opens", "clerk")},
		m{"id": "w", "word": "opens", "severity": "grave", "rule": "logs", "aspect": "mode", "count": 90,
			"folder": "/b", "waiver": m{"id": "x"}, "effect": effect("opens", "everyone")},
	}
	none := m{"effect": "", "severity": "", "rule": "", "aspect": "", "age": "", "who": "", "sort": ""}
	sieve := func(more m) m {
		out := m{}
		for k, v := range none {
			out[k] = v
		}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	ids := "models.drift.sieved(a[0], a[1]).map((g) => g.id).join('')"
	of := func(facet string) string {
		return "models.drift.choices(a[0], a[1], '" + facet + "').map((c) => c.value + c.count).join(' ')"
	}
	for _, c := range []struct {
		name, call string
		sieve      m
		want       string
	}{
		{"all, what is accepted last", ids, none, `"abcw"`},
		{"the grave ones first", ids, m{"sort": "severity"}, `"bcaw"`},
		{"most paths first", ids, m{"sort": "count"}, `"acbw"`},
		{"the newest first", ids, m{"sort": "newest"}, `"bacw"`},
		{"by folder", ids, m{"sort": "folder"}, `"bcaw"`},
		{"an order that nobody knows", ids, m{"sort": "constructor"}, `"abcw"`},
		{"what opens, and what does both", ids, m{"effect": "opens"}, `"acw"`},
		{"what closes", ids, m{"effect": "closes"}, `"bc"`},
		{"new", ids, m{"age": "new"}, `"a"`},
		{"came back", ids, m{"age": "returned"}, `"c"`},
		{"of somebody", ids, m{"who": "clerk"}, `"bc"`},
		{"of somebody by a rule", ids, m{"who": "clerk", "aspect": "entries"}, `"c"`},
		{"nothing", ids, m{"rule": "nowhere"}, `""`},
		{"effects", of("effect"), none, `"opens10 closes4"`},
		{"effects of one rule", of("effect"), m{"rule": "keys"}, `"closes4 opens3"`},
		{"rules of one rule are all rules", of("rule"), m{"rule": "keys"}, `"logs7 keys4"`},
		{"ages count what has them", of("age"), none, `"returned3 new2"`},
		{"whom it is about", of("who"), none, `"everyone7 clerk4"`},
		{"a sentence", "models.drift.summary(a[0])", none,
			`"11 findings: 10 let somebody do more than intended; 7 of these everyone; 1 keeps somebody from what they need; ` +
				`1 is grave; 2 are new; 3 came back."`},
		{"a first report has no age",
			"models.drift.aged(a[0].map((g) => ({ ...g, fresh: g.id === 'w' ? 90 : 0, report: g.id }))).map((g) => " +
				"[g.id, g.fresh, g.since ?? ''].join(' ')).at(-1)", m{}, `"w 0 "`},
		{"and a later one does",
			"models.drift.aged(a[0].map((g) => ({ ...g, report: g.id })))" +
				".map((g) => [g.id, g.fresh, g.since].join(' '))[0]",
			m{}, `"a 2 2026-11-02"`},
		{"an address", "models.drift.sieveOf(new URLSearchParams('who=clerk&sort=rule&x=1'))", none,
			`{"effect":"","severity":"","rule":"","aspect":"","age":"","who":"clerk","sort":"rule"}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := eval(c.call, groups, sieve(c.sieve)); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}
