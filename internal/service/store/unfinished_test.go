package store

import (
	"fmt"
	"testing"
	"time"

	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
)

// What a comparison that was killed has left of its report goes, with its findings; what is whole stays, and
// what is being made.
func TestDropUnfinished(t *testing.T) {
	ctx := t.Context()
	app := name("app")
	begun := func(host string) (string, *ReportWriter) {
		t.Helper()
		w, err := st.NewReport(ctx, Report{Application: app, Edition: 1, Host: host, Snapshot: NewID(), Problems: "[]"})
		must(t, err)

		for i := range 600 { // more than are kept back
			must(t,
				w.Finding(t.Context(), drift.Finding{
					Path:     fmt.Sprint("/srv/", i),
					Kind:     perm.File,
					Aspect:   perm.AspectMode,
					FoundSet: posix.State{Mode: 0o644}.Set(),
					Group:    "0123456789ab",
				}))
		}

		return w.r.ID, w
	}

	killed, _ := begun("north")
	going, _ := begun("south")
	whole, w := begun("east")
	_, err := w.End(t.Context(), drift.Summary{Paths: 600, Findings: 600}, nil)
	must(t, err)
	_, err = st.db.ExecContext(ctx, `UPDATE report SET created = '2001-01-01' WHERE id IN (?, ?)`, killed, whole)
	must(t, err)
	must(t, st.DropUnfinished(ctx, time.Date(2001, 1, 2, 0, 0, 0, 0, time.UTC)))

	for id, want := range map[string]bool{killed: false, going: true, whole: true} {
		t.Run(id, func(t *testing.T) {
			var reports, findings int
			must(t, st.db.GetContext(ctx, &reports, `SELECT COUNT(*) FROM report WHERE id = ?`, id))
			must(t, st.db.GetContext(ctx, &findings, `SELECT COUNT(*) FROM finding WHERE report = ?`, id))
			if (reports == 1) != want || (findings > 0) != want {
				t.Errorf("%s: %d reports, %d findings", id, reports, findings)
			}
		})
	}
}
