//go:build linux

// Package probe asks the kernel what an account may do: a child process with the account's ids and groups, and
// without any privilege, tries. It tries in ways that leave nothing behind.
package probe

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/untrusted"
	"idletally/internal/tied"
)

// An Ask is what a child is to try.
type Ask struct {
	UID        uint32             `json:"uid"`
	Groups     []uint32           `json:"groups"` // the primary one first
	Path       pathname.Path      `json:"path"`   // no part of it may be a link
	Kind       perm.Kind          `json:"kind"`   // what it was when it was looked at
	Operations []access.Operation `json:"operations"`
}

const (
	childName = "idletally-probe"
	patience  = 10 * time.Second
	maxAnswer = 1 << 20

	maxElements = 10_000 // of a child's answer
)

// Run starts a child for one question. The caller needs the privilege to become the account.
func Run(ctx context.Context, ask Ask) ([]access.Try, error) {
	if len(ask.Groups) == 0 {
		return nil, fmt.Errorf("probe as %d: a process has at least one group", ask.UID)
	}
	in, err := json.Marshal(ask)
	if err != nil {
		return nil, err
	}

	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()

	var out, complaint bytes.Buffer
	c := exec.CommandContext(ctx, "/proc/self/exe")
	c.Args = []string{childName}
	c.Dir, c.Env = "/", []string{}
	c.Stdin = bytes.NewReader(in)
	c.Stdout = &out
	c.Stderr = &complaint
	err = tied.Run(c)
	if within := ctx.Err(); err != nil && errors.Is(within, context.DeadlineExceeded) {
		var tries []access.Try
		for _, op := range ask.Operations {
			tries = append(tries, access.Try{Operation: op, Untried: "it did not answer within " + patience.String()})
		}
		return tries, nil
	}

	if err != nil {
		return nil, fmt.Errorf("probe as %d: %w: %s", ask.UID, err, bytes.TrimSpace(complaint.Bytes()))
	}
	var tries []access.Try
	if err := untrusted.JSON(out.Bytes(), maxElements, &tries); err != nil {
		return nil, fmt.Errorf("probe as %d: its answer: %w", ask.UID, err)
	}

	return tries, nil
}

// Main is the child's whole life; a program calls it first of all. It returns at once in a process that is no such
// child.
func Main() {
	if len(os.Args) != 1 || os.Args[0] != childName {
		return
	}
	if err := child(os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

func child(in io.Reader, out io.Writer) error {
	runtime.LockOSThread()
	var ask Ask
	if err := untrusted.ReadJSON(in, untrusted.Bounds{Bytes: maxAnswer, Elements: 100_000}, &ask); err != nil {
		return fmt.Errorf("question: %w", err)
	}
	if err := become(ask.UID, ask.Groups, 0); err != nil {
		return err
	}
	return json.NewEncoder(out).Encode(attempt(ask))
}

// become takes on an account's ids, in every thread, and gives up every privilege but those in
// keep (a mask of capabilities); root stays what it is.
func become(uid uint32, groups []uint32, keep uint64) error {
	runtimeGroups := make([]int, len(groups))
	for i, g := range groups {
		runtimeGroups[i] = int(g)
	}

	if err := syscall.Setgroups(runtimeGroups); err != nil {
		return fmt.Errorf("take on the account's groups: %w: the agent needs CAP_SETGID", err)
	}
	if err := syscall.Setresgid(runtimeGroups[0], runtimeGroups[0], runtimeGroups[0]); err != nil {
		return fmt.Errorf("take on the account's group: %w: the agent needs CAP_SETGID", err)
	}

	if keep != 0 {
		if err := everyThread(unix.SYS_PRCTL, unix.PR_SET_KEEPCAPS, 1, 0); err != nil {
			return fmt.Errorf("keep capabilities: %w", err)
		}
	}

	if err := syscall.Setresuid(int(uid), int(uid), int(uid)); err != nil {
		return fmt.Errorf("take on the account's id: %w: the agent needs CAP_SETUID", err)
	}

	if uid != 0 {
		if err := setCapabilities(keep); err != nil {
			return fmt.Errorf("give up capabilities: %w", err)
		}
	}

	// Whatever is started from here on gains nothing by set-ID bits.
	if err := everyThread(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0); err != nil {
		return fmt.Errorf("give up new privileges: %w", err)
	}
	if got := os.Geteuid(); got != int(uid) {
		return fmt.Errorf("became %d instead of %d", got, uid)
	}

	return nil
}

// everyThread makes a call in every thread. A program that is linked with C cannot do that; there only the thread
// that tries makes it, to which its goroutine is locked: all threads have the ids in any case, and lose their
// capabilities with them.
func everyThread(trap, a1, a2, a3 uintptr) error {
	_, _, e := syscall.AllThreadsSyscall6(trap, a1, a2, a3, 0, 0, 0)
	if e == syscall.ENOTSUP {
		_, _, e = syscall.RawSyscall6(trap, a1, a2, a3, 0, 0, 0)
	}
	if e != 0 {
		return e
	}
	return nil
}
