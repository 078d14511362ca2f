//go:build linux && cluster

// Package cluster tries several instances of the service, behind something that spreads calls over them, on a
// database cluster of three nodes, while nodes and instances are killed at random. Whatever was acknowledged
// has to be there afterwards, once.
package cluster

import (
	"context"
	"flag"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/loopback"
	"idletally/internal/service/mariadb"
	"idletally/internal/testkit"
	"idletally/internal/testkit/cable"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

var lasting = flag.Duration("lasting", 90*time.Second, "how long nodes and instances are killed")

var program string

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "inside" { // a process of a demo host
		fmt.Fprintln(os.Stderr, demo.Inside(os.Args[2:]))
		os.Exit(1)
	}

	flag.Parse()
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "idletally-cluster-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)

		program = filepath.Join(dir, "idletally")
		cmd := exec.Command("go", "build", "-o", program, "idletally/cmd/idletally")
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
			return 1
		}

		return m.Run()
	}())
}

var must = testkit.Must

// fleet is the instances and what spreads calls over them.
type fleet struct {
	stages []*demo.Stage // one an instance; the first has the hosts
	front  *cable.Cable
}

const instances = 3

func TestCluster(t *testing.T) {
	r := seeded.Rand(t)
	dir, err := os.MkdirTemp("", "idletally-cluster-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	must(t, os.Chmod(dir, 0o711))
	start := time.Now()
	db, err := mariadb.StartCluster(t.Context(), filepath.Join(dir, "database"), 3)
	must(t, err)
	t.Cleanup(db.Stop)
	t.Logf("three nodes after %s", time.Since(start).Round(time.Millisecond))
	log, err := os.Create(filepath.Join(dir, "log"))
	must(t, err)
	t.Cleanup(func() {
		b, _ := os.ReadFile(log.Name())
		for line := range strings.Lines(string(b)) {
			if strings.Contains(line, "request failed") && !strings.Contains(line, "context canceled") {
				t.Errorf("the service has no word for this: %.600s", line)
			}
		}
		if t.Failed() {
			t.Logf("the log ends so:\n%s", b[max(0, len(b)-6000):])
		}
	})

	self, err := os.Executable()
	must(t, err)
	f := &fleet{}
	var at []string

	for i := range instances {
		port, err := loopback.FreePort()
		must(t, err)
		at = append(at, fmt.Sprintf("127.0.0.1:%d", port))
		var s *demo.Stage
		if i == 0 {
			s, err = demo.Begin(t.Context(), filepath.Join(dir, "stage"), program, self, at[0], db.DSN(0), log)
		} else { // same keys, own port, and another node first
			s = f.stages[0].Instance()
			err = s.Serve(t.Context(), at[i], db.DSN(i))
		}

		must(t, err)
		f.stages = append(f.stages, s)
		t.Cleanup(func() { s.Service.Kill() })
	}

	f.front, err = cable.New(at...)
	must(t, err)
	t.Cleanup(f.front.Close)
	s := f.stages[0]
	s.Address, s.Deaf = "https://"+f.front.Address, true
	must(t, s.Populate(t.Context()))
	must(t, s.Declare(t.Context()))
	t.Cleanup(func() {
		for _, a := range s.Agents {
			a.Kill()
		}
	})

	ctx, cancel := context.WithTimeout(t.Context(), *lasting+4*time.Minute)
	defer cancel()

	work := newWork(t, s)
	killing, enough := context.WithTimeout(ctx, *lasting)
	defer enough()

	var all sync.WaitGroup
	for _, do := range []func(context.Context, int) error{
		work.enrol, work.enrol, work.upload, work.upload, work.snapshot, work.plan,
	} {
		all.Go(func() {
			for n := 0; killing.Err() == nil; n++ {
				if err := do(ctx, n); err != nil {
					work.failed.Add(1)
					t.Logf("not acknowledged: %.300v", err)
				}
			}
		})
	}

	nodes, services := 0, 0
	for killing.Err() == nil {
		if r.IntN(2) == 0 {
			n := r.IntN(len(db.Nodes))
			db.Kill(n)
			nodes++
			pause(ctx, r, 2*time.Second)
			began := time.Now()
			if err := db.Start(ctx, n); err != nil {
				b, _ := os.ReadFile(filepath.Join(dir, "database", fmt.Sprintf("node%d", n+1), "server.log"))
				t.Fatalf("node %d does not come back: %v\n%s", n+1, err, b[max(0, len(b)-4000):])
			}

			t.Logf("node %d was killed, and was back %s after it was started", n+1,
				time.Since(began).Round(time.Millisecond))
		} else {
			n := r.IntN(instances)
			f.stages[n].Service.Kill()
			services++
			pause(ctx, r, 2*time.Second)
			where := s.Address
			must(t, f.stages[n].Serve(ctx, at[n], db.DSN(n)))
			s.Address = where
			t.Logf("instance %d was killed, and is back", n+1)
		}
		pause(killing, r, 3*time.Second)
	}

	all.Wait()
	t.Logf(
		"%d nodes and %d instances killed; acknowledged: %d enrolments, %d uploads, %d snapshots, %d runs; not "+
			"acknowledged: %d",
		nodes, services,
		len(work.enrolled), len(work.uploaded), len(work.snapped), len(work.ran), work.failed.Load())
	if nodes == 0 || services == 0 ||
		min(len(work.enrolled), len(work.uploaded), len(work.snapped), len(work.ran)) == 0 {
		t.Error("too little was tried")
	}

	for i := range instances { // each of them sees the same
		one := f.stages[i]
		where := one.Address
		one.Address = "https://" + at[i]
		work.verify(t, one)
		one.Address = where
	}

	// A backup of the cluster, by way of any node, while its instances work: it is whole, and makes a service
	// of one node.
	for n := range instances {
		file := filepath.Join(dir, fmt.Sprintf("kept-%d", n))
		for _, argv := range [][]string{
			{"write", "--data", filepath.Join(dir, "stage", "service"), file},
			{"check", file},
		} {
			cmd := exec.CommandContext(ctx, program, append([]string{"backup"}, argv...)...)
			cmd.Env = append(os.Environ(), "IDLETALLY_DATABASE="+db.DSN(n))
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("backup %s by node %d: %v\n%s", argv[0], n+1, err, out)
			} else if argv[0] == "check" {
				t.Logf("backup by node %d: %.200s", n+1, out)
			}
		}
	}

	kept := demo.Bare(filepath.Join(dir, "again"), program, log)
	cmd := exec.CommandContext(ctx, program, "backup", "restore", "--data", filepath.Join(dir, "again", "service"),
		filepath.Join(dir, "kept-0"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("backup restore: %v\n%s", err, out)
	}

	must(t, kept.Serve(ctx, "127.0.0.1:0", ""))
	defer func() { must(t, kept.End()) }()

	work.verify(t, kept)
}

func pause(ctx context.Context, r *mathrand.Rand, most time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(time.Duration(r.Int64N(int64(most)))):
	}
}

