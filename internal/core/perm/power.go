package perm

import (
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// Empowers reports whether a change gives, or gives back, a program something that whoever can write the
// program then has: set-ID bits, capabilities, or root's own name on what can be executed. Such a change is
// of what is in the file, too.
func Empowers(k Kind, from, to Set) bool {
	a, err1 := POSIXOf(from)
	b, err2 := POSIXOf(to)
	if err1 != nil || err2 != nil || k != File {
		return false
	}
	return len(powers(a, b)) > 0
}

// Powerful reports whether a file has something that Empowers speaks of.
func Powerful(k Kind, s Set) bool { return Empowers(k, POSIX{UID: 1, GID: 1}.Set(), s) }

// powers names what a program can do afterwards that it could not before.
func powers(from, to POSIX) (out []string) {
	setUID := func(p POSIX) bool { return p.Mode&mode.SetUID != 0 && p.Mode&0o111 != 0 }
	setGID := func(p POSIX) bool { return p.Mode&mode.SetGID != 0 && p.Mode&0o010 != 0 }
	if setUID(to) && (!setUID(from) || from.UID != to.UID) {
		out = append(out, "run as its owner whoever starts it")
	}

	if setGID(to) && (!setGID(from) || from.GID != to.GID) {
		out = append(out, "run in its group whoever starts it")
	}

	if to.Caps != "" && to.Caps != from.Caps {
		out = append(out, "run with "+strings.TrimSpace(CapsText(to.Caps)))
	}

	// What root owns, root and root's own jobs are likely to run.
	rooted := func(p POSIX) bool { return p.UID == 0 && p.Mode&0o111 != 0 }
	if rooted(to) && !rooted(from) {
		out = append(out, "be taken for one of root's own programs")
	}

	return out
}

// writers names who can write a file, or in a folder, or let themselves: owners and groups as the host knows
// them, and everyone.
func (p POSIX) writers(d *Directory) (out []string) {
	_, group, other, named := p.masked()
	if p.UID != 0 {
		out = append(out, d.Name(UID(p.UID)))
	}

	if group&mode.Write != 0 {
		out = append(out, "group "+d.Name(GID(p.GID)))
	}

	for _, e := range named {
		switch {
		case e.Perm&mode.Write == 0:
		case e.Tag == posixacl.Group:
			out = append(out, "group "+d.Name(GID(e.ID)))
		default:
			out = append(out, d.Name(UID(e.ID)))
		}
	}

	if other&mode.Write != 0 {
		out = append(out, "everyone")
	}

	return out
}

// Exchangers names who can put something else in the place of what lies in a folder, or let themselves: by
// the folder's own state, whatever leads to it. In a sticky folder that is its owner alone; whoever owns what
// lies there is not named. Of folders that could not be read, and of those on shares, it is not known.
func Exchangers(folder Set, d *Directory) (who []string, known bool) {
	p, err := POSIXOf(folder)
	if err != nil {
		return nil, false
	}
	if p.Mode&mode.Sticky != 0 {
		p = POSIX{UID: p.UID}
	}
	return p.writers(d), true
}

// powerCaution says what a program gains, and who could have written what is in it.
func (p POSIX) powerCaution(
	to POSIX, d *Directory, add func(kind string, grave bool, who Principal, text, instead string),
) {
	gained := powers(p, to)
	if len(gained) == 0 {
		return
	}
	could := "only root could have written what is in it"
	if who := p.writers(d); len(who) > 0 {
		could = "what is in it could have been written by " + strings.Join(who, ", ")
	}
	grave := to.Mode&(mode.SetUID|mode.SetGID) != 0 || to.Caps != ""
	add(CautionPower, grave, "", "the program will "+strings.Join(gained, ", and ")+"; "+could,
		"look at what is in the file first, or put it back from where it came from")
}
