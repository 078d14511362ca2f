package store

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/chain"
)

// Many write into the history at once, and every line is there once, tied to the one before; what is changed
// in the database shows.
func TestChain(t *testing.T) {
	ctx := t.Context()
	who := name("who")
	public, private, err := ed25519.GenerateKey(nil)
	must(t, err)
	other := *st // another instance, on the same database
	other.Seal = func(h *chain.Head) { h.Sign(private) }
	const writers, lines = 8, 25
	var all sync.WaitGroup

	for i := range writers {
		all.Go(func() {
			on := st
			if i%2 == 0 {
				on = &other
			}

			for n := range lines {
				if err := on.Audit(ctx, By{Who: who}, "tried", fmt.Sprint(i, " ", n),
					strings.Repeat("ü", 40_000)); err != nil {
					t.Error(err)
				}
			}
		})
	}

	all.Wait()
	must(t, other.Audit(ctx, By{Who: who}, "last", "", ""))
	verify := func(key ed25519.PublicKey) (mine int, err error) {
		var w chain.Walker
		h, strays, err := st.Chain(ctx, 0, func(l chain.Line) error {
			if l.Who == who {
				mine++
			}
			return w.Next(l)
		})

		if err == nil {
			err = w.End(h, key)
		}

		if err == nil && strays != 0 {
			err = fmt.Errorf("%d strays", strays)
		}

		return mine, err
	}

	if mine, err := verify(public); err != nil || mine != writers*lines+1 {
		t.Fatalf("%d lines, %v", mine, err)
	}

	change := func(query string, args ...any) {
		t.Helper()
		_, err := st.db.ExecContext(ctx, query, args...)
		must(t, err)
	}
	var seq int64
	must(t, st.db.GetContext(ctx, &seq, `SELECT seq FROM audit WHERE who = ? ORDER BY seq LIMIT 1`, who))
	change(`UPDATE audit SET subject = 'another' WHERE seq = ?`, seq)
	if _, err := verify(nil); !errors.Is(err, chain.ErrBroken) {
		t.Errorf("a changed line: %v", err)
	}

	change(`UPDATE audit SET subject = '0 0' WHERE seq = ?`, seq)
	var subject string
	must(t, st.db.GetContext(ctx, &subject, `SELECT subject FROM audit WHERE seq = ?`, seq))
	if _, err := verify(nil); err != nil { // which writer came first is not known: put back what its hash says
		for i := range writers {
			change(`UPDATE audit SET subject = ? WHERE seq = ?`, fmt.Sprint(i, " ", 0), seq)
			if _, err = verify(nil); err == nil {
				break
			}
		}
		must(t, err)
	}

	change(`INSERT INTO audit (id, at, who, what, subject, detail) VALUES (?, ?, ?, 'slipped in', '', '')`, NewID(),
		now(), who)
	if _, err := verify(nil); err == nil || !strings.Contains(err.Error(), "1 strays") {
		t.Errorf("a line outside: %v", err)
	}

	change(`DELETE FROM audit WHERE who = ? AND what = 'slipped in'`, who)
	if _, err := verify(nil); err != nil {
		t.Error(err)
	}
}