// work is what is done meanwhile, and what of it was acknowledged.
type work struct {
	s                                    *demo.Stage
	admin, author, second                *client.Client
	mu                                   sync.Mutex
	names                                atomic.Int64
	failed                               atomic.Int64
	enrolled                             map[string]bool
	uploaded, snapped, planned, approved []string
	ran                                  map[string]string // plan by run
	mode                                 string            // of the file that plans change, after the last run
}

func newWork(t *testing.T, s *demo.Stage) *work {
	w := &work{s: s, enrolled: map[string]bool{}, ran: map[string]string{}}
	for name, c := range map[string]**client.Client{
		"admin":         &w.admin,
		"quartermaster": &w.author,
		"harbourmaster": &w.second,
	} {
		var err error
		*c, err = s.As(t.Context(), name)
		must(t, err)
	}
	return w
}

func (w *work) note(do func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	do()
}

func (w *work) enrol(ctx context.Context, _ int) error {
	host := fmt.Sprintf("pier-%d", w.names.Add(1))
	ca, err := os.ReadFile(w.s.Authority())
	if err != nil {
		return err
	}
	if _, err := demo.Join(ctx, w.s.Address, ca, w.admin, wire.NewHost{Name: host}); err != nil {
		return err
	}
	w.note(func() { w.enrolled[host] = true })
	time.Sleep(20 * time.Millisecond)
	return nil
}

func (w *work) upload(ctx context.Context, _ int) error {
	mark := fmt.Sprintf("# upload %d.\n", w.names.Add(1))
	if _, err := w.author.UploadBaseline(ctx, demo.Baseline("tideboard")+mark); err != nil {
		return fmt.Errorf("upload: %w", err)
	}
	w.note(func() { w.uploaded = append(w.uploaded, mark) })
	time.Sleep(50 * time.Millisecond)
	return nil
}

func (w *work) snapshot(ctx context.Context, n int) error {
	snap, err := demo.Snapshot(ctx, w.author, "tideboard", "slip-north")
	if err == nil {
		w.note(func() { w.snapped = append(w.snapped, snap.ID) })
	}
	return err
}

