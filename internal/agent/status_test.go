//go:build linux

package agent

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Whoever may enter an agent's folder is told how it fares, however long the folder's path is and whatever a
// former agent left there; where none runs, that is said.
func TestStatus(t *testing.T) {
	_, a, _, _ := world(t)
	a.Version, a.Folder = "1.2.3", filepath.Join(a.Folder, strings.Repeat("deep", 40))
	must(t, os.Mkdir(a.Folder, 0o700))
	if _, err := StatusOf(t.Context(), a.Folder); !errors.Is(err, ErrNotRunning) {
		t.Errorf("before any agent: %v", err)
	}

	for round := range 2 { // the second one comes after one that left its socket
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan error)
		go func() { done <- a.inform(ctx) }()
		var s Status
		var err error

		for range 1000 {
			if s, err = StatusOf(ctx, a.Folder); err == nil {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}

		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}

		if s.Version != "1.2.3" || s.Process != os.Getpid() || s.Until.IsZero() ||
			round == 0 && (s.Answered != nil || s.Failing != nil || s.Work != nil) {
			t.Errorf("round %d: %+v", round, s)
		}

		if st, err := os.Stat(filepath.Join(a.Folder, statusFile)); err != nil || st.Mode().Perm() != 0o600 ||
			st.Mode().Type() != fs.ModeSocket {
			t.Errorf("%v, %v", st, err)
		}

		fault := errors.New("the service is away")
		a.health.note("work", fault)
		a.health.begin(func() WorkNow { return WorkNow{ID: "w1", Kind: "run", Done: 3, Total: 7} })
		s, err = StatusOf(ctx, a.Folder)
		if err != nil || s.Failing == nil || s.Failing.Why != fault.Error() || s.Failing.What != "work" ||
			s.Work == nil || s.Work.Done != 3 {
			t.Errorf("%+v, %v", s, err)
		}

		a.health.note("questions", nil)
		if s, err = StatusOf(ctx, a.Folder); err != nil || s.Answered == nil || s.Failing == nil {
			t.Errorf("one call fails, another does not: %+v, %v", s, err)
		}

		a.health.note("work", nil)
		a.health.begin(nil)
		if s, err = StatusOf(ctx, a.Folder); err != nil || s.Failing != nil || s.Work != nil {
			t.Errorf("%+v, %v", s, err)
		}

		cancel()
		if err := <-done; !errors.Is(err, context.Canceled) {
			t.Error(err)
		}

		if _, err := StatusOf(t.Context(), a.Folder); !errors.Is(err, ErrNotRunning) {
			t.Errorf("after it has ended: %v", err)
		}
	}
}

// An agent that runs notes what its calls come to, by whichever of them.
func TestCallsAreNoted(t *testing.T) {
	_, a, _, _ := world(t)
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	_ = a.call(ctx, "work", func() error {
		switch n++; n {
		case 1:
			return errors.New("away")
		case 2:
			if s := a.status(); s.Failing == nil || s.Failing.Why != "away" || s.Answered != nil {
				t.Errorf("%+v", s)
			}
			return nil
		}

		cancel()
		return ctx.Err() // that it was told to end is no fault
	})

	if s := a.status(); s.Failing != nil || s.Answered == nil {
		t.Errorf("%+v", s)
	}
}

// A status is of one moment: what comes afterwards is not in it. Of what fails it names what has failed longest.
func TestStatusIsOfOneMoment(t *testing.T) {
	_, a, _, _ := world(t)
	a.health.note("questions", nil)
	before := a.status()
	answered := *before.Answered
	time.Sleep(time.Millisecond)
	a.health.note("questions", nil)
	if !before.Answered.Equal(answered) {
		t.Error("it goes on")
	}

	a.health.note("work", errors.New("speaks protocol 9"))
	since := a.status().Failing.Since
	time.Sleep(time.Millisecond)
	a.health.note("questions", errors.New("away"))
	a.health.note("work", errors.New("speaks protocol 10"))
	if f := a.status().Failing; f.What != "work" || f.Why != "speaks protocol 10" || !f.Since.Equal(since) {
		t.Errorf("%+v", f)
	}
}

// Whoever does not answer is not said to be away: nobody knows.
func TestStatusOfWhoeverHangs(t *testing.T) {
	folder := t.TempDir()
	l, err := listenIn(folder)
	must(t, err)
	defer l.Close() // it takes connections, and says nothing
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := StatusOf(ctx, folder); err == nil || errors.Is(err, ErrNotRunning) {
		t.Errorf("%v", err)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if _, err := StatusOf(ended, folder); err == nil || errors.Is(err, ErrNotRunning) {
		t.Errorf("nobody waits: %v", err)
	}
}
