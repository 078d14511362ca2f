package browser

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// A browser that is closed is gone, with all its processes.
func TestClose(t *testing.T) {
	b, err := New(t.Context(), "https://127.0.0.1:1", 800, 600, false)
	if err != nil {
		t.Fatal(err)
	}

	running := func() (n int) {
		lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
		if err != nil {
			t.Fatal(err)
		}

		for _, file := range lines {
			if line, _ := os.ReadFile(file); bytes.Contains(line, []byte(b.profile)) {
				// a process may have ended meanwhile
				n++
			}
		}

		return n
	}

	if running() == 0 {
		t.Fatal("no process bears the browser's folder")
	}

	b.Close()
	for end := time.Now().Add(patience); running() > 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d processes are left", running())
		}
	}

	if _, err := os.Stat(b.profile); err == nil {
		t.Error("its folder is left")
	}
}
