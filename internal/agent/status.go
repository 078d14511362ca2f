package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"idletally/internal/wire"
)

// A Status is how an agent is doing, as it tells whoever may look into its folder.
type Status struct {
	Version  string     `json:"version"`
	Process  int        `json:"process"`
	Since    time.Time  `json:"since"`              // it runs
	Answered *time.Time `json:"answered,omitempty"` // the service did, last
	Failing  *Failing   `json:"failing,omitempty"`  // what it does again and again and has not come to since
	Watching bool       `json:"watching"`
	Notes    []string   `json:"notes"` // of what is not watched, and why
	Work     *WorkNow   `json:"work,omitempty"`
	Until    time.Time  `json:"certificate_until"`
}

// A Failing is something that an agent keeps failing at: of several, what has failed longest.
type Failing struct {
	What  string    `json:"what"`
	Why   string    `json:"why"` // the last time
	Since time.Time `json:"since"`
}

// WorkNow is what an agent is working on.
type WorkNow struct {
	ID    string    `json:"id"`
	Kind  string    `json:"kind"`
	Since time.Time `json:"since"`
	Done  int64     `json:"done"`
	Total int64     `json:"total,omitempty"` // 0 where it is not known
}

// health is the part of its status that an agent records as it goes.
type health struct {
	mu       sync.Mutex
	answered time.Time
	failing  map[string]Failing // by what is done
	work     func() WorkNow     // nil where there is none
}

// note records how a call to the service ended.
func (h *health) note(what string, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()

	if err == nil {
		h.answered = time.Now()
		delete(h.failing, what)
		return
	}

	if h.failing == nil {
		h.failing = map[string]Failing{}
	}

	f, again := h.failing[what]
	if !again {
		f = Failing{What: what, Since: time.Now()}
	}

	f.Why = err.Error()
	h.failing[what] = f
}

// begin records what work is being done; nil ends it.
func (h *health) begin(work func() WorkNow) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.work = work
}

// status returns how the agent is doing now.
func (a *Agent) status() Status {
	a.state.mu.Lock()
	watching := a.state.now
	a.state.mu.Unlock()
	h := &a.health
	h.mu.Lock()
	defer h.mu.Unlock()

	s := Status{
		Version:  a.Version,
		Process:  os.Getpid(),
		Since:    started,
		Watching: watching.Watching,
		Notes:    slices.Clone(watching.Notes),
		Until:    a.cert.Load().Leaf.NotAfter,
	}

	if answered := h.answered; !answered.IsZero() {
		s.Answered = &answered
	}

	for _, f := range h.failing {
		if s.Failing == nil || f.Since.Before(s.Failing.Since) {
			s.Failing = &f
		}
	}

	if h.work != nil {
		w := h.work()
		s.Work = &w
	}

	return s
}

const (
	statusFile = "status.sock"
	statusIn   = 5 * time.Second // for one who asks
	statusMost = 64 << 10        // bytes of an answer
)

// inform tells its status to whoever opens the socket in the agent's folder, which nobody else can enter, until the
// context ends.
func (a *Agent) inform(ctx context.Context) error {
	l, err := listenIn(a.Folder)
	if err != nil { // work goes on without
		a.Log.Warn("agent status cannot be told", "error", err)
		<-ctx.Done()
		return ctx.Err()
	}
	defer context.AfterFunc(ctx, func() { l.Close() })()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return ctx.Err()
		}

		if err != nil {
			a.Log.Warn("agent status cannot be told", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
			continue
		}

		_ = c.SetDeadline(time.Now().Add(statusIn))
		_ = json.NewEncoder(c).Encode(wire.WithLists(a.status())) // who asked has gone
		_ = c.Close()
	}
}

// listenIn opens a folder's socket. The socket of a former agent is removed: the folder's lock proves that no other
// agent runs.
func listenIn(folder string) (l net.Listener, err error) {
	err = within(folder, func(short string) error {
		if err := os.Remove(short); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		unix, err := net.ListenUnix("unix", &net.UnixAddr{Name: short, Net: "unix"})
		if err != nil {
			return err
		}

		unix.SetUnlinkOnClose(false) // by then its name is another one
		l = unix
		return os.Chmod(filepath.Join(folder, statusFile), 0o600)
	})

	if err != nil && l != nil {
		_ = l.Close()
	}

	return l, err
}

// ErrNotRunning says that no agent works with a folder.
var ErrNotRunning = errors.New("no agent runs with this folder")

// StatusOf asks the agent that works with a folder how it is doing.
func StatusOf(ctx context.Context, folder string) (s Status, err error) {
	ctx, cancel := context.WithTimeout(ctx, statusIn)
	defer cancel()

	var c net.Conn
	err = within(folder, func(short string) error {
		c, err = (&net.Dialer{}).DialContext(ctx, "unix", short)
		return err
	})
	if errors.Is(err, os.ErrPermission) {
		return s, fmt.Errorf("ask as root, or as the account that the agent runs as: %w", err)
	}
	if errors.Is(err, os.ErrNotExist) || refused(err) {
		return s, fmt.Errorf("%w: start it: systemctl start idletally-agent, or idletally agent run", ErrNotRunning)
	}
	if err != nil {
		return s, fmt.Errorf("whether an agent runs with this folder is not known: %w", err)
	}
	defer c.Close()

	end, _ := ctx.Deadline()
	_ = c.SetDeadline(end)
	err = json.NewDecoder(io.LimitReader(c, statusMost)).Decode(&s)
	if err != nil {
		return s, fmt.Errorf("the agent does not say how it fares: %w", err)
	}

	return s, nil
}
