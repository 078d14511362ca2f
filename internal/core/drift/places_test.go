package drift

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/testkit/seeded"
)

// Counting on the way is counting every finding in every folder above it.
func TestPlaces(t *testing.T) {
	r := seeded.Rand(t)
	for range 200 {
		var all []Finding
		seen := map[string]bool{}
		for range r.IntN(60) {
			path := ""
			for range 1 + r.IntN(5) {
				path += fmt.Sprintf("/%c", 'a'+r.IntN(3))
			}

			f := Finding{Path: path, Kind: perm.File, Aspect: perm.AspectMode, FoundSet: posix.State{}.Set()}
			if r.IntN(3) == 0 {
				f.Kind = perm.Folder
			}

			for range r.IntN(3) {
				f.Effect.Opens = append(f.Effect.Opens, perm.Gain{})
			}

			if r.IntN(3) == 0 {
				f.Effect.Closes = append(f.Effect.Closes, perm.Gain{})
			}

			if r.IntN(5) == 0 {
				f.Waiver = "w"
			}

			if !seen[path] {
				seen[path] = true
				all = append(all, f)
			}
		}

		slices.SortFunc(all, func(a, b Finding) int { return pathname.Compare(a.Path, b.Path) })
		walked := len(all)
		for range r.IntN(4) {
			all = append(all, Finding{
				Path:   fmt.Sprintf("/a/%d/x", r.IntN(3)),
				Kind:   perm.File,
				Aspect: perm.AspectPresence,
			})
		}

		got := map[string]Place{}
		p := Places{Each: func(x Place) error {
			if y, twice := got[x.Path]; twice {
				x.add(y.Tally)
				x.Here.add(y.Here)
				x.First, x.Last = max(x.First, y.First), max(x.Last, y.Last)
			}
			got[x.Path] = x
			return nil
		}}

		want := map[string]Place{}
		for i, f := range all {
			if err := p.Add(f); err != nil {
				t.Fatal(err)
			}

			in := pathname.Folder(f.Path)
			if f.Kind == perm.Folder {
				in = f.Path
			}

			for at := in; ; at = pathname.Folder(at) {
				w := want[at]
				w.Path = at
				w.add(tallyOf(&f))
				if at == in {
					w.Here.add(tallyOf(&f))
				}

				if i < walked {
					if w.First == 0 {
						w.First = i + 1
					}
					w.Last = i + 1
				}

				want[at] = w
				if at == "/" {
					break
				}
			}
		}

		if err := p.End(); err != nil {
			t.Fatal(err)
		}

		if !maps.Equal(got, want) {
			t.Fatalf("%+v\nwant %+v", got, want)
		}

		for _, x := range got { // what stands in a folder's row is all of it
			for i := max(x.First, 1); i <= x.Last; i++ {
				if f := all[i-1]; !pathname.Under(f.Path, x.Path) {
					t.Fatalf("%s is not under %s", f.Path, x.Path)
				}
			}
		}
	}
}
