package store

import (
	"strings"
	"testing"

	"idletally/internal/core/lifecycle"
)

// The columns of the database hold the states that package lifecycle names, all of them and no others.
func TestStatesOfTheDatabase(t *testing.T) {
	for table, states := range map[string][]string{
		"plan":     lifecycle.Words(lifecycle.Plans),
		"run":      lifecycle.Words(lifecycle.Runs),
		"run_host": lifecycle.Words(lifecycle.Parts),
		"snapshot": lifecycle.Words(lifecycle.Snapshots),
		"edition":  lifecycle.Words(lifecycle.Editions),
		"work":     lifecycle.Words(lifecycle.Works),
	} {
		t.Run(table, func(t *testing.T) {
			var kind string
			must(t, st.db.GetContext(t.Context(), &kind, `SELECT column_type FROM information_schema.columns
				WHERE table_schema = DATABASE() AND table_name = ? AND column_name = 'state'`, table))
			if want := "enum('" + strings.Join(states, "','") + "')"; kind != want {
				t.Errorf("%s, want %s", kind, want)
			}
		})
	}
}
