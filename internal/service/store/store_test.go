package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/mariadb"
	"idletally/internal/testkit"
	"idletally/internal/wire"
)

var (
	st  *Store
	dsn string
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "idletally-store-")
		if err == nil {
			err = os.Chmod(dir, 0o711)
		}

		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)

		db, err := mariadb.Start(context.Background(), dir)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer db.Stop()

		dsn = db.DSN
		if st, err = Open(context.Background(), dsn); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer st.Close()

		return m.Run()
	}())
}

var must = testkit.Must

var counter = make(chan int, 1)

func init() { counter <- 0 }

// name makes a name that no other test has.
func name(prefix string) string {
	n := <-counter + 1
	counter <- n
	return fmt.Sprintf("%s-%d", prefix, n)
}

func TestIDsSortByTime(t *testing.T) {
	last := ""
	seen := map[string]bool{}
	for range 50 {
		id := NewID()
		if len(id) != 16 || seen[id] || last != "" && id[:9] < last[:9] {
			t.Fatalf("id %q after %q", id, last)
		}
		seen[id], last = true, id
		time.Sleep(time.Millisecond)
	}
}

func TestOpenTellsWhatIsWrong(t *testing.T) {
	for address, want := range map[string]string{
		"what is this":                           "want user:password@tcp(host:port)/name",
		"idletally:x@tcp(127.0.0.1:1)/idletally": "does not answer",
	} {
		t.Run(address, func(t *testing.T) {
			if _, err := Open(t.Context(), address); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q", address, err, want)
			}
		})
	}
	again, err := Open(t.Context(), dsn) // tables that are up to date stay as they are
	must(t, err)
	must(t, again.Close())
}

// The tables can be taken away and made anew.
func TestMigrationsGoBothWays(t *testing.T) {
	ctx := t.Context()
	_, err := st.db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS idletally")
	must(t, err)
	p, err := migrator(st.db.DB.DB)
	must(t, err)
	_, err = p.DownTo(ctx, 0)
	must(t, err)
	var left []string
	must(t,
		st.db.SelectContext(ctx, &left,
			"SELECT table_name FROM information_schema.tables WHERE table_schema = 'idletally' AND table_name <> "+
				"'goose_db_version'"))
	if len(left) > 0 {
		t.Errorf("tables %v are left", left)
	}

	_, err = p.Up(ctx)
	must(t, err)
	var keyless []string
	must(t,
		st.db.SelectContext(ctx, &keyless,
			`SELECT t.table_name FROM information_schema.tables t LEFT JOIN information_schema.table_constraints c
		ON c.table_schema = t.table_schema AND c.table_name = t.table_name AND c.constraint_type = 'PRIMARY KEY'
		WHERE t.table_schema = 'idletally' AND c.constraint_name IS NULL`))
	if len(keyless) > 0 {
		t.Errorf("tables %v have no primary key", keyless)
	}
}

// Many write editions at once: every number once, and one published.
func TestEditionsAtOnce(t *testing.T) {
	app := name("app")
	numbers := make(chan int, 20)
	var wg sync.WaitGroup

	for range 20 {
		wg.Go(func() {
			n, err := st.AddEdition(t.Context(), Edition{Application: app, Text: "x", Author: "a"}, nil)
			if err != nil {
				t.Error(err)
			}
			numbers <- n
		})
	}

	wg.Wait()
	close(numbers)
	got := slices.Sorted(func(yield func(int) bool) {
		for n := range numbers {
			if !yield(n) {
				return
			}
		}
	})

	for i, n := range got {
		if n != i+1 {
			t.Fatalf("numbers %v", got)
		}
	}

	must(t, st.Publish(t.Context(), app, 3, "b"))
	must(t, st.Publish(t.Context(), app, 7, "b"))
	if err := st.Publish(t.Context(), app, 7, "b"); !errors.Is(err, ErrConflict) {
		t.Errorf("published twice: %v", err)
	}

	if err := st.Publish(t.Context(), app, 99, "b"); !errors.Is(err, ErrConflict) {
		t.Errorf("published what is not there: %v", err)
	}

	e, err := st.Edition(t.Context(), app, 0)
	if err != nil || e.Number != 7 {
		t.Errorf("published is %d, %v", e.Number, err)
	}

	all, err := st.Editions(t.Context(), app, 0, 1000)
	if err != nil || len(all) != 20 || all[17].State != lifecycle.EditionFormer {
		t.Errorf("editions %v, %v", all, err)
	}

	if some, err := st.Editions(t.Context(), app, 4, 2); err != nil || len(some) != 2 || some[0].Number != 3 ||
		some[1].Number != 2 {
		t.Errorf("two before the fourth: %v, %v", some, err)
	}

	if n, err := st.CountEditions(t.Context(), app); err != nil || n != 20 {
		t.Errorf("%d editions, %v", n, err)
	}
}

// What is listed whole is bounded where something is added.
func TestRoom(t *testing.T) {
	ctx := t.Context()
	person := name("person")
	another := name("person")
	for _, who := range []string{person, another} {
		must(t, st.AddPerson(ctx, Person{Name: who, RoleList: "viewer"}))
	}

	for _, c := range []struct {
		most *int
		add  func() error
		says string
	}{
		{&maxPeople, func() error { return st.AddPerson(ctx, Person{Name: name("person"), RoleList: "viewer"}) },
			"remove some first"},
		{&maxHooks, func() error { _, err := st.AddHook(ctx, Hook{URL: "https://a"}); return err },
			"remove some first"},
		{&maxSchedules, func() error {
			_, err := st.AddSchedule(ctx, Schedule{Application: name("app"), Cron: "@daily", Next: now()})
			return err
		}, "remove some first"},
		{&maxTokens, func() error {
			_, err := st.AddToken(ctx, Token{Person: person, Expires: now()}, sha256.Sum256([]byte(NewID())))
			return err
		}, "remove some first"},
		{&maxAllTokens, func() error {
			_, err := st.AddToken(ctx, Token{Person: another, Expires: now()}, sha256.Sum256([]byte(NewID())))
			return err
		}, "remove some first"},
		{&maxApplications, func() error {
			_, err := st.AddEdition(ctx, Edition{Application: name("app"), Text: "x", State: lifecycle.EditionDraft},
				nil)
			return err
		}, "there may be no more"},
	} {
		t.Run(c.says, func(t *testing.T) {
			must(t, c.add())
			most := *c.most
			*c.most = 1 // there is one
			err := c.add()
			*c.most = most
			if !errors.Is(err, ErrConflict) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v", err)
			}
		})
	}

	for n := range maxSessions + 3 {
		must(t, st.AddSession(ctx, sha256.Sum256(fmt.Append(nil, person, n)), person, "", now().Add(time.Hour), now()))
	}

	if list, err := st.Sessions(ctx, person); err != nil || len(list) != maxSessions {
		t.Errorf("%d sessions, %v", len(list), err)
	}
}

