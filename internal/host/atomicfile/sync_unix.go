//go:build !windows

package atomicfile

import "os"

// syncFolder makes a folder's names survive a power cut.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
