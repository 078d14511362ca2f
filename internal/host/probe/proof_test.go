//go:build linux

package probe

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/subtree"
	"idletally/internal/core/unixid"
	"idletally/internal/host/fsys"
	"idletally/internal/host/look"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
	"idletally/internal/tied"
)

const (
	doerName = "idletally-proof-doer"
	inside   = "IDLETALLY_PROOF_INSIDE"
)

// TestMain lets the tests mount: they run in a mount namespace of their own. It is also the whole
// life of the children, which are this program once more.
func TestMain(m *testing.M) {
	Main()
	if os.Args[0] == doerName {
		if err := doer(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}

	if os.Getenv(inside) != "" {
		os.Exit(m.Run())
	}

	c := exec.Command("/proc/self/exe", os.Args[1:]...)
	c.Env = append(os.Environ(), inside+"=1")
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	c.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS}
	if err := tied.Run(c); err != nil {
		fmt.Fprintln(os.Stderr, "tests in a mount namespace of their own (this needs root):", err)
		os.Exit(1)
	}

	os.Exit(0)
}

// A deed is what a child really does.
type deed struct {
	Op    access.Operation
	Path  string
	Kind  perm.Kind
	Probe bool // ask as the product does, instead of doing it
}

type done struct {
	Allowed bool
	Errno   string
	Try     *access.Try
}

type identity struct {
	UID    uint32
	Groups []uint32
	Keep   access.Privilege
}

// subject is the identity as the core sees it.
func (i identity) subject() access.Subject {
	s := access.Subject{ID: unixid.UID(i.UID), Privileges: i.Keep}
	for _, g := range i.Groups {
		s.Groups = append(s.Groups, unixid.GID(g))
	}
	if i.UID == 0 {
		s.Privileges = access.AllPrivileges
	}
	return s
}

// capabilities turns privileges into the kernel's bits.
func capabilities(p access.Privilege) (bits uint64) {
	for own, bit := range map[access.Privilege]int{access.Chown: unix.CAP_CHOWN, access.Override: unix.CAP_DAC_OVERRIDE,
		access.ReadSearch: unix.CAP_DAC_READ_SEARCH, access.FOwner: unix.CAP_FOWNER, access.FSetID: unix.CAP_FSETID} {
		if p&own != 0 {
			bits |= 1 << bit
		}
	}
	return bits
}

// doer takes on an identity and does one deed after another.
func doer(in io.Reader, out io.Writer) error {
	dec, enc := json.NewDecoder(bufio.NewReader(in)), json.NewEncoder(out)
	var who identity
	if err := dec.Decode(&who); err != nil {
		return err
	}
	runtime.LockOSThread() // linked with C, as for the race detector, other threads keep no capabilities
	if err := become(who.UID, who.Groups, capabilities(who.Keep)); err != nil {
		return err
	}

	syscall.Umask(0)
	for {
		var d deed
		if err := dec.Decode(&d); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}

		var answer done
		if d.Probe {
			answer.Try = &attempt(Ask{
				UID:        who.UID,
				Groups:     who.Groups,
				Path:       pathname.Path(d.Path),
				Kind:       d.Kind,
				Operations: []access.Operation{d.Op},
			})[0]
			if err := os.Chdir("/"); err != nil {
				return err
			}
		} else if err := act(d); err != nil {
			answer.Errno = err.Error()
		} else {
			answer.Allowed = true
		}

		if err := enc.Encode(answer); err != nil {
			return err
		}
	}
}

