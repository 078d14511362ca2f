//go:build linux

package scan

import (
	"context"
	"runtime"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Throttle says how a scan keeps from disturbing what the host is for.
type Throttle struct {
	Idle    bool // processor and disk only when nobody else wants them
	AtMost  int  // paths a second, all workers together; 0: as many as can be
	started time.Time
	seen    atomic.Int64
}

const (
	ioprioProcess = 1
	ioprioIdle    = 3 << 13
)

// onIdleThread does some work on a thread of the lowest priorities there are. The thread is not reused: it ends with
// the goroutine, since raising a priority again needs a privilege. The caller's goroutine is for this work alone.
func (g *Throttle) onIdleThread(work func()) {
	if g == nil || !g.Idle {
		work()
		return
	}

	runtime.LockOSThread()
	tid := unix.Gettid()
	if tid == unix.Getpid() {
		// The process's first thread never ends, and would keep for good what it was given. While it is locked here
		// the work is on another.
		done := make(chan struct{})
		go func() {
			defer close(done)
			g.onIdleThread(work)
		}()
		<-done
		runtime.UnlockOSThread()
		return
	}

	// If one of the two cannot be had, the scan disturbs more, but is right all the same.
	_ = unix.Setpriority(unix.PRIO_PROCESS, tid, 19)
	_, _, _ = unix.Syscall(unix.SYS_IOPRIO_SET, ioprioProcess, uintptr(tid), ioprioIdle)
	work()
}

// pace waits until so many more paths are due.
func (g *Throttle) pace(ctx context.Context, paths int) {
	if g == nil || g.AtMost <= 0 {
		return
	}
	seen := g.seen.Add(int64(paths))
	due := g.started.Add(time.Duration(float64(seen) / float64(g.AtMost) * float64(time.Second)))
	if wait := time.Until(due); wait > 0 {
		t := time.NewTimer(wait)
		defer t.Stop()
		select {
		case <-ctx.Done():
		case <-t.C:
		}
	}
}