// What is written a second time is there: a lease, a code or a holder that is renewed within the same millisecond is
// not one that somebody else has.
func TestTheSameAgainIsFound(t *testing.T) {
	host := name("host")
	must(t, st.AddHost(t.Context(), host))
	for range 2 {
		r, err := st.db.ExecContext(t.Context(), `UPDATE host SET sent = 7 WHERE name = ?`, host)
		must(t, changed(r, err, "host "+host))
		must(t, st.TakeQuota(t.Context(), host, 0, 7))
	}
}

// A code is used once, however many try at the same time.
func TestCodeOnce(t *testing.T) {
	host := name("host")
	hash := sha256.Sum256([]byte(host))
	must(t, st.Invite(t.Context(), host, []string{"a", "b"}, hash, time.Now().Add(time.Hour)))
	wins := make(chan string, 10)
	var wg sync.WaitGroup

	for i := range 10 {
		wg.Go(func() {
			h, err := st.UseCode(t.Context(), hash, [32]byte{byte(i)})
			if err == nil { // its answer may have been lost
				if again, err := st.UseCode(t.Context(), hash, [32]byte{byte(i)}); again != host || err != nil {
					t.Errorf("the same request again: %s, %v", again, err)
				}
			}

			if err == nil {
				wins <- h
			} else if !errors.Is(err, ErrConflict) {
				t.Error(err)
			}
		})
	}

	wg.Wait()
	if len(wins) != 1 || <-wins != host {
		t.Errorf("the code was used %d times", len(wins)+1)
	}

	old := sha256.Sum256([]byte("old"))
	must(t, st.Invite(t.Context(), host, nil, old, time.Now().Add(-time.Second)))
	if _, err := st.UseCode(t.Context(), old, [32]byte{}); !errors.Is(err, ErrConflict) {
		t.Errorf("an expired code: %v", err)
	}

	h, err := st.Host(t.Context(), host)
	if err != nil || len(h.Tags()) != 2 { // inviting again without tags keeps them
		t.Errorf("host %+v, %v", h, err)
	}
}

// Work is claimed by exactly one, in order; a lease that ran out or was let go frees it.
func TestClaimWork(t *testing.T) {
	ctx := t.Context()
	host, app := name("host"), name("app")
	var want []string

	for range 30 {
		id, err := st.AskSnapshot(ctx, host, app, []string{"/srv"}, false, false, "somebody")
		must(t, err)
		want = append(want, id)
	}

	var mu sync.Mutex
	var got []string
	var wg sync.WaitGroup

	for range 6 {
		wg.Go(func() {
			for idle := 0; idle < 20; {
				w, err := st.ClaimWork(ctx, host)
				if err != nil {
					t.Error(err)
					return
				}

				if w == nil {
					idle++
					continue
				}

				mu.Lock()
				got = append(got, w.Subject)
				mu.Unlock()
			}
		})
	}

	wg.Wait()
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("claimed %d of %d, or some twice", len(got), len(want))
	}

	must(t, st.ReleaseWork(ctx, host))
	w, err := st.ClaimWork(ctx, host)
	if err != nil || w == nil || w.Tries == 0 {
		t.Fatalf("after letting go: %+v, %v", w, err)
	}

	if _, err := st.OwnWork(ctx, "another", w.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("another host's work: %v", err)
	}

	must(t, st.KeepWork(ctx, w.ID))
	must(t, st.KeepSnapshot(ctx, *w, wire.SnapshotDone{Failed: "no room"}))
	v, err := st.Snapshot(ctx, w.Subject)
	if err != nil || v.State != lifecycle.SnapshotFailed || v.Message != "no room" {
		t.Errorf("snapshot %+v, %v", v, err)
	}
}

func node(entries ...tree.Entry) []byte { return tree.Encode(tree.Node{Entries: entries}) }

func file(n string, m mode.Mode) tree.Entry {
	return tree.Entry{Name: n, Kind: perm.File, Set: posix.State{Mode: m}.Set()}
}

func TestNodes(t *testing.T) {
	ctx := t.Context()
	leaf := node(file("a", 0o600), file("\xff\n", mode.Mode(rand.IntN(0o7777))))
	folder := node(tree.Entry{Name: "d", Kind: perm.Folder, Set: posix.State{}.Set(), Child: tree.Sum(leaf)})
	root := tree.Encode(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv", Kind: perm.Folder, Set: posix.State{}.Set(), Child: tree.Sum(folder)}},
	})
	if err := st.PutNodes(ctx, [][]byte{folder}); !errors.Is(err, ErrBadNode) ||
		!strings.Contains(err.Error(), "was not sent before it") {
		t.Errorf("a node without its child: %v", err)
	}

	if err := st.PutNodes(ctx, [][]byte{[]byte("junk")}); !errors.Is(err, ErrBadNode) {
		t.Errorf("junk: %v", err)
	}

	must(t, st.PutNodes(ctx, [][]byte{leaf, folder, root}))
	must(t, st.PutNodes(ctx, [][]byte{leaf})) // again changes nothing
	h := tree.Sum(root)
	var paths []string
	must(t, tree.Walk(ctx, st, h, func(p string, _ tree.Entry) error { paths = append(paths, p); return nil }))
	if !slices.Equal(paths, []string{"/srv", "/srv/d", "/srv/d/a", "/srv/d/\xff\n"}) {
		t.Errorf("walked %q", paths)
	}

	have, err := st.Have(ctx, []tree.Hash{h, tree.Sum(leaf), {}})
	if err != nil || !have[h] || have[tree.Hash{}] {
		t.Errorf("have %v, %v", have, err)
	}

	// Damage in the database is seen, not passed on.
	other := node(file("b", 0o644))
	lh := tree.Sum(leaf)
	_, err = st.db.ExecContext(ctx, "UPDATE node SET data = ? WHERE hash = ?", encoder.EncodeAll(other, nil), lh[:])
	must(t, err)
	if _, err := tree.Load(ctx, st, lh); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a changed node: %v", err)
	}

	_, err = st.db.ExecContext(ctx, "UPDATE node SET data = 'xx' WHERE hash = ?", lh[:])
	must(t, err)
	if _, err := tree.Load(ctx, st, lh); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a node that is not even packed: %v", err)
	}

	if _, err := st.Nodes(ctx, []tree.Hash{{1}}); err == nil {
		t.Error("a node that is not there was given")
	}
}

