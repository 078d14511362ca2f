package models

import "testing"

// What is looked at is found by typing, compared, and taken along as text.
func TestLooking(t *testing.T) {
	_, eval := page(t)
	type m = map[string]any
	view := m{"scheme": "posix", "owner": "purser", "group": "crew", "mode": "0640", "letters": "rw-r-----"}
	open := m{"scheme": "posix", "owner": "purser", "group": "crew", "mode": "0644", "letters": "rw-r--r--"}
	sight := func(path string, a any, way ...any) m {
		return m{"path": path, "kind": "file", "access": a, "origin": m{"host": "pier", "live": true}, "way": way,
			"entries": []any{
				m{"text": "user::rw-", "rights": "rw-", "effective": "rw-"},
				m{"text": "user:temp:rwx", "rights": "rwx", "effective": "r--"},
			},
			"words": []any{"The owner can read it."}}
	}
	on := func(path string, a any) m { return m{"path": path, "kind": "folder", "access": a} }
	entry := func(name string, a any) m {
		return m{"name": name, "path": "/x/" + name, "kind": "file", "access": a}
	}
	snap := func(id, host, taken, state string) m {
		return m{"id": id, "host": host, "taken": taken, "state": state, "application": "ticketing"}
	}
	hosts := []any{"pier", "pier-2", "quay"}
	snaps := []any{
		snap("a", "pier", "2025-11-01T10:00:00Z", "ready"), snap("b", "quay", "2025-11-03T10:00:00Z", "ready"),
		snap("a", "pier", "2025-11-01T10:00:00Z", "ready"), snap("c", "pier", "", "waiting"),
	}

	for _, c := range []struct {
		name, call string
		args       []any
		want       string
	}{
		{"hosts, then snapshots once, the newest first",
			"models.look.placesOf(a[0], a[1]).map((p) => p.key).join('; ')", []any{hosts, snaps},
			`"host pier; host pier-2; host quay; snapshot b; snapshot a"`},
		{"found by application and day", "models.look.placesOf(a[0], a[1]).at(-1).finds.includes('2025-11-01')",
			[]any{hosts, snaps}, `true`},
		{"a host by its name", "models.look.hostMeant(a[0], a[1])", []any{hosts, "pier yesterday"}, `"pier"`},
		{"a host by what only it has", "models.look.hostMeant(a[0], a[1])", []any{hosts, "Qua"}, `"quay"`},
		{"no host by what two have", "models.look.hostMeant(a[0], a[1])", []any{hosts, "pie"}, `null`},
		{"nothing typed", "models.look.hostMeant(a[0], a[1])", []any{hosts, " "}, `null`},
		{"the same place", "models.look.sameWhere(a[0], a[1])", []any{m{"host": "x"}, m{"host": "x"}}, `true`},
		{"other snapshots", "models.look.sameWhere(a[0], a[1])", []any{m{"snapshot": "x"}, m{"snapshot": "y"}}, `false`},
		{"a host and a snapshot", "models.look.sameWhere(a[0], a[1])", []any{m{"host": "x"}, m{"snapshot": "x"}}, `false`},
		{"the way to a folder", "models.look.branchesOf(a[0])", []any{"/srv/a"}, `["/","/srv","/srv/a"]`},
		{"text for a ticket",
			"models.look.told(a[0], 'https://x/look', new Date(0)).map((l) => l.text).join('|')",
			[]any{sight("/x/a", view)},
			`"/x/a|file on pier, as of 1970-01-01T00:00:00.000Z|owner purser, group crew, mode 0640 rw-r-----|entries:|` +
				`  user::rw-|  user:temp:rwx (counts: r--)|in words:|  The owner can read it.|https://x/look"`},
		{"alike", "models.compare.differences(a[0], a[1])",
			[]any{sight("/x/a", view, on("/", view), on("/x/a", open)), sight("/x/b", view, on("/", view),
				on("/x/b", view))}, `[]`},
		{"another mode", "models.compare.differences(a[0], a[1])",
			[]any{sight("/x/a", view), sight("/x/a", open)}, `["mode"]`},
		{"another way", "models.compare.differences(a[0], a[1])",
			[]any{sight("/x/a", view, on("/", view)), sight("/x/a", view, on("/", open))}, `["on the way there /"]`},
		{"a longer way", "models.compare.differences(a[0], a[1])",
			[]any{sight("/x/a", view, on("/", view)), sight("/x/a", view)}, `["the way there"]`},
		{"names of two folders",
			"models.compare.pairsOf(a[0], a[1])" +
				".map((p) => p.name + (p.a ? 1 : 0) + (p.b ? 1 : 0) + (p.differs ? '!' : '')).join(' ')",
			[]any{[]any{entry("b", view), entry("d", view), entry("z", view)}, []any{entry("a", view), entry("b", open),
				entry("d", view)}}, `"a01! b11! d11 z10!"`},
		{"an address there and back",
			"models.compare.sidesOf(new URL('http://x' + models.compare.compareAt(a[0], a[1])).searchParams)",
			[]any{m{"host": "pier", "path": "/a&b"}, m{"snapshot": "s", "path": "/c"}},
			`[{"host":"pier","path":"/a&b"},{"snapshot":"s","path":"/c"}]`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := eval(c.call, c.args...); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}
