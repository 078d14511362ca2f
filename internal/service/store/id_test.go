package store

import (
	"testing"
	"time"
)

// Ids sort by when they were made, also while the clock is behind the last one.
func TestIDsGoOn(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dsn := emptyDatabase(t)
	st, err := Open(ctx, dsn)
	must(t, err)

	// the clock was ahead when it was made, by this service or another one
	ahead := idAt(time.Now().Add(2 * time.Second))
	_, err = st.db.ExecContext(ctx,
		`INSERT INTO happening (id, kind, application, host, subject) VALUES (?,'run','','','x')`, ahead)
	must(t, err)
	must(t, st.Close())
	st, err = Open(ctx, dsn)
	must(t, err)
	defer st.Close()

	last := ahead
	for range 1000 {
		id := NewID()
		if id <= last {
			t.Fatalf("%s comes after %s", id, last)
		}
		last = id
	}
}