// act does a deed by the system call that it is about.
func act(d deed) error {
	open := func(flags int) error {
		fd, err := unix.Open(d.Path, flags|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_NOCTTY|unix.O_CLOEXEC, 0)
		if err == nil {
			unix.Close(fd)
		}

		if errors.Is(err, unix.ENXIO) { // a socket, or a pipe that nobody reads: permitted
			return nil
		}

		return err
	}

	switch d.Op {
	case access.Read, access.List:
		return open(unix.O_RDONLY)
	case access.Write:
		return open(unix.O_WRONLY)
	case access.Execute:
		pid, err := syscall.ForkExec(d.Path, []string{d.Path}, &syscall.ProcAttr{})
		if err != nil {
			return err
		}

		var ws syscall.WaitStatus
		_, err = syscall.Wait4(pid, &ws, 0, nil)
		if err == nil && ws.ExitStatus() != 0 {
			err = fmt.Errorf("the program ended with %d", ws.ExitStatus())
		}

		return err

	case access.Enter:
		if err := unix.Chdir(d.Path); err != nil {
			return err
		}
		return unix.Chdir("/")
	case access.Create:
		return unix.Mkdir(d.Path+"/new", 0o700)
	case access.Delete:
		if d.Kind == perm.Folder {
			err := unix.Rmdir(d.Path)
			if errors.Is(err, unix.ENOTEMPTY) { // permitted, and the file system has the last word
				return nil
			}
			return err
		}
		return unix.Unlink(d.Path)

	case access.Rename:
		moved := d.Path + ".moved"
		if err := unix.Rename(d.Path, moved); err != nil {
			return err
		}
		return unix.Rename(moved, d.Path)

	case access.Change:
		var st unix.Stat_t
		if err := unix.Lstat(d.Path, &st); err != nil {
			return err
		}
		return unix.Chmod(d.Path, st.Mode&0o7777)

	case access.Own:
		return unix.Lchown(d.Path, os.Geteuid(), -1)
	}

	return fmt.Errorf("unknown deed %v", d.Op)
}

// A person is a running child.
type person struct {
	identity
	process *tied.Process
	in      io.WriteCloser
	enc     *json.Encoder
	dec     *json.Decoder
}

func start(t *testing.T, who identity) *person {
	t.Helper()
	c := exec.Command("/proc/self/exe")
	c.Args = []string{doerName}
	c.Dir = "/"
	c.Env = []string{}
	c.Stderr = os.Stderr
	in, err1 := c.StdinPipe()
	out, err2 := c.StdoutPipe()
	process, err3 := tied.Start(c)
	if err := errors.Join(err1, err2, err3); err != nil {
		t.Fatal(err)
	}

	p := &person{who, process, in, json.NewEncoder(in), json.NewDecoder(bufio.NewReader(out))}
	if err := p.enc.Encode(who); err != nil {
		t.Fatal(err)
	}

	return p
}

func (p *person) do(t *testing.T, d deed) done {
	t.Helper()
	var answer done
	if err := errors.Join(p.enc.Encode(d), p.dec.Decode(&answer)); err != nil {
		t.Fatalf("child %+v: %v", p.identity, err)
	}
	return answer
}

func (p *person) end(t *testing.T) {
	t.Helper()
	p.in.Close()
	if err := p.process.Wait(); err != nil {
		t.Errorf("child %+v: %v", p.identity, err)
	}
}

// people are accounts with random memberships, root, one with a single privilege, and a stranger.
func people(r *rand.Rand) []identity {
	var out []identity
	for _, uid := range append(slices.Clone(uids), 2999) {
		who := identity{UID: uid, Groups: []uint32{gids[r.IntN(len(gids))]}}
		for _, g := range gids {
			if r.IntN(3) == 0 && g != who.Groups[0] {
				who.Groups = append(who.Groups, g)
			}
		}

		if uid == 2999 {
			who.Groups = []uint32{3999}
		}

		out = append(out, who)
	}

	out = append(out, identity{UID: 0, Groups: []uint32{0}})
	one := out[r.IntN(len(uids))]
	one.Keep = 1 << r.IntN(5)
	return append(out, one)
}

