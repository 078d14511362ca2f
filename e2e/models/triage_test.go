package models

import (
	"strings"
	"testing"
)

// Findings are narrowed and ordered by what people ask of them, and the numbers follow what else is chosen.
func TestTriage(t *testing.T) {
	_, eval := page(t)
	type m = map[string]any
	effect := func(key, who string) m { return m{key: []any{m{"who": who, "rights": []string{"read"}}}} }
	origins := func(what string, n int) []any { return []any{m{"what": what, "findings": n}} }
	groups := []any{
		m{"id": "a", "word": "opens", "severity": "minor", "rule": "logs", "aspect": "mode", "count": 7, "fresh": 2,
			"folder": "/z", "since": "2025-11-02",
			"doers": origins("mate", 2), "causes": origins("umask", 6), "effect": effect("opens", "everyone")},
		m{"id": "b", "word": "closes", "severity": "grave", "rule": "keys", "aspect": "mode", "count": 1,
			"folder": "/a", "example": "/a/x", "since": "2025-11-03", "effect": effect("closes", "clerk")},
		m{"id": "c", "word": "both", "severity": "serious", "rule": "keys", "aspect": "entries", "count": 3,
			"returned": 3, "folder": "/m", "since": "2025-11-01", "effect": effect("opens", "clerk")},
		m{"id": "w", "word": "opens", "severity": "grave", "rule": "logs", "aspect": "mode", "count": 90,
			"folder": "/b", "waiver": m{"id": "x"}, "effect": effect("opens", "everyone")},
	}
	none := m{"effect": "", "severity": "", "rule": "", "aspect": "", "age": "", "since": "", "who": "", "doer": "",
		"cause": "", "below": "", "under": "", "sort": "", "now": 1770000000000}
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
	headings := "models.drift.rowsOf(models.drift.linesOf(a[0]), a[1].under).map((r) => r.line ? r.line.id : " +
		"(r.heading || ':') + ': ' + r.count).join(' ')"
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
		{"touched by somebody", ids, m{"doer": "mate"}, `"a"`},
		{"of a cause", ids, m{"cause": "umask"}, `"a"`},
		{"in a folder", ids, m{"below": "/z"}, `"a"`},
		{"in a folder below it", ids, m{"below": "/z/deep"}, `"a"`},
		{"in a folder whose name goes on", ids, m{"below": "/zz"}, `""`},
		{"in all folders", ids, m{"below": "/"}, `"abcw"`},
		{"some have findings beside it", "models.drift.around(a[0], a[1])", m{"below": "/z/deep"}, `1`},
		{"none has", "models.drift.around(a[0], a[1])", m{"below": "/z"}, `0`},
		{"touched by", of("doer"), none, `"mate2"`},
		{"causes", of("cause"), none, `"umask6"`},
		{"there for long", of("since"), none, `"longer11"`},
		{"there for a day is there for a week", strings.ReplaceAll(of("since"), "a[0]", "a[0].map((g, i) => "+
			"({ ...g, since: new Date(a[1].now - i * 24 * 3600e3 * 9).toISOString() }))"), none,
			`"at most a day7 at most a week7 at most a month11"`},
		{"headings, the unknown last", headings, m{"under": "cause"}, `"umask: 7 a :: 94 b c w"`},
		{"headings of rules", headings, m{"under": "rule"}, `"logs: 97 a w keys: 4 b c"`},
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
			m{}, `"a 2 2025-11-02"`},
		{"an address", "models.drift.sieveOf(new URLSearchParams('who=clerk&sort=rule&x=1'), 7)", none,
			`{"effect":"","severity":"","rule":"","aspect":"","age":"","since":"","who":"clerk","doer":"",` +
				`"cause":"","below":"","under":"","sort":"rule","now":7}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := eval(c.call, groups, sieve(c.sieve)); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

// Equal findings of several hosts are one line, from two hosts on, with what all of them have together.
func TestLinesOfHosts(t *testing.T) {
	_, eval := page(t)
	type m = map[string]any
	group := func(id, host string, more m) m {
		g := m{"id": id, "host": host, "report": "of " + host, "word": "opens", "count": 2, "folder": "/srv/a/b",
			"effect": m{}, "severity": "grave"}
		for k, v := range more {
			g[k] = v
		}
		return g
	}
	origin := func(what string, n int) m { return m{"what": what, "findings": n} }
	groups := []any{
		group("x", "north", m{"since": "2025-11-02", "fresh": 1, "by": m{"account": "mate"},
			"doers": []any{origin("mate", 1)}}),
		group("x", "south", m{"since": "2025-11-01", "count": 5, "folder": "/srv/a/c",
			"doers": []any{origin("root", 4), origin("mate", 1)}}),
		group("x", "east", m{"waiver": m{"id": "w"}}),
		group("y", "north", m{"count": 1}),
	}
	const lines = "models.drift.linesOf(a[0])"
	for _, c := range []struct{ call, want string }{
		{lines + ".map((l) => [l.id, l.count, l.parts.map((p) => p.host).join('+'), l.waiver?.id ?? ''].join(' '))",
			`["x 7 north+south ","x 2 east w","y 1 north "]`},
		{lines + ".map((l) => [l.folder, l.since, l.fresh, l.by?.account].join(' '))[0]",
			`"/srv/a 2025-11-01 1 "`},
		{lines + "[0].doers.map((o) => o.what + o.findings).join(' ')", `"root4 mate2"`},
		{"models.drift.summary(" + lines + ")",
			`"8 findings on 2 hosts: 8 let somebody do more than intended; 8 are grave; 1 is new."`},
		{"models.drift.rowsOf(" + lines + ", 'host').filter((r) => r.heading)" +
			".map((r) => r.heading + r.count).join(' ')",
			`"2 hosts7 east2 north1"`},
	} {
		t.Run(c.call, func(t *testing.T) {
			if got := eval(c.call, groups); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}
