package mariadb

import (
	"os"
	"sync"
	"testing"
)

// Servers that start at once do not take each other's temporary tables away.
func TestStartTogether(t *testing.T) {
	for range 3 {
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				dir, err := os.MkdirTemp("", "idletally-together-")
				if err != nil {
					t.Error(err)
					return
				}
				defer os.RemoveAll(dir)
				if err := os.Chmod(dir, 0o711); err != nil { // the database's own account goes through it
					t.Error(err)
					return
				}
				s, err := Start(t.Context(), dir)
				if err != nil {
					t.Error(err)
					return
				}
				s.Stop()
			})
		}
		wg.Wait()
	}
}
