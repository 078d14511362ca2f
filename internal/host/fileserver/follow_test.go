package fileserver

import (
	"context"
	"errors"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/testkit/seeded"
)

// A cabinet is a server with one share, in memory: paths in the share's own form, "" is the share's folder.
type cabinet struct {
	Server
	t       testing.TB
	states  map[string]ntsd.Descriptor
	kinds   map[string]perm.Kind
	written map[string]int // how often
}

func (c *cabinet) Open(context.Context, string) (Share, error) { return cabinetShare{c}, nil }

type cabinetShare struct{ *cabinet }

func (cabinetShare) Terms() (access.Mount, error)          { return access.Mount{}, nil }
func (cabinetShare) List(string, func([]Seen) error) error { return fs.ErrInvalid }
func (cabinetShare) Close() error                          { return nil }
func (s cabinetShare) Hold(name string, _ ace.Mask) (Handle, error) {
	if _, there := s.states[name]; !there {
		return nil, fs.ErrNotExist
	}
	return paper{s.cabinet, name}, nil
}

type paper struct {
	c    *cabinet
	name string
}

func (p paper) Close() error { return nil }
func (p paper) Look() (Seen, error) {
	return Seen{
		Kind:       p.c.kinds[p.name],
		Descriptor: p.c.states[p.name],
		ID:         uint64(slices.Index(names(p.c), p.name)) + 1,
		Links:      1,
		Changed:    int64(p.c.written[p.name])*1_000_003 + 1,
	}, nil
}

func (p paper) Set(d ntsd.Descriptor, _ Part) error {
	p.c.states[p.name] = d
	p.c.written[p.name]++
	return nil
}

func names(c *cabinet) (out []string) {
	for n := range c.states {
		out = append(out, n)
	}
	slices.SortFunc(out, func(a, b string) int { return pathname.Compare(pathOf(a), pathOf(b)) })
	return out
}

