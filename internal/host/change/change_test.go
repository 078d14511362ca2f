//go:build linux

package change

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/posixacl"
	"idletally/internal/host/fsys"
	"idletally/internal/testkit/seeded"
)

// world is a tree with a plan for it.
type world struct {
	dir    string
	chunks Memory
	steps  []plan.Step
}

func look(t testing.TB, root, path string) fsys.Info {
	t.Helper()
	r, err := fsys.OpenRoot(root)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()

	fd, err := r.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)

	i, err := fsys.Look(fd)
	if err != nil {
		t.Fatal(err)
	}

	return i
}

func posixOf(t testing.TB, i fsys.Info) posix.State {
	t.Helper()
	p, err := posix.Of(i.Set)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func randomAfter(r *rand.Rand, k perm.Kind) perm.Set {
	p := posix.State{UID: 1000 + r.Uint32N(3), GID: 2000 + r.Uint32N(3), Mode: mode.Mode(r.Uint32N(0o10000))}
	if k == perm.Link {
		p.Mode = 0o777
		return p.Set()
	}
	if r.IntN(2) == 0 {
		l := posixacl.Build(p.Mode.Owner(), 5, p.Mode.Other(),
			posixacl.List{{Tag: posixacl.User, ID: 1000 + r.Uint32N(3), Perm: mode.Perm(r.UintN(8))}}, nil)
		mask, _ := l.Find(posixacl.Mask, posixacl.NoID)
		p.Access, p.Mode = l, p.Mode.With(p.Mode.Owner(), mask, p.Mode.Other())
	}
	if k == perm.Folder && r.IntN(2) == 0 {
		p.Default = posixacl.Build(7, 5, 0, nil, new(mode.Perm))
	}
	return p.Set()
}

// makeWorld builds a tree with every awkward name and a plan that changes all of it.
func makeWorld(t testing.TB, r *rand.Rand, folders int) *world {
	t.Helper()
	w := &world{dir: t.TempDir()}
	names := []string{"plain", "two words", "quote'\"`", "line\nend", "bytes\xff\xfe", "-rf", "$(touch x)", "\x1b[2J"}

	for i := range folders {
		at := filepath.Join(w.dir, fmt.Sprintf("f%d", i), "in ner")
		if err := os.MkdirAll(at, 0o755); err != nil {
			t.Fatal(err)
		}

		for _, n := range names {
			if err := os.WriteFile(filepath.Join(at, n), nil, 0o666); err != nil {
				t.Fatal(err)
			}
		}

		if err := os.Symlink("plain", filepath.Join(at, "zlink")); err != nil {
			t.Fatal(err)
		}
	}

	filepath.WalkDir(w.dir, func(p string, d os.DirEntry, err error) error {
		if err != nil {
			t.Fatal(err)
		}

		i := look(t, w.dir, p)
		w.steps = append(w.steps, plan.Step{
			Path:   p,
			Kind:   i.Kind,
			Before: i.Set,
			After:  randomAfter(r, i.Kind),
		})

		return nil
	})

	slices.SortFunc(w.steps, func(a, b plan.Step) int { return pathname.Compare(a.Path, b.Path) })
	w.identify(t)
	for c := range slices.Chunk(w.steps, 7) {
		w.chunks = append(w.chunks, c)
	}

	return w
}

// identify says in each step which file is meant, as the host would.
func (w *world) identify(t testing.TB) {
	t.Helper()
	r := newLocal([]string{w.dir}, 1)
	defer r.Close()
	for i, s := range w.steps {
		id, err := Identify(r, w.dir, s)
		if err != nil {
			t.Fatal(err)
		}
		w.steps[i].File = id
	}
}

func (w *world) journal(t testing.TB) string {
	t.Helper()
	return filepath.Join(w.dir+"-state", "journal")
}

func (w *world) head() Head { return Head{Run: "r", Digest: "d", Host: "h", Steps: len(w.steps)} }

func (w *world) runner(t testing.TB) *Runner {
	t.Helper()
	if err := os.MkdirAll(w.dir+"-state", 0o700); err != nil {
		t.Fatal(err)
	}
	j, err := OpenJournal(w.journal(t), w.head())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { j.Close() })
	return &Runner{Journal: j, Roots: []string{w.dir}, Allowed: []string{w.dir}, Chunks: w.chunks}
}

