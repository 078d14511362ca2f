// Package atomicfile puts files in place whole, or not at all, whatever breaks off.
package atomicfile

import (
	"errors"
	"os"
	"path/filepath"

	"idletally/internal/private"
)

// Write puts a file that is nobody else's, with some content, in place of what has its name: it is on stable storage
// when Write returns, and until then what was there stays.
func Write(name string, content []byte) error {
	return put(name, whole(content), os.Rename)
}

// Stream is Write for content that write writes. It may read the file again; if it returns an error nothing is put in
// place.
func Stream(name string, write func(f *os.File) error) error {
	return put(name, write, os.Rename)
}

// Create is Write for a name that nothing has yet. The error is os.ErrExist if something has.
func Create(name string, content []byte) error {
	return put(name, whole(content), func(from, to string) error {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	})
}

func whole(content []byte) func(*os.File) error {
	return func(f *os.File) error {
		_, err := f.Write(content)
		return err
	}
}

func put(name string, write func(*os.File) error, place func(from, to string) error) (err error) {
	f, err := private.CreateTemp(filepath.Dir(name), filepath.Base(name)+".new-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
	}()

	err = write(f)
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