func TestReports(t *testing.T) {
	ctx := t.Context()
	app, host := name("app"), name("host")
	w, err := st.NewReport(ctx, Report{Application: app, Edition: 1, Host: host, Snapshot: NewID(), Problems: "[]"})
	must(t, err)
	set := posix.State{UID: 7, Mode: 0o644}.Set()
	group := drift.Group{
		ID:       "0123456789ab",
		Rule:     "r",
		Severity: baseline.Grave,
		Aspect:   perm.AspectMode,
		Kind:     perm.File,
		Count:    1200,
		Folder:   "/srv/\xff",
		Example:  "/srv/\xff/0",
	}

	for i := range 1200 {
		g := group.ID
		if i%3 == 0 {
			g = "ffffffffffff"
		}
		must(t,
			w.Finding(t.Context(), drift.Finding{
				Path:     fmt.Sprintf("/srv/\xff/%d", i),
				Kind:     perm.File,
				Aspect:   perm.AspectMode,
				FoundSet: set,
				Group:    g,
			}))
	}

	must(t, w.Unread(t.Context(), drift.Unread{Path: "/srv/\n", Why: "refused"}))
	if _, err := st.CurrentReport(ctx, app, host); !errors.Is(err, ErrNotFound) {
		t.Errorf("half a report shows: %v", err)
	}

	made, err := w.End(t.Context(), drift.Summary{Paths: 5000, Judged: 4000, Findings: 1200, Unread: 1},
		[]drift.Group{group})
	must(t, err)
	r, err := st.CurrentReport(ctx, app, host)
	if err != nil || r.ID != made.ID || r.Findings != 1200 || r.Judged != 4000 {
		t.Errorf("report %+v, %v", r, err)
	}

	gs, err := st.Groups(ctx, r.ID, 10)
	if err != nil || len(gs) != 1 || gs[0].Folder != group.Folder || gs[0].Kind != perm.File {
		t.Errorf("groups %+v, %v", gs, err)
	}

	seen := 0
	for after := 0; ; {
		page, err := st.Findings(ctx, r, "ffffffffffff", after, 77)
		must(t, err)
		for _, f := range page {
			if f.Seq <= after || string(f.Path) != fmt.Sprintf("/srv/\xff/%d", f.Seq-1) ||
				string(f.FoundSet) != set.Bytes() {
				t.Fatalf("finding %+v after %d", f, after)
			}
			after = f.Seq
			seen++
		}

		if len(page) < 77 {
			break
		}
	}

	if seen != 400 {
		t.Errorf("%d findings of the group, want 400", seen)
	}

	un, err := st.Unread(ctx, r.ID, 0, 10)
	if err != nil || len(un) != 1 || un[0].Path != "/srv/\n" {
		t.Errorf("unread %+v, %v", un, err)
	}
}

// approved approves a plan, whoever does.
func approved(t *testing.T, p Plan, a Approving) (bool, error) {
	t.Helper()
	a.Life = time.Hour
	return st.ApprovePlan(t.Context(), p, a, func(Approval) bool { return true })
}

// aPlan keeps a plan of one step on some hosts.
func aPlan(t *testing.T, hosts ...string) (Plan, plan.Manifest) {
	t.Helper()
	m := plan.Manifest{Format: 1, ID: NewID(), Kind: plan.Remediation, Application: "app"}
	var chunks []Chunk

	for _, h := range hosts {
		data := plan.EncodeChunk([]plan.Step{
			{Path: "/srv/x", Kind: perm.File, Before: posix.State{Mode: 1}.Set(), After: posix.State{Mode: 2}.Set()},
		})
		chunks = append(chunks, Chunk{Host: h, Data: data})
		m.Hosts = append(m.Hosts, plan.HostPart{
			Host:   h,
			Roots:  []string{"/srv"},
			Steps:  1,
			Chunks: []tree.Hash{plan.Digest(data)},
		})
	}

	digest := plan.Digest(m.Bytes())
	p := Plan{
		ID:          m.ID,
		Application: "app",
		Kind:        "remediation",
		Title:       "t",
		Author:      "author",
		Digest:      digest[:],
		Manifest:    m.Bytes(),
		Source:      "[]",
	}

	must(t, st.AddPlan(t.Context(), p, chunks, []wire.PlanGroup{{Host: hosts[0], Count: 1}}))
	return p, m
}

// planStatesRows are what TestPlanStates tries.
var planStatesRows = []struct {
	by   string
	back string
	want bool
}{{"reviewer", "", false}, {"reviewer", "", false}, {"second", "reviewer", true}, {"reviewer", "", true}}

