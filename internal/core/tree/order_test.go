package tree

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/testkit/seeded"
)

// bush is a folder of a few random paths, some of which could not be read.
func bush(m Memory, r *rand.Rand, depth int) Hash {
	var n Node
	for i, name := range []string{"a", "a-b", "a.", "a0", "b"} {
		e := Entry{Name: name, Kind: perm.File, Set: posix.State{UID: uint32(i)}.Set()}
		if r.IntN(2) == 0 && depth > 0 {
			e.Kind, e.Gap = perm.Folder, Gap(r.IntN(3))
			if e.HasChild() {
				e.Child = bush(m, r, depth-1)
			}
		}
		n.Entries = append(n.Entries, e)
	}
	return m.Add(n)
}

// Order is the order of a walk, whatever the roots are called. Each path that a walk meets is found; one in a
// folder that could not be read is told apart from one that is not there.
func TestOrder(t *testing.T) {
	r := seeded.Rand(t)
	for range 50 {
		m := Memory{}
		var forest Node
		roots := []string{"/srv/a/c", "/srv/a-b", "/srv/a.b", "/srv/a0/b/c", "/srv/ab"}

		for _, root := range slices.Sorted(slices.Values(roots)) {
			forest.Entries = append(forest.Entries, Entry{
				Name:  root,
				Kind:  perm.Folder,
				Set:   posix.State{}.Set(),
				Child: bush(m, r, 3),
			})
		}

		forest.Forest = true
		h := m.Add(forest)
		var walked []string
		err := Walk(t.Context(), m, h, func(path string, e Entry) error {
			walked = append(walked, path)
			if found, _, err := Lookup(t.Context(), m, h, path); err != nil || found.Set != e.Set {
				t.Errorf("%s is found as %v, %v", path, found, err)
			}

			if e.Kind != perm.Folder {
				return nil
			}

			var unread *UnreadError
			_, _, err := Lookup(t.Context(), m, h, path+"/none/such")
			switch {
			case e.Gap == NoGap && (!errors.Is(err, ErrNoPath) || IsUnread(err)):
				t.Errorf("in %s: %v", path, err)
			case e.Gap != NoGap &&
				(!errors.As(err, &unread) || *unread != UnreadError{path + "/none/such", path, e.Gap} ||
					errors.Is(err, ErrNoPath)):
				t.Errorf("in %s, which is %s: %v", path, e.Gap, err)
			}

			return nil
		})

		if err != nil {
			t.Fatal(err)
		}

		if mixed := slices.SortedFunc(slices.Values(walked), Order(roots)); !slices.Equal(mixed, walked) {
			t.Fatalf("walked\n%q\nand in order\n%q", walked, mixed)
		}
	}
}
