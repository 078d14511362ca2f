//go:build linux

package aclfs_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/aclfs"
	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nfs4"
	"idletally/internal/host/fsys"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// The accounts of the tests: the host has none of these numbers.
const (
	purser = 30001
	pim    = 30002
	stray  = 30003
	crew   = 30010
	clerks = 30011
)

var names = aclfs.Names{
	Domain: "saltmarsh.example",
	Users:  map[string]uint32{"purser": purser, "pim": pim, "stray": stray},
	Groups: map[string]uint32{"crew": crew, "clerks": clerks},
}

func directory() *perm.Directory {
	account := func(id uint32, name string, groups ...perm.Principal) perm.Account {
		return perm.Account{ID: perm.Principal(fmt.Sprintf("u%d", id)), Name: name, Groups: groups}
	}
	return (&perm.Directory{
		Accounts: []perm.Account{
			account(0, "root"),
			account(purser, "purser", "g30010"),
			account(pim, "pim", "g30010", "g30011"),
			account(stray, "stray", "g30003"),
		},
		Groups: []perm.Account{{ID: "g30010", Name: "crew"}, {ID: "g30011", Name: "clerks"}},
	}).Index()
}

// TestMain is the helper, too, that tries something as an account.
func TestMain(m *testing.M) {
	if as := os.Getenv("IDLETALLY_TRY_AS"); as != "" {
		os.Exit(try(as, os.Args[1], os.Args[2]))
	}
	if err := aclfs.Private(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// try becomes an account ("uid,gid,gid…") and tries one operation: 0 it may, 1 it may not, 2 something else is wrong.
func try(as, op, path string) int {
	var ids []int
	for _, s := range strings.Split(as, ",") {
		n, err := strconv.Atoi(s)
		if err != nil {
			return 2
		}
		ids = append(ids, n)
	}
	for _, err := range []error{syscall.Setgroups(ids[1:]), syscall.Setgid(ids[1]), syscall.Setuid(ids[0])} {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 2
		}
	}

	open := func(flags int) error {
		fd, err := unix.Open(path, flags, 0o600)
		if err == nil {
			unix.Close(fd)
		}
		return err
	}
	var err error
	switch op {
	case "read":
		err = open(unix.O_RDONLY)
	case "write":
		err = open(unix.O_WRONLY)
	case "execute":
		err = unix.Faccessat2(unix.AT_FDCWD, path, unix.X_OK, unix.AT_EACCESS)
	case "list":
		_, err = os.ReadDir(path)
	case "enter":
		var st unix.Stat_t
		err = unix.Stat(path+"/f", &st)
	case "create-file":
		path += "/new"
		err = open(unix.O_CREAT | unix.O_EXCL | unix.O_WRONLY)
	case "create-folder":
		err = unix.Mkdir(path+"/new", 0o700)
	case "delete":
		err = unix.Unlink(path)
	case "rename":
		err = unix.Rename(path, path+".new")
	case "change":
		err = unix.Setxattr(path, aclfs.Attribute, nfs4.List{}.AppendXattr(nil), 0)
	}
	switch {
	case err == nil:
		return 0
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return 1
	}
	fmt.Fprintln(os.Stderr, op, path, err)
	return 2
}

// mount opens the file system over a folder in memory, and returns where.
func mount(t *testing.T) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Fatal("this test mounts a file system: it takes root")
	}
	dir := t.TempDir()
	below, at := filepath.Join(dir, "below"), filepath.Join(dir, "at")
	for _, p := range []string{below, at} {
		must(t, os.Mkdir(p, 0o755))
	}
	must(t, unix.Mount("tmpfs", below, "tmpfs", 0, "size=64m"))
	t.Cleanup(func() { _ = unix.Unmount(below, unix.MNT_DETACH) })
	for p := dir; p != "/"; p = filepath.Dir(p) { // others have to get there
		must(t, os.Chmod(p, 0o755|os.ModeSticky&modeOf(t, p)|modeOf(t, p)))
		if p == os.TempDir() {
			break
		}
	}

	m, err := aclfs.Open(at, below, names)
	must(t, err)
	t.Cleanup(func() {
		if err := m.Close(); err != nil {
			t.Error(err)
		}
	})
	return at
}

func modeOf(t *testing.T, path string) os.FileMode {
	t.Helper()
	i, err := os.Stat(path)
	must(t, err)
	return i.Mode() & (os.ModePerm | os.ModeSticky)
}

var must = testkit.Must

// put gives a path owner, special bits and list, and returns the state that a look finds.
func put(t testing.TB, path string, s nfs4.State) {
	t.Helper()
	must(t, os.Lchown(path, int(s.UID), int(s.GID)))
	must(t, unix.Setxattr(path, aclfs.Attribute, s.List.AppendXattr(nil), 0))
	must(t, unix.Chmod(path, uint32(s.Derived())))
}

