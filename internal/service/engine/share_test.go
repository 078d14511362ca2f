package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
)

// descriptor returns a permission of a share.
func descriptor(t *testing.T, sddl string) perm.Set {
	t.Helper()
	d, err := ntsd.ParseSDDL(sddl)
	must(t, err)
	set, err := nt.SetOf(d)
	must(t, err)
	return set
}

// What inherits from a folder that passes on something else follows; a file whose list is too long for that is left,
// and keeps no other path from following.
func TestHandDown(t *testing.T) {
	const head = "O:SYG:SYD:AI"
	inherited := "(A;OICIID;FA;;;SY)"
	var own strings.Builder // all but full: an access list has 65,535 bytes at the most
	for i := range 65_500 / 36 {
		fmt.Fprintf(&own, "(A;;FR;;;S-1-5-21-1-2-3-%d)", 10_000+i)
	}
	top := descriptor(t, "O:SYG:SYD:P(A;OICI;FA;;;SY)")
	wider := descriptor(t, "O:SYG:SYD:P(A;OICI;FR;;;S-1-5-21-1-2-3-1)(A;OICI;FR;;;S-1-5-21-1-2-3-2)(A;OICI;FA;;;SY)")
	m := tree.Memory{}
	below := m.Add(tree.Node{Entries: []tree.Entry{
		{Name: "a.txt", Kind: perm.File, Set: descriptor(t, head+"(A;ID;FA;;;SY)")},
	}})
	forest := m.Add(tree.Node{
		Forest: true,
		Entries: []tree.Entry{{Name: "/charts", Kind: perm.Folder, Set: top,
			Child: m.Add(tree.Node{Entries: []tree.Entry{
				{Name: "full", Kind: perm.Folder, Set: descriptor(t, head+own.String()+inherited), Child: below},
				{Name: "plain", Kind: perm.Folder, Set: descriptor(t, head+inherited), Child: below},
			}}),
		}},
	})

	steps, left, err := handDown(t.Context(), m, forest, []plan.Step{
		{Path: "/charts", Kind: perm.Folder, Before: top, After: wider},
	}, nil)
	must(t, err)
	var paths []string
	for _, s := range steps {
		paths = append(paths, s.Path)
	}
	if want := []string{"/charts", "/charts/plain", "/charts/plain/a.txt"}; !slices.Equal(paths, want) {
		t.Errorf("the steps are of %q, want %q", paths, want)
	}
	if why := left["/charts/full"]; len(left) != 1 || why == nil || !strings.Contains(why.Error(), "at most 65535") {
		t.Errorf("left is %v", left)
	}
}
