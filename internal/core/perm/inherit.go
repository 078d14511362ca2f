package perm

// An Inheriting state has entries from its folder that have to be changed whenever the folder's are. In other schemes
// paths inherit only when they are made.
type Inheriting interface {
	State
	// PassesOnSame reports whether paths inherit the same from two states of a folder.
	PassesOnSame(as State) bool
	// Resumes reports whether the state is protected, and after a change inherits again.
	Resumes(after State) bool
	// Reinherit returns the state of a path of kind k in a folder, with its inherited entries taken anew from there.
	Reinherit(k Kind, folder State) Inheriting
}

// Whole is the state of all that lies on a share, as a list of its own that the server keeps for it.
type Whole interface {
	WholeEntries(d *Directory) []string
}

// ShareEntries writes the entries of the list that a server keeps for a share as a whole. It reports false where s is
// no such list.
func ShareEntries(s Set, d *Directory) ([]string, bool) {
	if x, ok := s.State().(Whole); ok {
		return x.WholeEntries(d), true
	}
	return nil, false
}
