package engine

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/drift"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// That a place is not known any more is told once it has lasted, once, by whichever instance, and that it is
// known again too.
func TestTellLooks(t *testing.T) {
	ctx, st := t.Context(), ownStore(t)
	d := &Engine{Store: st, Log: slog.New(slog.DiscardHandler), HookSecret: func(string) []byte { return []byte("x") }}
	must(t, st.Invite(ctx, "ferry", []string{"boats"}, sha256.Sum256([]byte("ferry")), time.Now().Add(time.Hour)))
	publish := func(text string) {
		t.Helper()
		n, err := st.AddEdition(ctx, store.Edition{Application: "boats", Text: text, Author: "quartermaster"}, nil)
		must(t, err)
		must(t, st.Publish(ctx, "boats", n, "quartermaster"))
	}

	publish(scheduled)
	_, err := st.AddHook(ctx, store.Hook{URL: "https://desk.example", KindList: "looks", Author: "admin"})
	must(t, err)
	_, err = st.AddHook(ctx, store.Hook{URL: "https://desk.example", KindList: "findings", Author: "admin"})
	must(t, err)
	at := time.Now()
	seen := map[string]bool{}
	after := func(pause time.Duration, want ...string) {
		t.Helper()
		at = at.Add(pause)
		var both sync.WaitGroup

		for range 3 { // instances
			both.Go(func() {
				if err := d.TellLooks(ctx, at); err != nil {
					t.Error(err)
				}
			})
		}

		both.Wait()
		list, err := st.ClaimNotices(ctx, time.Now().AddDate(1, 0, 0), time.Minute, 100)
		must(t, err)
		var got []string

		for _, n := range list {
			var e struct {
				Type string
				Data wire.LooksNotice
			}
			must(t, json.Unmarshal([]byte(n.Body), &e))
			if !seen[n.ID] {
				got = append(got,
					fmt.Sprintf("%s %s/%s %s: %s", e.Type, e.Data.Application, e.Data.Host, e.Data.State, e.Data.Says))
			}

			seen[n.ID] = true
			must(t, st.Told(ctx, n))
		}

		if !slices.Equal(got, want) {
			t.Errorf("after %s: %q, want %q", pause, got, want)
		}
	}

	report := func(edition int) {
		t.Helper()
		w, err := st.NewReport(ctx, store.Report{
			Application: "boats",
			Edition:     edition,
			Host:        "ferry",
			Snapshot:    store.NewID(),
			Problems:    "[]",
		})

		must(t, err)
		_, err = w.End(t.Context(), drift.Summary{Paths: 1, Judged: 1}, nil)
		must(t, err)
	}

	after(0)
	after(time.Minute)
	after(time.Minute, "idletally.looks boats/ferry never: never looked at")
	after(time.Minute)
	report(1)
	at = time.Now()
	after(0)
	after(2*time.Minute, "idletally.looks boats/ferry known: known again")
	after(time.Hour)
	if left, err := st.Unknowns(ctx); err != nil || len(left) != 0 {
		t.Errorf("kept of what is known: %+v, %v", left, err)
	}

	publish(scheduled + "# again\n")
	after(time.Minute)
	report(2) // soon: nobody has to hear of it
	after(time.Minute)
	after(5 * time.Minute)
	after(26*time.Hour, []string{}...)
	after(2*time.Minute, "idletally.looks boats/ferry old: last looked at 27 hours ago, which is too long")
	publish(
		"idletally: 1\napplication: boats\nhosts: {tags: [cars]}\nroots: [/srv]\nrules:\n  - {rule: all, paths: " +
			"/srv/**, files: 0640}\n")
	after(time.Minute) // it is no place any more
	after(2*time.Minute, "idletally.looks boats/ferry known: no published baseline is for it any more")
}
