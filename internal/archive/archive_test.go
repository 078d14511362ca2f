package archive

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// sample is a snapshot with names of all bytes, of which several folders are alike.
func sample(n int) (Head, tree.Memory) {
	m := tree.Memory{}
	var leaf tree.Node
	for i := range n {
		leaf.Entries = append(leaf.Entries, tree.Entry{
			Name: fmt.Sprintf("%04d\xff\n", i),
			Kind: perm.File,
			Set:  posix.State{UID: uint32(i % 5)}.Set(),
		})
	}

	top := tree.Node{}
	for _, name := range []string{"a", "b", "c"} {
		top.Entries = append(top.Entries, tree.Entry{
			Name:  name,
			Kind:  perm.Folder,
			Set:   posix.State{}.Set(),
			Child: m.Add(leaf),
		})
	}

	forest := m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv/\xff", Kind: perm.Folder, Set: posix.State{}.Set(), Child: m.Add(top)}},
	})
	return Head{
		Host:  "slip-north",
		Taken: time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC),
		Roots: []pathname.Path{"/srv/\xff"},
		SnapshotDone: wire.SnapshotDone{
			Forest:    forest,
			Directory: &perm.Directory{Accounts: []perm.Account{{ID: "u1", Name: "purser"}}},
			Paths:     int64(3*n + 4),
		},
	}, m
}

func written(t testing.TB, h Head, src tree.Source) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := Write(t.Context(), &b, h, src); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func readBack(b []byte) (h Head, m tree.Memory, err error) {
	m = tree.Memory{}
	err = Read(bytes.NewReader(b), func(x Head) error { h = x; return nil }, func(sum tree.Hash, node []byte) error {
		m[sum] = node
		return nil
	})
	return h, m, err
}

func TestRoundTrip(t *testing.T) {
	for _, n := range []int{0, 1, 5000} {
		h, src := sample(n)
		got, nodes, err := readBack(written(t, h, src))
		if err != nil {
			t.Fatal(err)
		}

		paths := 0
		if err := tree.Walk(t.Context(), nodes, got.Forest, func(string, tree.Entry) error {
			paths++
			return nil
		}); err != nil ||
			paths != 3*n+4 || len(nodes) != 3 {
			t.Errorf("%d paths in %d nodes, %v", paths, len(nodes), err)
		}

		id, ok := got.Directory.User("purser")
		if !ok || id != "u1" || got.Host != h.Host || !got.Taken.Equal(h.Taken) || got.Roots[0] != h.Roots[0] ||
			got.Paths != h.Paths {
			t.Errorf("%+v", got)
		}
	}
}

// Whatever of a file is another one, so is its fingerprint: by names and numbers of accounts findings and answers go.
func TestSnapshotFingerprint(t *testing.T) {
	of := func(h Head) string {
		t.Helper()
		f, err := h.Fingerprint()
		if err != nil {
			t.Fatal(err)
		}

		return f
	}

	h, src := sample(3)
	back, _, err := readBack(written(t, h, src))
	if err != nil || of(back) != of(h) {
		t.Errorf("read back it is %s, and was %s: %v", of(back), of(h), err)
	}

	seen := map[string]string{of(h): "as it was"}
	for what, change := range map[string]func(*Head){
		"the host":        func(h *Head) { h.Host = "slip-south" },
		"the application": func(h *Head) { h.Application = "x" },
		"the time":        func(h *Head) { h.Taken = h.Taken.Add(time.Second) },
		"the roots":       func(h *Head) { h.Roots = append(h.Roots, "/x") },
		"the tree":        func(h *Head) { h.Forest[0]++ },
		"a name":          func(h *Head) { h.Directory.Accounts[0].Name = "root" },
		"a number":        func(h *Head) { h.Directory.Accounts[0].ID = "u0" },
		"a membership":    func(h *Head) { h.Directory.Accounts[0].Groups = []perm.Principal{"g1"} },
		"the ways":        func(h *Head) { h.Ways = []access.Way{{{Path: "/"}}} },
		"a gap":           func(h *Head) { h.Denied = []wire.Denied{{Path: "/a", Reason: "b"}} },
	} {
		t.Run(what, func(t *testing.T) {
			other, _ := sample(3)
			change(&other)
			f := of(other)
			if was, known := seen[f]; known {
				t.Errorf("%s: %s, as %s", what, f, was)
			}

			seen[f] = what
		})
	}
}

