package atomicfile

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
)

// Whatever breaks off, the file is what it was or what it is to be, and nothing else is left in its folder.
func TestWholeOrNotAtAll(t *testing.T) {
	broken := errors.New("the disk is full")
	for _, c := range []struct {
		name  string
		there []byte // nil: nothing is
		put   func(name string) error
		fails error
		then  []byte
	}{
		{"a new file", nil, func(name string) error { return Write(name, []byte("new")) }, nil, []byte("new")},
		{"in place of another", []byte("old"), func(name string) error { return Write(name, []byte("new")) }, nil,
			[]byte("new")},
		{"created", nil, func(name string) error { return Create(name, []byte("new")) }, nil, []byte("new")},
		{"created where one is", []byte("old"), func(name string) error { return Create(name, []byte("new")) },
			fs.ErrExist, []byte("old")},
		{"written bit by bit, and read again", nil, func(name string) error {
			return Stream(name, func(f *os.File) error {
				for range 3 {
					if _, err := f.WriteString("new"); err != nil {
						return err
					}
				}
				if b, err := os.ReadFile(f.Name()); err != nil || string(b) != "newnewnew" {
					t.Errorf("it reads %q, %v", b, err)
				}
				return nil
			})
		}, nil, []byte("newnewnew")},
		{"broken off", []byte("old"), func(name string) error {
			return Stream(name, func(f *os.File) error {
				_, err := f.WriteString("ne")
				return errors.Join(err, broken)
			})
		}, broken, []byte("old")},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			name := filepath.Join(dir, "file")
			if c.there != nil {
				if err := os.WriteFile(name, c.there, 0o600); err != nil {
					t.Fatal(err)
				}
			}

			if err := c.put(name); !errors.Is(err, c.fails) {
				t.Errorf("%v, want %v", err, c.fails)
			}
			if b, err := os.ReadFile(name); err != nil || !bytes.Equal(b, c.then) {
				t.Errorf("it holds %q, %v, want %q", b, err, c.then)
			}
			alone(t, dir)
		})
	}
}

// Of several that write at once each is whole, and one is there in the end.
func TestAtOnce(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "file")
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for range 20 {
				if err := Write(name, bytes.Repeat([]byte{byte('a' + i)}, 10_000)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()

	b, err := os.ReadFile(name)
	if err != nil || len(b) != 10_000 || len(bytes.Trim(b, string(b[:1]))) > 0 {
		t.Errorf("%d bytes, %v, of several writers", len(b), err)
	}
	alone(t, dir)
}

// alone fails if anything but the file is in its folder, or if it is not its owner's alone.
func alone(t *testing.T, dir string) {
	t.Helper()
	list, err := os.ReadDir(dir)
	if err != nil || len(list) != 1 {
		t.Fatalf("the folder holds %v, %v", list, err)
	}
	if st, err := list[0].Info(); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st.Mode(), err)
	}
}
