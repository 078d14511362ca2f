//go:build linux

package change

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/testkit"
	"idletally/internal/tied"
)

const svc = 41001 // an account that holds nothing but its own files

// netRaw is cap_net_raw+ep as the kernel keeps it.
const netRaw = "\x01\x00\x00\x02\x00\x20\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"

var must = testkit.Must

// owned makes a folder of svc's with a file of some state and content in it, which the account can get at.
func owned(t testing.TB, name string, state posix.State, content string) (dir, path string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "identity-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir); os.RemoveAll(dir + "-state") })
	must(t, os.Chmod(dir, 0o755))
	must(t, os.Chown(dir, svc, svc))
	path = filepath.Join(dir, name)
	put(t, path, state, content)
	return dir, path
}

func put(t testing.TB, path string, state posix.State, content string) {
	t.Helper()
	must(t, os.WriteFile(path, []byte(content), 0o600))
	must(t, os.Chown(path, int(state.UID), int(state.GID)))
	must(t, unix.Chmod(path, uint32(state.Mode)))
	if state.Caps != "" {
		must(t, unix.Setxattr(path, "security.capability", []byte(state.Caps), 0))
	}
}

// drafted is a world whose plan takes some paths from how they are to a state, each known by the host.
func drafted(t testing.TB, dir string, to posix.State, paths ...string) *world {
	t.Helper()
	w := &world{dir: dir}
	for _, p := range paths {
		i := look(t, dir, p)
		w.steps = append(w.steps, plan.Step{Path: p, Kind: i.Kind, Before: i.Set, After: to.Set()})
	}
	w.identify(t)
	w.chunks = Memory{w.steps}
	return w
}

// carried runs a plan, and gives the outcome of its first step.
func (w *world) carried(t testing.TB) (plan.Result, *Journal) {
	t.Helper()
	os.RemoveAll(w.dir + "-state")
	r := w.runner(t)
	must(t, r.Run(t.Context()))
	return r.Journal.Results()[0], r.Journal
}

var (
	secret  = posix.State{Mode: 0o600}
	shown   = posix.State{UID: svc, Mode: 0o640}
	program = posix.State{UID: svc, GID: svc, Mode: 0o755}
	setUID  = posix.State{UID: 0, GID: 0, Mode: 0o4755}
	capable = posix.State{UID: 0, GID: 0, Mode: 0o755, Caps: netRaw}
)

// I1: A step is of one file: another one that somebody moved, made or linked to its path since is left alone,
// whatever its state.
func TestAnotherFileAtThePath(t *testing.T) {
	for name, swap := range map[string]func(dir, path string) error{
		"another file of the folder": func(dir, path string) error {
			return unix.Renameat2(unix.AT_FDCWD, path, unix.AT_FDCWD, filepath.Join(dir, "private.key"),
				unix.RENAME_EXCHANGE)
		},
		"another file takes its name": func(dir, path string) error {
			return os.Rename(filepath.Join(dir, "private.key"), path)
		},
		"made anew": func(_, path string) error {
			err := os.Remove(path)
			if err == nil {
				err = os.WriteFile(path, []byte("new"), 0o600)
			}
			return err
		},
		"made anew and renamed": func(_, path string) error {
			err := os.WriteFile(path+".new", []byte("new"), 0o600)
			if err == nil {
				err = os.Rename(path+".new", path)
			}
			return err
		},
		"its folder made anew": func(dir, path string) error {
			err := os.Rename(dir, dir+"-old")
			t.Cleanup(func() { os.RemoveAll(dir + "-old") })
			if err == nil {
				err = os.Mkdir(dir, 0o755)
			}

			if err == nil {
				err = os.Rename(filepath.Join(dir+"-old", "private.key"), path)
			}

			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir, path := owned(t, "report.cfg", secret, "what everybody knows")
			put(t, filepath.Join(dir, "private.key"), secret, "what nobody is to know")
			w := drafted(t, dir, shown, path)
			must(t, swap(dir, path))
			got, _ := w.carried(t)
			if got.Outcome != plan.Skipped || !strings.Contains(got.Reason, "another file") ||
				look(t, dir, path).Set != secret.Set() {
				t.Errorf("%v: %s; it is %+v now", got.Outcome, got.Reason, look(t, dir, path).Set.State())
			}
		})
	}
}

