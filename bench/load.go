//go:build linux

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	_ "idletally/internal/core/schemes" // every kind of permissions is known
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/service/mariadb"
	"idletally/internal/wire"
)

// The marks: work is picked up within 250 ms (99 of 100) while 2,000 agents wait.
const (
	orders  = 500
	between = 40 * time.Millisecond
	arrive  = 200 // snapshots of 10,000 entries that arrive together
)

// load measures one instance of the service while many agents wait. They speak the agents' own protocol, each over a
// connection of its own, and wait for work, for questions and for what to watch, as agents do.
func load(dir, counts string) error {
	for text := range strings.SplitSeq(counts, ",") {
		n, err := strconv.Atoi(text)
		if err == nil {
			err = waiting(dir, n)
		}
		if err != nil {
			return fmt.Errorf("%s agents: %w", text, err)
		}
	}
	return nil
}

func waiting(dir string, n int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()

	at, program, err := workplace(dir)
	if err != nil {
		return err
	}
	defer os.RemoveAll(at)

	db, err := mariadb.Start(ctx, filepath.Join(at, "database"))
	if err != nil {
		return err
	}
	defer db.Stop()

	s := demo.Bare(filepath.Join(at, "stage"), program, io.Discard)
	if err := s.Serve(ctx, "127.0.0.1:0", db.DSN); err != nil {
		return err
	}
	defer func() { _ = s.End() }() // what was measured is told by then

	if _, err := s.Crew(ctx); err != nil {
		return err
	}
	api, err := s.As(ctx, "quartermaster")
	if err != nil {
		return err
	}
	admin, err := s.As(ctx, "admin")
	if err != nil {
		return err
	}
	e, err := api.UploadBaseline(ctx, demo.BigBaseline)
	if err != nil {
		return err
	}
	if _, err := api.Publish(ctx, "fleet", e.Number); err != nil {
		return err
	}

	before := s.Service.Resident()
	f := &crowd{picked: map[string]chan time.Time{}}
	start := time.Now()
	agents, err := f.enrol(ctx, s, admin, n)
	if err != nil {
		return err
	}

	fmt.Printf("figure load-%d-enrolled %.1f s\n", n, time.Since(start).Seconds())
	living, leave := context.WithCancel(ctx)
	defer func() { leave(); f.all.Wait() }()

	for _, a := range agents {
		f.live(living, a)
	}

	time.Sleep(5 * time.Second)
	fmt.Printf("figure load-%d-resident %d MiB floor %d\n", n, s.Service.Resident()>>20, before>>20)
	var took []time.Duration

	for range orders {
		a := agents[mathrand.IntN(len(agents))]
		got := make(chan time.Time, 1)
		f.mu.Lock()
		f.picked[a.host] = got
		f.mu.Unlock()
		start := time.Now()
		if _, err := api.TakeSnapshot(ctx, wire.NewSnapshot{Application: "fleet", Host: a.host}); err != nil {
			return err
		}

		select {
		case at := <-got:
			took = append(took, at.Sub(start))
		case <-time.After(30 * time.Second):
			return fmt.Errorf("%s did not pick its work up within 30 seconds", a.host)
		}

		time.Sleep(between)
	}

	slices.Sort(took)
	ms := func(p int) float64 { return took[min(len(took)*p/100, len(took)-1)].Seconds() * 1000 }
	fmt.Printf("figure load-%d-pick-up-p99 %.0f ms p50 %.0f worst %.0f mark 250\n", n, ms(99), ms(50), ms(100))
	if n >= arrive {
		if err := f.together(ctx, s, api, agents[:arrive], n); err != nil {
			return err
		}
	}

	if f.faults.Load() > 0 {
		return fmt.Errorf("%d calls of agents failed, the last: %v", f.faults.Load(), f.last.Load())
	}

	return nil
}

// crowd is made-up agents.
type crowd struct {
	all    sync.WaitGroup
	mu     sync.Mutex
	picked map[string]chan time.Time
	faults atomic.Int64
	last   atomic.Value
	large  atomic.Bool // snapshots are of 10,000 entries, each host's own
}

type simulated struct {
	host string
	api  *client.Agent
}

func (f *crowd) enrol(ctx context.Context, s *demo.Stage, admin *client.Client, n int) ([]simulated, error) {
	ca, err := os.ReadFile(s.Authority())
	if err != nil {
		return nil, err
	}

	out := make([]simulated, n)
	errs := make([]error, n)
	gate := make(chan struct{}, 8)
	var all sync.WaitGroup

	// An address may try to enrol 1,200 times a minute, and all of these come from one.
	every := time.NewTicker(time.Minute / 1150)
	defer every.Stop()

	for i := range n {
		<-every.C
		all.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			out[i], errs[i] = join(ctx, s.Address, ca, admin, i)
		})
	}

	all.Wait()
	return out, errors.Join(errs...)
}

func join(ctx context.Context, address string, ca []byte, admin *client.Client, i int) (a simulated, err error) {
	a = simulated{host: fmt.Sprintf("ship-%04d", i+1)}
	a.api, err = demo.Join(ctx, address, ca, admin, wire.NewHost{Name: a.host, Tags: []string{"fleet"}})
	if err != nil {
		return a, err
	}
	_, err = a.api.Hello(ctx, wire.Hello{Version: "bench", Protocol: wire.Protocol, Oldest: wire.OldestProtocol})
	return a, err
}