func (w *world) check(t testing.TB, after bool) {
	t.Helper()
	if j, _, err := ReadJournal(w.journal(t)); err == nil && after {
		for i, r := range j.Results() {
			if r.Outcome != plan.Done && r.Outcome != plan.Already {
				t.Logf("%q: %v %s", w.steps[i].Path, r.Outcome, r.Reason)
			}
		}
	}

	for _, s := range w.steps {
		want := s.Before
		if after {
			want = s.After
		}
		if got := look(t, w.dir, s.Path).Set; got != want {
			t.Errorf("%q is %x, want %x", s.Path, got.Bytes(), want.Bytes())
		}
	}
}

// back is the plan that puts a finished run back.
func (w *world) back(t testing.TB, j *Journal) *world {
	t.Helper()
	b := &world{dir: w.dir}
	for i, s := range w.steps {
		o, ok := j.Original(i)
		if !ok {
			if s.Before == s.After {
				continue
			}
			t.Fatalf("no original of %q", s.Path)
		}
		b.steps = append(b.steps, plan.Step{Path: s.Path, Kind: s.Kind, Before: s.After, After: o.Set, File: o.File})
	}
	b.chunks = Memory{b.steps}
	return b
}

func TestRunAndPutBack(t *testing.T) {
	w := makeWorld(t, seeded.Rand(t), 5)
	r := w.runner(t)
	if err := r.Run(t.Context()); err != nil {
		t.Fatal(err)
	}

	for _, res := range r.Journal.Results() {
		if res.Outcome != plan.Done {
			t.Errorf("%q: %s %s", w.steps[res.Step].Path, res.Outcome, res.Reason)
		}
	}

	w.check(t, true)
	if wrong, err := r.Verify(t.Context()); err != nil || len(wrong) > 0 {
		t.Errorf("verify: %v, %v", wrong, err)
	}

	b := w.back(t, r.Journal)
	os.Rename(w.dir+"-state", w.dir+"-first")
	if err := b.runner(t).Run(t.Context()); err != nil {
		t.Fatal(err)
	}

	w.check(t, false)
}

// I4: Whatever a crash leaves of the journal, running again ends with the plan carried out and every
// true original kept.
func TestCrashAnywhere(t *testing.T) {
	rnd := seeded.Rand(t)
	for round := range 25 {
		w := makeWorld(t, rnd, 1)
		at, durable := rnd.IntN(2*len(w.steps)), 0
		crashed := func() (crashed bool) {
			r := w.runner(t)
			n := 0
			r.pause = func() {
				n++
				if n > at {
					panic("crash")
				}
			}
			defer func() {
				if recover() != nil {
					crashed, durable = true, int(r.Journal.durable)
					r.Journal.f.Close()
				}
			}()

			if err := r.Run(t.Context()); err != nil {
				t.Fatal(err)
			}

			return false
		}()

		// The tail of the journal, all that was not synced, may be lost or torn as well.
		if b, err := os.ReadFile(w.journal(t)); err == nil && crashed && round%2 == 0 {
			keep := len(b) - rnd.IntN(min(20, len(b)-durable)+1)
			if err := os.Truncate(w.journal(t), int64(keep)); err != nil {
				t.Fatal(err)
			}
		}

		r := w.runner(t)
		if err := r.Run(t.Context()); err != nil {
			t.Fatal(err)
		}

		w.check(t, true)
		for i, s := range w.steps {
			if o, ok := r.Journal.Original(i); ok && o.Set != s.Before {
				t.Errorf("round %d: original of %q is %x, was %x", round, s.Path, o.Set.Bytes(), s.Before.Bytes())
			}
		}
	}
}