func look(t testing.TB, path string) fsys.Info {
	t.Helper()
	fd, err := unix.Open(path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	must(t, err)
	defer unix.Close(fd)
	i, err := fsys.Look(fd)
	must(t, err)
	return i
}

func randomState(r *rand.Rand, folder bool) nfs4.State {
	who := []string{
		nfs4.Owner, nfs4.Group, nfs4.Everyone, "purser@saltmarsh.example", "pim@saltmarsh.example", "30003",
		"crew@saltmarsh.example", "clerks@saltmarsh.example",
	}
	masks := []ace.Mask{
		ace.ReadData, ace.WriteData, ace.AppendData, ace.Execute, ace.Delete, ace.DeleteChild, ace.WriteDAC,
		ace.ReadSet,
		ace.WriteSet, ace.Full,
	}
	s := nfs4.State{UID: purser + r.Uint32N(3), GID: crew + r.Uint32N(2), List: nfs4.List{}}
	if folder && r.IntN(4) == 0 {
		s.Special = mode.Sticky
	}
	for range r.IntN(7) {
		e := nfs4.Entry{Type: nfs4.Type(r.IntN(2)), Who: who[r.IntN(len(who))]}
		e.Mask = masks[r.IntN(len(masks))]
		e.Mask |= masks[r.IntN(len(masks))]
		if strings.HasPrefix(e.Who, "c") {
			e.Flags = nfs4.IdentifierGroup
		}
		if folder && r.IntN(4) == 0 {
			e.Flags |= nfs4.InheritOnly | nfs4.FileInherit
		}
		s.List = append(s.List, e)
	}
	if folder && r.IntN(3) > 0 { // most let everybody through: else nothing in them is decided
		s.List = append(s.List, nfs4.Entry{Mask: ace.Execute, Who: nfs4.Everyone})
	}
	return s
}

// Whatever the lists, the answers are those of the file system, which decides by code of its own.
func TestOracle(t *testing.T) {
	at, r, d := mount(t), seeded.Rand(t), directory()
	folder, file := filepath.Join(at, "d"), filepath.Join(at, "d", "f")
	must(t, os.Mkdir(folder, 0o755))

	tried, allowed := 0, 0
	for range 20 {
		up, leaf := randomState(r, true), randomState(r, false)
		set := func() {
			_ = os.RemoveAll(filepath.Join(folder, "new"))
			_ = os.Remove(file + ".new")
			f, err := os.OpenFile(file, os.O_CREATE|os.O_RDONLY, 0o600)
			must(t, err)
			must(t, f.Close())
			put(t, file, leaf)
			put(t, folder, up)
		}

		for _, a := range d.Accounts[1:] {
			for _, q := range []struct {
				path string
				ops  []access.Operation
			}{
				{folder, []access.Operation{access.List, access.Enter, access.CreateFile, access.CreateFolder}},
				{file, []access.Operation{
					access.Read, access.Write, access.Execute, access.Delete, access.Rename, access.Change,
				}},
			} {
				for _, op := range q.ops {
					set()
					tried++
					if check(t, d, &a, at, q.path, op) {
						allowed++
					}
				}
			}
		}
	}
	if allowed < tried/20 || allowed > tried*19/20 {
		t.Errorf("%d of %d were allowed: the lists are too plain to prove anything", allowed, tried)
	}
}

// check compares the answer to one question with what comes of trying it.
func check(t *testing.T, d *perm.Directory, a *perm.Account, at, path string, op access.Operation) bool {
	t.Helper()
	var way access.Way
	for p := path; ; p = filepath.Dir(p) {
		i := look(t, p)
		way = append(way, access.Place{Path: pathname.Path(p), Kind: i.Kind, Set: i.Set})
		if p == at {
			break
		}
	}
	slices.Reverse(way)
	answer := access.NewAsker(access.SubjectNamed(d, a)).May(way, op, d)

	ids := strings.TrimPrefix(string(a.ID), "u")
	for _, g := range a.Groups {
		ids += "," + strings.TrimPrefix(string(g), "g")
	}
	c := exec.Command(os.Args[0], op.String(), path)
	c.Env = append(os.Environ(), "IDLETALLY_TRY_AS="+ids)
	out, err := c.CombinedOutput()
	var ended *exec.ExitError
	if err != nil && !(errors.As(err, &ended) && ended.ExitCode() == 1) {
		t.Fatalf("%s %s as %s: %v\n%s", op, path, a.Name, err, out)
	}

	did := err == nil
	if answer.Allowed != did && !(answer.Unknown && op == access.Change) { // of an owner's own list servers differ
		t.Errorf("%s %s as %s: the file system says %t, the answer %+v\nfolder %+v\npath %+v", op, path, a.Name, did,
			answer, way[len(way)-2].Set.State(), way[len(way)-1].Set.State())
	}
	return did
}

// What a file system tells is read as what it is, and each call of a change does what the simulation says.
func TestSequence(t *testing.T) {
	at, r := mount(t), seeded.Rand(t)
	for name, k := range map[string]perm.Kind{"f": perm.File, "d": perm.Folder} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(at, name)
			if k == perm.Folder {
				must(t, os.Mkdir(path, 0o755))
			} else {
				must(t, os.WriteFile(path, nil, 0o600))
			}
			fd, err := unix.Open(path, unix.O_PATH|unix.O_NOFOLLOW, 0)
			must(t, err)
			defer unix.Close(fd)

			for range 200 {
				from, to := look(t, path), randomState(r, k == perm.Folder)
				if from.Set.Scheme() != nfs4.ID {
					t.Fatalf("%s is of scheme %s", path, from.Set.Scheme())
				}
				for _, m := range from.Set.State().(perm.Stepwise).Sequence(k, to) {
					must(t, fsys.Apply(fd, []perm.Move{m}, nil))
					if got := look(t, path).Set; got != m.State {
						t.Fatalf("%s made %+v, simulated %+v", m.Call.What, got.State(), m.State.State())
					}
				}
				if got := look(t, path).Set; got != to.Set() {
					t.Fatalf("it ends as %+v, wanted %+v", got.State(), to)
				}
			}
		})
	}
}
