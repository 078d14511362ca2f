//go:build linux

package smb

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/seeded"
)

// Somebody who may write on a share swaps what a run is about to change: for a file of their own with another
// list, and for a second name of a file that the plan does not speak of, whose list is the reviewed one.
// Neither is changed by any run.
func TestSwapsOnShare(t *testing.T) {
	t.Parallel()
	r := seeded.Rand(t)
	list := steps(t, "swapped", 200)
	folder := filepath.Join(server.Share("charts"), "swapped")
	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.MkdirAll("victims", 0o777))
	victims := filepath.Join(server.Share("charts"), "victims")
	state := func(name string) perm.Set {
		seen, err := keeper.Look(name)
		must(t, err)
		s, err := nt.SetOf(seen.Descriptor)
		must(t, err)
		return s
	}

	for _, n := range []string{"alike", "other"} {
		must(t, keeper.s.WriteFile(`victims\`+n, nil, 0o666))
	}

	before, ok := nt.Of(list[0].Before)
	if !ok {
		t.Fatal("no descriptor")
	}

	h, err := keeper.Hold(`victims\alike`, ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
	must(t, err)
	must(t, h.Set(before, fileserver.SetOwner|fileserver.SetGroup|fileserver.SetList))
	must(t, h.Close())
	set(t, keeper, `victims\other`, "D:PAI(A;;FA;;;BA)(A;;FA;;;SY)", fileserver.SetList)
	alike, other := state(`victims\alike`), state(`victims\other`)
	if alike != list[0].Before {
		t.Fatal("the victim is not like what the plan reviewed")
	}

	stop := make(chan struct{})
	var swaps atomic.Int64
	var all sync.WaitGroup
	all.Go(func() {
		rnd := rand.New(rand.NewPCG(r.Uint64(), 3))
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Microsecond): // what is never left alone is never changed
			}

			name := filepath.Join(folder, fmt.Sprintf("file %04d", rnd.IntN(len(list))))
			aside := name + ".aside"
			if os.Rename(name, aside) != nil {
				continue
			}

			victim := filepath.Join(victims, []string{"alike", "other"}[n%2])
			for range rnd.IntN(10) { // a second name that comes and goes
				_ = os.Link(victim, name)
				_ = os.Remove(name)
			}

			_ = os.Link(victim, name)
			_ = os.Rename(aside, name)
			swaps.Add(1)
		}
	})

	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	done := 0
	tried := func() bool { return done >= 300 && swaps.Load() >= 1000 }
	for round := 0; round < 6 || round < 100 && !tried(); round++ {
		j, err := change.OpenJournal(filepath.Join(t.TempDir(), "journal"), change.Head{Run: "r", Steps: len(list)})
		must(t, err)
		must(t,
			(&change.Runner{
				Journal: j,
				Roots:   []string{"/charts"},
				Allowed: []string{"/charts"},
				Chunks:  change.Memory{list},
				Files:   fileserver.FileSystem(t.Context(), s),
				Batch:   16,
			}).Run(t.Context()))

		for _, x := range j.Results() {
			if x.Outcome == plan.Done {
				done++
			}
		}

		must(t, j.Close())
		for i := range list { // and back again
			list[i].Before, list[i].After = list[i].After, list[i].Before
		}
	}

	close(stop)
	all.Wait()
	if state(`victims\alike`) != alike || state(`victims\other`) != other {
		t.Error("a file that no plan speaks of was changed")
	}

	if !tried() {
		t.Errorf("%d steps done, %d swaps: too little was tried", done, swaps.Load())
	}

	t.Logf("%d steps done during %d swaps", done, swaps.Load())
}

// A list that is too long for the server is refused by it, with a reason, and the path stays as it was.
func TestLongListOnShare(t *testing.T) {
	t.Parallel()
	list := steps(t, "long", 3)
	longer := func(n int) perm.Set {
		d, _ := nt.Of(list[0].Before)
		d.Entries = nil
		for i := range n {
			d.Entries = append(d.Entries, ntsd.Entry{
				Mask: ace.ReadSet,
				SID:  ntsd.NewSID(5, 21, 1, 2, 3, uint32(1000+i)),
			})
		}

		s, err := nt.SetOf(d)
		must(t, err)
		return s
	}

	list[0].After, list[1].After = longer(50), longer(1800) // 36 bytes each: just below what a list can be, 64 KiB
	got := carry(t, list)
	if got[0].Outcome != plan.Done || got[2].Outcome != plan.Done {
		t.Errorf("%+v", got)
	}

	seen, err := dial(t, "keeper", "charts").Look(`long\file 0001`)
	must(t, err)
	now, err := nt.SetOf(seen.Descriptor)
	must(t, err)

	switch { // the file system below decides whether it has room for that
	case got[1].Outcome == plan.Done && now == list[1].After:
	case got[1].Outcome == plan.Refused && got[1].Reason != "" && now == list[1].Before:
	default:
		t.Errorf("%+v, and there are %d entries", got[1], len(seen.Descriptor.Entries))
	}

	t.Logf("1,800 entries: %s %s", got[1].Outcome, strings.TrimSpace(got[1].Reason))
	d, _ := nt.Of(list[0].Before)
	for i := range 3000 {
		d.Entries = append(d.Entries, ntsd.Entry{Mask: ace.ReadSet, SID: ntsd.NewSID(5, 21, 1, 2, 3, uint32(1000+i))})
	}

	if _, err := nt.SetOf(d); err == nil || !strings.Contains(err.Error(), "65535") {
		t.Errorf("a list beyond what one can be: %v", err)
	}
}
