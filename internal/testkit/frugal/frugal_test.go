//go:build linux

package frugal

import (
	"runtime"
	"testing"
)

var kept [][]byte

// What takes more than it may ends; what takes less does not.
func TestRun(t *testing.T) {
	Run(t, 32<<20, func() {
		for range 100 {
			// By itself the collector runs beside this loop, and on a busy machine too late for it.
			kept = nil
			runtime.GC()
			kept = [][]byte{make([]byte, 16<<20)}
		}
	})
}
