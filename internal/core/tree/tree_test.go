package tree

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/testkit/seeded"
)

func set(uid uint32, m mode.Mode) perm.Set { return posix.State{UID: uid, Mode: m}.Set() }

// A path is found in snapshot after snapshot as in each by itself, and what they have in common is read once.
func TestFollower(t *testing.T) {
	r := seeded.Rand(t)
	ctx := t.Context()
	m := Memory{}
	for range 100 {
		a, all := forest(r, m)
		b, _ := forest(r, m)
		for path := range all {
			src := &counted{Source: m}
			f := Follower{Source: src, Path: path}
			for _, h := range []Hash{a, b, b, a, a} {
				want, _, missing := Lookup(ctx, m, h, path)
				got, err := f.At(ctx, h)
				if got != want || (err == nil) != (missing == nil) ||
					err != nil && errors.Is(err, ErrNoPath) != errors.Is(missing, ErrNoPath) {
					t.Fatalf("%q: %+v, %v; by itself %+v, %v", path, got, err, want, missing)
				}
			}
			before := src.n
			if _, err := f.At(ctx, a); err != nil || src.n != before {
				t.Fatalf("%q: %d nodes were read again, %v", path, src.n-before, err)
			}
		}
	}
}

// counted counts the nodes that are asked for.
type counted struct {
	Source
	n int
}

func (c *counted) Nodes(ctx context.Context, hashes []Hash) ([][]byte, error) {
	c.n += len(hashes)
	return c.Source.Nodes(ctx, hashes)
}

// grow makes a random subtree and tells the plain list of its paths.
func grow(r *rand.Rand, m Memory, at string, depth int, all map[string]Entry) Hash {
	n := Node{}
	names := map[string]bool{}
	for range r.IntN(6) {
		names[[]string{"a", "b", "c d", "\xff", "e\n", "z!", "über"}[r.IntN(7)]] = true
	}

	for name := range names {
		e := Entry{Name: name, Kind: perm.File, Set: set(r.Uint32N(3), mode.Mode(r.UintN(8)))}
		path := pathname.Join(at, name)
		if depth > 0 && r.IntN(2) == 0 {
			e.Kind = perm.Folder
			if r.IntN(10) == 0 {
				e.Gap = Refused
			} else {
				e.Child = grow(r, m, path, depth-1, all)
			}
		}

		if e.Kind == perm.File && r.IntN(4) == 0 {
			e.Links = 2 + r.Uint32N(3)
		}

		if e.Kind == perm.File && r.IntN(8) == 0 {
			e.Kind, e.Device = perm.BlockDevice, Device{r.Uint32N(300), r.Uint32N(70000)}
		}

		all[path] = e
		n.Entries = append(n.Entries, e)
	}

	slices.SortFunc(n.Entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return m.Add(n)
}

func forest(r *rand.Rand, m Memory) (Hash, map[string]Entry) {
	all := map[string]Entry{}
	root := Entry{Name: "/srv/app", Kind: perm.Folder, Set: set(0, 0o755), Child: grow(r, m, "/srv/app", 4, all)}
	all["/srv/app"] = root
	return m.Add(Node{Forest: true, Entries: []Entry{root}}), all
}

func TestWalkLookupDiff(t *testing.T) {
	r := seeded.Rand(t)
	ctx := context.Background()
	for range 200 {
		m := Memory{}
		h, all := forest(r, m)
		var order []string
		err := Walk(ctx, m, h, func(path string, e Entry) error {
			order = append(order, path)
			want := all[path]
			if path != "/srv/app" {
				want.Name = e.Name
			}

			if e != want {
				return fmt.Errorf("%q: walked %+v, made %+v", path, e, want)
			}

			return nil
		})

		if err != nil || len(order) != len(all) {
			t.Fatalf("walk met %d of %d paths, %v", len(order), len(all), err)
		}

		if !slices.IsSortedFunc(order, pathname.Compare) {
			t.Fatalf("walk order %q is not the order of paths", order)
		}

		for path := range all {
			e, node, err := Lookup(ctx, m, h, path)
			if err != nil || e.Kind != all[path].Kind || e.HasChild() != (node != nil) {
				t.Fatalf("lookup %q: %+v, %v", path, e, err)
			}
		}

		if _, _, err := Lookup(ctx, m, h, "/srv/app/no/such"); !errors.Is(err, ErrNoPath) {
			t.Fatalf("lookup of a missing path: %v", err)
		}

		h2, all2 := forest(r, m)
		want := map[string]bool{}
		for _, side := range []map[string]Entry{all, all2} {
			for p := range side {
				x, ok1 := all[p]
				y, ok2 := all2[p]
				if ok1 != ok2 || x.Kind != y.Kind || x.Set != y.Set || x.Gap != y.Gap {
					want[p] = true
				}
			}
		}

		got := map[string]bool{}
		err = Diff(ctx, m, h, h2, func(p string, _, _ *Entry) error { got[p] = true; return nil })
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("diff gave %v, want %v, %v", got, want, err)
		}
	}
}