func TestPlanStates(t *testing.T) {
	ctx := t.Context()
	p, m := aPlan(t, name("host"), name("host"))
	conflict := func(what string, err error) {
		t.Helper()
		if !errors.Is(err, ErrConflict) {
			t.Errorf("%s: %v", what, err)
		}
	}

	approve := func(by string, digest []byte, needed int) (bool, error) {
		words := map[string]string{"c": "it is meant"}
		return approved(t, p, Approving{By: by, Remark: "well", Words: words, Digest: digest, Needed: needed})
	}
	_, err := approve("reviewer", p.Digest, 1)
	conflict("approve a draft", err)
	must(t, st.SubmitPlan(ctx, p.ID, Signature{}))
	conflict("submit twice", st.SubmitPlan(ctx, p.ID, Signature{}))
	_, err = approve("author", p.Digest, 1)
	conflict("approve the own plan", err)
	conflict("decline the own plan", st.DeclinePlan(ctx, p.ID, "author", "", p.Digest))
	_, err = approve("reviewer", make([]byte, 32), 1)
	conflict("approve another digest", err)
	_, err = st.StartRun(ctx, p, m, "operator")
	conflict("run before approval", err)

	// Two are needed; the same one twice are not two, and one that is taken back is none.
	for _, x := range planStatesRows {
		t.Run(x.by, func(t *testing.T) {
			if got, err := approve(x.by, p.Digest, 2); err != nil || got != x.want {
				t.Errorf("%s approved: %t, %v", x.by, got, err)
			}
			if x.back != "" {
				must(t, st.WithdrawApproval(ctx, p.ID, x.back))
			}
		})
	}

	conflict("take back what was not given", st.WithdrawApproval(ctx, p.ID, "third"))
	if all, err := st.Approvals(ctx, p.ID); err != nil || len(all) != 2 || all[0].Reviewer != "second" ||
		all[0].Words != `{"c":"it is meant"}` {
		t.Errorf("%+v, %v", all, err)
	}

	expires := func() time.Time {
		got, err := st.Plan(ctx, p.ID)
		must(t, err)
		return *got.Expires
	}
	soon := expires()
	if left := time.Until(soon); left > time.Hour || left < 50*time.Minute {
		t.Errorf("approved for %v", left)
	}

	_, err = st.db.ExecContext(ctx, "UPDATE plan SET expires = ? WHERE id = ?", time.Now().Add(-time.Second).UTC(),
		p.ID)
	must(t, err)
	_, err = st.StartRun(ctx, p, m, "operator")
	conflict("run after the approval has expired", err)

	// An approval that waits too long for the second one gets old, as it does afterwards: it has to be said again.
	must(t, st.WithdrawApproval(ctx, p.ID, "reviewer"))
	age := func(by string, d time.Duration) {
		_, err := st.db.ExecContext(ctx, "UPDATE plan_approval SET at = ? WHERE plan = ? AND reviewer = ?",
			time.Now().Add(-d).UTC(), p.ID, by)
		must(t, err)
	}
	age("second", 61*time.Minute)
	if ok, err := approve("reviewer", p.Digest, 2); err != nil || ok {
		t.Errorf("approved by one now and one too long ago: %t, %v", ok, err)
	}

	age("reviewer", 40*time.Minute)
	if ok, err := approve("second", p.Digest, 2); err != nil || !ok {
		t.Errorf("approved by both: %t, %v", ok, err)
	}

	if left := time.Until(expires()); left > 20*time.Minute || left < 15*time.Minute {
		t.Errorf("it is good for %v, and the first of both for 20 minutes more", left)
	}

	// Ten operators start it at once: it runs once.
	runs := make(chan string, 10)
	var wg sync.WaitGroup
	for range 10 {
		wg.Go(func() {
			id, err := st.StartRun(ctx, p, m, "operator")
			if err == nil {
				runs <- id
			} else if !errors.Is(err, ErrConflict) {
				t.Error(err)
			}
		})
	}

	wg.Wait()
	if len(runs) != 1 {
		t.Fatalf("started %d times", len(runs))
	}

	run := <-runs
	var work []*Work
	for _, h := range m.Hosts {
		w, err := st.ClaimWork(ctx, h.Host)
		if err != nil || w == nil || w.Subject != run {
			t.Fatalf("work %+v, %v", w, err)
		}
		work = append(work, w)
	}

	for i, h := range m.Hosts {
		w := work[i]
		if i == 0 {
			if halt, err := st.RunProgress(ctx, run, h.Host, 1); err != nil || halt {
				t.Errorf("progress: %v, %v", halt, err)
			}
			must(t, st.HaltRun(ctx, run))
		}

		halt, err := st.RunProgress(ctx, run, h.Host, 1)
		if err != nil || !halt {
			t.Errorf("halting does not reach the agent: %v, %v", halt, err)
		}

		must(t,
			st.PutOriginals(ctx, run, h.Host, 0,
				plan.EncodeChunk([]plan.Step{
					{
						Path: "/srv/x", Kind: perm.File, Before: posix.State{Mode: 1}.Set(),
						After: posix.State{Mode: 2}.Set(),
					},
				})))

		state := map[int]lifecycle.Part{0: lifecycle.PartFinished, 1: lifecycle.PartHalted}[i]
		must(t,
			ended(st.EndRunHost(ctx, *w, wire.RunDone{State: state, Done: 1}, []Result{
				{Host: h.Host, Step: 0, Outcome: "skipped", Path: []byte("/srv/\xff"), Reason: "r"},
			})))
	}

	r, err := st.Run(ctx, run)
	if err != nil || r.State != lifecycle.RunHalted || r.Ended == nil {
		t.Errorf("run %+v, %v", r, err)
	}

	conflict("halt what does not run", st.HaltRun(ctx, run))
	must(t, st.ResumeRun(ctx, run))
	conflict("resume what runs", st.ResumeRun(ctx, run))
	w, err := st.ClaimWork(ctx, m.Hosts[1].Host)
	if err != nil || w == nil {
		t.Fatalf("work after resuming: %+v, %v", w, err)
	}

	must(t, ended(st.EndRunHost(ctx, *w, wire.RunDone{State: lifecycle.PartFinished, Done: 1}, nil)))
	got, err := st.Plan(ctx, p.ID)
	if err != nil || got.State != lifecycle.PlanFinished || got.DecidedBy != "second" {
		t.Errorf("plan %+v, %v", got, err)
	}

	res, err := st.RunResults(ctx, run, "", -1, 10)
	if err != nil || len(res) != 1 || string(res[0].Path) != "/srv/\xff" {
		t.Errorf("results %+v, %v", res, err)
	}

	if steps, err := st.Originals(ctx, run, m.Hosts[0].Host, 0); err != nil || len(steps) != 1 {
		t.Errorf("%d originals, %v", len(steps), err)
	}

	if _, err := st.Originals(ctx, run, m.Hosts[0].Host, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("originals after the last: %v", err)
	}
}

func ended(_ []string, err error) error { return err }

