//go:build linux

// Package tied starts processes that end when this one does, however it ends.
package tied

import (
	"os/exec"
	"runtime"
	"syscall"
)

// A Process is one that was started.
type Process struct {
	exited chan struct{}
	how    error
}

// Start starts a command. What its SysProcAttr says besides stays; where that names no signal for the death of the
// parent it is SIGKILL.
//
// The kernel sends that signal when the thread ends that started the process. Go ends a thread where a
// goroutine that is locked to it returns: the one here is nobody else's as long as the process is there, and
// lives on after that, since somebody else may have started a process on it before, as chromedp does with
// browsers.
func Start(cmd *exec.Cmd) (*Process, error) {
	tie(cmd)
	p := &Process{exited: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			p.how = cmd.Wait()
			close(p.exited)
		}
	}()
	return p, <-started
}

// Exited is closed when the process has ended.
func (p *Process) Exited() <-chan struct{} { return p.exited }

// Wait returns how the process ended, when it has, as exec.Cmd's Wait does.
func (p *Process) Wait() error {
	<-p.exited
	return p.how
}

// Run runs a command to its end.
func Run(cmd *exec.Cmd) error {
	tie(cmd)
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return cmd.Run()
}

func tie(cmd *exec.Cmd) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	if cmd.SysProcAttr.Pdeathsig == 0 {
		cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	}
}