// plan takes a change from draft to its end.
func (w *work) plan(ctx context.Context, n int) error {
	mode := []string{"0700", "0750"}[n%2]
	if _, err := demo.Snapshot(ctx, w.author, "ticketing", "slip-south"); err != nil {
		return fmt.Errorf("snapshot before a plan: %w", err)
	}

	p, err := w.author.DraftPlan(ctx, wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-south"},
		Changes:     "changes: [{paths: /srv/ticketing/releases, set: {folders: " + mode + "}}]",
	})
	if client.Status(err) == 422 { // an answer was lost, and it is so already
		return nil
	}
	if err != nil {
		return fmt.Errorf("draft: %w", err)
	}
	w.note(func() { w.planned = append(w.planned, p.ID) })
	if p, err = w.author.Submit(ctx, p.ID); err != nil {
		return fmt.Errorf("submit: %w", err)
	}

	words := map[string]string{}
	for _, c := range p.Cautions {
		words[c.ID] = "This is meant, in a test."
	}

	if _, err = w.second.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words}); err != nil {
		return fmt.Errorf("approve: %w", err)
	}

	w.note(func() { w.approved = append(w.approved, p.ID) })
	r, err := w.author.StartRun(ctx, p.ID)
	if err != nil {
		return fmt.Errorf("run: %w", err)
	}

	w.note(func() { w.ran[r.ID] = p.ID })
	for end := time.Now().Add(time.Minute); r.State == "running" || r.State == "waiting"; {
		if time.Now().After(end) {
			return fmt.Errorf("run %s does not end: %s", r.ID, r.State)
		}
		time.Sleep(100 * time.Millisecond)
		if now, err := w.author.Run(ctx, r.ID); err == nil {
			r = now
		}
	}

	if r.State != "finished" || r.Hosts[0].Done != 1 {
		return fmt.Errorf("run %s: %s, %+v", r.ID, r.State, r.Hosts)
	}

	w.note(func() { w.mode = mode })
	return nil
}

// verify compares what one instance says with what was acknowledged.
func (w *work) verify(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	api, err := s.As(ctx, "admin")
	must(t, err)
	hosts, err := api.Hosts(ctx)
	must(t, err)
	seen := map[string]int{}

	for _, h := range hosts {
		seen[h.Name]++
		if w.enrolled[h.Name] && h.Version != demo.MadeUp {
			t.Errorf("%s was enrolled, and is not: %+v", h.Name, h)
		}
	}

	for h := range w.enrolled {
		if seen[h] != 1 {
			t.Errorf("host %s is there %d times", h, seen[h])
		}
	}

	editions, err := api.Editions(ctx, "tideboard")
	must(t, err)
	marks := map[string]int{}

	for _, e := range editions {
		whole, err := api.Edition(ctx, "tideboard", e.Number)
		must(t, err)
		if i := strings.LastIndex(whole.Text, "# upload"); i >= 0 {
			marks[whole.Text[i:]]++
		}
	}

	for m, n := range marks {
		if n != 1 {
			t.Errorf("%q is there %d times", m, n)
		}
	}

	for _, m := range w.uploaded {
		if marks[m] != 1 {
			t.Errorf("%q was acknowledged, and is there %d times", m, marks[m])
		}
	}

	snaps, err := api.Snapshots(ctx, "tideboard", "slip-north", 100_000)
	must(t, err)
	states := map[string]string{}
	for _, x := range snaps {
		states[x.ID] = string(x.State)
	}

	for _, id := range w.snapped {
		if states[id] != "ready" {
			t.Errorf("snapshot %s was ready, and is %q", id, states[id])
		}
	}

	if extra := len(snaps) - len(w.snapped); extra > int(w.failed.Load())+1 { // and that of the beginning
		t.Errorf("%d snapshots that nobody asked for", extra)
	}

	past, err := api.History(ctx, client.HistoryQuery{}, 100_000)
	must(t, err)
	said := map[string]int{}
	for _, h := range past {
		said[h.What+" "+h.Subject]++
	}

	for _, id := range w.approved {
		p, err := api.Plan(ctx, id)
		if err != nil || !slices.Contains([]string{"approved", "running", "finished"}, string(p.State)) ||
			len(p.Approvals) != 1 {
			t.Errorf("plan %s was approved, and is %s by %v, %v", id, p.State, p.Approvals, err)
		}
		if said["plan approved "+id] != 1 {
			t.Errorf("the history tells %d times that %s was approved", said["plan approved "+id], id)
		}
	}

	runs, err := api.Runs(ctx, 100_000)
	must(t, err)
	perPlan := map[string]int{}

	for _, r := range runs {
		perPlan[r.Plan]++
		if want, ok := w.ran[r.ID]; ok && (r.Plan != want || r.State != "finished") {
			t.Errorf("run %s of %s is %s of %s", r.ID, want, r.State, r.Plan)
		}
	}

	for _, p := range w.ran {
		if perPlan[p] != 1 {
			t.Errorf("plan %s ran %d times", p, perPlan[p])
		}
	}

	st, err := os.Stat(filepath.Join(w.s.Root("slip-south"), "srv/ticketing/releases"))
	must(t, err)
	if got := fmt.Sprintf("%04o", st.Mode().Perm()); got != w.mode {
		t.Errorf("the folder has the mode %s, and the last run made it %s", got, w.mode)
	}

	check, err := api.CheckHistory(ctx)
	must(t, err)
	t.Logf("history: %+v", check)
	if check.Fault != "" || check.Lines == 0 {
		t.Errorf("the history: %+v", check)
	}
}
