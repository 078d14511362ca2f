//go:build linux

package smb

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/seeded"
)

// A thicket is a tree on the server, made there, that plans are tried on. Names are below its top, folders
// before what is in them.
type thicket struct {
	t      *testing.T
	r      *rand.Rand
	keeper *Share
	top    string
	names  []string
	world  []ntsd.SID
	others map[string]bool // what somebody else has changed since the plan was drafted
}

var thicketNames = []string{"", `\a`, `\a\f`, `\a\s`, `\a\s\f`, `\b`, `\b\f`}

func (k *thicket) kind(name string) perm.Kind {
	if strings.HasSuffix(name, "f") {
		return perm.File
	}
	return perm.Folder
}

func (k *thicket) up(name string) string { return name[:strings.LastIndexByte(name, '\\')] }

func (k *thicket) own() (out []ntsd.Entry) {
	for range 1 + k.r.IntN(2) {
		out = append(out, ntsd.Entry{
			Type:  ntsd.Type(k.r.IntN(2)),
			Flags: []ace.Flags{0, 3, 3, 2, 1, 11, 9}[k.r.IntN(7)],
			Mask:  ace.Mask(k.r.Uint32())&ace.Full | ace.ReadControl,
			SID:   k.world[k.r.IntN(len(k.world))],
		})
	}
	return out
}

func (k *thicket) look(name string) ntsd.Descriptor {
	k.t.Helper()
	seen, err := k.keeper.Look(k.top + name)
	must(k.t, err)
	return seen.Descriptor
}

func (k *thicket) set(d ntsd.Descriptor) perm.Set {
	k.t.Helper()
	s, err := nt.SetOf(d)
	must(k.t, err)
	return s
}

// grow makes the tree: the server passes on what each folder has, beside which most paths have entries of their own.
func (k *thicket) grow() {
	for _, name := range k.names {
		if k.kind(name) == perm.File {
			must(k.t, k.keeper.s.WriteFile(k.top+name, nil, 0o666))
		} else {
			must(k.t, k.keeper.s.Mkdir(k.top+name, 0o777))
		}

		d := k.look(name)
		d.Control |= ntsd.AutoInherited
		if name == "" || k.r.IntN(8) == 0 {
			d = ntsd.Stop(&d, true)
		}

		if name == "" || k.r.IntN(3) == 0 {
			d.Entries = append(k.own(), d.Entries...)
		}

		ntsd.Sort(d.Entries)
		must(k.t, put(k.keeper, k.top+name, d, fileserver.SetList))
	}
}

// drafted is a plan that gives some paths other entries of their own, with what follows from that below.
func (k *thicket) drafted() (steps []plan.Step) {
	was, after := map[string]ntsd.Descriptor{}, map[string]ntsd.Descriptor{}
	for _, name := range k.names {
		was[name] = k.look(name)
		d := was[name]
		if k.r.IntN(3) == 0 {
			var inherited []ntsd.Entry
			for _, e := range d.Entries {
				if e.Flags&ace.Inherited != 0 {
					inherited = append(inherited, e)
				}
			}

			d.Entries = append(k.own(), inherited...)
			ntsd.Sort(d.Entries)
		}

		if name != "" {
			wasUp, up := was[k.up(name)], after[k.up(name)]
			if !ntsd.HandsOnSame(&wasUp, &up) {
				d = ntsd.Reinherit(&d, &up, k.kind(name) == perm.Folder)
			}
		}

		before, to := was[name], d
		after[name] = d
		if !to.Equal(before) {
			steps = append(steps, plan.Step{
				Path:   string(pathOf(k.top + name)),
				Kind:   k.kind(name),
				Before: k.set(before),
				After:  k.set(to),
			})
		}
	}

	return steps
}

// meddle has somebody else give a path an entry.
func (k *thicket) meddle() {
	name := k.names[k.r.IntN(len(k.names))]
	d := k.look(name)
	d.Entries = append(k.own()[:1], d.Entries...)
	ntsd.Sort(d.Entries)
	must(k.t, put(k.keeper, k.top+name, d, fileserver.SetList))
	k.others[name] = true
}