// The rest of the hosts run when the first have ended well, and not where too much was left or somebody halted.
func TestWaves(t *testing.T) {
	ctx := t.Context()
	for _, c := range []struct {
		what   string
		done   int // of ten
		halt   bool
		state  lifecycle.Part
		goesOn bool
	}{
		{"well", 10, false, lifecycle.PartFinished, true},
		{"well enough", 9, false, lifecycle.PartFinished, true},
		{"with too much left", 8, false, lifecycle.PartFinished, false},
		{"halted", 3, false, lifecycle.PartHalted, false},
		{"failed", 10, false, lifecycle.PartFailed, false},
		{"well, and somebody halted", 10, true, lifecycle.PartFinished, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			p, m := aPlan(t, name("a"), name("b"), name("c"))
			m.First, m.StopAt = 1, 10
			for i := range m.Hosts {
				m.Hosts[i].Steps = 10
			}

			must(t, st.SubmitPlan(ctx, p.ID, Signature{}))
			if ok, err := approved(t, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 1}); err != nil || !ok {
				t.Fatal(ok, err)
			}

			run, err := st.StartRun(ctx, p, m, "operator")
			must(t, err)
			work := func(i int) *Work {
				t.Helper()
				w, err := st.ClaimWork(ctx, m.Hosts[i].Host)
				must(t, err)
				return w
			}

			first := work(0)
			if first == nil || work(1) != nil || work(2) != nil {
				t.Fatalf("%s: not the first host alone has work", c.what)
			}

			if c.halt {
				must(t, st.HaltRun(ctx, run))
			}

			next, err := st.EndRunHost(ctx, *first, wire.RunDone{State: c.state, Done: c.done}, nil)
			must(t, err)
			r, err := st.Run(ctx, run)
			must(t, err)
			if goes := len(next) == 2 && r.State == lifecycle.RunRunning && work(1) != nil &&
				work(2) != nil; goes != c.goesOn {
				t.Errorf("%s: goes on with %v, run %s", c.what, next, r.State)
			}

			if c.goesOn {
				return
			}

			hosts, err := st.RunHosts(ctx, run)
			must(t, err)
			if r.State != lifecycle.RunHalted || hosts[1].State != lifecycle.PartHalted ||
				!strings.Contains(hosts[2].Message, "held back") {
				t.Errorf("%s: run %s, %+v", c.what, r.State, hosts)
			}

			// Whoever resumes it goes on where it stopped: with the first host, or with the rest.
			must(t, st.ResumeRun(ctx, run))
			if again := work(0) != nil; again != (c.state != lifecycle.PartFinished) || (work(1) != nil) == again {
				t.Errorf("%s: resumed with the first host: %t", c.what, again)
			}
		})
	}
}

// A run that is halted does not wait for hosts that nobody has begun on; for those that somebody has, it does.
func TestHaltWithoutAgents(t *testing.T) {
	ctx := t.Context()
	for _, c := range []struct {
		what    string
		claimed int // hosts, of three
		begun   int
		age     time.Duration // since the leases ended
		waits   bool
	}{
		{"nobody took anything", 0, 0, 0, false},
		{"one was taken", 1, 0, 0, true},
		{"one was taken, and never begun", 1, 0, time.Minute, false},
		{"one was begun", 1, 1, 0, true},
		{"one was begun, and its agent is away", 1, 1, time.Hour, true},
		{"all were taken", 3, 0, 0, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			p, m := aPlan(t, name("a"), name("b"), name("c"))
			must(t, st.SubmitPlan(ctx, p.ID, Signature{}))
			if ok, err := approved(t, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 1}); err != nil || !ok {
				t.Fatal(ok, err)
			}

			run, err := st.StartRun(ctx, p, m, "operator")
			must(t, err)
			for i := range c.claimed {
				w, err := st.ClaimWork(ctx, m.Hosts[i].Host)
				if err != nil || w == nil {
					t.Fatal(w, err)
				}

				if i < c.begun {
					_, err := st.RunProgress(ctx, run, w.Host, 1)
					must(t, err)
				}

				if c.age > 0 {
					_, err := st.db.ExecContext(ctx, "UPDATE work SET lease_until = ? WHERE id = ?",
						time.Now().UTC().Add(-c.age), w.ID)
					must(t, err)
				}
			}

			must(t, st.HaltRun(ctx, run))
			r, err := st.Run(ctx, run)
			if err != nil || (r.State == lifecycle.RunRunning) != c.waits || (r.Ended == nil) != c.waits {
				t.Errorf("%s: the run is %s, %v", c.what, r.State, err)
			}

			hosts, err := st.RunHosts(ctx, run)
			must(t, err)
			for i, h := range hosts {
				if began := i < c.claimed && c.waits; (h.State == lifecycle.PartHalted) == began {
					t.Errorf("%s: host %d is %s", c.what, i, h.State)
				}
				if w, err := st.ClaimWork(ctx, h.Host); err != nil ||
					(w != nil) != (c.waits && i < c.claimed && c.age > 0) {
					t.Errorf("%s: host %d is given %+v, %v", c.what, i, w, err)
				}
			}

			if !c.waits {
				must(t, st.ResumeRun(ctx, run))
				if w, err := st.ClaimWork(ctx, m.Hosts[2].Host); err != nil || w == nil {
					t.Errorf("%s: it does not go on: %+v, %v", c.what, w, err)
				}
			}
		})
	}
}

// Hosts that end at the same moment end the run, whichever is last.
func TestHostsEndTogether(t *testing.T) {
	ctx := t.Context()
	for range 40 {
		p, m := aPlan(t, name("host"), name("host"), name("host"))
		must(t, st.SubmitPlan(ctx, p.ID, Signature{}))
		if ok, err := approved(t, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 1}); err != nil || !ok {
			t.Fatal(ok, err)
		}

		run, err := st.StartRun(ctx, p, m, "operator")
		must(t, err)
		var wg sync.WaitGroup

		for _, h := range m.Hosts {
			w, err := st.ClaimWork(ctx, h.Host)
			must(t, err)
			wg.Go(func() {
				if err := ended(st.EndRunHost(ctx, *w, wire.RunDone{State: lifecycle.PartFinished, Done: 1},
					nil)); err != nil {
					t.Error(err)
				}
			})
		}

		wg.Wait()
		if r, err := st.Run(ctx, run); err != nil || r.State != lifecycle.RunFinished {
			t.Fatalf("all hosts have ended, the run is %+v, %v", r, err)
		}
	}
}

func TestSessions(t *testing.T) {
	ctx := t.Context()
	who := name("person")
	must(t, st.AddPerson(ctx, Person{Name: who, Password: "h", RoleList: "viewer,author", MustChange: true}))
	if err := st.AddPerson(ctx, Person{Name: who}); !errors.Is(err, ErrConflict) {
		t.Errorf("the name twice: %v", err)
	}

	live, dead := sha256.Sum256([]byte(who+"1")), sha256.Sum256([]byte(who+"2"))
	must(t, st.AddSession(ctx, live, who, "a test", time.Now().Add(time.Hour), time.Now()))
	must(t, st.AddSession(ctx, dead, who, "", time.Now().Add(-time.Second), time.Now()))
	if p, _, err := st.SessionPerson(ctx, live); err != nil || p.Name != who ||
		!slices.Equal(p.Roles(), []string{"viewer", "author"}) {
		t.Errorf("session %+v, %v", p, err)
	}

	if _, _, err := st.SessionPerson(ctx, dead); !errors.Is(err, ErrNotFound) {
		t.Errorf("an expired session: %v", err)
	}

	must(t, st.SetPassword(ctx, who, NewPassword{Hash: "h2"}))
	if _, _, err := st.SessionPerson(ctx, live); !errors.Is(err, ErrNotFound) {
		t.Errorf("a session outlives a new password: %v", err)
	}

	must(t, st.Audit(ctx, By{Who: who}, "tried", strings.Repeat("s", 300), "d"))
	h, err := st.History(ctx, HistoryQuery{Who: who, Limit: 1})
	if err != nil || len(h) != 1 || h[0].Who != who || len(h[0].Subject) != 255 {
		t.Errorf("history %+v, %v", h, err)
	}

	must(t, st.SetRoles(ctx, who, "viewer", nil, nil))
	must(t, st.SetRoles(ctx, who, "viewer", nil, nil))
	if p, err := st.Person(ctx, who); err != nil || !slices.Equal(p.Roles(), []string{"viewer"}) {
		t.Errorf("%+v, %v", p, err)
	}

	must(t, st.RemovePerson(ctx, who))
	if err := errors.Join(st.SetRoles(ctx, who, "viewer", nil, nil), st.RemovePerson(ctx, who)); !errors.Is(err,
		ErrNotFound) {
		t.Errorf("somebody who was removed: %v", err)
	}
}

