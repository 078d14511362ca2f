//go:build linux

package smb

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/seeded"
)

// A lineage is folders in each other, each made by the server with what the one before hands on. No two own
// entries have the same rights, so that the rights of an inherited one tell whose it is.
type lineage struct {
	t      *testing.T
	r      *rand.Rand
	keeper *Share
	world  []ntsd.SID
	whose  map[ace.Mask]string
}

// own returns entries of a folder's own.
func (l *lineage) own(path string) (out []ntsd.Entry) {
	for range 1 + l.r.IntN(3) {
		e := ntsd.Entry{
			Type:  ntsd.Type(l.r.IntN(2)),
			Flags: ace.Flags(l.r.IntN(16)),
			SID:   l.world[l.r.IntN(len(l.world))],
		}
		for e.Mask == 0 || l.whose[e.Mask] != "" {
			e.Mask = ace.Mask(l.r.Uint32()) & ace.Full &^ ace.Synchronize
		}
		l.whose[e.Mask] = path
		out = append(out, e)
	}
	return out
}

// settle returns a folder entries of its own, beside those that it got when it was made, or protected from above.
func (l *lineage) settle(name string) {
	seen, err := l.keeper.Look(name)
	must(l.t, err)
	d := ntsd.Descriptor{Control: ntsd.AutoInherited, Entries: l.own(string(pathOf(name)))}
	if l.r.IntN(5) == 0 {
		d.Control |= ntsd.Protected
	} else {
		for _, e := range seen.Descriptor.Entries {
			if e.Flags&ace.Inherited != 0 {
				d.Entries = append(d.Entries, e)
			}
		}
	}
	must(l.t, put(l.keeper, name, d, fileserver.SetList))
}

// lines are the entries of something with where they come from.
func (l *lineage) lines(name string, above ...string) (inherited []ntsd.Entry, origins []string) {
	var way []perm.Above
	for _, at := range above {
		seen, err := l.keeper.Look(at)
		must(l.t, err)
		s, err := nt.SetOf(seen.Descriptor)
		must(l.t, err)
		way = append(way, perm.Above{Path: string(pathOf(at)), Set: s})
	}

	seen, err := l.keeper.Look(name)
	must(l.t, err)
	s, err := nt.SetOf(seen.Descriptor)
	must(l.t, err)

	for i, line := range perm.Entries(seen.Kind, s, way, nil) {
		if e := seen.Descriptor.Entries[i]; e.Flags&ace.Inherited != 0 {
			inherited, origins = append(inherited, e), append(origins, line.Origin)
		}
	}

	return inherited, origins
}

// From which folder an inherited entry came is told as the server handed it on; and of what was moved that it
// came from none.
func TestOriginsAsTheServerHandsOn(t *testing.T) {
	r := seeded.Rand(t)
	_, _, world := people(t)
	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.Mkdir("origin", 0o777))
	must(t, put(keeper, "origin", ntsd.Descriptor{Control: ntsd.Protected}, fileserver.SetList))
	must(t, keeper.s.Mkdir(`origin\away`, 0o777))
	must(t,
		put(keeper, `origin\away`,
			ntsd.Descriptor{
				Control: ntsd.Protected | ntsd.AutoInherited,
				Entries: []ntsd.Entry{{Flags: 3, Mask: ace.Full, SID: ntsd.Everyone}},
			},
			fileserver.SetList))

	told, moved := 0, 0
	for i := range 150 {
		l := &lineage{
			t:      t,
			r:      r,
			keeper: keeper,
			world:  world,
			whose:  map[ace.Mask]string{ace.Full: "/charts/origin/away"},
		}

		above := []string{"origin"}
		for depth := range 1 + r.IntN(4) {
			name := fmt.Sprintf(`%s\%d-%d`, above[len(above)-1], i, depth)
			must(t, keeper.s.Mkdir(name, 0o777))
			l.settle(name)
			above = append(above, name)
		}

		name := above[len(above)-1] + `\end`
		if r.IntN(2) == 0 {
			must(t, keeper.s.Mkdir(name, 0o777))
		} else {
			must(t, keeper.s.WriteFile(name, nil, 0o666))
		}

		entries, origins := l.lines(name, above...)
		for j, e := range entries {
			told++
			if origins[j] != "from "+l.whose[e.Mask] {
				t.Errorf("%s: %#x is %s, and was set in %q", pathname.Path(pathOf(name)), e.Mask, origins[j],
					l.whose[e.Mask])
			}
		}

		away := fmt.Sprintf(`origin\away\%d`, i)
		must(t, keeper.s.Rename(name, away))
		for _, origin := range second(l.lines(away, "origin", `origin\away`)) {
			moved++
			if origin != "from no folder above" {
				t.Errorf("%s was moved, and an entry of it is %s", away, origin)
			}
		}
	}

	t.Logf("%d entries told, %d of what was moved", told, moved)
	if told < 200 || moved < 200 {
		t.Error("too plain to prove anything")
	}
}

func second[A, B any](_ A, b B) B { return b }