// Whatever is wrong with a file, it is refused and nothing worse.
func TestDamaged(t *testing.T) {
	r := seeded.Rand(t)
	h, src := sample(300)
	whole := written(t, h, src)

	for i := range 500 {
		b := bytes.Clone(whole)
		switch at := r.IntN(len(b)); i % 3 {
		case 0:
			b[at] ^= 1 << r.IntN(8)
		case 1:
			b = b[:at]
		default:
			b = append(b, b[:at+1]...)
		}

		got, nodes, err := readBack(b)
		if err == nil { // a bit of the frame's head that says nothing
			paths := 0
			if err := tree.Walk(t.Context(), nodes, h.Forest, func(string, tree.Entry) error {
				paths++
				return nil
			}); err != nil ||
				int64(paths) != h.Paths || got.Forest != h.Forest || got.Host != h.Host {
				t.Fatalf("damage %d: %d paths, %+v, %v", i, paths, got, err)
			}
		} else if !errors.Is(err, ErrNoSnapshot) {
			t.Fatalf("damage %d: %v", i, err)
		}
	}
}

// stream puts parts together as a file has them.
func stream(t testing.TB, parts ...[]byte) []byte {
	t.Helper()
	z, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	var b []byte
	for _, p := range parts {
		b = append(binary.AppendUvarint(b, uint64(len(p))), p...)
	}
	return append([]byte(mark), z.EncodeAll(b, nil)...)
}

// sorted returns a snapshot's nodes in the order of a file.
func sorted(t *testing.T, src tree.Memory, forest tree.Hash) (out [][]byte) {
	t.Helper()
	err := tree.Each(t.Context(), src, forest, func(_ tree.Hash, b []byte) error { out = append(out, b); return nil })
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// sharing returns folders of which each has the one before it twice.
func sharing(n int) (out [][]byte) {
	m := tree.Memory{}
	h := m.Add(tree.Node{})
	for range n {
		out = append(out, m[h])
		e := tree.Entry{Name: "a", Kind: perm.Folder, Set: posix.State{}.Set(), Child: h}
		again := e
		again.Name = "b"
		h = m.Add(tree.Node{Entries: []tree.Entry{e, again}})
	}
	return out
}

// A file that somebody made with care is refused all the same.
func TestHostile(t *testing.T) {
	h, src := sample(1)
	head := func(change func(*Head)) []byte {
		x := h
		change(&x)
		b, err := json.Marshal(x)
		if err != nil {
			t.Fatal(err)
		}

		return b
	}

	same := head(func(*Head) {})
	forest := src[h.Forest]
	long := append([]byte(mark), func() []byte {
		z, _ := zstd.NewWriter(nil)
		return z.EncodeAll(binary.AppendUvarint(nil, 1<<40), nil)
	}()...)

	for name, c := range map[string]struct {
		file []byte
		says string
	}{
		"nothing":             {nil, "does not begin"},
		"another file":        {[]byte("idletally snapshot 2\nxxxxxxxx"), "does not begin"},
		"a length that lies":  {long, "larger than what is read"},
		"a head that is none": {stream(t, []byte("[]")), "its head"},
		"no accounts":         {stream(t, head(func(h *Head) { h.Directory = nil })), "lacks"},
		"no root":             {stream(t, head(func(h *Head) { h.Roots = nil })), "lacks"},
		"a root that is none": {stream(t, []byte(strings.Replace(string(same), `"/srv/\\xff"`, `"../etc"`, 1))),
			"its head"},
		"another age": {stream(t, head(func(h *Head) { h.Taken = time.Date(1, 1, 1, 1, 0, 0, 0, time.UTC) })),
			"year 1"},
		"no forest":           {stream(t, same), "is not in it"},
		"a parent first":      {stream(t, same, forest), "did not come before it"},
		"a node that is none": {stream(t, same, []byte("D\x09")), "format version"},
		"half a node": {append(bytes.Clone(stream(t, same, forest))[:len(stream(t, same, forest))-20], 0),
			""},
		"paths that are not": {
			stream(t, append([][]byte{head(func(h *Head) { h.Paths++ })}, sorted(t, src, h.Forest)...)...),
			"it tells of",
		},
		"2^40 paths":            {stream(t, append([][]byte{same}, sharing(40)...)...), "too large"},
		"another forest's head": {stream(t, head(func(h *Head) { h.Forest = tree.Hash{1} })), "is not in it"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, _, err := readBack(c.file); !errors.Is(err, ErrNoSnapshot) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v, want %q", name, err, c.says)
			}
		})
	}
}

func FuzzRead(f *testing.F) {
	h, src := sample(3)
	f.Add(written(f, h, src))
	f.Add([]byte(mark))
	f.Fuzz(func(t *testing.T, b []byte) {
		got, nodes, err := readBack(b)
		if err != nil {
			return
		}
		// What is read is whole.
		if err := tree.Walk(t.Context(), nodes, got.Forest, func(string, tree.Entry) error { return nil }); err != nil {
			t.Error(err)
		}
	})
}
