// Package atomicfile puts files in place whole, or not at all, whatever breaks off.
package atomicfile

import (
	"errors"
	"os"
	"path/filepath"

	"idletally/internal/private"
)

// Write puts a file that is nobody else's with some content in place of what has its name: it is on stable
// storage when Write returns, and until then what was there stays.
func Write(name string, content []byte) error {
	return put(name, content, os.Rename)
}

// Create is Write where nothing has the name. It is os.ErrExist where something has.
func Create(name string, content []byte) error {
	return put(name, content, func(from, to string) error {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	})
}

func put(name string, content []byte, place func(from, to string) error) (err error) {
	f, err := private.CreateTemp(filepath.Dir(name), filepath.Base(name)+".new-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
	}()

	_, err = f.Write(content)
	if err == nil {
		err = f.Sync()
	}

	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err = place(f.Name(), name); err != nil {
		return err
	}

	return SyncFolder(filepath.Dir(name))
}
