//go:build linux && !race

package frugal

import "testing"

func TestRunEnds(t *testing.T) {
	out, err := run(t, 32<<20, func() {
		for range 32 {
			kept = append(kept, make([]byte, 16<<20))
		}
	})
	if err == nil {
		t.Errorf("512 MiB were taken where 32 are allowed: %s", out)
	}
}