func TestDecodeRefuses(t *testing.T) {
	f := func(entries ...Entry) []byte { return Encode(Node{Entries: entries}) }
	file := func(name string) Entry { return Entry{Name: name, Kind: perm.File, Set: set(1, 0o644)} }
	good := f(file("a"), file("b"))

	for name, c := range map[string]struct {
		b    []byte
		want string
	}{
		"empty":         {nil, "no node"},
		"newer version": {append([]byte{'D', 9}, good[2:]...), "version 9"},
		"cut":           {good[:len(good)-1], "too early"},
		"tail":          {append(bytes.Clone(good), 0), "nothing refers to"},
		"unsorted":      {f(file("b"), file("a")), "out of order"},
		"twice":         {f(file("a"), file("a")), "out of order or stands twice"},
		"slash":         {f(file("a/b")), "impossible name"},
		"dots":          {f(file("..")), "impossible name"},
		"nul":           {f(file("a\x00")), "impossible name"},
		"no kind":       {f(Entry{Name: "a", Set: set(1, 0)}), "unknown kind"},
		"no set":        {f(Entry{Name: "a", Kind: perm.File}), "neither permissions"},
		"relative root": {Encode(Node{Forest: true, Entries: []Entry{file("srv")}}), "not absolute"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := Decode(c.b); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want %q", name, err, c.want)
			}
		})
	}

	m := Memory{}
	h := m.Add(Node{Forest: true, Entries: []Entry{file("/srv")}})
	m[h] = good
	if _, err := Load(context.Background(), m, h); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a node under a wrong hash: %v", err)
	}
}

func FuzzDecode(f *testing.F) {
	m := Memory{}
	h, _ := forest(rand.New(rand.NewPCG(1, 2)), m)
	for _, b := range m {
		f.Add(b)
	}
	f.Add(m[h])
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := Decode(b)
		if err == nil && !bytes.Equal(Encode(n), b) {
			t.Fatalf("%x decodes to %+v, which encodes otherwise", b, n)
		}
	})
}

func TestPack(t *testing.T) {
	var pack []byte
	in := [][]byte{[]byte("some"), []byte("other"), bytes.Repeat([]byte("x"), 300)}
	for _, b := range in {
		pack = AppendPack(pack, b)
	}

	read := func(pack []byte) (out [][]byte, err error) {
		for p := NewPack(bytes.NewReader(pack), 1<<30); ; {
			b, err := p.Next()
			if err != nil {
				return out, err
			}
			out = append(out, b)
		}
	}

	if out, err := read(pack); err != io.EOF || !reflect.DeepEqual(out, in) {
		t.Errorf("unpacked %q, %v", out, err)
	}

	if _, err := read(pack[:len(pack)-1]); err == nil || err == io.EOF {
		t.Errorf("a cut pack was taken: %v", err)
	}

	for _, impossible := range []int{0, 3, MaxNode + 1} {
		if _, err := read(AppendPack(nil, make([]byte, impossible))); err == nil || err == io.EOF {
			t.Errorf("a node of %d bytes was taken: %v", impossible, err)
		}
	}
}

// Each node comes once, after all that it refers to.
func TestEach(t *testing.T) {
	m := Memory{}
	file := func(name string) Entry { return Entry{Name: name, Kind: perm.File, Set: posix.State{}.Set()} }
	in := func(name string, h Hash) Entry {
		return Entry{Name: name, Kind: perm.Folder, Set: posix.State{}.Set(), Child: h}
	}
	leaf := m.Add(Node{Entries: []Entry{file("x")}})
	var many Node
	for i := range 3*batch + 1 {
		many.Entries = append(many.Entries,
			in(fmt.Sprintf("%04d", i), m.Add(Node{Entries: []Entry{file(fmt.Sprint(i)), in("leaf", leaf)}})))
	}

	forest := m.Add(Node{Forest: true, Entries: []Entry{in("/a", m.Add(many)), in("/b", leaf)}})
	seen := map[Hash]bool{}
	err := Each(t.Context(), m, forest, func(h Hash, b []byte) error {
		n, err := Decode(b)
		if err != nil || Sum(b) != h || seen[h] {
			t.Fatalf("%s: %v, again %t", h, err, seen[h])
		}

		for _, c := range n.Children() {
			if !seen[c] {
				t.Fatalf("%s came before its child", h)
			}
		}

		seen[h] = true
		return nil
	})

	if err != nil || len(seen) != len(m) || !seen[forest] {
		t.Errorf("%d of %d nodes, %v", len(seen), len(m), err)
	}
}
