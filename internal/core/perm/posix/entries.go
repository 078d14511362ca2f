package posix

import (
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

func (p State) Lines(_ perm.Kind, above []perm.Above, d *perm.Directory) []perm.EntryLine {
	var given posixacl.List
	if n := len(above); n > 0 {
		if f, err := Of(above[n-1].Set); err == nil {
			given = f.Default
		}
	}

	access := p.Access
	if access == nil {
		access = posixacl.FromMode(p.Mode)
	}

	var out []perm.EntryLine
	for _, l := range []struct {
		list      posixacl.List
		isDefault bool
	}{{access, false}, {p.Default, true}} {
		for _, e := range l.list {
			line := perm.EntryLine{
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

func (p State) who(e posixacl.Entry, d *perm.Directory) (name string, unknown bool) {
	named := func(kind string, id perm.Principal) (string, bool) {
		return kind + " " + d.Name(id), d.Account(id) == nil
	}
	switch e.Tag {
	case posixacl.UserObj:
		return named("owner", unixid.UID(p.UID))
	case posixacl.User:
		return named("account", unixid.UID(e.ID))
	case posixacl.GroupObj:
		return named("owning group", unixid.GID(p.GID))
	case posixacl.Group:
		return named("group", unixid.GID(e.ID))
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

func (p State) Explain(k perm.Kind) []string {
	if k == perm.Link {
		return []string{"A link has no permissions of its own: what it leads to decides."}
	}

	out := p.declaredMode().Words(k == perm.Folder)
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
