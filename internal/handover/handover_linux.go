// Package handover changes the owner of files from one account to another, as root, where either account may replace
// them meanwhile.
package handover

import (
	"io/fs"
	"os"
	"syscall"
)

// Give makes a folder, and what in it belongs to an account, another account's. That account, or the folder's owner,
// may replace what is there meanwhile: nothing outside is reached by any link, and no file of somebody else's is
// given away that was linked there.
func Give(dir string, from uint32, uid, gid int) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		st, err := root.Lstat(path)
		if err != nil {
			return err
		}

		switch own := st.Sys().(*syscall.Stat_t); {
		case own.Uid != from, !st.IsDir() && own.Nlink > 1:
			return nil
		}

		return root.Lchown(path, uid, gid)
	})
}