func pathOf(name string) string {
	return strings.TrimSuffix("/lab/"+strings.ReplaceAll(name, `\`, "/"), "/")
}

// furnish makes folders in folders whose lists are all as their folders pass on, but for a few.
func furnish(t testing.TB, r *rand.Rand) *cabinet {
	c := &cabinet{t: t, states: map[string]ntsd.Descriptor{}, kinds: map[string]perm.Kind{}, written: map[string]int{}}
	c.states[""], c.kinds[""] = ntsd.Descriptor{Owner: ntsd.System, Control: ntsd.Protected, Entries: own(r)},
		perm.Folder
	for _, name := range []string{"a", `a\f`, `a\s`, `a\s\f`, `a\s\g`, `a\s\g\f`, "b", `b\f`, `b\s`, `b\s\f`, "f"} {
		up := c.states[folderOf(name)]
		kind := perm.Folder
		if strings.HasSuffix(name, "f") {
			kind = perm.File
		}

		d := ntsd.Descriptor{Owner: ntsd.Administrators, Control: ntsd.AutoInherited, Entries: own(r)[:r.IntN(2)]}
		d = ntsd.Reinherit(&d, &up, kind == perm.Folder)
		switch r.IntN(12) {
		case 0:
			d = ntsd.Stop(&d, true)
		case 1: // moved here
			d.Entries = append(d.Entries, ntsd.Entry{Flags: ace.Inherited, Mask: ace.ReadSet, SID: ntsd.Network})
		}

		c.states[name], c.kinds[name] = d, kind
	}

	return c
}

// own are two entries of a folder's own, which it may pass on.
func own(r *rand.Rand) (out []ntsd.Entry) {
	for range 2 {
		out = append(out, ntsd.Entry{
			Flags: []ace.Flags{0, 3, 3, 2, 1, 11}[r.IntN(6)],
			Mask: []ace.Mask{
				ace.ReadSet,
				ace.ReadSet | ace.WriteSet | ace.Execute | ace.Delete,
				ace.Full,
			}[r.IntN(3)],
			SID: []ntsd.SID{
				ntsd.Everyone,
				ntsd.Authenticated,
				ntsd.CreatorOwner,
				ntsd.NewSID(5, 21, 1, 2, 3, 1001),
			}[r.IntN(4)],
		})
	}

	return out
}

// drafted is a plan that gives some paths other entries of their own, with what follows from that, as a
// snapshot would show it.
func (c *cabinet) drafted(r *rand.Rand) (steps []plan.Step) {
	after := map[string]ntsd.Descriptor{}
	for _, name := range names(c) {
		was := c.states[name]
		d := was
		if r.IntN(4) == 0 {
			d.Entries = slices.Concat(own(r),
				slices.DeleteFunc(slices.Clone(d.Entries), func(e ntsd.Entry) bool {
					return e.Flags&ace.Inherited == 0
				}))
			d.Open = false
		}

		if name != "" {
			up, wasUp := after[folderOf(name)], c.states[folderOf(name)]
			if r.IntN(8) == 0 {
				d.Control &^= ntsd.Protected
				d = ntsd.Reinherit(&d, &up, c.kinds[name] == perm.Folder)
			} else if !ntsd.HandsOnSame(&wasUp, &up) {
				d = ntsd.Reinherit(&d, &up, c.kinds[name] == perm.Folder)
			}
		}

		after[name] = d
		if !d.Equal(was) {
			steps = append(steps, plan.Step{
				Path:   pathOf(name),
				Kind:   c.kinds[name],
				Before: c.set(was),
				After:  c.set(d),
			})
		}
	}

	return steps
}

func (c *cabinet) set(d ntsd.Descriptor) perm.Set {
	s, err := nt.SetOf(d)
	if err != nil {
		c.t.Fatal(err)
	}
	return s
}

// meddle has somebody else change the entries that some path has of its own.
func (c *cabinet) meddle(r *rand.Rand) {
	all := names(c)
	name := all[r.IntN(len(all))]
	d := c.states[name]
	d.Entries = append(own(r)[:1], d.Entries...)
	c.states[name] = d
	c.written[name]++
}

// Whatever others change meanwhile, wherever a run is broken off, and however its originals are put back: no
// step makes an entry that is marked as coming from above and that the folder above does not pass on.
func TestNothingFollowsFromNothing(t *testing.T) {
	r := seeded.Rand(t)
	var made, left atomic.Int64
	t.Run("side by side", func(t *testing.T) { // a step waits most of the time
		for i := range 16 {
			own := rand.New(rand.NewPCG(r.Uint64(), r.Uint64()))
			t.Run(strconv.Itoa(i), func(t *testing.T) {
				t.Parallel()
				for range 20 {
					n, m := meddled(t, own)
					made.Add(n)
					left.Add(m)
				}
			})
		}
	})

	t.Logf("%d steps made entries that come from above, %d were left since their folder is another", made.Load(),
		left.Load())
	if made.Load() < 500 || left.Load() < 100 {
		t.Error("too little was tried")
	}
}

// meddled carries a plan out and back while somebody meddles, and tells how many steps made entries that come
// from above, and how many were left for their folder's sake.
func meddled(t *testing.T, r *rand.Rand) (made, left int64) {
	c := furnish(t, r)
	steps := c.drafted(r)
	if len(steps) == 0 {
		return 0, 0
	}

	if r.IntN(2) == 0 {
		c.meddle(r)
	}

	originals := map[string]perm.Set{}
	for name, d := range c.states {
		originals[pathOf(name)] = c.set(d)
	}

	dir := t.TempDir()
	var stop bool
	once := func(file string, steps []plan.Step, putBack bool) ([]plan.Result, error) {
		j, err := change.OpenJournal(filepath.Join(dir, file), change.Head{Run: "r", Steps: len(steps)})
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()

		before := j.Results()
		runner := &change.Runner{
			Journal: j,
			Roots:   []string{"/lab"},
			Allowed: []string{"/lab"},
			Chunks:  change.Memory{steps},
			Files:   FileSystem(t.Context(), c),
			Batch:   1,
			PutBack: putBack,
			Halt:    func() bool { return stop },
		}

		runner.Progress = func(int, int) {
			now := j.Results()
			for i := range now {
				switch {
				case now[i].Outcome == before[i].Outcome:
				case now[i].Outcome == plan.Done && perm.TakesAnew(steps[i].Before, steps[i].After):
					made++
					c.sound(steps[i], putBack, originals)
				case now[i].Outcome == plan.Skipped && strings.Contains(now[i].Reason, "its folder"):
					left++
				}
			}

			before = slices.Clone(now)
			if r.IntN(6) == 0 {
				c.meddle(r)
			}

			stop = r.IntN(10) == 0
		}

		err = runner.Run(t.Context())
		return j.Results(), err
	}

	run := func(file string, steps []plan.Step, putBack bool) []plan.Result {
		for {
			stop = false
			out, err := once(file, steps, putBack)
			if err == nil {
				return out
			}

			if !errors.Is(err, change.ErrHalted) {
				t.Fatal(err)
			}
		}
	}

	var back []plan.Step
	for i, x := range run("there", steps, false) {
		if x.Outcome == plan.Done {
			s := steps[i]
			s.Before, s.After = s.After, s.Before
			back = append(back, s)
		}
	}

	if len(back) > 0 {
		run("back", back, true)
	}

	return made, left
}

// sound makes sure of a step that was just made.
func (c *cabinet) sound(s plan.Step, putBack bool, originals map[string]perm.Set) {
	c.t.Helper()
	name := Path(strings.TrimPrefix(s.Path, "/lab/"))
	if s.Path == "/lab" {
		return
	}
	above, d := c.states[folderOf(name)], c.states[name]
	missing, left := ntsd.Astray(&d, &above, s.Kind == perm.Folder)
	if len(missing)+len(left) > 0 && !(putBack && c.set(d) == originals[s.Path]) {
		c.t.Fatalf("%s: %+v lacks %+v and has %+v from nowhere, in %+v", s.Path, d, missing, left, above)
	}
}