// History is found by who, what, subject and time, in any combination, page by page.
func TestHistory(t *testing.T) {
	ctx := t.Context()
	who, other := name("who"), name("who")
	start := time.Now()
	var all []string // from the newest on

	for i := range 12 {
		by := []string{who, other}[i%2]
		must(t,
			st.Audit(ctx, By{Who: by}, []string{"plan drafted", "plan approved", "run started"}[i%3],
				fmt.Sprint(by, i/4), "detail"))
		time.Sleep(2 * time.Millisecond)
	}

	lines, err := st.History(ctx, HistoryQuery{From: start.Add(-time.Second), Limit: 1000})
	must(t, err)
	for _, l := range lines {
		if l.Who == who {
			all = append(all, l.ID)
		}
	}

	if len(all) != 6 {
		t.Fatalf("%d lines of %s", len(all), who)
	}

	ask := func(p HistoryQuery) (ids []string) {
		t.Helper()
		list, err := st.History(ctx, p)
		must(t, err)
		for _, l := range list {
			ids = append(ids, l.ID)
		}

		return ids
	}

	for _, c := range []struct {
		what string
		past HistoryQuery
		want []string
	}{
		{"one person", HistoryQuery{Who: who, Limit: 10}, all},
		{"a page", HistoryQuery{Who: who, Limit: 2}, all[:2]},
		{"the next", HistoryQuery{Who: who, Limit: 2, Before: all[1]}, all[2:4]},
		{"a word", HistoryQuery{Who: who, What: "plan", Limit: 10}, []string{all[0], all[2], all[3], all[5]}},
		{"a sign that is no pattern here", HistoryQuery{Who: who, What: "%", Limit: 10}, nil},
		{"a subject", HistoryQuery{Subject: who + "1", Limit: 10}, all[2:4]},
		{"later than all", HistoryQuery{Who: who, From: time.Now().Add(time.Minute), Limit: 10}, nil},
		{"before all", HistoryQuery{Who: who, To: start.Add(-time.Minute), Limit: 10}, nil},
	} {
		t.Run(c.what, func(t *testing.T) {
			if got := ask(c.past); !slices.Equal(got, c.want) {
				t.Errorf("%s: %v, want %v", c.what, got, c.want)
			}
		})
	}
}

