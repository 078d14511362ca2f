//go:build linux

// Package frugal runs a piece of a test in a process of its own that may take only so much memory. Whatever needs
// more ends that process, as it would end the service or an agent that is given hostile input.
package frugal

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

const (
	within  = "IDLETALLY_FRUGAL" // names the test that the process was started for
	finish  = "frugal: came to its end"
	slack   = 24 << 20         // of the runtime, which frees memory a little after it could
	patient = 60 * time.Second // a decoder that takes longer is a fault too, on however busy a machine
)

// Run calls f in a process that may take most bytes of memory more than it has when f begins, and fails the test if
// that is not enough. The test makes f's input before it calls Run: input is made in both processes, and counts in
// neither.
func Run(t *testing.T, most int, f func()) {
	t.Helper()
	if out, err := run(t, most, f); err != nil {
		t.Errorf("it takes more than %d MiB of memory, or fails: %v\n%s", most>>20, err, out)
	}
}

// run returns how the process ended, and the beginning of what it wrote.
func run(t *testing.T, most int, f func()) (out []byte, err error) {
	if os.Getenv(within) == t.Name() {
		limit(t, most)
		f()
		fmt.Println(finish)
		os.Exit(0)
	}

	var only []string
	for part := range strings.SplitSeq(t.Name(), "/") {
		only = append(only, "^"+regexp.QuoteMeta(part)+"$")
	}

	cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run="+strings.Join(only, "/"), "-test.count=1",
		"-test.timeout="+patient.String())
	cmd.Env = append(os.Environ(), within+"="+t.Name())
	out, err = cmd.CombinedOutput()
	if err == nil && !strings.Contains(string(out), finish) {
		err = errors.New("the test did not come to the piece")
	}

	return head(out), err
}

func head(b []byte) []byte { return b[:min(len(b), 1500)] }

// limit has the kernel refuse memory beyond what this process has now and most bytes. The race detector's own memory
// is many times the program's: with it nothing is refused.
func limit(t *testing.T, most int) {
	runtime.GC()
	debug.FreeOSMemory()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	debug.SetMemoryLimit(int64(m.Sys-m.HeapReleased) + int64(most))

	if raced {
		return
	}
	data, err := mapped()
	if err != nil {
		t.Fatal(err)
	}
	end := data + uint64(most) + slack
	if err := unix.Setrlimit(unix.RLIMIT_DATA, &unix.Rlimit{Cur: end, Max: end}); err != nil {
		t.Fatal(err)
	}
}

// mapped returns how many bytes of writable private memory this process has.
func mapped() (uint64, error) {
	b, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(b)) {
		var kb uint64
		if n, _ := fmt.Sscanf(line, "VmData: %d kB", &kb); n == 1 {
			return kb << 10, nil
		}
	}
	return 0, fmt.Errorf("the kernel does not tell VmData")
}
