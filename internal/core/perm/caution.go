package perm

// A Caution is something about a change of one path's state that people have come to regret.
type Caution struct {
	Kind    string    // one word for what it is about
	Grave   bool      // somebody has to say that it is meant
	Who     Principal // whom it concerns; empty for nobody in particular
	Text    string
	Instead string // what to do instead
}

// The kinds of cautions.
const (
	CautionEveryone = "everyone" // everybody may change it
	CautionSetID    = "set-id"   // it runs with somebody's identity, and others can write it
	// it gets set-ID bits, capabilities or root's name, and somebody could have written it
	CautionPower    = "power"
	CautionExecute  = "execute"   // nobody could execute it, and now somebody can
	CautionPassing  = "passing"   // a folder can be listed and not passed through
	CautionLess     = "owner"     // the owner has less than others
	CautionOwning   = "owning"    // the new owner cannot read it
	CautionDefaults = "defaults"  // what is made later gets no entries any more
	CautionWay      = "way"       // an account that matters loses its way through a folder
	CautionReading  = "reading"   // an account that matters can no longer read
	CautionRoot     = "root"      // it runs as root, and its owner was another
	CautionJoining  = "joining"   // a group gains, and memberships count from the next login on
	CautionOwners   = "owners"    // paths of several owners all get one
	CautionNothing  = "no effect" // what is granted cannot be reached
	CautionFiles    = "files"     // which file is meant is not known
	CautionMore     = "more"      // more than are told one by one

	// On shares:
	CautionDeny    = "deny"    // it meets some whom another entry means to let in
	CautionLocked  = "locked"  // nobody but the owner can repair it
	CautionStopped = "stopped" // what changes above comes down no more
	CautionWiped   = "wiped"   // what was set there by itself goes
)

// RightsOf returns what an account can do with a path by its own state, regardless of the folders above it. Whoever
// the state's scheme cannot name counts as nobody in particular.
func RightsOf(k Kind, s Set, id Principal, d *Directory) Rights { return s.State().Rights(k, id, d) }

// Cautions returns what to be wary of when a path goes from one state to another. Losses are told for the accounts
// that matter.
func Cautions(k Kind, from, to Set, d *Directory, matter []Principal) []Caution {
	a, b, ok := states(from, to)
	if !ok || k == Link {
		return nil
	}
	return a.Cautions(k, b, d, matter)
}

// Empowers reports whether a change gives a program, anew or again, a power that whoever can write the program then
// has: set-ID bits, capabilities, or root as the owner of something executable. Whether such a change is right
// depends on what is in the file, too.
func Empowers(k Kind, from, to Set) bool {
	a, b, ok := states(from, to)
	return ok && a.Empowers(k, b)
}

// Exchangers names who can replace what lies in a folder, or give themselves the right to, by the folder's own state
// and regardless of the folders above it. In a sticky folder that is its owner alone; whoever owns what lies there is
// not named. Of folders that could not be read, and of those on shares, it is not known.
func Exchangers(folder Set, d *Directory) (who []string, known bool) {
	return folder.State().Exchangers(d)
}

// Astray says in which entries a path differs from what it should inherit; "" if it has just these, is protected, or
// is of a scheme in which paths do not inherit.
func Astray(f Found, d *Directory) string { return f.Set.State().Astray(f, d) }

// TakesAnew reports whether a change gives a path other inherited entries than it had.
func TakesAnew(before, after Set) bool {
	a, b, ok := states(before, after)
	return ok && a.TakesAnew(b)
}

// A Cause is why a new path came out otherwise than declared, as far as its folder tells, and what
// would make the next one come out right.
type Cause struct{ Why, Instead string }

// CauseOf looks for the cause: the folder's state, what was made in it, and the same with the one
// aspect as declared. It is empty where the states are of different schemes.
func CauseOf(k Kind, a Aspect, folder, found, mended Set, d *Directory) Cause {
	f, p, ok := states(folder, found)
	if !ok || mended.Scheme() != folder.Scheme() {
		return Cause{}
	}
	return f.Cause(k, a, p, mended.State(), d)
}