// The queries that lists, agents and pages live on use a key at size.
func TestQueriesUseKeys(t *testing.T) {
	ctx := t.Context()
	app, host := name("app"), name("host")
	rows := make([]int, 3000)
	for i := range rows {
		rows[i] = i
	}

	must(t, batches(ctx, st, `INSERT INTO work (id, host, kind, subject, state, created)`, 6, rows, func(i int) []any {
		return []any{
			NewID()[:10] + fmt.Sprintf("%06d", i),
			fmt.Sprintf("%s-%d", host, i%100),
			"snapshot",
			NewID(),
			"done",
			now(),
		}
	}))

	must(t,
		batches(ctx, st,
			`INSERT INTO snapshot (id, host, application, state, roots, denied, message, requested_by, created)`, 9,
			rows, func(i int) []any {
				return []any{
					NewID()[:10] + fmt.Sprintf("%06d", i),
					fmt.Sprintf("%s-%d", host, i%100),
					app,
					"ready",
					"[]",
					"[]",
					"",
					"x",
					now(),
				}
			}))

	must(t,
		batches(ctx, st, `INSERT INTO report (id, application, edition, host, snapshot, ready, problems, created)`, 8,
			rows, func(i int) []any {
				return []any{
					NewID()[:10] + fmt.Sprintf("%06d", i),
					app,
					1,
					fmt.Sprintf("%s-%d", host, i%100),
					NewID(),
					true,
					"[]",
					now(),
				}
			}))

	must(t, batches(ctx, st, `INSERT INTO question (id, host, state, ask, created)`, 5, rows, func(i int) []any {
		return []any{NewID()[:10] + fmt.Sprintf("%06d", i), fmt.Sprintf("%s-%d", host, i%100), "waiting", "{}", now()}
	}))
	defer func() {
		_, err := st.db.ExecContext(context.WithoutCancel(ctx), `DELETE FROM question WHERE host LIKE ?`, host+"-%")
		must(t, err)
	}()

	_, err := st.db.ExecContext(ctx, "ANALYZE TABLE work, snapshot, report, question")
	must(t, err)
	h := host + "-5"

	for _, q := range []struct {
		text string
		args []any
		most int
	}{
		{
			`SELECT id FROM work WHERE host = ? AND state IN ('waiting', 'taken') AND (lease_until IS NULL
				OR lease_until < NOW()) ORDER BY id LIMIT 1`,
			[]any{h}, 5,
		},
		{`SELECT id FROM snapshot WHERE application = ? AND host = ? AND state = 'ready' ORDER BY looked DESC LIMIT 1`,
			[]any{app, h}, 60},
		{`SELECT id FROM report WHERE application = ? AND host = ? AND ready = TRUE ORDER BY id DESC LIMIT 1`,
			[]any{app, h}, 60},
		{`SELECT seq FROM finding WHERE report = ? AND group_id = ? AND seq > ? ORDER BY seq LIMIT 100`,
			[]any{"x", "y", 5}, 100},
		{`SELECT id FROM plan WHERE state = ? AND id < ? ORDER BY id DESC LIMIT 50`, []any{"draft", "~"}, 100},
		{`SELECT id FROM audit WHERE id < ? ORDER BY id DESC LIMIT 100`, []any{"~"}, 1000},
		{`SELECT id FROM audit WHERE id < ? AND who = ? ORDER BY id DESC LIMIT 100`, []any{"~", "somebody"}, 1000},
		{`SELECT id FROM audit WHERE id < ? AND subject = ? ORDER BY id DESC LIMIT 100`, []any{"~", "something"}, 1000},
		{`SELECT id FROM waiver WHERE ends > ? AND ends < ? AND withdrawn IS NULL ORDER BY ends LIMIT 50`,
			[]any{now(), now().Add(time.Hour)}, 60},
		{`SELECT id FROM run WHERE state = 'halted' ORDER BY id DESC LIMIT 50`, nil, 60},
		{`SELECT MAX(looked) FROM snapshot GROUP BY application, host, state`, nil, 1500},
		{`SELECT MAX(looked) FROM snapshot WHERE application = ? AND host = ? GROUP BY application, host, state`,
			[]any{app, h}, 60},
		{`SELECT state FROM snapshot WHERE looked = ?`, []any{"x"}, 2},
		{`SELECT COUNT(*) FROM snapshot WHERE application = ? AND host = ?`, []any{app, h}, 60},
		{`SELECT COUNT(*) FROM plan WHERE state = ?`, []any{"draft"}, 100},
		{`SELECT seq FROM unread WHERE report = ? AND seq > ? ORDER BY seq LIMIT 100`, []any{"x", 5}, 100},
		{`SELECT findings FROM day WHERE on_day >= ? ORDER BY on_day, application, host LIMIT 1000`,
			[]any{"2026-01-01"}, 1000},
		{`SELECT id FROM report WHERE snapshot = ? AND ready AND NOT trimmed ORDER BY id DESC LIMIT 1`, []any{"x"}, 60},
		{`SELECT id FROM snapshot WHERE host = ? AND directory IS NOT NULL ORDER BY looked DESC LIMIT 1`, []any{h}, 60},
		{`SELECT id, ask FROM question WHERE host = ? AND state = 'waiting' AND created > ? ORDER BY id LIMIT 1`,
			[]any{h, now()}, 60},
		{`SELECT id FROM question WHERE created < ? LIMIT 20`, []any{now().Add(-time.Hour)}, 60},
		{`SELECT s.person FROM session s JOIN person p ON p.name = s.person WHERE s.token_hash = ?`,
			[]any{make([]byte, 32)}, 2},
	} {
		t.Run(q.text, func(t *testing.T) {
			for _, p := range planOf(t, q.text, q.args) {
				if p.Extra != nil && strings.Contains(*p.Extra, "Impossible") || p.Table == nil {
					continue
				}

				n := 0
				_, err := fmt.Sscanf(deref(p.Rows), "%d", &n)
				must(t, err)

				if p.Key == nil || strings.Contains(deref(p.Extra), "filesort") && n > 10 || n > q.most {
					t.Errorf("%s:\n key %v, rows %v, %v", q.text, deref(p.Key), n, deref(p.Extra))
				}
			}
		})
	}
}

// A planRow is a row of a query's plan.
type planRow struct {
	ID           *int    `db:"id"`
	SelectType   *string `db:"select_type"`
	Table        *string `db:"table"`
	Type         *string `db:"type"`
	PossibleKeys *string `db:"possible_keys"`
	Key          *string `db:"key"`
	KeyLen       *string `db:"key_len"`
	Ref          *string `db:"ref"`
	Rows         *string `db:"rows"` // a number, and perhaps the share that a filter leaves
	Extra        *string `db:"Extra"`
}

func planOf(t *testing.T, query string, args []any) (plan []planRow) {
	t.Helper()
	must(t, st.db.SelectContext(t.Context(), &plan, "EXPLAIN "+query, args...))
	return plan
}

func deref(s *string) string {
	if s == nil {
		return "none"
	}
	return *s
}

// What a host sends counts for a day, and one host's is no other's.
func TestQuota(t *testing.T) {
	ctx := t.Context()
	a := name("host")
	b := name("host")
	must(t, errors.Join(st.AddHost(ctx, a), st.AddHost(ctx, b)))
	must(t,
		errors.Join(st.TakeQuota(ctx, a, 0, 100), st.TakeQuota(ctx, a, 60, 100), st.TakeQuota(ctx, a, 40, 100),
			st.TakeQuota(ctx, b, 100, 100)))
	if err := st.TakeQuota(ctx, a, 1, 100); !errors.Is(err, ErrConflict) {
		t.Errorf("more than it may: %v", err)
	}

	_, err := st.db.ExecContext(ctx, `UPDATE host SET sent_on = sent_on - INTERVAL 1 DAY WHERE name = ?`, a)
	must(t, err)
	must(t, st.TakeQuota(ctx, a, 100, 100))
	if err := st.TakeQuota(ctx, b, 1, 100); !errors.Is(err, ErrConflict) {
		t.Errorf("another host's day: %v", err)
	}
}

// Nothing goes to a database on another machine in clear, unless its address says so.
func TestDatabaseOnTheWay(t *testing.T) {
	for dsn, refused := range map[string]bool{
		"u:p@tcp(db.example:3306)/x":           true,
		"u:tls=true@tcp(db.example:3306)/x":    true,
		"u:p@tcp(192.0.2.7:3306)/x?timeout=1s": true,
		"u:p@tcp([2001:db8::7]:3306)/x":        true,
		"u:p@tcp(db.example:3306)/x?tls=true":  false,
		"u:p@tcp(db.example:3306)/x?tls=false": false,
		"u:p@tcp(127.0.0.1:3306)/x":            false,
		"u:p@tcp(localhost:3306)/x":            false,
		"u:p@tcp([::1]:3306)/x":                false,
		"u:p@unix(/run/database/socket/s)/x":   false,
	} {
		t.Run(dsn, func(t *testing.T) {
			_, err := nodeConnector(dsn)
			if (err != nil) != refused || refused && !strings.Contains(err.Error(), "on the way") {
				t.Errorf("%s: %v", dsn, err)
			}
		})
	}
}