// TestProof compares every computed answer with what the kernel really does: random trees on real file systems, real
// children with real ids, real system calls.
func TestProof(t *testing.T) {
	questions := testkit.Rounds(8_000, 25_000)
	r := seeded.Rand(t)
	asked := 0
	allowed := 0
	tried := 0
	causes := map[access.Code]int{}

	for asked < questions {
		t.Run("", func(t *testing.T) {
			w := grow(t, r, 30+r.IntN(20))
			for _, who := range people(r) {
				a, y, p := w.question(who, causes)
				asked += a
				allowed += y
				tried += p
			}
		})
		if t.Failed() {
			break
		}
	}

	t.Logf("%d questions, %d of them allowed, %d asked by the probe as well; causes %v", asked, allowed, tried, causes)
	if len(causes) < 13 { // two of the fifteen are rare
		t.Errorf("only %d causes came up: the worlds are too plain to prove anything", len(causes))
	}
}

// below asks of all that is below the world's top at once, which gives what asking path by path gives. Other mounts are
// not entered.
func (w *world) below(asker *access.Asker) {
	w.t.Helper()
	for _, op := range access.For(perm.Folder, posix.ID) {
		_, tally, err := look.Below(w.t.Context(), w.t.TempDir(), w.top, subtree.Query{
			Operation: op,
			Now:       asker,
			Limit:     10_000,
		})
		w.must(err)
		held := map[string]bool{}
		for _, r := range tally.Paths {
			held[string(r.Path)] = true
		}

		for _, n := range w.nodes {
			if slices.ContainsFunc(w.mounts, func(at string) bool {
				return at != n.path && pathname.Under(n.path, at)
			}) {
				continue
			}

			found, err := look.Path(n.path)
			w.must(err)
			if a := asker.May(found.Way, op, nil); a.Allowed != held[n.path] {
				w.t.Fatalf("%s on %s: by itself %t (%s), with all that is below %t\nway %s", op, n.path, a.Allowed,
					a.Reason, held[n.path], describe(found.Way))
			}
		}
	}
}

// question asks everything of every path as one account.
func (w *world) question(who identity, causes map[access.Code]int) (asked, allowed, tried int) {
	w.t.Helper()
	p := start(w.t, who)
	defer p.end(w.t)

	asker := access.NewAsker(who.subject())
	w.below(asker)
	for _, n := range w.nodes {
		at := w.roundabout(n)
		found, err := look.Path(at)
		w.must(err)
		way := found.Way
		if got := way[len(way)-1].Set; got != w.counts(n.state).Set() {
			w.t.Fatalf("%s was made as %+v and is read as %x", n.path, n.state, got.Bytes())
		}

		for _, op := range access.For(n.kind, posix.ID) {
			want := asker.May(way, op, nil)
			if want.Allowed != asker.Can(way, op) {
				w.t.Fatalf("May and Can differ for %s on %s", op, n.path)
			}

			asked++
			causes[want.Cause]++
			got := p.do(w.t, deed{Op: op, Path: at, Kind: n.kind})
			if got.Allowed != want.Allowed {
				w.t.Errorf("%s as %+v on %s: computed %v (%s: %s), the kernel says %v %s\nway %s", op, who, at,
					want.Allowed, want.Cause, want.Reason, got.Allowed, got.Errno, describe(way))
				return
			}

			if got.Allowed {
				allowed++
				switch op {
				case access.Create:
					w.uncreate(n)
					w.mend(n)
				case access.Delete, access.Change, access.Own:
					w.mend(n)
				}
			}

			if at != n.path { // a probe goes to the path itself
				continue
			}

			try := p.do(w.t, deed{Op: op, Path: n.path, Kind: n.kind, Probe: true}).Try
			if try.Untried == "" {
				tried++
				if try.Allowed != want.Allowed {
					w.t.Errorf("%s as %+v on %s: computed %v (%s), the probe says %v: %s\nway %s", op, who, n.path,
						want.Allowed, want.Reason, try.Allowed, try.Call, describe(way))
					return
				}
			}
		}

		if again, err := look.Path(at); err != nil || !slices.Equal(again.Way, way) {
			w.t.Errorf("the probe left %s changed: %v", n.path, err)
			return
		}
	}

	return asked, allowed, tried
}