func (f *crowd) live(ctx context.Context, a simulated) {
	loop := func(do func() error) {
		f.all.Go(func() {
			for ctx.Err() == nil {
				if err := do(); err != nil && ctx.Err() == nil {
					f.faults.Add(1)
					f.last.Store(err)
					time.Sleep(mathrand.N(2 * time.Second))
				}
			}
		})
	}

	loop(func() error {
		w, err := a.api.Work(ctx)
		if err != nil || w == nil {
			return err
		}

		f.mu.Lock()
		if c := f.picked[a.host]; c != nil {
			c <- time.Now()
			delete(f.picked, a.host)
		}

		f.mu.Unlock()
		return f.snapshot(ctx, a, w.ID)
	})

	loop(func() error {
		_, err := a.api.Question(ctx)
		return err
	})
	ask := wire.WatchAsk{}
	loop(func() error {
		got, err := a.api.Watches(ctx, ask)
		if got != nil {
			ask.Known = got.Version
		}
		return err
	})
}

// snapshot returns a small tree that all hosts have, or a large one of the host's own.
func (f *crowd) snapshot(ctx context.Context, a simulated, work string) error {
	nodes := tree.Memory{}
	set := func(md mode.Mode) perm.Set { return posix.State{UID: 2001, GID: 3001, Mode: md}.Set() }
	var top tree.Node
	paths := int64(2)
	folders, files := 1, 8
	prefix := "log"
	if f.large.Load() {
		folders = 100
		files = 99
		prefix = a.host
	}

	for d := range folders {
		var n tree.Node
		for i := range files {
			n.Entries = append(n.Entries, tree.Entry{
				Name: fmt.Sprintf("%s-%03d", prefix, i),
				Kind: perm.File,
				Set:  set(0o640),
			})
		}

		top.Entries = append(top.Entries, tree.Entry{
			Name:  fmt.Sprintf("voyage-%03d", d),
			Kind:  perm.Folder,
			Set:   set(0o750),
			Child: nodes.Add(withFolder(n, prefix, d)),
		})

		paths += int64(files) + 2
	}

	forest := nodes.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv/fleet", Kind: perm.Folder, Set: set(0o750), Child: nodes.Add(top)}},
	})
	missing, err := a.api.Missing(ctx, []tree.Hash{forest})
	if err != nil {
		return err
	}

	if missing[0] {
		var pack []byte
		if err := tree.Each(ctx, nodes, forest, func(_ tree.Hash, n []byte) error {
			pack = tree.AppendPack(pack, n)
			return nil
		}); err != nil {
			return err
		}

		z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
		if err != nil {
			return err
		}
		if err := a.api.SendNodes(ctx, z.EncodeAll(pack, nil)); err != nil {
			return err
		}
	}

	dir := &perm.Directory{
		Groups:   []perm.Account{{ID: unixid.GID(3001), Name: "crew"}},
		Accounts: []perm.Account{{ID: unixid.UID(2001), Name: "bridge", Groups: []perm.Principal{unixid.GID(3001)}}},
	}
	dir.Index()
	way := access.Way{
		{Path: "/", Kind: perm.Folder, Set: set(0o755)},
		{Path: "/srv", Kind: perm.Folder, Set: set(0o755)},
		{Path: "/srv/fleet", Kind: perm.Folder, Set: set(0o750)},
	}
	return a.api.SnapshotDone(ctx, work, wire.SnapshotDone{
		Forest:    forest,
		Directory: dir,
		Paths:     paths,
		Ways:      []access.Way{way},
	})
}

// withFolder makes folders of one host differ.
func withFolder(n tree.Node, prefix string, d int) tree.Node {
	n.Entries = append(n.Entries, tree.Entry{
		Name: fmt.Sprintf("%s-of-%03d", prefix, d),
		Kind: perm.File,
		Set:  posix.State{UID: 2001, GID: 3001, Mode: 0o640}.Set(),
	})
	slices.SortFunc(n.Entries, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
	return n
}

// together sends many large snapshots at once, no two alike.
func (f *crowd) together(ctx context.Context, s *demo.Stage, api *client.Client, agents []simulated, n int) error {
	f.large.Store(true)
	defer f.large.Store(false)

	most := s.Service.Resident()
	start := time.Now()
	ids := make([]string, len(agents))

	for i, a := range agents {
		snap, err := api.TakeSnapshot(ctx, wire.NewSnapshot{Application: "fleet", Host: a.host})
		if err != nil {
			return err
		}
		ids[i] = snap.ID
	}

	for _, id := range ids {
		for {
			most = max(most, s.Service.Resident())
			snap, err := api.Snapshot(ctx, id)
			if err != nil {
				return err
			}
			if snap.State == lifecycle.SnapshotReady {
				break
			}
			if snap.State != lifecycle.SnapshotWaiting {
				return fmt.Errorf("snapshot %s is %s: %s", id, snap.State, snap.Message)
			}

			time.Sleep(20 * time.Millisecond)
		}
	}

	fmt.Printf("figure load-%d-arriving-%d %.2f s resident %d MiB\n", n, len(agents), time.Since(start).Seconds(),
		most>>20)
	return nil
}
