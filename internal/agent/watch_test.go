//go:build linux

package agent

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/testkit"
	"idletally/internal/wire"
)

// following starts an agent that is to watch its root, and gives what the service has heard so far.
func following(t *testing.T, s *service, a *Agent, roots ...string) {
	t.Helper()
	place := wire.WatchedPlace{Application: "ticketing"}
	for _, r := range roots {
		place.Roots = append(place.Roots, pathname.Escape(r))
	}
	s.watches = &wire.WatchList{Version: "1", Applications: []wire.WatchedPlace{place}}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); _ = a.watch(ctx) }()
	t.Cleanup(func() { cancel(); <-done })
}

// await waits until the service has what is wanted.
func (s *service) await(what string, is func() bool) {
	s.t.Helper()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		s.mu.Lock()
		ok := is()
		s.mu.Unlock()
		if ok {
			return
		}
		if time.Now().After(end) {
			s.t.Fatalf("after 20 seconds: not %s", what)
		}
	}
}

// mode returns what the service has last heard of a path's mode.
func (s *service) mode(path string) string {
	if len(s.heard) == 0 {
		return ""
	}
	e, _, err := tree.Lookup(context.Background(), s.nodes, s.heard[len(s.heard)-1].Forest, path)
	if err != nil {
		return err.Error()
	}
	m, _ := perm.DeclaredMode(e.Set)
	return m.String()
}

// What changes is told, with few nodes; what changes nothing of permissions is not; and what could not be
// told is told later.
func TestTellsWhatItHears(t *testing.T) {
	s, a, _, root := world(t)
	file := filepath.Join(root, "a/b/file")
	for _, d := range []string{"a/b", "c/d"} {
		must(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}

	must(t, os.WriteFile(file, nil, 0o640))
	following(t, s, a, root)
	s.await("watching", func() bool { return len(s.states) > 0 && s.states[len(s.states)-1].Watching })
	s.await("the first look", func() bool { return len(s.heard) == 1 })
	must(t, os.Chmod(file, 0o604))
	s.await("a change", func() bool { return s.mode(file) == "0604" })
	h := s.heard[1]
	if h.Paths != 6 || len(h.Acts) != 1 || string(h.Acts[0].Path) != file || h.Acts[0].PID != os.Getpid() ||
		len(h.Ways) != 1 {
		t.Errorf("%+v", h)
	}

	must(t, os.Chtimes(file, time.Now(), time.Now())) // nobody's permissions
	must(t, os.Chmod(filepath.Join(root, "c/d"), 0o700))
	s.await("another change", func() bool { return s.mode(filepath.Join(root, "c/d")) == "0700" })
	s.mu.Lock()
	n := len(s.heard)
	s.refuse = 2
	s.mu.Unlock()
	if n > 3 {
		t.Errorf("told %d times", n)
	}

	must(t, os.Chmod(file, 0o666))
	s.await("what could not be told at first", func() bool { return s.mode(file) == "0666" })
	must(t, os.Chmod(root, 0o711))
	s.await("a change of the root", func() bool { return s.mode(root) == "0711" })
}

// What the service has is said to be so as long as nothing else was heard of, and not for longer than it could be told.
func TestSaysWhatIsCurrent(t *testing.T) {
	s, a, _, root := world(t)
	file := filepath.Join(root, "file")
	must(t, os.WriteFile(file, nil, 0o640))
	following(t, s, a, root)
	is := func(what string, now bool, mode string) {
		t.Helper()
		s.await(what, func() bool {
			if len(s.current) != 1 || s.mode(file) != mode {
				return false
			}

			h, c := s.heard[len(s.heard)-1], s.current[0]
			accounts, err := h.Directory.Hash()
			must(t, err)
			return c.Application == "ticketing" && c.Forest == h.Forest && c.Accounts == accounts &&
				(c.Seconds == 0) == now
		})
	}

	is("that the first look is current", true, "0640")
	s.mu.Lock()
	s.refuse = 1 << 30
	s.mu.Unlock()
	must(t, os.Chmod(file, 0o600))
	is("that it is so no longer", false, "0640")
	s.mu.Lock()
	s.refuse = 0
	s.mu.Unlock()
	is("that the next look is current", true, "0600")
}

// An agent that may not listen says why, and looks all the same.
func TestLooksWhereNothingIsHeard(t *testing.T) {
	s, a, _, root := world(t)
	at := filepath.Join(root, "later")
	following(t, s, a, at)
	s.await("a reason", func() bool {
		return len(s.states) > 1 && !s.states[len(s.states)-1].Watching &&
			strings.Contains(strings.Join(s.states[len(s.states)-1].Notes, " "), "looked at every 10 minutes instead")
	})
	s.await("a look", func() bool { return len(s.heard) == 1 && s.heard[0].Gaps == 1 })
}

func TestWatchesNothingOutside(t *testing.T) {
	s, a, _, root := world(t)
	following(t, s, a, root, "/etc")
	s.await("a reason", func() bool {
		return len(s.states) > 1 &&
			strings.Contains(strings.Join(s.states[len(s.states)-1].Notes, " "), "own list of roots")
	})
	time.Sleep(100 * time.Millisecond)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.heard) > 0 {
		t.Errorf("%+v", s.heard)
	}
}

// Looks rest: what changes all the time makes no more snapshots than are borne.
func TestRests(t *testing.T) {
	f := &follower{left: burst, since: time.Now()}
	var waited time.Duration
	for range burst + 10 {
		waited += f.rest()
	}
	if waited < 45*replenish || waited > 56*replenish {
		t.Errorf("waited %s", waited)
	}
	f.since = f.since.Add(-burst * replenish)
	if d := f.rest(); d != 0 {
		t.Errorf("rested, and waits %s", d)
	}
}

// A file that changes by a name elsewhere is found by its inode.
func TestHearsByAnotherName(t *testing.T) {
	s, a, _, root := world(t)
	file, other := filepath.Join(root, "one"), filepath.Join(t.TempDir(), "other")
	must(t, os.WriteFile(file, nil, 0o640))
	must(t, unix.Link(file, other))
	following(t, s, a, root)
	s.await("the first look", func() bool { return s.mode(file) == "0640" })
	must(t, os.Chmod(other, 0o606))
	s.await("a change by the other name", func() bool { return s.mode(file) == "0606" })
}

var must = testkit.Must
