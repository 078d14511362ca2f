package engine

import (
	"context"
	"crypto/sha256"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// What agents give is compared by whichever instance is there, each snapshot once, and is seen with its
// report: also where an instance ended in the middle, or an edition was published meanwhile.
func TestKeepComparing(t *testing.T) {
	ctx := t.Context()
	st := ownStore(t)
	m := tree.Memory{}
	forest := m.Add(tree.Node{
		Forest: true,
		Entries: []tree.Entry{{Name: "/srv", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set(),
			Child: m.Add(tree.Node{
				Entries: []tree.Entry{{Name: "log", Kind: perm.File, Set: posix.State{Mode: 0o666}.Set()}},
			})}},
	})

	must(t, tree.Each(ctx, m, forest, func(_ tree.Hash, b []byte) error { return st.PutNodes(ctx, [][]byte{b}) }))
	var hosts []string
	for i := range 20 {
		h := fmt.Sprintf("boat-%02d", i)
		hosts = append(hosts, h)
		must(t, st.Invite(ctx, h, []string{"boats"}, sha256.Sum256([]byte(h)), time.Now().Add(time.Hour)))
	}

	n, err := st.AddEdition(ctx, store.Edition{Application: "boats", Text: scheduled, Author: "quartermaster"}, nil)
	must(t, err)
	must(t, st.Publish(ctx, "boats", n, "quartermaster"))
	give := func(application string) {
		t.Helper()
		for _, h := range hosts {
			_, err := st.AddHeard(ctx, application, h, []string{"/srv"}, false, wire.SnapshotDone{
				Forest:    forest,
				Directory: &perm.Directory{},
			})
			must(t, err)
		}
	}

	give("boats")
	give("undeclared") // which nothing is held against

	var mu sync.Mutex
	shown := map[string]int{}
	instance := func(ctx context.Context, all *sync.WaitGroup) {
		d := &Engine{Store: st, Log: slog.New(slog.DiscardHandler), Memo: drift.NewMemo(1000)}
		d.Shown = func(_ context.Context, c store.Comparison) {
			mu.Lock()
			defer mu.Unlock()
			shown[c.Application+" "+c.Host]++
		}
		all.Go(func() { d.KeepComparing(ctx) })
	}

	seen := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(shown)
	}
	await := func(want int) {
		t.Helper()
		for end := time.Now().Add(time.Minute); seen() < want; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%d of %d are shown", seen(), want)
			}
		}
	}

	var all sync.WaitGroup
	brief, enough := context.WithCancel(ctx)
	instance(brief, &all)
	await(1)
	enough()
	all.Wait()
	cut := seen()
	lasting, enough := context.WithCancel(ctx)
	instance(lasting, &all)
	instance(lasting, &all)
	await(2 * len(hosts))
	enough()
	all.Wait()

	for what, times := range shown {
		if times != 1 {
			t.Errorf("%s was shown %d times", what, times)
		}
	}

	for _, h := range hosts {
		snap, err := st.Newest(ctx, "boats", h)
		must(t, err)
		r, err := st.ReportOf(ctx, snap.ID)
		must(t, err)
		if r.Findings != 1 || snap.Message != "" {
			t.Errorf("%s: %+v, %q", h, r, snap.Message)
		}

		if _, err := st.Newest(ctx, "undeclared", h); err != nil {
			t.Errorf("%s: %v", h, err)
		}
	}

	if cut == 2*len(hosts) {
		t.Error("the first instance did everything: nothing was broken off")
	}
}
