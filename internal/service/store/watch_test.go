package store

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/wire"
)

// The runs on a host are found by a key, however many were on others.
func TestRunsOn(t *testing.T) {
	plan := planOf(t, runsOn, []any{name("host"), 10})
	if deref(plan[0].Key) != "by_host" || strings.Contains(deref(plan[0].Extra), "filesort") {
		t.Errorf("it goes by key %s: %s", deref(plan[0].Key), deref(plan[0].Extra))
	}
}

// What was done last is found by a key, however much was done elsewhere and before.
func TestLastActs(t *testing.T) {
	ctx := t.Context()
	app, host := name("app"), name("host")
	began := now().Add(-time.Hour)
	for _, h := range []string{host, host + "-b", host + "-c"} {
		var acts []wire.Act
		for i := range 1000 {
			acts = append(acts, wire.Act{
				Path: pathname.Path(fmt.Sprint("/srv/", i%700)), What: "changed", Account: "mate", Command: "chmod",
				At: began.Add(time.Duration(i) * time.Second),
			})
		}
		must(t, st.KeepActs(ctx, app, h, acts))
	}
	_, err := st.db.ExecContext(ctx, "ANALYZE TABLE act")
	must(t, err)

	until := began.Add(500 * time.Second)
	got, err := st.LastActs(ctx, app, host, until, 20)
	must(t, err)
	if len(got) != 20 || got[0].Path != "/srv/500" || !slices.IsSortedFunc(got, func(a, b wire.Act) int {
		return b.At.Compare(a.At)
	}) {
		t.Errorf("%+v", got)
	}

	plan := planOf(t, actsLast, []any{app, host, until, 20})
	if len(plan) != 1 || deref(plan[0].Key) != "by_place" || strings.Contains(deref(plan[0].Extra), "filesort") {
		t.Errorf("it goes by key %s: %s", deref(plan[0].Key), deref(plan[0].Extra))
	}
}
