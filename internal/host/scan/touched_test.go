//go:build linux

package scan

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/watch"
	"idletally/internal/testkit/seeded"
)

// planted is a tree to be meddled with.
func planted(t *testing.T, r *rand.Rand) string {
	root := t.TempDir()
	t.Cleanup(func() { // what is append-only could not be taken away
		_ = filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
			if d.Type().IsRegular() {
				flags(t, p, false)
			}
			return err
		})
	})

	for i := range 4 {
		at := filepath.Join(root, fmt.Sprintf("d%d", i))
		if err := os.Mkdir(at, 0o750); err != nil {
			t.Fatal(err)
		}

		grow(t, r, at, 2)
		for j := range 6 {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("f%d", j)), nil, 0o640); err != nil {
				t.Fatal(err)
			}
		}
	}

	return root
}

// However a tree is changed, a scan that looks only at what the watch heard of finds what one finds
// that looks at everything; it counts as that does, and the service has each node.
func TestTouchedMissesNothing(t *testing.T) {
	r := seeded.Rand(t)
	var looked, paths int64
	for range 6 {
		root := planted(t, r)
		file := filepath.Join(t.TempDir(), "past")
		all := tree.Memory{}
		w, err := watch.Open([]string{root}, false)
		if err != nil {
			t.Fatal(err)
		}
		defer w.Close()
		known := NewInodes(1000)
		_, last := scanned(t, root, file, all, true, false, Options{Inodes: known})

		for round := range 40 {
			for range r.IntN(4) {
				meddle(t, r, root, allWays-1)
			}

			heard, err := w.Take()
			if err != nil {
				t.Fatal(err)
			}

			opt := Options{Denied: last.Denied, Inodes: known}
			if !slices.ContainsFunc(heard.Linked, known.Has) && heard.All == "" {
				opt.Touched = Touch(heard.Paths...)
			}

			got, stats := scanned(t, root, file, all, false, r.IntN(2) == 0, opt)
			want, whole, err := Scan(context.Background(), []string{root}, Options{}, newSpool(t))
			if err != nil {
				t.Fatal(err)
			}

			if got != want {
				t.Fatalf("round %d: another tree than a whole scan finds, having looked at %d of %d; heard %+v", round,
					stats.Looked, stats.Paths, heard)
			}

			if stats.Paths != whole.Paths || stats.Gaps != whole.Gaps {
				t.Fatalf("round %d: %d paths, %d gaps; a whole scan counts %d and %d", round, stats.Paths, stats.Gaps,
					whole.Paths, whole.Gaps)
			}

			if err := tree.Walk(context.Background(), all, got, func(string, tree.Entry) error {
				return nil
			}); err != nil {
				t.Fatalf("round %d: %v", round, err)
			}

			looked += stats.Looked
			paths += stats.Paths
			last = stats
		}
	}

	if looked*2 > paths {
		t.Errorf("looked at %d of %d paths", looked, paths)
	}
}

// What was added is there, and little else.
func TestInodes(t *testing.T) {
	r := seeded.Rand(t)
	const n = 20_000
	s := NewInodes(n)
	for i := range uint64(n) {
		s.add(i*256+1, perm.File) // file systems hand out numbers in such ways
	}

	s.add(3, perm.Folder)
	wrong := 0
	for i := range uint64(n) {
		if !s.Has(i*256 + 1) {
			t.Fatalf("inode %d is not there", i*256+1)
		}
		if s.Has(r.Uint64()&^255 | 2) {
			wrong++
		}
	}

	if wrong > n/100 || s.Has(3) {
		t.Errorf("%d of %d that are not there", wrong, n)
	}

	if none := (*Inodes)(nil); !none.Has(1) {
		t.Error("where nothing is known, anything may be there")
	}
}

func TestTouch(t *testing.T) {
	s := Touch("/a/b", "/a/c/d", "/", "/a/b/e")
	for path, want := range map[string][2]bool{
		"/":      {true, true},
		"/a":     {true, false},
		"/a/b":   {true, true},
		"/a/c":   {true, false},
		"/a/c/d": {true, true},
		"/a/c/x": {},
		"/b":     {},
		"/a/b/e": {true, true},
	} {
		t.Run(path, func(t *testing.T) {
			if got := [2]bool{s.in(path) != nil, s.in(path).is()}; got != want {
				t.Errorf("%s: %v, want %v", path, got, want)
			}
		})
	}
}

// What could not be read stays told as long as nobody has looked there again.
func TestDeniedStays(t *testing.T) {
	m := newRescanned()
	m.paths["/r/a"] = true
	m.folders["/r/b"] = true
	m.trees["/r/c"] = true
	var out []string
	for _, p := range []string{"/r/a", "/r/a/x", "/r/b", "/r/b/x", "/r/b/x/y", "/r/c", "/r/c/x/y", "/r/d"} {
		if m.counts(p) {
			out = append(out, p)
		}
	}
	if want := []string{"/r/a/x", "/r/b", "/r/b/x/y", "/r/d"}; !slices.Equal(out, want) {
		t.Errorf("%v, want %v", out, want)
	}
}
