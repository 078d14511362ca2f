package store

import (
	"crypto/sha256"
	"os"
	"testing"

	"idletally/internal/core/chain"
	"idletally/internal/service/mariadb"
)

// What was written with the first tables is there, and of use, with today's; and each step can be taken back.
func TestUpgradeFromTheFirst(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dsn := emptyDatabase(t)
	db, err := connect(ctx, dsn)
	must(t, err)
	defer db.Close()

	p, err := migrator(db.DB)
	must(t, err)
	_, err = p.UpTo(ctx, 1)
	must(t, err)
	hash := sha256.Sum256([]byte("x"))

	for _, q := range []struct {
		text string
		args []any
	}{
		{
			`INSERT INTO person (name, password, roles, must_change, created)
				VALUES ('purser', 'p', 'viewer,admin', FALSE, '2025-01-01')`,
			nil,
		},
		{`INSERT INTO session (token_hash, person, created, expires) VALUES (?, 'purser', '2025-01-01', '2099-01-01')`,
			[]any{hash[:]}},
		{`INSERT INTO host (name, tags, created) VALUES ('pier', 'a,b', '2025-01-01')`, nil},
		{`INSERT INTO enrolment (code_hash, host, expires) VALUES (?, 'pier', '2099-01-01')`, []any{hash[:]}},
		{
			`INSERT INTO audit (id, at, who, what, subject, detail) VALUES ('0000000000000001', '2025-01-01', 'purser',
				'sign-in', 'purser', '')`,
			nil,
		},
		{
			`INSERT INTO edition (application, number, state, text, title, author, created)
				VALUES ('piers', 1, 'draft', 'idletally: 1', 'Piers', 'purser', '2025-01-01')`,
			nil,
		},
	} {
		t.Run(q.text, func(t *testing.T) {
			if _, err := db.ExecContext(ctx, q.text, q.args...); err != nil {
				t.Fatalf("%s: %v", q.text, err)
			}
		})
	}

	_, err = p.UpTo(ctx, 29)
	must(t, err)
	_, err = db.ExecContext(ctx,
		`INSERT INTO person (name, password, roles, must_change, created, second, second_next)
			VALUES ('bosun', 'p', 'viewer', FALSE, '2025-01-01', 'a', 'b')`)
	must(t, err)
	old, err := Open(ctx, dsn)
	must(t, err)
	defer old.Close()

	// What takes the service's keys is done once.
	for range 2 {
		must(t, old.Upkeep(ctx, "bind second factors", func() error {
			return old.EachTwoFactor(ctx, func(person string, sealed []byte) ([]byte, error) {
				return []byte(person + string(sealed)), nil
			})
		}))
	}

	if p, err := old.Person(ctx, "bosun"); err != nil || string(p.Second) != "bosuna" ||
		string(p.SecondNext) != "bosunb" {
		t.Errorf("%+v, %v", p, err)
	}

	if p, _, err := old.SessionPerson(ctx, hash); err != nil || p.Name != "purser" || p.Second != nil || p.Provider {
		t.Errorf("%+v, %v", p, err)
	}

	if h, err := old.Host(ctx, "pier"); err != nil || len(h.Tags()) != 2 {
		t.Errorf("%+v, %v", h, err)
	}

	if host, err := old.UseCode(ctx, hash, hash); err != nil || host != "pier" {
		t.Errorf("%s, %v", host, err)
	}

	if e, err := old.Edition(ctx, "piers", 1); err != nil || e.Title != "Piers" {
		t.Errorf("%+v, %v", e, err)
	}

	must(t, old.Audit(ctx, By{Who: "purser"}, "tried", "", ""))
	if h, strays, err := old.Chain(ctx, 0, func(chain.Line) error { return nil }); err != nil || strays != 0 ||
		h.Seq != 1 {
		t.Errorf("the history of before is outside: %+v, %d, %v", h, strays, err)
	}

	tiesOlder(t, old)
	for v := int64(len(p.ListSources())); v > 1; v-- {
		if _, err := p.DownTo(ctx, v-1); err != nil {
			t.Errorf("back from %d: %v", v, err)
		}
	}

	if _, err := p.Up(ctx); err != nil {
		t.Errorf("and forth again: %v", err)
	}

	var n int
	if err := db.GetContext(ctx, &n, `SELECT COUNT(*) FROM person WHERE name = 'purser'`); err != nil || n != 1 {
		t.Errorf("%d, %v", n, err)
	}
}

// emptyDatabase is one of the test's own.
func emptyDatabase(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "idletally-empty-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	must(t, os.Chmod(dir, 0o711))
	db, err := mariadb.Start(t.Context(), dir)
	must(t, err)
	t.Cleanup(db.Stop)
	return db.DSN
}
