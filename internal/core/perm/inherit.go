package perm

// An Inheriting state has entries that its folder passes on, and keeps them only as long as somebody makes the change
// of the folder there, too. In other schemes nothing is passed on but when a path is made.
type Inheriting interface {
	State
	// PassesOnSame reports whether two states of a folder pass the same on.
	PassesOnSame(as State) bool
	// Resumes reports whether it takes nothing from above, and after a change does again.
	Resumes(after State) bool
	// Reinherit returns the state of a path of kind k in a folder, with what the folder passes on in place of what came
	// from above before.
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
