package witness

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"idletally/internal/core/chain"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
	"idletally/internal/testkit"
)

var must = testkit.Must

// Whatever somebody does who writes to the database and has no key, it is noticed: by a service that runs,
// and by one that starts later.
func TestWitness(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	must(t, os.Chmod(filepath.Dir(dir), 0o711))
	must(t, os.Chmod(dir, 0o711))
	db, err := mariadb.Start(ctx, filepath.Join(dir, "db"))
	must(t, err)
	t.Cleanup(db.Stop)
	st, err := store.Open(ctx, db.DSN)
	must(t, err)
	t.Cleanup(func() { _ = st.Close() })
	rows, err := sql.Open("mysql", db.DSN)
	must(t, err)
	t.Cleanup(func() { _ = rows.Close() })
	public, private, err := ed25519.GenerateKey(nil)
	must(t, err)
	file := filepath.Join(dir, "history.head")
	running := &Witness{Source: st, Key: public, File: file}
	st.Seal = func(h *chain.Head) { h.Sign(private) }
	st.Sealed = func(h chain.Head) bool { return h.SignedBy(public) && h.Seq >= running.Least() }

	change := func(queries ...string) {
		t.Helper()
		for _, q := range queries {
			_, err := rows.ExecContext(ctx, q)
			must(t, err)
		}
	}

	write := func(n int) {
		t.Helper()
		for i := range n {
			must(t, st.Audit(ctx, store.By{Who: fmt.Sprintf("clerk-%d", i%3)}, "plan approved", fmt.Sprint(i),
				"digest"))
		}
	}

	keep := func(as string) {
		t.Helper()
		change("CREATE TABLE audit_"+as+" AS SELECT * FROM audit", "CREATE TABLE chain_"+as+" AS SELECT * FROM chain")
	}
	back := func(to string) {
		t.Helper()
		change("DELETE FROM audit", "INSERT INTO audit SELECT * FROM audit_"+to, "DELETE FROM chain",
			"INSERT INTO chain SELECT * FROM chain_"+to)
	}
	must(t, running.Check(ctx)) // nothing is written yet
	write(20)
	must(t, running.Check(ctx))
	keep("early")
	write(30)
	must(t, running.Check(ctx))
	keep("now")

	// rehash writes hashes anew from a line on, and the end with them, as somebody can who has no key.
	rehash := func(from int64) {
		t.Helper()
		var before chain.Walker
		must(t, st.Lines(ctx, 0, from-1, before.Next))
		var head chain.Head
		must(t, st.Lines(ctx, from-1, 1<<40, func(l chain.Line) error {
			hash := l.After(before.Hash)
			_, err := rows.ExecContext(ctx, "UPDATE audit SET hash = ? WHERE seq = ?", hash[:], l.Seq)
			before.Seq, before.Hash = l.Seq, hash
			head.Seq, head.Hash = l.Seq, hash
			return err
		}))

		_, err := rows.ExecContext(ctx, "UPDATE chain SET seq = ?, hash = ?", head.Seq, head.Hash[:])
		must(t, err)
	}

	for _, c := range []struct {
		what string
		do   func()
		says string
	}{
		{"a line is changed", func() { change("UPDATE audit SET who = 'harbourmaster' WHERE seq = 7") }, "line 7"},
		{"the last line is changed", func() { change("UPDATE audit SET who = 'harbourmaster' WHERE seq = 50") },
			"line 50"},
		{"a line is deleted", func() { change("DELETE FROM audit WHERE seq = 7") }, "line 8"},
		{"the last line is deleted", func() { change("DELETE FROM audit WHERE seq = 50") }, "line"},
		{"two lines change places", func() {
			change("UPDATE audit SET seq = 99 WHERE seq = 7", "UPDATE audit SET seq = 7 WHERE seq = 8",
				"UPDATE audit SET seq = 8 WHERE seq = 99")
		}, "line 7"},
		{"a line is put at the end", func() {
			change(
				"INSERT INTO audit (id, at, who, what, subject, detail, seq, hash) SELECT '9999999999999999', at, "+
					"who, what, subject, detail, 51, hash FROM audit WHERE seq = 50",
				"UPDATE chain SET seq = 51")
		}, "not signed"},
		{"a line is put outside of the chain", func() {
			change(
				"INSERT INTO audit (id, at, who, what, subject, detail) SELECT '9999999999999999', at, who, what, " +
					"subject, detail FROM audit WHERE seq = 50")
		}, "1 lines were put"},
		{"a line is put before the first", func() {
			l := chain.Line{ID: "0000000000000000", At: time.UnixMilli(1), Who: "harbourmaster", What: "sign-in"}
			hash := l.After(chain.Hash{})
			_, err := rows.ExecContext(ctx,
				"INSERT INTO audit (id, at, who, what, subject, detail, seq, hash) VALUES (?, FROM_UNIXTIME(0.001), "+
					"?, ?, '', '', 0, ?)",
				l.ID, l.Who, l.What, hash[:])
			must(t, err)
		}, "line"},
		{"all is written anew from a line on",
			func() { change("UPDATE audit SET who = 'harbourmaster' WHERE seq = 7"); rehash(7) }, "not signed"},
		{"all is written anew, with an end that was signed before", func() {
			change("UPDATE audit SET who = 'harbourmaster' WHERE seq = 7")
			rehash(7)
			change("UPDATE chain SET signature = (SELECT signature FROM chain_now)")
		}, "not signed"},
		{"the end is cut off, with the end that was signed then", func() { back("early") },
			"it ends with line 20, and had line 50"},
		{"the history is emptied", func() {
			change("DELETE FROM audit", "UPDATE chain SET seq = 0, hash = REPEAT(CHAR(0), 32), signature = ''")
		}, "it ends with line 0"},
		{"an earlier state comes back, and the service goes on from it",
			func() { back("early"); must(t, st.Audit(ctx, store.By{Who: "bosun"}, "sign-in", "bosun", "")) }, "line"},
		{"all is written anew, and the service goes on from it", func() {
			change("UPDATE audit SET who = 'harbourmaster' WHERE seq = 7")
			rehash(7)
			must(t, st.Audit(ctx, store.By{Who: "bosun"}, "sign-in", "bosun", ""))
		}, "line"},
	} {
		t.Run(c.what, func(t *testing.T) {
			back("now")
			again := &Witness{Source: st, Key: public, File: file}
			must(t, running.Check(ctx))
			must(t, again.Check(ctx))
			c.do()

			for when, w := range map[string]*Witness{
				"while a service runs": again,
				"before one starts":    {Source: st, Key: public, File: file},
			} {
				var fault *Fault
				if err := w.Check(ctx); !errors.As(err, &fault) || !strings.Contains(err.Error(), c.says) {
					t.Errorf("%s, %s: %v, want %q", c.what, when, err, c.says)
				}
			}
		})
	}

	back("now")
	must(t, (&Witness{Source: st, Key: public, File: file}).Check(ctx))

	// Without what was kept beside the keys a whole earlier state looks like any other.
	back("early")
	must(t, (&Witness{Source: st, Key: public}).Check(ctx))
	must(t, os.WriteFile(file, []byte("{}"), 0o600))
	if (&Witness{Source: st, Key: public, File: file}).Check(ctx) == nil {
		t.Error("a file that nobody signed counts")
	}
}

