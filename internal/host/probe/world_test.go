//go:build linux

package probe

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

// The accounts and groups of a random world. Few, so that they meet.
var (
	uids = []uint32{2001, 2002, 2003, 2004}
	gids = []uint32{3001, 3002, 3003, 3004}
)

// A node is one path of a random tree, with the state that it was made with.
type node struct {
	path   string
	kind   perm.Kind
	state  posix.State
	empty  bool
	target string // of a link
	mount  int    // index in mounts, -1 where nothing is mounted
}

type world struct {
	t      *testing.T
	r      *rand.Rand
	top    string
	nodes  []*node
	mounts []string
}

// someModes are those that people use; as many others are random.
var someModes = []mode.Mode{
	0o644, 0o640, 0o600, 0o755, 0o750, 0o700, 0o777, 0o1777, 0o2770, 0o2775, 0o711, 0o733, 0o444, 0o000, 0o604, 0o705,
	0o070, 0o007,
}

func (w *world) state(k perm.Kind) posix.State {
	pick := func(of []uint32) uint32 {
		if w.r.IntN(8) == 0 {
			return 0
		}
		return of[w.r.IntN(len(of))]
	}

	p := posix.State{UID: pick(uids), GID: pick(gids)}
	p.Mode = someModes[w.r.IntN(len(someModes))]
	if w.r.IntN(2) == 0 {
		p.Mode = mode.Mode(w.r.IntN(0o10000))
	}

	if k == perm.Folder && w.r.IntN(3) > 0 { // else few ways would lead anywhere
		p.Mode |= 0o111
	}

	if w.r.IntN(2) == 0 && k != perm.Link {
		p.Access = w.list(p.Mode)
		p.Mode = p.Access.Mode(p.Mode)
	}

	if k == perm.Folder && w.r.IntN(4) == 0 {
		p.Default = w.list(mode.Mode(w.r.IntN(0o1000)))
	}

	if w.r.IntN(25) == 0 && (k == perm.File || k == perm.Folder) {
		p.Flags = perm.Flags(1 + w.r.IntN(2))
	}

	return p
}

// list makes an access list; every third has a mask that was not calculated.
func (w *world) list(m mode.Mode) posixacl.List {
	var named posixacl.List
	for _, id := range uids {
		if w.r.IntN(3) == 0 {
			named = append(named, posixacl.Entry{Tag: posixacl.User, ID: id, Perm: mode.Perm(w.r.IntN(8))})
		}
	}

	for _, id := range gids {
		if w.r.IntN(3) == 0 {
			named = append(named, posixacl.Entry{Tag: posixacl.Group, ID: id, Perm: mode.Perm(w.r.IntN(8))})
		}
	}

	// The kernel keeps lists that name somebody twice. Of a group one entry has all that the other has: where
	// both have what the other lacks, such a list is known to be taken for more than it is (docs/guide).
	if len(named) > 0 && w.r.IntN(8) == 0 {
		i := w.r.IntN(len(named))
		again := named[i]
		again.Perm &= mode.Perm(w.r.IntN(8))
		if again.Tag == posixacl.User {
			again.Perm = mode.Perm(w.r.IntN(8))
		}

		named = slices.Insert(named, i+1, again)
	}

	var mask *mode.Perm
	if w.r.IntN(3) == 0 {
		p := mode.Perm(w.r.IntN(8))
		mask = &p
	}

	return posixacl.Build(m.Owner(), m.Group(), m.Other(), named, mask)
}

// grow makes a random tree below a fresh folder, every state as chosen, and mounts in it.
func grow(t *testing.T, r *rand.Rand, paths int) *world {
	t.Helper()
	top, err := os.MkdirTemp("", "idletally-proof-")
	if err != nil {
		t.Fatal(err)
	}

	w := &world{t: t, r: r, top: top}
	t.Cleanup(w.fell)
	w.must(os.Chmod(top, 0o755))
	folders := []*node{{path: top, kind: perm.Folder, mount: -1}}
	full := map[*node]bool{}

	for len(w.nodes) < paths {
		in := folders[w.r.IntN(len(folders))]
		n := &node{
			path:  filepath.Join(in.path, fmt.Sprintf("%c%d", 'a'+rune(w.r.IntN(26)), len(w.nodes))),
			empty: true,
			mount: -1,
		}
		switch x := w.r.IntN(21); {
		case x < 8:
			n.kind = perm.Folder
		case x < 16:
			n.kind = perm.File
		case x < 18:
			n.kind = perm.Link
		case x < 19:
			n.kind = perm.Pipe
		case x < 20:
			n.kind = perm.Socket
		default:
			n.kind = perm.CharDevice
		}

		w.make(n)
		if n.kind == perm.Folder {
			folders = append(folders, n)
			if w.r.IntN(10) == 0 {
				w.mount(n)
			}
		}

		if n.kind == perm.File && w.r.IntN(15) == 0 {
			w.mount(n)
		}

		full[in] = true
		w.nodes = append(w.nodes, n)
	}

	for _, n := range w.nodes {
		n.empty = !full[n]
		n.state = w.state(n.kind)
		w.set(n)
	}

	for _, n := range w.nodes { // last: nothing can be set on a file system that is read-only
		if n.mount >= 0 {
			flags := uintptr(unix.MS_REMOUNT | unix.MS_BIND)
			for _, f := range []uintptr{
				unix.MS_RDONLY, unix.MS_NOEXEC, unix.MS_NOSUID, unix.MS_NODEV, unix.MS_NOSYMFOLLOW,
			} {
				if w.r.IntN(2) == 0 {
					flags |= f
				}
			}
			w.must(unix.Mount("", n.path, "", flags, ""))
		}
	}

	return w
}