// touched reports whether somebody else has changed a path, or a folder that it is in: what follows from that
// one's step is left then.
func (k *thicket) touched(name string) bool {
	for ; name != ""; name = k.up(name) {
		if k.others[name] {
			return true
		}
	}
	return k.others[""]
}

func (k *thicket) name(s plan.Step) string {
	return strings.TrimPrefix(strings.ReplaceAll(strings.TrimPrefix(s.Path, "/charts/"), "/", `\`), k.top)
}

// run carries steps out while somebody meddles, and gives what came of each.
func (k *thicket) run(s *Session, steps []plan.Step, putBack bool) []plan.Result {
	k.t.Helper()
	j, err := change.OpenJournal(filepath.Join(k.t.TempDir(), "journal"), change.Head{Run: "r", Steps: len(steps)})
	must(k.t, err)
	defer j.Close()

	top := string(pathOf(k.top))
	runner := &change.Runner{
		Journal: j,
		Roots:   []string{top},
		Allowed: []string{top},
		Chunks:  change.Memory{steps},
		Files:   fileserver.FileSystem(k.t.Context(), s),
		Batch:   1,
		PutBack: putBack,
		Progress: func(int, int) {
			if k.r.IntN(6) == 0 {
				k.meddle()
			}
		},
	}

	must(k.t, runner.Run(k.t.Context()))
	return j.Results()
}

// Plans on the real server, with others who change something meanwhile: what is said to be done is there, as
// reviewed; nothing is marked as coming from above that the folder above does not hand on; and put back, what
// nobody else touched is to the bit what it was.
func TestRunsAndRestoresOnTheServer(t *testing.T) {
	r := seeded.Rand(t)
	_, _, world := people(t)
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.Mkdir("thickets", 0o777))
	done := 0
	skipped := 0
	restored := 0

	for i := range 30 {
		k := &thicket{
			t:      t,
			r:      r,
			keeper: keeper,
			top:    fmt.Sprintf(`thickets\%d`, i),
			names:  thicketNames,
			world:  world,
			others: map[string]bool{},
		}

		k.grow()
		originals := map[string]ntsd.Descriptor{}
		for _, name := range k.names {
			originals[name] = k.look(name)
		}

		steps := k.drafted()
		if len(steps) == 0 {
			continue
		}

		if r.IntN(3) == 0 {
			k.meddle()
		}

		var back []plan.Step
		for n, x := range k.run(s, steps, false) {
			name := k.name(steps[n])
			switch x.Outcome {
			case plan.Done:
				done++
				if got := k.look(name); !k.others[name] && k.set(got) != steps[n].After {
					t.Errorf("%s is said to be done", steps[n].Path)
				}

				if name != "" && !k.others[name] && !k.others[k.up(name)] &&
					perm.TakesAnew(steps[n].Before, steps[n].After) {
					d, above := k.look(name), k.look(k.up(name))
					missing, left := ntsd.Astray(&d, &above, k.kind(name) == perm.Folder)
					if len(missing)+len(left) > 0 {
						t.Errorf("%s lacks %+v and has %+v from nowhere", steps[n].Path, missing, left)
					}
				}

				back = append(back, plan.Step{
					Path:   steps[n].Path,
					Kind:   steps[n].Kind,
					Before: steps[n].After,
					After:  steps[n].Before,
				})
			case plan.Skipped:
				skipped++
			default:
				t.Errorf("%s: %s %s", steps[n].Path, x.Outcome, x.Reason)
			}
		}

		if len(back) > 0 {
			for n, x := range k.run(s, back, true) {
				if name := k.name(back[n]); x.Outcome != plan.Done && !k.touched(name) {
					t.Errorf("%s is not put back: %s", back[n].Path, x.Reason)
				}
			}
		}

		for _, name := range k.names {
			was, is := originals[name], k.look(name)
			if k.touched(name) {
				continue
			}

			restored++
			if !is.Equal(was) {
				a, _ := was.SDDL()
				b, _ := is.SDDL()
				t.Errorf("%s was\n%s and is\n%s", k.top+name, a, b)
			}
		}
	}

	t.Logf("%d steps done, %d skipped, %d paths compared after putting back", done, skipped, restored)
	if done < 40 || skipped < 5 || restored < 60 {
		t.Error("too little was tried")
	}
}