// I1: what is no longer as reviewed, or must not be changed at all, is left alone, and the run says why.
func TestRefusedAndSkipped(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(t.TempDir(), "outside")
	p := func(n string) string { return filepath.Join(dir, n) }

	for _, n := range []string{"changed", "gone", "hard", "immutable", "replaced", "fine", "already", "folder"} {
		t.Run(n, func(t *testing.T) {
			if err := os.WriteFile(p(n), nil, 0o666); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(p(n), 0o666); err != nil {
				t.Fatal(err)
			}
		})
	}

	if err := os.WriteFile(outside, nil, 0o666); err != nil {
		t.Fatal(err)
	}

	os.Chmod(outside, 0o666)
	before := posix.State{Mode: 0o666}.Set()
	after := posix.State{Mode: 0o640}.Set()
	w := &world{dir: dir}

	for _, n := range []string{
		"already", "changed", "fine", "folder", "folder/x", "gone", "hard", "immutable", "replaced",
	} {
		s := plan.Step{Path: p(n), Kind: perm.File, Before: before, After: after}
		if n == "immutable" {
			s.Before, s.After = posix.State{Mode: 0o666, Flags: perm.Immutable}.Set(),
				posix.State{Mode: 0o640, Flags: perm.Immutable}.Set()
		}
		w.steps = append(w.steps, s)
	}

	slices.SortFunc(w.steps, func(a, b plan.Step) int { return pathname.Compare(a.Path, b.Path) })
	w.chunks = Memory{w.steps}
	os.Chmod(p("already"), 0o640)
	os.Chmod(p("changed"), 0o644)
	os.Remove(p("gone"))
	os.Link(p("hard"), p("hard2"))
	os.Remove(p("replaced"))
	os.Symlink(outside, p("replaced"))
	os.Remove(p("folder"))
	os.Symlink(filepath.Dir(outside), p("folder"))
	fd, err := unix.Open(p("immutable"), unix.O_RDONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)

	const immutable = 0x10 // FS_IMMUTABLE_FL
	if err := unix.IoctlSetPointerInt(fd, unix.FS_IOC_SETFLAGS, immutable); err != nil {
		t.Fatal(err)
	}
	defer unix.IoctlSetPointerInt(fd, unix.FS_IOC_SETFLAGS, 0)

	r := w.runner(t)
	if err := r.Run(t.Context()); err != nil {
		t.Fatal(err)
	}

	want := map[string]string{
		"already": "already it is already",
		"changed": "skipped no longer as reviewed: reviewed as 0:0 0666, now 0:0 0644",
		"fine":    "done ", "folder": "skipped no longer as reviewed: it was a file and is a link",
		"folder/x": "refused a part of the path is a link",
		"gone":     "skipped the path is no longer there", "hard": "refused the file has 2 hard links",
		"immutable": "refused change the mode: not permitted: the path may be immutable",
		"replaced":  "skipped no longer as reviewed: it was a file and is a link",
	}

	for _, res := range r.Journal.Results() {
		name := strings.TrimPrefix(w.steps[res.Step].Path, dir+"/")
		if got := res.Outcome.String() + " " + res.Reason; !strings.HasPrefix(got, want[name]) {
			t.Errorf("%s: %q, want %q", name, got, want[name])
		}
	}

	var st unix.Stat_t
	unix.Stat(outside, &st)
	if st.Mode&0o7777 != 0o666 {
		t.Errorf("a file outside was changed to %o", st.Mode)
	}

	r.Allowed = []string{"/somewhere/else"}
	r.begin()
	h := r.hands[0].examine(numbered{w.steps[2], 2, none}, passing)
	if h.outcome != plan.Refused || !strings.Contains(h.reason, "own list of roots") {
		t.Errorf("outside the host's own roots: %v %s", h.outcome, h.reason)
	}
}

// I2: On a full disk nothing is changed that has no original, and the run goes on when there is room.
func TestFullDisk(t *testing.T) {
	w := makeWorld(t, seeded.Rand(t), 60)
	state := w.dir + "-state"
	if err := os.MkdirAll(state, 0o700); err != nil {
		t.Fatal(err)
	}

	if err := unix.Mount("tmpfs", state, "tmpfs", 0, "size=8k"); err != nil {
		t.Fatalf("mount (the tests need root): %v", err)
	}
	defer unix.Unmount(state, unix.MNT_DETACH)

	filler := filepath.Join(state, "filler")
	r := w.runner(t)
	if err := os.WriteFile(filler, bytes.Repeat([]byte{1}, 4096), 0o600); err != nil {
		t.Fatal(err)
	}

	err := r.Run(t.Context())
	if !errors.Is(err, ErrJournal) || !strings.Contains(err.Error(), "no space left") {
		t.Fatalf("run on a full disk: %v", err)
	}

	r.Journal.Close()
	os.Remove(filler)
	kept := w.runner(t)

	for i, s := range w.steps {
		if _, ok := kept.Journal.Original(i); !ok && look(t, w.dir, s.Path).Set != s.Before {
			t.Errorf("%q was changed without an original", s.Path)
		}
	}

	kept.Journal.Close()
	if err := unix.Mount("tmpfs", state, "tmpfs", unix.MS_REMOUNT, "size=4m"); err != nil {
		t.Fatal(err)
	}

	if err := w.runner(t).Run(t.Context()); err != nil {
		t.Fatal(err)
	}

	w.check(t, true)
}

