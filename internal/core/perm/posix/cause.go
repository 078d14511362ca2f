package posix

import (
	"fmt"
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// Cause returns why what was made in the folder came out otherwise than declared; see [CauseOf].
func (f State) Cause(k perm.Kind, a perm.Aspect, found, mended perm.State, d *perm.Directory) perm.Cause {
	p, m := found.(State), mended.(State)
	switch a {
	case perm.AspectOwner:
		return perm.Cause{Why: fmt.Sprintf("%s makes them: a new path belongs to whoever makes it",
			d.Name(unixid.UID(p.UID))),
			Instead: fmt.Sprintf("have %s make them, or leave the owner free (owner: any) and grant by group "+
				"or entries",
				d.Name(unixid.UID(m.UID)))}
	case perm.AspectGroup:
		return f.groupCause(p, m, d)
	case perm.AspectMode:
		return f.modeCause(k, p, m)
	case perm.AspectEntries:
		return f.entriesCause(k, p, m)
	case perm.AspectDefaults:
		if slices.Equal(f.Default, m.Default) {
			return perm.Cause{
				Why: "it was moved here or changed later: folders made here get the default entries that are " +
					"declared",
				Instead: "copy instead of moving, or mend what changes them",
			}
		}
		return perm.Cause{
			Why: "a new folder gets the default entries of the folder that it is made in, and those are not " +
				"what is declared",
			Instead: "the declared default entries on that folder: defaults: derived",
		}
	}

	return perm.Cause{Why: "it was set after the path was made", Instead: "mend what sets it"}
}

func (f State) groupCause(p, m State, d *perm.Directory) perm.Cause {
	switch got, want := d.Name(unixid.GID(p.GID)), d.Name(unixid.GID(m.GID)); {
	case f.Mode&mode.SetGID == 0 && f.GID == m.GID:
		return perm.Cause{
			Why: fmt.Sprintf("the folder has no set-group-ID: a new path gets the primary group of who makes "+
				"it, here %s",
				got),
			Instead: "set-group-ID on the folder (a leading 2: folders: 2770), so that new paths get its group",
		}
	case f.Mode&mode.SetGID == 0:
		return perm.Cause{
			Why: fmt.Sprintf(
				"the folder has neither the group %s nor set-group-ID: a new path gets the primary group of who "+
					"makes it, here %s",
				want, got),
			Instead: fmt.Sprintf("group %s and set-group-ID on the folder", want),
		}
	case f.GID == p.GID:
		return perm.Cause{
			Why:     fmt.Sprintf("the folder has set-group-ID and hands its own group %s on", got),
			Instead: fmt.Sprintf("group %s on the folder", want),
		}
	}

	return perm.Cause{
		Why:     "it was moved here or its group was changed later: paths made here get the folder's group",
		Instead: "copy instead of moving, or mend what changes the group",
	}
}

// usualMasks are those that systems and services set.
var usualMasks = []mode.Mode{0o000, 0o002, 0o007, 0o022, 0o027, 0o077}

func (f State) modeCause(k perm.Kind, p, m State) perm.Cause {
	asked := []mode.Mode{0o666, 0o777}
	if k == perm.Folder {
		asked = []mode.Mode{0o777}
	}

	got, want := p.declaredMode()&0o777, m.declaredMode()&0o777
	setGID := perm.Cause{
		Why:     "the folder has no set-group-ID, and so hands none on",
		Instead: "set-group-ID on the folder (a leading 2: folders: 2770)",
	}
	if k == perm.Folder && got == want && m.Mode&mode.SetGID != 0 && p.Mode&mode.SetGID == 0 &&
		f.Mode&mode.SetGID == 0 {
		return setGID
	}

	for _, ask := range asked {
		if f.Default != nil {
			made := State{}
			made.Access, made.Mode = f.Default.Inherit(ask)
			if made.declaredMode() == got && slices.Equal(made.Access.Named(), p.Access.Named()) {
				return perm.Cause{
					Why: fmt.Sprintf(
						"the folder's default entries give %s to what programs ask %s for; the umask has no part in it",
						got, ask),
					Instead: "default entries that give what is declared, or a program that asks for less",
				}
			}

			continue
		}
		for _, u := range usualMasks {
			if ask&^u != got {
				continue
			}

			c := perm.Cause{
				Why: fmt.Sprintf("the process that makes them has umask %s: of %s it leaves %s", octal3(u), ask,
					got),
				Instead: "default entries on the folder, which count instead of the umask",
			}
			if want&^ask == 0 {
				right := ask &^ want
				if i := slices.IndexFunc(usualMasks, func(u mode.Mode) bool { return ask&^u == want }); i >= 0 {
					right = usualMasks[i]
				}
				c.Instead = fmt.Sprintf(
					"umask %s for that process (in a systemd unit: UMask=%s), or default entries on the folder, "+
						"which count instead of the umask",
					octal3(right), right)
			}

			return c
		}
	}

	return perm.Cause{
		Why:     "neither umask nor default entries make such a mode: the program sets it, or copies it from elsewhere",
		Instead: "mend the program, or the mode of what it copies",
	}
}

func octal3(m mode.Mode) string { return m.String()[1:] }

// onlyExecute reports whether the named entries lack nothing but execute.
func onlyExecute(want, got State) bool {
	_, _, _, named := got.masked()
	return len(named) == len(want.Access.Named()) &&
		!slices.ContainsFunc(want.Access.Named(), func(e posixacl.Entry) bool {
			have, ok := named.Find(e.Tag, e.ID)
			return !ok || have|mode.Execute != e.Perm|mode.Execute
		})
}

func (f State) entriesCause(k perm.Kind, p, m State) perm.Cause {
	given := f.Default.Named()
	lacks := func(l posixacl.List) bool {
		return slices.ContainsFunc(m.Access.Named(), func(e posixacl.Entry) bool {
			got, ok := l.Find(e.Tag, e.ID)
			return !ok || e.Perm&^got != 0
		})
	}

	switch {
	case f.Default == nil && len(p.Access.Named()) == 0:
		return perm.Cause{
			Why:     "the folder has no default entries: what is made in it gets none",
			Instead: "default entries on the folder: defaults: derived",
		}
	case lacks(given):
		return perm.Cause{
			Why:     "the folder's default entries do not give what is declared",
			Instead: "default entries on the folder that give it: defaults: derived",
		}
	case k == perm.File && onlyExecute(m, p):
		return perm.Cause{
			Why:     "programs ask for no execute on files, and the mask leaves it out of the entries",
			Instead: "X in place of x in the declared entry: execute for folders only",
		}
	case slices.Equal(p.Access.Named(), given) && k != perm.Folder:
		return perm.Cause{
			Why: "the folder's default entries give it, and the program asked for less: the mask leaves " +
				"the rest out",
			Instead: "a program that asks for the group's rights too (0660 instead of 0600)",
		}
	case len(m.Access.Named()) == 0:
		return perm.Cause{
			Why:     "the folder's default entries give entries, and none are declared",
			Instead: "no default entries on the folder: defaults: none",
		}
	}

	return perm.Cause{
		Why:     "it was moved here or changed later: paths made here get the folder's default entries",
		Instead: "copy instead of moving, or mend what changes them",
	}
}
