package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// What a snapshot has at many paths is found as at few of them: also where roots sort otherwise than paths
// do, and where nobody could look.
func TestSurvey(t *testing.T) {
	ctx := t.Context()
	st := ownStore(t)
	d := &Engine{Store: st}
	m := tree.Memory{}
	var files []tree.Entry

	for i := range 2 * fewSteps {
		files = append(files, tree.Entry{
			Name: fmt.Sprintf("f%05d", i),
			Kind: perm.File,
			Set:  posix.State{UID: uint32(i)}.Set(),
		})
	}

	set := posix.State{}.Set()
	full := m.Add(tree.Node{Entries: files})
	forest := m.Add(tree.Node{
		Forest: true,
		Entries: []tree.Entry{
			{Name: "/srv/a-b", Kind: perm.Folder, Set: set, Child: full},
			{Name: "/srv/a/c", Kind: perm.Folder, Set: set,
				Child: m.Add(tree.Node{
					Entries: []tree.Entry{
						{Name: "dark", Kind: perm.Folder, Set: set, Gap: tree.Refused},
						{Name: "lit", Kind: perm.Folder, Set: set, Child: full},
					},
				})},
		},
	})

	must(t, tree.Each(ctx, m, forest, func(_ tree.Hash, b []byte) error { return st.PutNodes(ctx, [][]byte{b}) }))
	snap := store.Snapshot{Forest: forest[:], Roots: `["/srv/a-b","/srv/a/c"]`}

	var steps []plan.Step
	for _, e := range files {
		for _, folder := range []string{"/srv/a-b", "/srv/a/c/dark", "/srv/a/c/lit", "/srv/a/c/none"} {
			steps = append(steps, plan.Step{Path: folder + "/" + e.Name, Before: e.Set})
		}
	}

	slices.SortFunc(steps, func(a, b plan.Step) int { return pathname.Compare(a.Path, b.Path) })
	for _, some := range [][]plan.Step{steps, steps[:fewSteps], steps[len(steps)-fewSteps:]} {
		told := 0
		err := d.survey(ctx, snap, some, func(s plan.Step, e *tree.Entry) {
			told++
			switch {
			case strings.HasPrefix(s.Path, "/srv/a/c/none/"):
				if e != nil {
					t.Errorf("%s is there: %v", s.Path, *e)
				}
			case e == nil:
				t.Errorf("%s is not there", s.Path)
			case strings.HasPrefix(s.Path, "/srv/a/c/dark/"):
				if !e.Set.IsZero() || e.Gap != tree.Refused {
					t.Errorf("%s, which nobody could look at, is %v", s.Path, *e)
				}
			case e.Set != s.Before:
				t.Errorf("%s is another one", s.Path)
			}
		})

		must(t, err)
		if told != len(some) {
			t.Errorf("%d of %d steps are told of", told, len(some))
		}
	}
}
