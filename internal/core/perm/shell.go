package perm

import (
	"fmt"
	"strings"
)

// A Shell is a state in the words of the system's own utilities: chown, chmod, setfacl and setfattr.
type Shell struct {
	Owner    string // UID:GID
	Mode     string // octal, as stat gives it: without leading zeros
	Access   string // the whole access list in its text form, numbers for names
	Defaults string // "-" for none
	Caps     string // hexadecimal, "-" for none
}

// Plain reports whether mode and owner say all of it.
func (s Shell) Plain() bool {
	return strings.Count(s.Access, ",") == 2 && s.Defaults == "-" && s.Caps == "-"
}

// String returns it in one word for each part.
func (s Shell) String() string {
	return strings.Join([]string{s.Owner, s.Mode, s.Access, s.Defaults, s.Caps}, " ")
}

// Scripted is a state that a shell script can set.
type Scripted interface {
	State
	Shell() Shell
}

// ShellOf returns a state as arguments of the system's utilities; it is an error if its scheme has none.
func ShellOf(s Set) (Shell, error) {
	if x, ok := s.State().(Scripted); ok {
		return x.Shell(), nil
	}
	return Shell{}, fmt.Errorf("a shell script cannot set permissions of scheme %s", s.Scheme())
}

// Scriptable reports whether a shell script can set a state.
func Scriptable(s Set) bool {
	_, ok := s.State().(Scripted)
	return ok
}