// I5: What gives a program power wants the program that was reviewed, and nobody who can still write it.
func TestPowerIsForWhatWasReviewed(t *testing.T) {
	write := func(t *testing.T, path string) { must(t, os.WriteFile(path, []byte("#!/bin/evil"), 0)) }
	for name, c := range map[string]struct {
		change func(t *testing.T, path string)
		want   plan.Outcome
		says   string
	}{
		"nothing was done": {func(*testing.T, string) {}, plan.Done, ""},
		"it was rewritten in place": {func(t *testing.T, path string) {
			write(t, path)
			must(t, os.Chown(path, svc, svc))
		}, plan.Skipped, "what is in it"},
		"it is open for writing": {func(t *testing.T, path string) {
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			must(t, err)
			t.Cleanup(func() { f.Close() })
		}, plan.Refused, "open for writing"},
		"it is mapped to be written": {func(t *testing.T, path string) {
			f, err := os.OpenFile(path, os.O_RDWR, 0)
			must(t, err)
			m, err := unix.Mmap(int(f.Fd()), 0, 4, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
			must(t, err)
			f.Close()
			t.Cleanup(func() { _ = unix.Munmap(m) })
		}, plan.Refused, "open for writing"},
	} {
		for what, to := range map[string]posix.State{
			"set-ID":                   setUID,
			"capabilities":             capable,
			"root's name":              {Mode: 0o755},
			"the owner's capabilities": {UID: svc, GID: svc, Mode: 0o755, Caps: netRaw},
		} {
			t.Run(name+", "+what, func(t *testing.T) {
				dir, path := owned(t, "tool", program, "#!/bin/true")
				w := drafted(t, dir, to, path)
				c.change(t, path)
				got, _ := w.carried(t)
				now := posixOf(t, look(t, dir, path))
				if got.Outcome != c.want || !strings.Contains(got.Reason, c.says) {
					t.Errorf("%v: %s", got.Outcome, got.Reason)
				}

				if c.want == plan.Done && now.Set() != to.Set() || c.want != plan.Done && now.Set() != program.Set() {
					t.Errorf("it is %+v now", now)
				}
			})
		}
	}

	t.Run("of a plan that does not say what is in it", func(t *testing.T) {
		dir, path := owned(t, "tool", program, "#!/bin/true")
		w := drafted(t, dir, setUID, path)
		w.steps[0].File = plan.Identity{}
		if got, _ := w.carried(t); got.Outcome != plan.Refused || look(t, dir, path).Set != program.Set() {
			t.Errorf("%v: %s", got.Outcome, got.Reason)
		}
	})
}

// I5: What a run has taken from a program comes back to that program alone.
func TestPowerComesBackToTheSameProgram(t *testing.T) {
	for _, from := range []posix.State{setUID, capable} {
		for name, c := range map[string]struct {
			change func(path string) error
			want   plan.Outcome
		}{
			"nothing was done": {func(string) error { return nil }, plan.Done},
			"written into": {func(path string) error { return os.WriteFile(path, []byte("#!/bin/evil"), 0) },
				plan.Skipped},
			"written and longer": {
				func(path string) error { return os.WriteFile(path, bytes.Repeat([]byte("evil"), 1000), 0) },
				plan.Skipped,
			},
			"replaced": {func(path string) error {
				err := os.Remove(path)
				if err == nil {
					err = os.WriteFile(path, []byte("#!/bin/true"), 0o755)
				}
				return err
			}, plan.Skipped},
		} {
			t.Run(fmt.Sprintf("%o%x %s", from.Mode, from.Caps, name), func(t *testing.T) {
				dir, path := owned(t, "tool", from, "#!/bin/true")
				taken := posix.State{UID: svc, GID: svc, Mode: 0o755}
				w := drafted(t, dir, taken, path)
				got, j := w.carried(t)
				if got.Outcome != plan.Done {
					t.Fatal(got)
				}

				must(t, c.change(path))
				must(t, os.Chown(path, svc, svc)) // as if the account had done it
				must(t, unix.Chmod(path, 0o755))
				back := w.undo(j)
				got, _ = back.carried(t)
				now := posixOf(t, look(t, dir, path))
				if got.Outcome != c.want || c.want == plan.Done && now.Set() != from.Set() ||
					c.want != plan.Done && now.Set() != taken.Set() {
					t.Errorf("%v: %s; it is %+v now", got.Outcome, got.Reason, now)
				}
			})
		}
	}
}

// busy is the environment of a process that, as an account, writes a file again and again by whatever it can open.
const busy = "IDLETALLY_BUSY"

func init() {
	path := os.Getenv(busy)
	if path == "" {
		return
	}

	if errors.Join(syscall.Setgroups(nil), syscall.Setgid(svc), syscall.Setuid(svc)) != nil {
		os.Exit(1)
	}

	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		_ = unix.Chmod(path, 0o755) // as its owner may
		fd, err := unix.Open(path, unix.O_RDWR|unix.O_NONBLOCK, 0)
		if err != nil {
			continue
		}

		m, err := unix.Mmap(fd, 0, 4, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		unix.Close(fd)
		if err != nil {
			continue
		}

		time.Sleep(time.Duration(time.Now().UnixNano() % 300_000))
		m[0] = 'E'
		_ = unix.Munmap(m)
	}

	os.Exit(0)
}

// I5: An account opens its program for writing all the time, by maps that no mode shows, while runs make it
// root's: whenever one ends well, what is in it is what was reviewed, and stays so.
func TestPowerAgainstAWriterAllTheTime(t *testing.T) {
	self, err := os.Executable()
	must(t, err)
	outcomes := map[plan.Outcome]int{}

	for round := 0; round < 32 || outcomes[plan.Done] == 0 && round < 2000; round++ {
		dir, path := owned(t, "tool", program, "#!/bin/true")
		w := drafted(t, dir, setUID, path)
		var writer *exec.Cmd
		var process *tied.Process
		if round%4 != 0 { // otherwise nobody is there
			writer = exec.Command(self)
			writer.Env = append(os.Environ(), busy+"="+path)
			process, err = tied.Start(writer)
			must(t, err)
			time.Sleep(time.Duration(round%7) * time.Millisecond)
		}

		got, _ := w.carried(t)
		outcomes[got.Outcome]++
		for range 3 {
			b, err := os.ReadFile(path)
			must(t, err)
			now := posixOf(t, look(t, dir, path))
			if now.UID == 0 && now.Mode&mode.SetUID != 0 && string(b) != "#!/bin/true" {
				t.Fatalf("round %d: %v, and root's program is %q", round, got, b)
			}

			time.Sleep(time.Millisecond)
		}

		if writer != nil {
			_ = writer.Process.Kill()
			_ = process.Wait()
		}
	}

	t.Logf("%v", outcomes)
}

// I6: A folder that is moved away while it is narrow is as it was again, wherever it is; and what cannot be found
// is among the originals.
func TestMovedWhileNarrow(t *testing.T) {
	dir, _ := owned(t, "x", posix.State{UID: svc, Mode: 0o644}, "")
	sub := filepath.Join(dir, "sub")
	must(t, os.Mkdir(sub, 0o755))
	inner := filepath.Join(sub, "f")
	put(t, inner, posix.State{UID: svc, Mode: 0o644}, "")
	narrowing := &world{dir: dir, steps: []plan.Step{
		{Path: sub, Kind: perm.Folder, Before: posix.State{Mode: 0o755}.Set(), After: posix.State{Mode: 0o573}.Set()},
		{
			Path: inner, Kind: perm.File, Before: posix.State{UID: svc, Mode: 0o644}.Set(),
			After: posix.State{UID: svc, Mode: 0o600}.Set(),
		},
	}}

	narrowing.chunks = Memory{narrowing.steps}
	for _, held := range []bool{true, false} {
		os.RemoveAll(dir + "-state")
		r := narrowing.runner(t)
		moved := false
		r.Batch = 1
		r.pause = func() {
			if !held && r.held != nil {
				for no, thing := range r.held {
					_ = thing.Close()
					delete(r.held, no)
				}
			}

			if !moved && posixOf(t, look(t, dir, inner)).Mode == 0o600 {
				moved = true
				must(t, os.Rename(sub, filepath.Join(dir, "away")))
			}
		}

		must(t, r.Run(t.Context()))
		if !moved {
			t.Fatal("nobody moved it")
		}

		res := r.Journal.Results()[0]
		now := posixOf(t, look(t, dir, filepath.Join(dir, "away")))
		left, err := r.Settle(t.Context())
		must(t, err)
		if held && (now.Mode != 0o755 || !strings.Contains(res.Reason, "as it was before again")) {
			t.Errorf("%v: %s; %+v", res.Outcome, res.Reason, now)
		}

		if _, told := left[0]; !held && (!told || now.Mode == 0o755) {
			t.Errorf("%v: %s; %+v, left %v", res.Outcome, res.Reason, now, left)
		}

		must(t, unix.Chmod(filepath.Join(dir, "away"), 0o755))
		must(t, unix.Chmod(filepath.Join(dir, "away", "f"), 0o644))
		must(t, os.Rename(filepath.Join(dir, "away"), sub))
	}
}
