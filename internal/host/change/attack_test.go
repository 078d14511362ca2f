//go:build linux

package change

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
)

// I1: Somebody swaps what lies at the paths of a plan, again and again, while it is carried out: nothing outside
// is ever changed, and of what is inside only what was reviewed. Everything that is swapped in is in the
// reviewed state, so that only where it lies can give it away.
func TestSwaps(t *testing.T) {
	exchange := func(a, b string) func() {
		return func() { unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE) }
	}
	cover := func(from, over string) func() {
		covered := false
		return func() {
			covered = !covered
			if covered {
				unix.Mount(from, over, "", unix.MS_BIND, "")
			} else {
				unix.Unmount(over, unix.MNT_DETACH)
			}
		}
	}

	const rounds, most = 150, 20_000 // at least, and as many more as the two sides need to meet
	for _, c := range []struct {
		name string
		trap func(dir, outside string) (swap func()) // makes what is swapped in
		met  plan.Outcome                            // what comes of it when it is met
		met2 plan.Outcome
	}{
		{"a folder and a link to one outside", func(dir, outside string) func() {
			os.Symlink(outside, filepath.Join(dir, "other"))
			return exchange(filepath.Join(dir, "folder"), filepath.Join(dir, "other"))
		}, plan.Refused, plan.Refused},
		{"a file and a link to one outside", func(dir, outside string) func() {
			os.Symlink(filepath.Join(outside, "x"), filepath.Join(dir, "folder", "other"))
			return exchange(filepath.Join(dir, "folder", "x"), filepath.Join(dir, "folder", "other"))
		}, plan.Skipped, plan.Skipped},
		{"a file and another name of one outside", func(dir, outside string) func() {
			os.Link(filepath.Join(outside, "x"), filepath.Join(dir, "folder", "other"))
			return exchange(filepath.Join(dir, "folder", "x"), filepath.Join(dir, "folder", "other"))
		}, plan.Refused, plan.Skipped},
		{"a folder and a folder with other names of what is outside", func(dir, outside string) func() {
			os.Mkdir(filepath.Join(dir, "other"), 0o755)
			os.Link(filepath.Join(outside, "x"), filepath.Join(dir, "other", "x"))
			return exchange(filepath.Join(dir, "folder"), filepath.Join(dir, "other"))
		}, plan.Refused, plan.Skipped},
		{"a folder that another file system lies on", func(dir, outside string) func() {
			return cover(outside, filepath.Join(dir, "folder"))
		}, plan.Refused, plan.Refused},
		{"a file that one from outside lies on", func(dir, outside string) func() {
			return cover(filepath.Join(outside, "x"), filepath.Join(dir, "folder", "x"))
		}, plan.Refused, plan.Skipped},
		{"a folder that moves out of the way", func(dir, outside string) func() {
			away := false
			return func() {
				a, b := filepath.Join(dir, "folder"), filepath.Join(dir, "away")
				away = !away
				if away {
					unix.Rename(a, b)
				} else {
					unix.Rename(b, a)
				}
			}
		}, plan.Skipped, plan.Skipped},
		{"a second name of one outside that comes and goes", func(dir, outside string) func() {
			x := filepath.Join(dir, "folder", "x")
			aside := filepath.Join(dir, "folder", "aside")
			victim := filepath.Join(outside, "x")
			return func() {
				unix.Rename(x, aside)
				for range 20 {
					unix.Link(victim, x)
					unix.Unlink(x)
				}
				unix.Rename(aside, x)
			}
		}, plan.Refused, plan.Skipped},
	} {
		t.Run(c.name, func(t *testing.T) {
			outside, dir := t.TempDir(), t.TempDir()
			victim, file := filepath.Join(outside, "x"), filepath.Join(dir, "folder", "x")
			if err := errors.Join(os.WriteFile(victim, nil, 0o644), os.Mkdir(filepath.Join(dir, "folder"), 0o755),
				os.WriteFile(file, nil, 0o644)); err != nil {
				t.Fatal(err)
			}

			before := look(t, outside, victim).Set
			inside, err := os.Open(file)
			if err != nil {
				t.Fatal(err)
			}
			defer inside.Close()

			swap := c.trap(dir, outside)
			t.Cleanup(func() {
				unix.Unmount(file, unix.MNT_DETACH)
				unix.Unmount(filepath.Join(dir, "folder"), unix.MNT_DETACH)
			})
			stop, done := make(chan struct{}), make(chan int)
			go func() {
				n := 0
				for {
					for end := time.Now().Add(rand.N(60 * time.Millisecond)); time.Now().Before(end); n++ {
						swap()
					}
					select {
					case <-stop:
						done <- n
						return
					case <-time.After(rand.N(120 * time.Millisecond)): // what is never left alone is never changed
					}
				}
			}()

			step := plan.Step{
				Path:   file,
				Kind:   perm.File,
				Before: before,
				After:  posix.State{UID: 1234, Mode: 0o600}.Set(),
			}

			outcomes := map[plan.Outcome]int{}
			both := func() bool { return outcomes[plan.Done] > 0 && outcomes[c.met]+outcomes[c.met2] > 0 }
			for i := 0; i < rounds || i < most && !both(); i++ {
				if err := errors.Join(inside.Chown(0, 0), inside.Chmod(0o644)); err != nil {
					// whatever the last round left
					t.Fatal(err)
				}

				w := &world{dir: dir, steps: []plan.Step{step}, chunks: Memory{{step}}}
				os.Remove(w.journal(t))
				r := w.runner(t)
				if err := r.Run(t.Context()); err != nil {
					t.Fatal(err)
				}

				res := r.Journal.Results()[0]
				outcomes[res.Outcome]++
				r.Journal.Close()
				if got := look(t, outside, victim).Set; got != before {
					t.Fatalf("round %d: the file outside was changed", i)
				}

				if st, err := inside.Stat(); err != nil || (st.Mode().Perm() == 0o600) != (res.Outcome == plan.Done) {
					t.Fatalf("round %d: %s %s, but the file inside has the mode %v, %v", i, res.Outcome, res.Reason,
						st.Mode(), err)
				}
			}

			close(stop)
			t.Logf("%d swaps, outcomes %v", <-done, outcomes)
			if !both() {
				t.Errorf("the race was not met from both sides: %v", outcomes)
			}
		})
	}
}

