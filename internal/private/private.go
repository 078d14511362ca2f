// Package private makes files and folders that are nobody else's: keys, orders, journals. Only the account that this
// process runs as, and the system's administrators, can read or write them.
package private

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"idletally/internal/core/pathname"
)

// Check returns why something is not nobody else's: others can write to it or, if it holds a secret, read it. What is
// not there is nobody's.
func Check(at string, secret bool) error {
	st, err := os.Lstat(at)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return err
	case st.Mode()&(os.ModeSymlink|os.ModeIrregular) != 0:
		return fmt.Errorf("%s is a link: what is kept there has to lie there itself",
			pathname.Escape(filepath.ToSlash(at)))
	}
	return exposed(at, st, secret)
}

// WriteFile is os.WriteFile for a file that is nobody else's.
func WriteFile(name string, content []byte) error {
	f, err := Open(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}