// I4: a run that was halted goes on where it stopped.
func TestHaltAndResume(t *testing.T) {
	w := makeWorld(t, seeded.Rand(t), 3)
	r := w.runner(t)
	asked := 0
	r.Batch, r.Halt = 8, func() bool { asked++; return asked > 2 }
	if err := r.Run(t.Context()); !errors.Is(err, ErrHalted) {
		t.Fatalf("halt: %v", err)
	}
	r.Journal.Close()
	if err := w.runner(t).Run(context.Background()); err != nil {
		t.Fatal(err)
	}
	w.check(t, true)
}

func TestForeignAndDamagedJournal(t *testing.T) {
	file := filepath.Join(t.TempDir(), "journal")
	j, err := OpenJournal(file, Head{Run: "a", Steps: 1})
	if err != nil {
		t.Fatal(err)
	}

	j.Close()
	if _, err := OpenJournal(file, Head{Run: "b", Steps: 1}); err == nil ||
		!strings.Contains(err.Error(), "belongs to run a") {
		t.Errorf("another run's journal: %v", err)
	}

	os.WriteFile(file, []byte("something else entirely, which is no journal"), 0o600)
	if _, err := OpenJournal(file, Head{Run: "a", Steps: 1}); !errors.Is(err, ErrDamaged) {
		t.Errorf("damaged journal: %v", err)
	}

	os.WriteFile(file, []byte("idletally journal 3\nand what we cannot know"), 0o600)
	for _, open := range []func() error{
		func() error { _, err := OpenJournal(file, Head{Run: "a", Steps: 1}); return err },
		func() error { _, _, err := ReadJournal(file); return err },
	} {
		if err := open(); errors.Is(err, ErrDamaged) || err == nil || !strings.Contains(err.Error(), `format "3"`) ||
			!strings.Contains(err.Error(), "version that began it") {
			t.Errorf("another version's journal: %v", err)
		}
	}
}

// Earlier versions narrowed every path first, files too, and then widened them all. A run that they left in the middle
// is brought to its end, and one that goes no further is put back.
func TestJournalOfAnEarlierVersion(t *testing.T) {
	rnd := seeded.Rand(t)
	for round := range 6 {
		w := mixed(t, rnd)
		r := w.runner(t)
		r.begin()
		d := r.hands[0]

		for i, s := range w.steps {
			if rnd.IntN(4) == 0 {
				continue
			}

			thing, err := d.open(s.Path)
			if err != nil {
				t.Fatal(err)
			}

			way := d.plan(s)
			seen, err := thing.Stat(0)
			if err != nil {
				t.Fatal(err)
			}

			o := Original{Dev: seen.Dev, File: plan.Identity{Inode: seen.Ino}, Set: seen.Set}
			if way.loses { // what no earlier version noted: without it a program does not get back what it had
				o.File.Content, err = thing.Content()
				if err != nil {
					t.Fatal(err)
				}
			}

			r.Journal.original(i, o)
			if err := thing.Apply(way.moves[entering], nil); err != nil {
				t.Fatal(err)
			}

			if rnd.IntN(4) != 0 {
				r.Journal.narrowed(i)
			}

			thing.Close()
		}

		if err := r.Journal.sync(); err != nil {
			t.Fatal(err)
		}

		r.release()
		r.Journal.Close()
		then := w.runner(t)
		b := w.given(t, then)
		if round%2 == 0 {
			if err := then.Run(t.Context()); err != nil {
				t.Fatal(err)
			}
			w.check(t, true)
			b = w.back(t, then.Journal)
		}

		then.Journal.Close()
		os.Remove(w.journal(t))
		if err := b.runner(t).Run(t.Context()); err != nil {
			t.Fatal(err)
		}

		w.check(t, false)
	}
}

func BenchmarkRun(b *testing.B) {
	w := makeWorld(b, rand.New(rand.NewPCG(1, 1)), 200)
	start := time.Now()
	r := w.runner(b)
	if err := r.Run(b.Context()); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(len(w.steps))/time.Since(start).Seconds(), "steps/s")
}
