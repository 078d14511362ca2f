//go:build linux

package scan

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

func crowd(t *testing.T, folders, files int) string {
	t.Helper()
	root := t.TempDir()
	for d := range folders {
		at := filepath.Join(root, fmt.Sprint(d))
		if err := os.Mkdir(at, 0o755); err != nil {
			t.Fatal(err)
		}
		for f := range files {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprint(f)), nil, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	return root
}

// A limit is kept, and a scan that waits can be given up at once.
func TestAtMost(t *testing.T) {
	root := crowd(t, 20, 20)
	start := time.Now()
	_, stats, err := Scan(t.Context(), []string{root}, Options{Throttle: &Throttle{AtMost: 1000}}, newSpool(t))
	took := time.Since(start)
	if err != nil || took < time.Duration(stats.Paths-1)*time.Millisecond-50*time.Millisecond {
		t.Errorf("%d paths in %s, %v", stats.Paths, took, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	start = time.Now()
	if _, _, err := Scan(ctx, []string{root}, Options{Throttle: &Throttle{AtMost: 1}}, newSpool(t)); !errors.Is(err,
		context.DeadlineExceeded) ||
		time.Since(start) > 5*time.Second {
		t.Errorf("given up after %s: %v", time.Since(start), err)
	}
}

// An idle scan works with the lowest priorities, and leaves those of everybody else alone.
func TestIdle(t *testing.T) {
	root := crowd(t, 30, 10)
	nice := func() (at []int) {
		tasks, err := os.ReadDir("/proc/self/task")
		if err != nil {
			t.Fatal(err)
		}

		for _, task := range tasks {
			b, err := os.ReadFile("/proc/self/task/" + task.Name() + "/stat")
			if err != nil {
				continue // it ended meanwhile
			}

			var n int
			if _, err := fmt.Sscan(strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+2:]))[16],
				&n); err != nil {
				t.Fatal(err)
			}

			at = append(at, n)
		}

		return at
	}

	own := slices.Min(nice()) // whoever runs the tests may be nice, too; at 19 there is nothing to be seen
	lowest := own
	_, _, err := Scan(t.Context(), []string{root},
		Options{Throttle: &Throttle{Idle: true, AtMost: 2000}, Progress: func(Stats) {
			lowest = max(lowest, slices.Max(nice()))
		}, Workers: 1}, newSpool(t))
	if err != nil || lowest != 19 {
		t.Errorf("nice %d, want 19, %v", lowest, err)
	}

	for range 100 { // its threads end with it
		lowest = slices.Max(nice())
		if lowest == own {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}

	if ours, err := unix.Getpriority(unix.PRIO_PROCESS, 0); lowest != own || err != nil || ours != 20-own {
		// the system call gives 20 minus nice
		t.Errorf("after it nice %d, our own 20 - %d, %v", lowest, ours, err)
	}
}
