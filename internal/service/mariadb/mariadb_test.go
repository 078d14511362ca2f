package mariadb

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"idletally/internal/testkit"
)

// Servers that start at once do not take each other's temporary tables away.
func TestStartTogether(t *testing.T) {
	for range 3 {
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				dir, err := os.MkdirTemp("", "idletally-together-")
				if err != nil {
					t.Error(err)
					return
				}
				defer os.RemoveAll(dir)

				if err := os.Chmod(dir, 0o711); err != nil { // the database's own account goes through it
					t.Error(err)
					return
				}

				s, err := Start(t.Context(), dir)
				if err != nil {
					t.Error(err)
					return
				}

				s.Stop()
			})
		}
		wg.Wait()
	}
}

// A private server is reached by its socket alone, in a folder that nobody else enters; it has nothing of the
// environment, and runs as nobody's account. What an earlier version left goes on.
func TestPrivate(t *testing.T) {
	t.Setenv("IDLETALLY_MAIL_PASSWORD", "between us")
	dir, err := os.MkdirTemp("", "idletally-private-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	must(t, os.Chmod(dir, 0o711))
	s, err := Start(t.Context(), dir)
	must(t, err)
	env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", s.cmd.Process.Pid))
	must(t, err)
	if strings.Contains(string(env), "IDLETALLY") || len(env) > 200 {
		t.Errorf("its environment: %q", env)
	}

	if st, err := os.Stat(fmt.Sprintf("/proc/%d", s.cmd.Process.Pid)); err != nil ||
		st.Sys().(*syscall.Stat_t).Uid == 65534 {
		t.Errorf("it runs as nobody: %v", err)
	}

	tcp, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/tcp", s.cmd.Process.Pid))
	must(t, err)
	links, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", s.cmd.Process.Pid))
	must(t, err)

	for _, l := range links {
		to, _ := os.Readlink(l)
		if inode, ok := strings.CutPrefix(to, "socket:["); ok &&
			strings.Contains(string(tcp), " "+strings.TrimSuffix(inode, "]")+" ") {
			t.Errorf("it listens on a port: %s", to)
		}
	}

	dsn, ok := Running(t.Context(), dir)
	if !ok || dsn != s.DSN || !strings.Contains(dsn, "@unix("+dir+"/socket/s)") {
		t.Errorf("%s, %v", dsn, ok)
	}

	sockets := filepath.Join(dir, "socket")
	if err := private(sockets); err != nil {
		t.Error(err)
	}

	// Whoever could enter that folder could put another server there: it is not taken.
	must(t, os.Chmod(sockets, 0o755))
	if _, ok := Running(t.Context(), dir); ok {
		t.Error("a folder that others enter is taken")
	}

	s.Stop()

	// Of an earlier version: the account came by a port, and the files may be another account's.
	p, err := prepare(dir)
	must(t, err)
	secret, err := os.ReadFile(filepath.Join(dir, "password"))
	must(t, err)
	must(t, p.boot(t.Context(), "DROP USER 'idletally'@'localhost';\n"))
	must(t, os.Remove(filepath.Join(dir, bySocket)))
	linked := filepath.Join(dir, "of-somebody-else")
	must(t, os.WriteFile(linked, nil, 0o600))
	if os.Getuid() == 0 {
		must(t, filepath.WalkDir(p.data, func(path string, _ fs.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(path, 65534, 65534))
		}))
	}

	must(t, os.Link(linked, filepath.Join(p.data, "linked")))
	must(t, os.Symlink(dir, filepath.Join(p.data, "out")))
	s, err = Start(t.Context(), dir)
	must(t, err)
	defer s.Stop()

	if st, err := os.Lstat(linked); err != nil || int(st.Sys().(*syscall.Stat_t).Uid) != os.Getuid() {
		t.Errorf("a file of somebody else's was given away with the database's: %v", err)
	}

	if again, err := os.ReadFile(filepath.Join(dir, "password")); err != nil || !bytes.Equal(again, secret) {
		t.Errorf("another database was made: %v", err)
	}
}

// Where a folder's path is too long for a socket, or has what an address cannot hold, the socket is
// elsewhere, and as private.
func TestLongFolder(t *testing.T) {
	for _, name := range []string{strings.Repeat("long-", 25), "one,two"} {
		t.Run(name, func(t *testing.T) {
			dir, err := os.MkdirTemp("", "idletally-long-")
			must(t, err)
			t.Cleanup(func() { os.RemoveAll(dir) })
			must(t, os.Chmod(dir, 0o711))
			dir = filepath.Join(dir, name)
			s, err := Start(t.Context(), dir)
			must(t, err)
			dsn, ok := Running(t.Context(), dir)
			if !ok || dsn != s.DSN || s.passes == "" {
				t.Errorf("%q: %s, %v", name, dsn, ok)
			}

			s.Stop()
			if _, err := os.Stat(s.passes); err == nil {
				t.Errorf("%q: its socket's folder stays", name)
			}

			if _, ok := Running(t.Context(), dir); ok {
				t.Errorf("%q: it has stopped", name)
			}
		})
	}
}

var must = testkit.Must

// The private server works where no memory may be written and then executed, as the service's unit has it
// (MemoryDenyWriteExecute=). Kernels before 6.3 cannot be told so.
func TestNoWritableCode(t *testing.T) {
	const mdwe, refuseExecGain = 65, 1 // prctl(2)
	if _, _, e := syscall.Syscall6(syscall.SYS_PRCTL, mdwe, refuseExecGain, 0, 0, 0, 0); e != 0 {
		// of this process, and its children, from now on
		t.Logf("this kernel does not keep it: %v", e)
	}

	dir, err := os.MkdirTemp("", "idletally-code-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	must(t, os.Chmod(dir, 0o711))
	s, err := Start(t.Context(), dir)
	must(t, err)
	s.Stop()
	unit, err := os.ReadFile("../../../packaging/files/idletally.service")
	must(t, err)
	if !strings.Contains(string(unit), "MemoryDenyWriteExecute=yes\n") {
		t.Error("the unit does not say so")
	}
}