// I1: The same with many steps at once, which share folders that were opened once, and with names of what is outside
// put in their places: those are refused, wherever the run has got to.
func TestSwapsInTheMiddle(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	const files = 300
	state := posix.State{Mode: 0o644}.Set()
	w := &world{dir: dir}

	for i := range files {
		name := fmt.Sprintf("x%03d", i)
		folder := filepath.Join(dir, fmt.Sprintf("f%d", i/100))
		if err := errors.Join(os.MkdirAll(folder, 0o755), os.WriteFile(filepath.Join(folder, name), nil, 0o644),
			os.WriteFile(filepath.Join(outside, name), nil, 0o644)); err != nil {
			t.Fatal(err)
		}

		w.steps = append(w.steps, plan.Step{
			Path:   filepath.Join(folder, name),
			Kind:   perm.File,
			Before: state,
			After:  posix.State{UID: 1234, Mode: 0o600}.Set(),
		})

		if err := os.Link(filepath.Join(outside, name), filepath.Join(dir, "trap-"+name)); err != nil {
			t.Fatal(err)
		}
	}

	w.chunks = Memory{w.steps}
	stop, done := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				done <- n
				return
			case <-time.After(300 * time.Microsecond): // what is never left alone is never changed
				p := w.steps[n%files].Path
				unix.Renameat2(unix.AT_FDCWD, p, unix.AT_FDCWD, filepath.Join(dir, "trap-"+filepath.Base(p)),
					unix.RENAME_EXCHANGE)
			}
		}
	}()

	outcomes := map[plan.Outcome]int{}
	both := func() bool { return outcomes[plan.Done] > 0 && outcomes[plan.Refused] > 0 }
	for round := 0; round < 40 || round < 400 && !both(); round++ {
		os.Remove(w.journal(t))
		r := w.runner(t)
		if err := r.Run(t.Context()); err != nil {
			t.Fatal(err)
		}

		for _, res := range r.Journal.Results() {
			outcomes[res.Outcome]++
		}

		b := w.undo(r.Journal)
		r.Journal.Close()
		for _, s := range w.steps {
			if got := look(t, outside, filepath.Join(outside, filepath.Base(s.Path))).Set; got != state {
				t.Fatalf("round %d: %s outside was changed", round, filepath.Base(s.Path))
			}
		}

		for len(b.steps) > 0 { // what was swapped away in this moment is met at another try
			os.Remove(b.journal(t))
			back := b.runner(t)
			if err := back.Run(t.Context()); err != nil {
				t.Fatal(err)
			}

			var rest []plan.Step
			for _, res := range back.Journal.Results() {
				if res.Outcome != plan.Done && res.Outcome != plan.Already {
					rest = append(rest, b.steps[res.Step])
				}
			}

			back.Journal.Close()
			b.steps, b.chunks = rest, Memory{rest}
		}
	}

	close(stop)
	t.Logf("%d swaps, outcomes %v", <-done, outcomes)
	if !both() {
		t.Errorf("the race was not met from both sides: %v", outcomes)
	}
}

// undo is the plan that puts back what a run has changed.
func (w *world) undo(j *Journal) *world {
	b := &world{dir: w.dir}
	for i, res := range j.Results() {
		if o, ok := j.Original(i); ok && res.Outcome == plan.Done {
			b.steps = append(b.steps, plan.Step{
				Path:   w.steps[i].Path,
				Kind:   w.steps[i].Kind,
				Before: w.steps[i].After,
				After:  o.Set,
				File:   o.File,
			})
		}
	}
	b.chunks = Memory{b.steps}
	return b
}
