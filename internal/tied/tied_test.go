//go:build linux

package tied

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The threads on which processes are started end, and the processes live on. They are several, as the first thread of
// a program does not end.
func TestOutlivesTheThread(t *testing.T) {
	type child struct {
		*exec.Cmd
		*Process
	}
	started := make(chan child)
	const children = 8

	for range children {
		go func() {
			runtime.LockOSThread() // and never unlocked: the thread ends with this function
			cmd := exec.Command("/bin/sleep", "600")
			p, err := Start(cmd)
			if err != nil {
				t.Error(err)
			}

			started <- child{cmd, p}
		}()
	}

	var all []child
	for range children {
		all = append(all, <-started)
	}

	time.Sleep(200 * time.Millisecond)
	for _, c := range all {
		select {
		case <-c.Exited():
			t.Errorf("it ended with the thread: %v", c.Process.Wait())
		default:
			if err := c.Cmd.Process.Kill(); err != nil {
				t.Error(err)
			}
		}
		if err := c.Process.Wait(); err == nil || !strings.Contains(err.Error(), "killed") {
			t.Errorf("ended with %v", err)
		}
	}

	if _, err := Start(exec.Command("/nowhere/program")); err == nil {
		t.Error("a program that is not there was started")
	}

	if err := Run(exec.Command("/bin/sh", "-c", "exit 3")); err == nil || !strings.Contains(err.Error(), "3") {
		t.Errorf("ran to %v", err)
	}
}

// Packages of others tie processes to the thread that they happen to be on: starting and ending ours ends
// none of those threads.
func TestLeavesThreadsToOthers(t *testing.T) {
	var theirs []*exec.Cmd
	for range 30 {
		cmd := exec.Command("/bin/sleep", "600")
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}

		theirs = append(theirs, cmd)
		for range 3 {
			p, err := Start(exec.Command("/bin/true"))
			if err != nil {
				t.Fatal(err)
			}
			if err := p.Wait(); err != nil {
				t.Fatal(err)
			}
		}
	}

	time.Sleep(200 * time.Millisecond)
	for _, cmd := range theirs {
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Error(err)
		}
		if err := cmd.Wait(); err == nil || !strings.Contains(err.Error(), "terminated") {
			t.Errorf("somebody else's process ended with %v", err)
		}
	}
}

// Nobody else asks the kernel for that signal: without a thread that stays it comes at any time.
func TestTheOnlyDoor(t *testing.T) {
	files := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() &&
			(d.Name() == "node_modules" || d.Name() == "third_party" || d.Name() == ".git" || d.Name() == "tied") {
			return fs.SkipDir
		}
		if !strings.HasSuffix(path, ".go") {
			return nil
		}

		files++
		b, err := os.ReadFile(path)
		if err == nil && strings.Contains(string(b), "Pdeathsig") && !strings.Contains(string(b), "tied.") {
			t.Errorf("%s ties a process to a thread by itself: call tied.Start", path)
		}

		return err
	})

	if err != nil || files < 100 {
		t.Fatalf("%d files, %v", files, err)
	}
}
