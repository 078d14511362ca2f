// Package private makes files and folders that are nobody else's: keys, orders, journals. Only the account that this
// process runs as, and who administers the system anyway, can read or write them.
package private

import (
	"errors"
	"os"
)

// WriteFile is os.WriteFile for a file that is nobody else's.
func WriteFile(name string, content []byte) error {
	f, err := Open(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}