// A token stands for its person, with the roles that both have, until it ends or is ended.
func TestTokens(t *testing.T) {
	ctx := t.Context()
	who := name("who")
	must(t, st.AddPerson(ctx, Person{Name: who, Password: "h", RoleList: "author,operator"}))
	hash := func(s string) (h [32]byte) { copy(h[:], who+s); return h }
	tok, err := st.AddToken(ctx,
		Token{Person: who, Name: "nightly", RoleList: "operator,viewer", Expires: time.Now().Add(time.Hour)}, hash("1"))
	must(t, err)
	_, err = st.AddToken(ctx,
		Token{Person: who, Name: "old", RoleList: "viewer", Expires: time.Now().Add(-time.Second)}, hash("2"))
	must(t, err)
	p, by, err := st.TokenPerson(ctx, hash("1"))
	if err != nil || p.Name != who || by.Name != "nightly" || p.RoleList != "operator" {
		t.Errorf("%+v by %+v, %v", p, by, err)
	}

	must(t, st.SetRoles(ctx, who, "author", nil, nil))
	if p, _, err = st.TokenPerson(ctx, hash("1")); err != nil || p.RoleList != "" {
		t.Errorf("of roles that the person no longer has the token keeps %q, %v", p.RoleList, err)
	}

	if _, _, err := st.TokenPerson(ctx, hash("2")); !errors.Is(err, ErrNotFound) {
		t.Errorf("a token that has ended: %v", err)
	}

	list, err := st.Tokens(ctx, who)
	if err != nil || len(list) != 2 {
		t.Errorf("%+v, %v", list, err)
	}

	for _, x := range list {
		if (x.Used != nil) != (x.ID == tok.ID) {
			t.Errorf("%+v", x)
		}
	}

	must(t, st.RemoveToken(ctx, tok.ID))
	if _, _, err := st.TokenPerson(ctx, hash("1")); !errors.Is(err, ErrNotFound) {
		t.Errorf("a token that was ended: %v", err)
	}

	must(t, st.RemovePerson(ctx, who))
	if list, err := st.Tokens(ctx, who); err != nil || len(list) != 0 {
		t.Errorf("somebody is gone, and the tokens are %+v, %v", list, err)
	}
}

// tiesOlder puts lines before the chain of a history that was upgraded, and has several instances tie them,
// of which some are broken off.
func tiesOlder(t *testing.T, st *Store) {
	t.Helper()
	ctx := t.Context()
	const more = 3*tieAtOnce + 17

	for i := range more {
		_, err := st.db.ExecContext(ctx,
			`INSERT INTO audit (id, at, who, what, subject, detail) VALUES (?, '2025-01-02', 'purser', 'tried', ?, '')`,
			fmt.Sprintf("00000001%08d", i), i)
		must(t, err)
	}

	var w chain.Walker
	if _, strays, err := st.Chain(ctx, 0, w.Next); err != nil || strays != more {
		t.Fatalf("%d strays, %v", strays, err)
	}

	must(t, st.TieOlder(ctx)) // which leaves them: nobody says that so many were there
	if _, strays, err := st.Chain(ctx, 0, func(chain.Line) error { return nil }); err != nil || strays != more {
		t.Fatalf("%d strays are tied, %v", more-strays, err)
	}

	_, err := st.db.ExecContext(ctx, `UPDATE chain SET outside = outside + ?`, more)
	must(t, err)
	broken, cancel := context.WithCancel(ctx)
	time.AfterFunc(50*time.Millisecond, cancel)
	_ = st.TieOlder(broken)
	var all sync.WaitGroup

	for range 3 {
		all.Go(func() {
			if err := st.TieOlder(ctx); err != nil {
				t.Error(err)
			}
		})
	}

	all.Wait()
	verify := func() error {
		var w chain.Walker
		h, strays, err := st.Chain(ctx, 0, w.Next)
		if err == nil {
			err = w.End(h, nil)
		}

		if err == nil && (strays != 0 || w.Older.Lines != more+1) {
			err = fmt.Errorf("%d strays, %s", strays, w.Older)
		}

		return err
	}

	if err := verify(); err != nil {
		t.Fatal(err)
	}

	must(t, st.TieOlder(ctx)) // once is enough
	for _, q := range []string{
		`UPDATE audit SET who = 'bosun' WHERE seq = -7`, `DELETE FROM audit WHERE seq = -3`,
		`DELETE FROM audit WHERE seq <= 0`,
	} {
		t.Run(q, func(t *testing.T) {
			_, err := st.db.ExecContext(ctx, q)
			must(t, err)
			if err := verify(); !errors.Is(err, chain.ErrBroken) {
				t.Errorf("%s: %v", q, err)
			}
		})
	}
}
