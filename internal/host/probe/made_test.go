//go:build linux

package probe

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/unixid"
	"idletally/internal/host/fsys"
	"idletally/internal/host/look"
	"idletally/internal/testkit/disk"
	"idletally/internal/testkit/seeded"
)

// What a new path gets, and what a change of mode makes of an access list, is what the kernel
// makes of it.
func TestMadeAsComputed(t *testing.T) {
	r := seeded.Rand(t)
	for _, fs := range []struct {
		name string
		top  string
		most int
	}{
		{"here", t.TempDir(), 1500},
		{"ext4 with grpid", disk.Mount(t, 16<<20, "grpid", "mkfs.ext4", "-q", "-F"), 300},
		{"ext4", disk.Mount(t, 16<<20, "nogrpid", "mkfs.ext4", "-q", "-F"), 100},
		{"XFS with grpid", disk.Mount(t, 320<<20, "grpid", "mkfs.xfs", "-q"), 300},
	} {
		t.Run(fs.name, func(t *testing.T) { madeIn(t, r, fs.top, fs.most) })
	}
}

func madeIn(t *testing.T, r *rand.Rand, top string, rounds int) {
	w := &world{t: t, r: r, top: top}
	defer syscall.Umask(syscall.Umask(0))

	maker := access.Subject{ID: unixid.UID(0), Groups: []perm.Principal{unixid.GID(0)},
		Privileges: access.AllPrivileges}
	withDefaults, lists := 0, 0
	for i := range rounds {
		folder := filepath.Join(w.top, "folder")
		w.must(os.RemoveAll(folder))
		w.must(os.Mkdir(folder, 0o700))
		n := &node{path: folder, kind: perm.Folder, state: w.state(perm.Folder)}
		n.state.Flags = 0
		w.set(n)
		if n.state.Default != nil {
			withDefaults++
		}

		umask, asks := mode.Mode(r.IntN(0o1000)), mode.Mode(r.IntN(0o1000))
		kind, path := perm.File, filepath.Join(folder, "new")
		syscall.Umask(int(umask))
		if i%2 == 0 {
			kind = perm.Folder
			w.must(unix.Mkdir(path, uint32(asks)))
		} else {
			fd, err := unix.Open(path, unix.O_CREAT|unix.O_EXCL|unix.O_WRONLY|unix.O_CLOEXEC, uint32(asks))
			w.must(err)
			unix.Close(fd)
		}

		got, err := look.Path(path)
		w.must(err)
		in, err := look.Path(folder)
		w.must(err)
		want, err := access.New(w.counts(n.state).Set(), kind, maker,
			access.Asked{Mode: asks, Umask: umask, Mount: in.Seen.Mount}, nil)
		w.must(err)
		if got.Seen.Set != want.Set {
			have, _ := posix.Of(got.Seen.Set)
			computed, _ := posix.Of(want.Set)
			t.Fatalf("a new %s in %+v, asked with %s under umask %s:\nis       %+v\ncomputed %+v", kind, n.state, asks,
				umask, have, computed)
		}

		p, err := posix.Of(got.Seen.Set)
		w.must(err)
		if p.Access == nil {
			continue
		}

		lists++
		to := mode.Mode(r.IntN(0o1000))
		w.must(unix.Chmod(path, uint32(to)))
		fd, err := unix.Open(path, unix.O_PATH|unix.O_CLOEXEC, 0)
		w.must(err)
		after, err := fsys.Look(fd)
		unix.Close(fd)
		w.must(err)
		is, err := posix.Of(after.Set)
		w.must(err)
		if computed := p.Access.Chmod(to); is.Access.Text(nil) != computed.Text(nil) {
			t.Fatalf("%s after %s: is %s, computed %s", p.Access.Text(nil), to, is.Access.Text(nil),
				computed.Text(nil))
		}
	}

	if withDefaults < rounds/15 || lists < rounds/30 {
		t.Errorf("only %d folders with default entries and %d lists: too plain to prove anything", withDefaults, lists)
	}
}
