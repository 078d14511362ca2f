package access

import (
	"errors"
	"fmt"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// Asked is what a program asks for when it makes a path.
type Asked struct {
	Mode  mode.Mode // POSIX: programs ask for 0666 for files and 0777 for folders, as a rule
	Umask mode.Mode // POSIX: of the process
	Mount Mount     // that the folder lies on
}

// Made is what comes of it.
type Made struct {
	Set   perm.Set
	Notes []string
}

// New returns what a file or folder gets that a subject makes in a folder.
func New(folder perm.Set, k perm.Kind, s Subject, asked Asked, d *perm.Directory) (Made, error) {
	if k != perm.File && k != perm.Folder {
		return Made{}, fmt.Errorf("what a new %s gets is not computed: ask about a file or a folder", k)
	}
	scheme := schemeOf(folder.Scheme())
	if scheme == nil {
		return Made{}, errors.New("what comes of the folder's permissions is not known: they could not be read")
	}
	return scheme.New(folder.State(), k, s, asked, d)
}
