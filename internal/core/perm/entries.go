package perm

import (
	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// An EntryLine is one entry as it is shown: who, what it says and what of it counts.
type EntryLine struct {
	Text      string `json:"text" doc:"As written in a list"`
	Who       string `json:"who"`
	Rights    string `json:"rights"`
	Effective string `json:"effective" doc:"What the mask leaves of it"`
	Default   bool   `json:"default,omitempty" doc:"It counts for what is made in the folder later, not for the folder"`
	Origin    string `json:"origin" doc:"Where it comes from"`
	Unknown   bool   `json:"unknown,omitempty" doc:"The account or group no longer exists on the host"`
	Deny      bool   `json:"deny,omitempty" doc:"On a share: it withholds"`
	Reaches   string `json:"reaches,omitempty" doc:"On a share, of a folder: what it reaches, any of here, folders, files, and once for one level; or nothing"`
}

// Above is a folder that leads to a path, with its state.
type Above struct {
	Path string
	Set  Set
}

// Entries lists everything that a state grants, the mode's three classes included, in the order
// in which it is asked. The folders above, the nearest last, tell where an entry most likely comes from: POSIX copies
// default entries when a path is made, and keeps no note of it; a share's entries are marked, but not by whom.
func Entries(k Kind, s Set, above []Above, d *Directory) []EntryLine {
	return s.state().entries(k, above, d)
}

func (p POSIX) entries(_ Kind, above []Above, d *Directory) []EntryLine {
	var given posixacl.List
	if n := len(above); n > 0 {
		if f, err := POSIXOf(above[n-1].Set); err == nil {
			given = f.Default
		}
	}

	access := p.Access
	if access == nil {
		access = posixacl.FromMode(p.Mode)
	}

	var out []EntryLine
	for _, l := range []struct {
		list      posixacl.List
		isDefault bool
	}{{access, false}, {p.Default, true}} {
		for _, e := range l.list {
			line := EntryLine{
				Text:      e.Text(Names(d)),
				Rights:    e.Perm.String(),
				Effective: l.list.Effective(e).String(),
				Default:   l.isDefault,
			}

			line.Who, line.Unknown = p.who(e, d)
			line.Origin = origin(e, given, p.Access != nil || l.isDefault, l.isDefault)
			out = append(out, line)
		}
	}

	return out
}

func (p POSIX) who(e posixacl.Entry, d *Directory) (name string, unknown bool) {
	named := func(kind string, id Principal) (string, bool) {
		return kind + " " + d.Name(id), d.Account(id) == nil
	}
	switch e.Tag {
	case posixacl.UserObj:
		return named("owner", UID(p.UID))
	case posixacl.User:
		return named("account", UID(e.ID))
	case posixacl.GroupObj:
		return named("owning group", GID(p.GID))
	case posixacl.Group:
		return named("group", GID(e.ID))
	case posixacl.Mask:
		return "mask: the most that accounts and groups get", false
	}

	return "others", false
}

func origin(e posixacl.Entry, above posixacl.List, listed, isDefault bool) string {
	if !listed {
		return "the mode"
	}
	got, ok := above.Find(e.Tag, e.ID)
	switch {
	case ok && isDefault && got == e.Perm:
		return "passed on by the folder above"
	case ok && got == e.Perm:
		return "as the folder's default entries give it"
	case ok && !isDefault && e.Perm&^got == 0 &&
		(e.Tag == posixacl.UserObj || e.Tag == posixacl.Mask || e.Tag == posixacl.Other):
		return "the folder's default entries, less what the program did not ask for"
	}
	return "set here"
}

// Explain says what a state's mode means for a kind of path, a line for each class and bit, and
// what a list makes of it.
func Explain(k Kind, s Set) []string { return s.state().explain(k) }

func (p POSIX) explain(k Kind) []string {
	if k == Link {
		return []string{"A link has no permissions of its own: what it leads to decides."}
	}

	out := p.declaredMode().Words(k == Folder)
	_, _, _, mask := p.classes()
	switch {
	case mask != nil && *mask == 0:
		out = append(out,
			"There are access entries, but their mask is empty: Linux passes over the whole list, and whoever is "+
				"neither the owner nor in the owning group gets what others get.")
	case mask != nil:
		out = append(out,
			"There are access entries: the group digit "+string('0'+rune(p.Mode.Group()))+
				" of the mode is their mask, the most that any of them grants; the owning group itself gets "+
				(p.declaredMode().Group()).String()+".")
	}

	for _, f := range p.Flags.Words() {
		out = append(out, map[string]string{
			"immutable": "It is immutable: nobody changes, removes or renames it before the flag is taken off.",
			"append-only": "It is append-only: it grows, and nothing of it is changed or removed before the flag " +
				"is taken off.",
		}[f])
	}

	if p.Caps != "" {
		out = append(out, "It has file capabilities: whoever runs it gets them.")
	}

	return out
}

// ModeOf returns a state's mode, where its scheme has one.
func ModeOf(s Set) (mode.Mode, bool) {
	p, err := POSIXOf(s)
	return p.Mode, err == nil
}
