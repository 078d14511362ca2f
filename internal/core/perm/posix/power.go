package posix

import (
	"strings"

	"idletally/internal/core/caps"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// Empowers reports whether a program gets power; see [Empowers].
func (p State) Empowers(k perm.Kind, to perm.State) bool {
	return k == perm.File && len(powers(p, to.(State))) > 0
}

// powers names what a program can do afterwards that it could not before.
func powers(from, to State) (out []string) {
	setUID := func(p State) bool { return p.Mode&mode.SetUID != 0 && p.Mode&0o111 != 0 }
	if setUID(to) && (!setUID(from) || from.UID != to.UID) {
		out = append(out, "run as its owner whoever starts it")
	}

	if to.runsAsGroup() && (!from.runsAsGroup() || from.GID != to.GID) {
		out = append(out, "run in its group whoever starts it")
	}

	if to.Caps != "" && to.Caps != from.Caps {
		out = append(out, "run with "+strings.TrimSpace(caps.Text(to.Caps)))
	}

	// What root owns, root and root's own jobs are likely to run.
	rooted := func(p State) bool { return p.UID == 0 && p.Mode&0o111 != 0 }
	if rooted(to) && !rooted(from) {
		out = append(out, "be taken for one of root's own programs")
	}

	return out
}

// writers names who can write a file, or in a folder, or give themselves the right to: owners and groups as the host
// knows them, and everyone.
func (p State) writers(d *perm.Directory) (out []string) {
	_, group, other, named := p.masked()
	if p.UID != 0 {
		out = append(out, d.Name(unixid.UID(p.UID)))
	}

	if group&mode.Write != 0 {
		out = append(out, "group "+d.Name(unixid.GID(p.GID)))
	}

	for _, e := range named {
		switch {
		case e.Perm&mode.Write == 0:
		case e.Tag == posixacl.Group:
			out = append(out, "group "+d.Name(unixid.GID(e.ID)))
		default:
			out = append(out, d.Name(unixid.UID(e.ID)))
		}
	}

	if other&mode.Write != 0 {
		out = append(out, "everyone")
	}

	return out
}

// Exchangers names who can replace what lies in a folder; see [Exchangers].
func (p State) Exchangers(d *perm.Directory) (who []string, known bool) {
	if p.Mode&mode.Sticky != 0 {
		p = State{UID: p.UID}
	}
	return p.writers(d), true
}

// powerCaution says what a program gains, and who could have written what is in it.
func (p State) powerCaution(
	to State, d *perm.Directory, add adder,
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
	add(perm.CautionPower, grave, "", "the program will "+strings.Join(gained, ", and ")+"; "+could,
		"look at what is in the file first, or put it back from where it came from")
}
