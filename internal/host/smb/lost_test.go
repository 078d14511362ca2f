//go:build linux

package smb

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/cable"
)

// cabled is a session over a cable that can be cut.
func cabled(t *testing.T, patience time.Duration) (*Session, *cable.Cable) {
	t.Helper()
	line, err := cable.New(server.Address())
	must(t, err)
	t.Cleanup(line.Close)
	s, err := Dial(t.Context(), Access{Address: line.Address, User: "keeper", Password: password, Patience: patience})
	must(t, err)
	t.Cleanup(func() { s.Close() })
	return s, line
}

// A snapshot over a connection that breaks is the same as over one that holds.
func TestScanOverBrokenConnection(t *testing.T) {
	t.Parallel()
	for i := range 400 {
		folder := filepath.Join(server.Share("charts"), "broken", fmt.Sprintf("folder %03d", i))
		must(t, os.MkdirAll(folder, 0o777))
		must(t, os.WriteFile(filepath.Join(folder, "file"), nil, 0o666))
	}

	for i := range 3 * batch / 2 {
		must(t, os.WriteFile(filepath.Join(server.Share("charts"), "broken", "folder 000", fmt.Sprint(i)), nil, 0o666))
	}

	roots := []string{"/charts/broken"}
	s, line := cabled(t, 10*time.Second)
	want, err := fileserver.Scan(t.Context(), s, roots, nil, (&nodes{}).put)
	must(t, err)
	before := line.Carried.Load()
	var cuts atomic.Int64
	got, err := fileserver.Scan(t.Context(), s, roots, func(p int64) {
		if n := cuts.Load(); p > 300+n*400 && cuts.CompareAndSwap(n, n+1) {
			line.Cut()
		}
	}, (&nodes{}).put)
	must(t, err)
	if got.Forest != want.Forest || got.Gaps > 0 {
		t.Errorf("%+v, want %+v", got, want)
	}

	if line.Carried.Load() < before+4 {
		t.Errorf("the connection broke %d times only: this tries nothing", line.Carried.Load()-before)
	}
}

// steps makes files and a plan that changes each.
func steps(t *testing.T, folder string, n int) (list []plan.Step) {
	t.Helper()
	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.MkdirAll(folder, 0o777))
	to, err := ntsd.ParseSDDL("D:PAI(A;;FR;;;AU)(A;;FA;;;BA)")
	must(t, err)

	for i := range n {
		name := fmt.Sprintf("file %04d", i)
		must(t, keeper.s.WriteFile(folder+`\`+name, nil, 0o666))
		seen, err := keeper.Look(folder + `\` + name)
		must(t, err)
		before, err := nt.SetOf(seen.Descriptor)
		must(t, err)
		seen.Descriptor.Control, seen.Descriptor.Entries = to.Control, to.Entries
		after, err := nt.SetOf(seen.Descriptor)
		must(t, err)
		list = append(list, plan.Step{
			Path:   "/charts/" + folder + "/" + name,
			Kind:   perm.File,
			Before: before,
			After:  after,
		})
	}

	return list
}

// A run goes on over new connections, and where there is none any more it stops, to be resumed.
func TestRunOverBrokenConnection(t *testing.T) {
	t.Parallel()
	list := steps(t, "breaking", 600)
	s, line := cabled(t, 3*time.Second)
	line.Life.Store(60_000) // enough for some dozen steps, wherever in one it ends
	line.Cut()
	file := filepath.Join(t.TempDir(), "journal")
	run := func(progress func(int, int)) (*change.Journal, error) {
		j, err := change.OpenJournal(file, change.Head{Run: "r", Steps: len(list)})
		must(t, err)
		r := &change.Runner{
			Journal:  j,
			Roots:    []string{"/charts"},
			Allowed:  []string{"/charts"},
			Chunks:   change.Memory{list},
			Files:    fileserver.FileSystem(t.Context(), s),
			Batch:    50,
			Progress: progress,
		}

		return j, r.Run(t.Context())
	}

	j, err := run(func(done, _ int) {
		if done >= 300 {
			line.Pull()
		}
	})
	if n := line.Carried.Load(); n < 5 {
		t.Errorf("%d connections: too few broke", n)
	}

	if !errors.Is(err, change.ErrAway) || !errors.Is(err, fileserver.ErrLost) {
		t.Fatalf("the cable is pulled, and the run says %v", err)
	}

	done := 0
	for _, r := range j.Results() {
		if r.Outcome == plan.Done {
			done++
		} else if r.Outcome != plan.Pending {
			t.Fatalf("%+v: what was not reached has an outcome", r)
		}
	}

	if done < 300 || done == len(list) {
		t.Errorf("%d steps are done", done)
	}

	must(t, j.Close())
	line.Life.Store(0)
	line.Plug()
	s, err = Dial(t.Context(), Access{
		Address:  line.Address,
		User:     "keeper",
		Password: password,
		Patience: 3 * time.Second,
	})

	must(t, err)
	defer s.Close()

	j, err = run(nil)
	must(t, err)
	defer j.Close()

	keeper := dial(t, "keeper", "charts")
	for i, r := range j.Results() {
		_, below, err := fileserver.Split(list[i].Path)
		must(t, err)
		seen, err := keeper.Look(below)
		must(t, err)
		if now, err := nt.SetOf(seen.Descriptor); err != nil || now != list[i].After || r.Outcome != plan.Done {
			t.Fatalf("%s: %+v, %v", list[i].Path, r, err)
		}
	}
}

// carry has the keeper carry steps out, and gives what came of them.
func carry(t *testing.T, list []plan.Step) []plan.Result {
	t.Helper()
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	j, err := change.OpenJournal(filepath.Join(t.TempDir(), "journal"), change.Head{Run: "r", Steps: len(list)})
	must(t, err)
	defer j.Close()

	must(t,
		(&change.Runner{
			Journal: j,
			Roots:   []string{"/charts"},
			Allowed: []string{"/charts"},
			Chunks:  change.Memory{list},
			Files:   fileserver.FileSystem(t.Context(), s),
		}).Run(t.Context()))

	return j.Results()
}

// A file that has a second name is refused: whoever gave it one would have the change reach further than the plan says.
func TestHardLinkOnShare(t *testing.T) {
	t.Parallel()
	list := steps(t, "linked", 2)
	folder := filepath.Join(server.Share("charts"), "linked")
	must(t, os.Link(filepath.Join(folder, "file 0000"), filepath.Join(folder, "other name")))
	r := carry(t, list)
	if r[0].Outcome != plan.Refused || !strings.Contains(r[0].Reason, "2 hard links") || r[1].Outcome != plan.Done {
		t.Errorf("%+v", r)
	}
}
