package change

import (
	"errors"

	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
)

// ErrOtherwise says that a path is not in the state that a step begins with.
var ErrOtherwise = errors.New("it is not as it was seen")

// Own opens this system's own paths beneath some roots.
func Own(roots []string) FileSystem { return newLocal(roots, 1) }

// Identify says which file lies at a step's path, if it is in the state that the step begins with; and the hash of
// its content, if the step gives it power.
func Identify(r FileSystem, root string, s plan.Step) (id plan.Identity, err error) {
	thing, err := r.Open(0, root, s.Path)
	if err != nil {
		return id, err
	}
	defer thing.Close()

	seen, err := thing.Stat(0)
	switch {
	case err != nil:
		return id, err
	case seen.Kind != s.Kind || seen.Set != s.Before:
		return id, ErrOtherwise
	}

	id = plan.Identity{Inode: seen.Ino, Born: seen.Born}
	if perm.Empowers(s.Kind, s.Before, s.After) {
		id.Content, err = thing.Content()
	}

	return id, err
}