// lines is a history in memory.
type lines []chain.Line

func (l lines) Head(context.Context) (h chain.Head, err error) {
	if n := len(l); n > 0 {
		h.Seq, h.Hash = l[n-1].Seq, l[n-1].Hash
		h.Sign(memoryKey)
	}
	return h, nil
}

func (l lines) Lines(_ context.Context, after, upTo int64, visit func(chain.Line) error) error {
	for _, x := range l[after:min(upTo, int64(len(l)))] {
		if err := visit(x); err != nil {
			return err
		}
	}
	return nil
}

func (lines) Strays(context.Context) (int64, error) { return 0, nil }

var memoryKey = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))

// What the service says of an end that it had not signed is told where it is new: also where the history was
// empty when it was looked at before. What was said before anybody looked is no news.
func TestForeignEnd(t *testing.T) {
	var all lines
	w := &Witness{Key: memoryKey.Public().(ed25519.PublicKey)}
	check := func() error { w.Source = all; return w.Check(t.Context()) }
	must(t, check())
	var before chain.Hash
	for i, what := range []string{"sign-in", chain.TakenOver, "sign-in"} {
		l := chain.Line{Seq: int64(i + 1), ID: fmt.Sprint(i), At: time.Unix(0, 0), Who: "the service", What: what}
		l.Hash = l.After(before)
		before = l.Hash
		all = append(all, l)
	}
	if err := check(); err == nil || !strings.Contains(err.Error(), "line 2") {
		t.Errorf("an end of somebody else is told as %v", err)
	}
	must(t, (&Witness{Source: all, Key: w.Key}).Check(t.Context()))
}

// A long history is verified in parts, each of them within some rounds; where it grows meanwhile nothing is left out.
func TestLongHistory(t *testing.T) {
	var all lines
	grow := func(n int) {
		var before chain.Hash
		if len(all) > 0 {
			before = all[len(all)-1].Hash
		}

		for range n {
			l := chain.Line{Seq: int64(len(all) + 1), ID: fmt.Sprint(len(all)), At: time.Unix(0, 0), Who: "clerk"}
			l.Hash = l.After(before)
			before = l.Hash
			all = append(all, l)
		}
	}

	grow(3*atOnce + 17)
	w := &Witness{Key: memoryKey.Public().(ed25519.PublicKey)}
	check := func() error { w.Source = all; return w.Check(t.Context()) }
	must(t, check())

	for _, at := range []int{0, 1, markEvery - 1, markEvery, markEvery + 1, 2*atOnce + 5, 3 * atOnce, 3*atOnce + 16} {
		was := all[at]
		all[at].Who = "harbourmaster"
		seen := false

		for round := 0; round < 5 && !seen; round++ {
			seen = check() != nil
			all = append(lines{}, all...)
			grow(100)
		}

		if !seen {
			t.Errorf("line %d was changed, and nobody saw it", at+1)
		}

		all[at] = was
		for range 2 * len(w.marks) * markEvery / atOnce {
			must(t, check())
		}
	}
}