// roundabout returns a path of something, now and then one through a link that leads back to its folder.
func (w *world) roundabout(n *node) string {
	var ways []string
	for _, l := range w.nodes {
		if l.kind == perm.Link && l.target != "nowhere" && !strings.HasPrefix(l.path, n.path) &&
			filepath.Join(filepath.Dir(l.path), l.target) == filepath.Dir(n.path) {
			ways = append(ways, l.path+"/"+filepath.Base(n.path))
		}
	}
	if len(ways) == 0 || w.r.IntN(2) == 0 {
		return n.path
	}
	return ways[w.r.IntN(len(ways))]
}

// uncreate takes out what creating made, whatever flags the folder has.
func (w *world) uncreate(n *node) {
	if n.state.Flags != 0 {
		w.must(setFlags(n.path, 0))
	}
	w.must(os.Remove(filepath.Join(n.path, "new")))
}

func describe(w access.Way) string {
	var b strings.Builder
	for _, p := range w {
		s, _ := posix.Of(p.Set)
		fmt.Fprintf(&b, "\n  %s %s %d:%d %s access %s %v mount %v top %v", p.Path, p.Kind, s.UID, s.GID, s.Mode,
			s.Access.Text(nil), s.Flags.Words(), p.Mount.Words(), p.Top)
	}
	return b.String()
}

// The real thing: a child of its own for one question, as an agent starts it.
func TestRun(t *testing.T) {
	dir := t.TempDir()
	for _, p := range []string{filepath.Dir(dir), dir} {
		t.Run(p, func(t *testing.T) {
			if err := os.Chmod(p, 0o755); err != nil {
				t.Fatal(err)
			}
		})
	}

	file := filepath.Join(dir, "tide table.csv")
	if err := os.WriteFile(file, nil, 0o640); err != nil {
		t.Fatal(err)
	}

	if err := os.Chown(file, 2001, 3001); err != nil {
		t.Fatal(err)
	}

	for _, c := range []struct {
		uid     uint32
		groups  []uint32
		allowed string
	}{
		{2001, []uint32{3009}, "read,write,change"},
		{2002, []uint32{3009, 3001}, "read"},
		{2002, []uint32{3009}, ""},
		{0, []uint32{0}, "read,write,delete,rename,change"},
	} {
		t.Run(c.allowed, func(t *testing.T) {
			tries, err := Run(t.Context(), Ask{
				UID:        c.uid,
				Groups:     c.groups,
				Path:       pathname.Path(file),
				Kind:       perm.File,
				Operations: access.For(perm.File, posix.ID),
			})

			if err != nil {
				t.Fatal(err)
			}

			var got []string
			for _, x := range tries {
				if x.Allowed {
					got = append(got, x.Operation.String())
				}
				if (x.Untried != "") != (x.Operation == access.Own) {
					t.Errorf("%v: %+v", c, x)
				}
			}

			if s := strings.Join(got, ","); s != c.allowed {
				t.Errorf("as %d %v: %q, want %q: %+v", c.uid, c.groups, s, c.allowed, tries)
			}
		})
	}

	if tries, err := Run(t.Context(), Ask{
		UID:        2001,
		Groups:     []uint32{3001},
		Path:       pathname.Path(file),
		Kind:       perm.Folder,
		Operations: []access.Operation{access.Delete},
	}); err != nil || tries[0].Untried == "" {
		t.Errorf("a path of another kind was tried: %+v, %v", tries, err)
	}

	if i, err := fsys.OpenRoot(file); err != nil {
		t.Errorf("the probe took the file away: %v", err)
	} else {
		i.Close()
	}

	if _, err := Run(t.Context(), Ask{UID: 2001}); err == nil {
		t.Error("a process without a group was started")
	}
}