func (w *world) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) mount(n *node) {
	if n.kind == perm.Folder && w.r.IntN(2) == 0 {
		w.must(unix.Mount("proof", n.path, "tmpfs", 0, "size=8m"))
	} else {
		w.must(unix.Mount(n.path, n.path, "", unix.MS_BIND, ""))
	}
	n.mount = len(w.mounts)
	w.mounts = append(w.mounts, n.path)
}

func (w *world) fell() {
	for i := len(w.mounts) - 1; i >= 0; i-- {
		if err := unix.Unmount(w.mounts[i], unix.MNT_DETACH); err != nil {
			w.t.Errorf("unmount %s: %v", w.mounts[i], err)
		}
	}
	for _, n := range w.nodes {
		if n.state.Flags != 0 {
			_ = setFlags(n.path, 0) // those below a mount went with it
		}
	}
	if err := os.RemoveAll(w.top); err != nil {
		w.t.Error(err)
	}
}

// A program that does nothing and ends well: 64-bit ELF for this machine is what the test binary
// is, so that a few bytes of shell would need an interpreter; this one needs none.
var program = func() []byte {
	var b bytes.Buffer
	code := []byte{0xb8, 60, 0, 0, 0, 0x31, 0xff, 0x0f, 0x05} // mov eax, 60; xor edi, edi; syscall
	b.Write([]byte{0x7f, 'E', 'L', 'F', 2, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0})
	put := func(vs ...any) {
		for _, v := range vs {
			switch v := v.(type) {
			case uint16:
				b.Write([]byte{byte(v), byte(v >> 8)})
			case uint32:
				b.Write([]byte{byte(v), byte(v >> 8), byte(v >> 16), byte(v >> 24)})
			case uint64:
				for i := range 8 {
					b.WriteByte(byte(v >> (8 * i)))
				}
			}
		}
	}
	put(uint16(2), uint16(62), uint32(1), uint64(0x400078), uint64(64), uint64(0), uint32(0), uint16(64), uint16(56),
		uint16(1), uint16(0), uint16(0), uint16(0))
	put(uint32(1), uint32(5), uint64(0), uint64(0x400000), uint64(0x400000), uint64(120+len(code)),
		uint64(120+len(code)), uint64(4096))
	b.Write(code)
	return b.Bytes()
}()

// make makes a path without its state.
func (w *world) make(n *node) {
	switch n.kind {
	case perm.Folder:
		w.must(os.Mkdir(n.path, 0o700))
	case perm.File:
		w.must(os.WriteFile(n.path, program, 0o600))
	case perm.Link:
		if n.target == "" {
			n.target = []string{"nowhere", "..", ".", "../."}[w.r.IntN(4)]
		}
		w.must(os.Symlink(n.target, n.path))
	case perm.Pipe:
		w.must(unix.Mkfifo(n.path, 0o600))
	case perm.Socket:
		w.must(unix.Mknod(n.path, unix.S_IFSOCK|0o600, 0))
	case perm.CharDevice:
		w.must(unix.Mknod(n.path, unix.S_IFCHR|0o600, int(unix.Mkdev(1, 3)))) // the one that takes everything
	}
}

// counts returns what counts of a state: of entries that name somebody twice.
func (w *world) counts(p posix.State) posix.State {
	for _, l := range []*posixacl.List{&p.Access, &p.Default} {
		if *l != nil {
			var err error
			*l, err = posixacl.DecodeXattr(l.AppendXattr(nil))
			w.must(err)
		}
	}
	return p
}

// set returns a path its state, by the system calls themselves.
func (w *world) set(n *node) {
	s := n.state
	w.must(unix.Lchown(n.path, int(s.UID), int(s.GID)))
	if n.kind == perm.Link {
		n.state.Mode, n.state.Access = 0o777, nil
		return
	}

	for attr, l := range map[string]posixacl.List{posix.AttrAccess: s.Access, posix.AttrDefault: s.Default} {
		switch {
		case l != nil:
			w.must(unix.Lsetxattr(n.path, attr, l.AppendXattr(nil), 0))
		case attr == posix.AttrDefault && n.kind != perm.Folder:
		default:
			if err := unix.Lremovexattr(n.path, attr); err != nil && !errors.Is(err, unix.ENODATA) {
				w.t.Fatal(err)
			}
		}
	}

	w.must(unix.Chmod(n.path, uint32(s.Mode)))
	if s.Flags != 0 {
		w.must(setFlags(n.path, s.Flags))
	}
}

// mend brings a path back after somebody was allowed to do something to it.
func (w *world) mend(n *node) {
	if _, err := os.Lstat(n.path); err != nil {
		w.make(n)
	}
	w.set(n)
}

func setFlags(path string, f perm.Flags) error {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)

	v, err := unix.IoctlGetInt(fd, unix.FS_IOC_GETFLAGS)
	if err != nil {
		return err
	}

	v &^= 0x30
	if f&perm.Immutable != 0 {
		v |= 0x10 // FS_IMMUTABLE_FL
	}

	if f&perm.AppendOnly != 0 {
		v |= 0x20 // FS_APPEND_FL
	}

	return unix.IoctlSetPointerInt(fd, unix.FS_IOC_SETFLAGS, v)
}
