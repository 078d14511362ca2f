package store

import (
	"errors"
	"testing"
	"time"
)

// Waivers count until they end or are withdrawn, whichever is first, and are never forgotten.
func TestWaivers(t *testing.T) {
	ctx := t.Context()
	app := name("app")
	add := func(ends time.Time) string {
		id, err := st.AddWaiver(ctx, Waiver{
			Application: app,
			Pattern:     "/srv/**",
			Reason:      "it is so",
			Author:      "harbourmaster",
			Ends:        ends,
		})
		must(t, err)
		return id
	}

	late := add(time.Now().Add(48 * time.Hour))
	soon := add(time.Now().Add(time.Hour))
	over := add(time.Now().Add(-time.Second))
	rows, err := st.CountingWaivers(ctx, app)
	if err != nil || len(rows) != 2 || rows[0].ID != soon || rows[1].ID != late {
		t.Errorf("%+v, %v", rows, err)
	}

	must(t, st.WithdrawWaiver(ctx, soon, "purser"))
	for _, id := range []string{soon, over, "nope"} {
		t.Run(id, func(t *testing.T) {
			if err := st.WithdrawWaiver(ctx, id, "purser"); !errors.Is(err, ErrConflict) {
				t.Errorf("withdrawing %s: %v", id, err)
			}
		})
	}

	rows, err = st.CountingWaivers(ctx, app)
	if err != nil || len(rows) != 1 || rows[0].ID != late || !rows[0].Counts(time.Now()) {
		t.Errorf("%+v, %v", rows, err)
	}

	all, err := st.Waivers(ctx, app, "", 10)
	if err != nil || len(all) != 3 || all[0].ID != late || all[2].ID != over {
		t.Errorf("%+v, %v", all, err)
	}

	if rest, err := st.Waivers(ctx, app, late, 1); err != nil || len(rest) != 1 || rest[0].ID != soon {
		t.Errorf("%+v, %v", rest, err)
	}

	if rest, err := st.Waivers(ctx, app, over, 10); err != nil || len(rest) != 0 {
		t.Errorf("%+v, %v", rest, err)
	}

	if n, err := st.CountWaivers(ctx, app); err != nil || n != 3 {
		t.Errorf("%d, %v", n, err)
	}

	if w, err := st.Waiver(ctx, soon); err != nil || w.WithdrawnBy != "purser" || w.Withdrawn == nil ||
		w.Counts(time.Now()) {
		t.Errorf("%+v, %v", w, err)
	}
}