// Of several who change the policy at once one does; the others look again.
func TestPolicyAtOnce(t *testing.T) {
	ctx := t.Context()
	was, err := st.Policy(ctx)
	must(t, err)
	var won, stale atomic.Int64
	var all sync.WaitGroup

	for i := range 8 {
		all.Go(func() {
			to := was.Says
			to.Idle = 100 + i
			switch err := st.SetPolicy(ctx, to, time.Now(), "harbourmaster", was); {
			case err == nil:
				won.Add(1)
			case errors.Is(err, ErrStale):
				stale.Add(1)
			default:
				t.Error(err)
			}
		})
	}

	all.Wait()
	if won.Load() != 1 || stale.Load() != 7 {
		t.Errorf("%d changed it, %d look again", won.Load(), stale.Load())
	}

	now, err := st.Policy(ctx)
	must(t, err)

	// as if the clock was set back
	_, err = st.db.ExecContext(ctx, `UPDATE policy SET next_from = next_from + INTERVAL 2 HOUR`)
	must(t, err)
	back, err := st.Policy(ctx)
	if err != nil || back.Says.Idle != now.Says.Idle || back.Next != nil {
		t.Errorf("when the clock is set back %+v holds, %v", back, err)
	}

	must(t, st.SetPolicy(ctx, was.Says, time.Now(), "", back))
	then, err := st.Policy(ctx)
	must(t, err)
	must(t, st.SetPolicy(ctx, now.Says, time.Now().Add(time.Hour), "", then))
	if p, err := st.Policy(ctx); err != nil || p.Says.Idle != was.Says.Idle || p.Next == nil ||
		p.Next.Idle != now.Says.Idle {
		t.Errorf("%+v, %v", p, err)
	}

	last, err := st.Policy(ctx)
	must(t, err)
	must(t, st.SetPolicy(ctx, was.Says, time.Now(), "", last))
}

// A factor that is taken away leaves the others, and its spare codes only for these.
func TestSecondFactorsTogether(t *testing.T) {
	ctx, who := t.Context(), name("twice")
	must(t, st.AddPerson(ctx, Person{Name: who, RoleList: "viewer"}))
	spare := func(text string) [32]byte { return sha256.Sum256([]byte(who + text)) }
	id := spare("id")
	key, spared, err := st.AddPasskey(ctx, Passkey{Person: who, Name: "ring", Hash: id[:], Sealed: []byte("x")},
		[][32]byte{spare("first")})
	if err != nil || !spared {
		t.Fatalf("%v, %v", spared, err)
	}

	must(t, st.ProposeSecond(ctx, who, []byte("sealed")))
	must(t, st.ConfirmSecond(ctx, who, []byte("sealed"), 1, [][32]byte{spare("one"), spare("two")}, ""))
	must(t, st.DropCode(ctx, who))
	if err := st.DropCode(ctx, who); !errors.Is(err, ErrConflict) {
		t.Errorf("codes that are not there: %v", err)
	}

	if n, err := st.CountPasskeys(ctx, who); err != nil || n != 1 {
		t.Errorf("%d passkeys are left, %v", n, err)
	}

	if ok, err := st.UseSpare(ctx, who, spare("nothing"), spare("one")); err != nil || !ok {
		t.Errorf("a spare code for the passkey: %v, %v", ok, err)
	}

	must(t, st.RemovePasskey(ctx, who, key.ID))
	if ok, err := st.UseSpare(ctx, who, spare("two"), spare("two")); err != nil || ok {
		t.Errorf("a spare code for nothing: %v, %v", ok, err)
	}

	if err := errors.Join(st.RemovePasskey(ctx, who, key.ID)); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}

	if err := st.DropTwoFactor(ctx, who, nil); !errors.Is(err, ErrConflict) {
		t.Errorf("nothing to take away: %v", err)
	}

	_, _, err = st.AddPasskey(ctx, Passkey{Person: who, Name: "ring", Hash: id[:], Sealed: []byte("x")}, nil)
	must(t, err)
	must(t, st.DropTwoFactor(ctx, who, nil))
	if n, err := st.CountPasskeys(ctx, who); err != nil || n != 0 {
		t.Errorf("%d passkeys are left, %v", n, err)
	}
}

// Hosts are listed and counted by tag, version and state.
func TestHostFilter(t *testing.T) {
	ctx := t.Context()
	tag := name("tag")
	silent := now().Add(-10 * time.Minute)
	add := func(change string, args ...any) string {
		host := name("host")
		must(t, st.Invite(ctx, host, []string{"all", tag}, sha256.Sum256([]byte(host)), now().Add(time.Hour)))
		if change != "" {
			_, err := st.db.ExecContext(ctx, `UPDATE host SET certificate = 'x', `+change+` WHERE name = ?`,
				append(args, host)...)
			must(t, err)
		}

		return host
	}

	invited, carried := add(""), add("carried = TRUE, version = '1'")
	calling := add("last_seen = ?, version = '2'", now())
	quiet := add("last_seen = ?, version = '2'", silent.Add(-time.Minute))
	never := add("last_seen = NULL, version = '1'")

	for _, c := range []struct {
		f    HostFilter
		want []string
	}{
		{HostFilter{Tag: tag}, []string{invited, carried, calling, quiet, never}},
		{HostFilter{Tag: tag, State: lifecycle.HostInvited}, []string{invited}},
		{HostFilter{Tag: tag, State: lifecycle.HostCarried}, []string{carried}},
		{HostFilter{Tag: tag, State: lifecycle.HostCalling, Silent: silent}, []string{calling}},
		{HostFilter{Tag: tag, State: lifecycle.HostSilent, Silent: silent}, []string{quiet, never}},
		{HostFilter{Tag: tag, Version: "2"}, []string{calling, quiet}},
		{HostFilter{Tag: "tag"}, nil}, // a part of a tag is none
	} {
		t.Run(fmt.Sprint(c.f), func(t *testing.T) {
			rows, err := st.HostsOf(ctx, c.f, "", 10)
			must(t, err)
			var got []string
			for _, h := range rows {
				got = append(got, h.Name)
			}

			slices.Sort(c.want)
			if n, err := st.CountHosts(ctx, c.f); err != nil || int(n) != len(c.want) || !slices.Equal(got, c.want) {
				t.Errorf("%+v: %v, %d, %v; want %v", c.f, got, n, err, c.want)
			}
		})
	}
}

// Views that were kept before they said their scheme are completed as they are read.
func TestViewsFromBefore(t *testing.T) {
	posix, share := perm.View{Owner: "root", Mode: "0640"}, perm.View{Owner: "root", Inheritance: perm.InheritsStopped}
	sayScheme(&posix)
	sayScheme(&share)
	if posix.Scheme != "posix" || posix.FromAbove() || !share.FromAbove() {
		t.Errorf("%+v, %+v", posix, share)
	}
}
