package fileserver

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// hostile is a server that says what no good one says.
type hostile struct {
	Server
	list func(folder string) ([]Seen, error)
}

func (h hostile) Open(context.Context, string) (Share, error) { return hostileShare{h}, nil }

type hostileShare struct{ h hostile }

func (s hostileShare) Terms() (access.Mount, error) { return access.Mount{}, nil }
func (s hostileShare) Close() error                 { return nil }
func (s hostileShare) Hold(string, ace.Mask) (Handle, error) {
	return hostileHandle{}, nil
}
func (s hostileShare) List(folder string, each func([]Seen) error) error {
	list, err := s.h.list(folder)
	if err == nil && len(list) > 0 {
		err = each(list)
	}
	return err
}

type hostileHandle struct{}

func (hostileHandle) Look() (Seen, error) {
	return Seen{Kind: perm.Folder, Descriptor: ntsd.Descriptor{Open: true}}, nil
}
func (hostileHandle) Set(ntsd.Descriptor, Part) error { return errors.New("no") }
func (hostileHandle) Close() error                    { return nil }

// What a server says that cannot be read is a gap with its reason, and all else is there; whatever it says
// the scan ends.
func TestHostileServer(t *testing.T) {
	_, malformed := ntsd.Parse([]byte{1, 0, 4, 0x80, 9, 0, 0, 0})
	if malformed == nil {
		t.Fatal("it is well formed")
	}

	file := func(name string) Seen {
		return Seen{
			Name:       name,
			Kind:       perm.File,
			Descriptor: ntsd.Descriptor{Owner: ntsd.System, Entries: []ntsd.Entry{{Mask: ace.Full, SID: ntsd.System}}},
		}
	}

	for _, c := range []struct {
		what        string
		list        func(folder string) ([]Seen, error)
		paths, gaps int64
		says        string // of the first denied
		fails       error
	}{
		{"a malformed descriptor", func(string) ([]Seen, error) {
			x := file("b")
			x.Err = malformed
			return []Seen{file("a"), x, file("c")}, nil
		}, 4, 1, "/charts/b: ", nil},
		{"one without a list", func(string) ([]Seen, error) {
			x := file("a")
			x.Descriptor = ntsd.Descriptor{Open: true}
			return []Seen{x}, nil
		}, 2, 0, "", nil},
		{"one that nobody owns", func(string) ([]Seen, error) {
			x := file("a")
			x.Descriptor.Owner = ntsd.SID{}
			return []Seen{x}, nil
		}, 2, 0, "", nil},
		// the root, and one
		{"the same name twice", func(string) ([]Seen, error) { return []Seen{file("a"), file("a")}, nil }, 2, 0, "",
			nil},
		{"folders without end", func(string) ([]Seen, error) {
			x := file("deeper")
			x.Kind = perm.Folder
			return []Seen{x}, nil
		}, tree.MaxDepth + 1, 1, "folders deep", nil},
		{"a refusal", func(string) ([]Seen, error) { return nil, fs.ErrPermission }, 1, 1, "permission", nil},
		{"no answer any more", func(string) ([]Seen, error) { return nil, ErrLost }, 0, 0, "", ErrLost},
	} {
		t.Run(c.what, func(t *testing.T) {
			var mu sync.Mutex
			nodes := tree.Memory{}
			f, err := Scan(t.Context(), hostile{list: c.list}, []string{"/charts"}, nil,
				func(h tree.Hash, b []byte) error {
					mu.Lock()
					defer mu.Unlock()
					nodes[h] = b
					return nil
				})

			if !errors.Is(err, c.fails) {
				t.Errorf("%s: %v", c.what, err)
				return
			}

			if c.fails != nil {
				return
			}

			if f.Paths != c.paths || f.Gaps != c.gaps {
				t.Errorf("%s: %d paths, %d gaps", c.what, f.Paths, f.Gaps)
			}

			if c.gaps > 0 && !strings.Contains(f.Denied[0].Path+": "+f.Denied[0].Reason, c.says) {
				t.Errorf("%s: %+v", c.what, f.Denied[0])
			}

			if _, ok := nodes[f.Forest]; !ok {
				t.Errorf("%s: no forest", c.what)
			}
		})
	}
}

// However many large folders there are, one is held at a time, with what is below it; all are there in the end.
func TestLargeFoldersOneByOne(t *testing.T) {
	const folders, large = 12, 80_000
	entry := func(kind perm.Kind, name string) Seen {
		return Seen{
			Name:       name,
			Kind:       kind,
			Descriptor: ntsd.Descriptor{Owner: ntsd.System, Entries: []ntsd.Entry{{Mask: ace.Full, SID: ntsd.System}}},
		}
	}

	var top, within []Seen
	for i := range folders {
		top = append(top, entry(perm.Folder, fmt.Sprintf("hold%02d", i)))
	}

	for i := range large {
		within = append(within, entry(perm.File, fmt.Sprintf("crate%05d", i)))
	}

	within = append(within, entry(perm.Folder, "below"), entry(perm.Folder, "beside"))
	var inside, most atomic.Int32
	list := func(folder string) ([]Seen, error) {
		switch strings.Count(folder, `\`) {
		case 0:
			if folder == "" {
				return top, nil
			}
			return within, nil
		default:
			most.Store(max(most.Load(), inside.Add(1)))
			defer inside.Add(-1)
			time.Sleep(10 * time.Millisecond) // somebody else would come in
			return []Seen{entry(perm.File, "note")}, nil
		}
	}

	f, err := Scan(t.Context(), hostile{list: list}, []string{"/charts"}, nil, func(tree.Hash, []byte) error {
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}

	if want := int64(1 + folders*(1+large+4)); f.Paths != want || f.Gaps != 0 {
		t.Errorf("%d paths, %d gaps; want %d and none", f.Paths, f.Gaps, want)
	}

	if most.Load() != 1 {
		t.Errorf("what is below large folders is read by %d at once", most.Load())
	}
}
