package agent

import "path/filepath"

// within gives the path of a folder's socket, as long as do goes on.
func within(folder string, do func(short string) error) error {
	return do(filepath.Join(folder, statusFile))
}
