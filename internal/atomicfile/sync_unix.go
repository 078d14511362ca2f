//go:build !windows

package atomicfile

import "os"

// SyncFolder makes a folder's names survive a power cut.
func SyncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
