package store

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// The lifecycle of findings costs what a report has, and not what the tables hold: each statement goes by the keys that
// it is meant to go by, although many other findings stand there.
func TestLifecycleUsesKeys(t *testing.T) {
	ctx := t.Context()
	app, host := name("app"), name("host")
	const findings = 2000
	write := func(host string) string {
		id := NewID()
		_, err := st.db.ExecContext(ctx, `INSERT INTO report (id, application, edition, host, snapshot, ready, problems,
			created) VALUES (?, ?, 1, ?, ?, TRUE, '[]', ?)`, id, app, host, NewID(), now())
		must(t, err)
		rows := make([]int, findings)
		for i := range rows {
			rows[i] = i + 1
		}
		path := func(i int) string { return fmt.Sprintf("/srv/app/%06d", i) }
		must(t, batches(ctx, st, `INSERT INTO finding (report, seq, group_id, identity, path, kind, aspect, found_set)`, 8,
			rows, func(i int) []any {
				return []any{id, i, "group", identity(path(i), "mode"), path(i), 1, "mode", "x"}
			}))
		must(t, batches(ctx, st, `INSERT INTO standing (application, host, identity, path, first_seen, since, spells)`, 7,
			rows, func(i int) []any {
				return []any{app, host, identity(path(i), "mode"), path(i), now(), now(), 1}
			}))
		return id
	}
	report := write(host)
	for i := range 4 {
		write(fmt.Sprintf("%s-%d", host, i))
	}
	_, err := st.db.ExecContext(ctx, "ANALYZE TABLE finding, standing")
	must(t, err)

	long := time.Now().Add(-time.Hour)
	for what, q := range map[string]struct {
		text string
		args []any
		keys map[string]string // by the tables' names here
		most int               // rows that the server means to look at, in the first table
	}{
		"return": {findingsReturn, []any{app, host, long, report, 1, atOnce},
			map[string]string{"f": "PRIMARY", "s": "PRIMARY"}, findings},
		"come": {findingsCome, []any{app, host, long, long, app, host, report, 1, atOnce},
			map[string]string{"f": "PRIMARY", "s": "PRIMARY"}, findings},
		"missing": {findingsMissing, []any{report, app, host, []byte{}, atOnce},
			map[string]string{"s": "PRIMARY", "f": "by_identity"}, 2 * findings},
		"go": {findingsGo + in(2), []any{long, long, app, host, identity("/a", "mode"), identity("/b", "mode")},
			map[string]string{"standing": "PRIMARY"}, 2},
	} {
		t.Run(what, func(t *testing.T) {
			plan := planOf(t, q.text, q.args)
			seen := 0
			for i, p := range plan {
				want, ok := q.keys[deref(p.Table)]
				if !ok {
					continue
				}
				seen++
				rows := 0
				if _, err := fmt.Sscanf(deref(p.Rows), "%d", &rows); err != nil {
					t.Fatal(err)
				}
				if deref(p.Key) != want || deref(p.Type) == "ALL" || strings.Contains(deref(p.Extra), "filesort") {
					t.Errorf("%s goes by key %s (%s, %s), and is to go by %s", deref(p.Table), deref(p.Key),
						deref(p.Type), deref(p.Extra), want)
				}
				if most := map[bool]int{true: q.most, false: 1}[i == 0]; rows > 3*most { // what it means is a guess
					t.Errorf("%s: %d rows are looked at for each, at most %d are meant", deref(p.Table), rows, most)
				}
			}
			if seen != len(q.keys) {
				t.Errorf("the plan speaks of %d of %d tables: %+v", seen, len(q.keys), plan)
			}
		})
	}
}
