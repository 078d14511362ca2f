//go:build linux

package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"testing"

	"idletally/demo"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

// What one agent's certificate may send unfolds to no more than the service has room for: small bodies that were made
// to be large, and large ones for work that the host was never given.
func TestBodiesThatUnfold(t *testing.T) {
	t.Parallel()
	s, _ := bare(t, "127.0.0.1:0", "", "IDLETALLY_HOST_QUOTA=200")
	admin, err := s.Crew(t.Context())
	must(t, err)
	a, err := demo.Join(t.Context(), s.Address, authorityOf(t, s), admin, wire.NewHost{Name: "skiff"})
	must(t, err)
	ctx := t.Context()
	must(t, hello(ctx, a))
	before := s.Service.Resident()

	zeros := func(n int) []byte { return compress(t, make([]byte, n)) }
	counts := func(n int, head ...byte) []byte {
		return compress(t, tree.AppendPack(nil, append(head, make([]byte, n)...)))
	}
	for name, pack := range map[string][]byte{
		"nodes of nothing":             zeros(24 << 20),
		"more than a pack":             zeros(256 << 20),
		"a node of counts":             counts(tree.MaxNode-8, 'D', 1, 0xf0, 0xff, 0xff, 3),
		"a node of entries of nothing": counts(tree.MaxNode-8, 'D', 1, 0, 0xf0, 0xff, 0xff, 1),
		"a node that is as large as any": compress(t,
			tree.AppendPack(nil, bytes.Repeat([]byte("D\x01"), tree.MaxNode/2))),
	} {
		t.Run(name, func(t *testing.T) {
			if err := a.SendNodes(ctx, pack); err == nil {
				t.Errorf("%s was taken", name)
			}
		})
	}

	// The service need not read these to its end, so the call may break off instead of being answered.
	many := &perm.Directory{Accounts: make([]perm.Account, 500_000)}
	for name, err := range map[string]error{
		"results of another's run": a.RunDone(ctx, "nosuchwork000000", wire.RunDone{
			State:   "finished",
			Results: make([]plan.Result, 1_000_000),
		}),
		"accounts of another's snapshot": a.SnapshotDone(ctx, "nosuchwork000000", wire.SnapshotDone{Directory: many}),
		"an answer that nobody asked":    a.Reply(ctx, "nosuchquestion00", wire.Reply{Directory: many}),
		"accounts without end": a.Heard(ctx, "ticketing", wire.Heard{
			SnapshotDone: wire.SnapshotDone{Directory: many},
		}),
	} {
		t.Run(name, func(t *testing.T) {
			if err == nil {
				t.Errorf("%s were taken", name)
			}
		})
	}

	// Good nodes, that lead nowhere, until the day's share is used up.
	sent, err := 0, error(nil)
	for ; err == nil && sent < 40; sent++ {
		err = a.SendNodes(ctx, compress(t, tree.AppendPack(nil, folderOf(sent))))
	}

	fails(t, "more than a host may send in a day", err, http.StatusTooManyRequests, "may send no more before midnight")
	if sent < 3 {
		t.Errorf("refused after %d", sent)
	}

	if grown := s.Service.Resident() - before; grown > 150<<20 {
		t.Errorf("the service has grown by %d MiB", grown>>20)
	}

	if _, err := admin.Me(ctx); err != nil {
		t.Error(err)
	}
}

// folderOf is a folder of some megabytes that is like no other one.
func folderOf(n int) []byte {
	var out tree.Node
	for i := range 30_000 {
		out.Entries = append(out.Entries, tree.Entry{
			Name: fmt.Sprintf("%06d-%0150d", i, n),
			Kind: perm.File,
			Gap:  tree.Failed,
		})
	}
	return tree.Encode(out)
}
