package access

import (
	"cmp"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

// This file is the POSIX scheme: what Linux decides (fs/namei.c, fs/attr.c, fs/open.c), in
// terms of POSIX.1-2024 section 4.7 and POSIX.1e draft 17 section 23.1.5.

type ruling = posixacl.Ruling

type posixAsker struct {
	who  posixacl.Subject
	priv Privilege
	// Few states serve many paths, so that each is decoded once.
	known map[perm.Set]*posix.State
	last  perm.Set
	state *posix.State
}

const maxKnown = 100_000

func newPOSIXAsker(s Subject) posixAsker {
	a := posixAsker{who: posixacl.Subject{UID: posixacl.NoID}, priv: s.Privileges, known: map[perm.Set]*posix.State{}}
	if n, ok := posix.Number(s.ID); ok && !posix.IsGroup(s.ID) {
		a.who.UID = n
	}
	for _, g := range s.Groups {
		if n, ok := posix.Number(g); ok && posix.IsGroup(g) {
			a.who.Groups = append(a.who.Groups, n)
		}
	}
	return a
}

// of reads a state; nil is one that cannot be read, which was refused when it came in.
func (a *posixAsker) of(s perm.Set) *posix.State {
	if s == a.last && a.state != nil {
		return a.state
	}
	p, ok := a.known[s]
	if !ok {
		if v, err := posix.Of(s); err == nil {
			p = &v
		}
		if len(a.known) >= maxKnown {
			clear(a.known)
		}
		a.known[s] = p
	}
	a.last, a.state = s, p
	return p
}

// permission is what the kernel asks of one path, after the mount and the flags were asked.
func (a *posixAsker) permission(k perm.Kind, p *posix.State, want mode.Perm) verdict {
	r := posixacl.Check(p.UID, p.GID, p.Mode, p.Access, a.who, want)
	v := verdict{ok: r.Granted, ruling: r}
	switch {
	case r.Masked:
		v.code = ByMask
	case r.Entry.Tag == posixacl.UserObj:
		v.code = ByOwner
	case r.Entry.Tag == posixacl.User:
		v.code = ByAccount
	case r.Entry.Tag == posixacl.Other:
		v.code = ByOthers
	default:
		v.code = ByGroup
	}

	if v.ok || a.priv&(Override|ReadSearch) == 0 {
		return v
	}

	// capabilities(7): on a folder the one gives everything, the other all but writing; on a
	// file nobody's privilege makes a program of what nobody may run.
	switch {
	case a.priv&Override != 0 && (k == perm.Folder || want&mode.Execute == 0 || p.Mode&0o111 != 0):
		return verdict{ok: true, code: ByPrivilege, priv: Override}
	case a.priv&ReadSearch != 0 && (k == perm.Folder && want&mode.Write == 0 || want == mode.Read):
		return verdict{ok: true, code: ByPrivilege, priv: ReadSearch}
	case a.priv&Override != 0:
		return verdict{code: ByNoProgram, ruling: r}
	}

	return v
}

func (a *posixAsker) decide(folder, at *Place, op Operation) verdict {
	p := a.of(at.Set)
	if p == nil {
		return verdict{code: ByUnread}
	}

	special := at.Kind != perm.File && at.Kind != perm.Folder && at.Kind != perm.Link
	switch op {
	case Read, List:
		if at.Mount.NoDev && (at.Kind == perm.CharDevice || at.Kind == perm.BlockDevice) {
			return verdict{code: ByNoDev}
		}
		return a.permission(at.Kind, p, mode.Read)
	case Enter:
		return a.permission(at.Kind, p, mode.Execute)
	case Execute:
		if at.Mount.NoExec {
			return verdict{code: ByNoExec}
		}
		return a.permission(at.Kind, p, mode.Execute)
	case Write, Create, CreateFile, CreateFolder:
		want := mode.Write
		if op != Write {
			want |= mode.Execute
		}

		switch {
		case at.Mount.NoDev && (at.Kind == perm.CharDevice || at.Kind == perm.BlockDevice):
			return verdict{code: ByNoDev}
		case at.Mount.shut() && !special:
			return verdict{code: ByReadOnly}
		case p.Flags&perm.Immutable != 0:
			return verdict{code: ByImmutable}
		}

		v := a.permission(at.Kind, p, want)
		if v.ok && op == Write && p.Flags&perm.AppendOnly != 0 {
			return verdict{code: ByAppendOnly}
		}

		return v

	case Change, Own:
		return a.attributes(at, p, op)
	}

	return a.remove(folder, at)
}

// attributes decides what only owners do (fs/attr.c).
func (a *posixAsker) attributes(at *Place, p *posix.State, op Operation) verdict {
	switch {
	case at.Mount.shut():
		return verdict{code: ByReadOnly}
	case p.Flags&perm.Immutable != 0:
		return verdict{code: ByImmutable}
	case p.Flags&perm.AppendOnly != 0:
		return verdict{code: ByAppendOnly}
	case a.who.UID == p.UID:
		return verdict{ok: true, code: ByOwnership}
	case op == Change && a.priv&FOwner != 0:
		return verdict{ok: true, code: ByPrivilege, priv: FOwner}
	case op == Own && a.priv&(Chown|FOwner) == Chown && at.Kind != perm.Folder && a.dropsSetID(p):
		return verdict{code: BySetID}
	case op == Own && a.priv&Chown != 0:
		return verdict{ok: true, code: ByPrivilege, priv: Chown}
	}

	return verdict{code: ByNotOwner}
}

// dropsSetID reports whether a change of owner takes set-ID bits off, which is a change of the mode
// and asks for what changing the mode asks for (fs/attr.c, setattr_should_drop_suidgid).
func (a *posixAsker) dropsSetID(p *posix.State) bool {
	return p.Mode&mode.SetUID != 0 ||
		p.Mode&mode.SetGID != 0 && (p.Mode&0o010 != 0 || !a.who.In(p.GID) && a.priv&FSetID == 0)
}

// remove decides taking a path out of its folder (fs/namei.c, may_delete).
func (a *posixAsker) remove(folder, at *Place) verdict {
	f, p := a.of(folder.Set), a.of(at.Set)
	if f == nil || p == nil {
		return verdict{code: ByUnread}
	}

	switch {
	case at.Top:
		return verdict{code: ByMountPoint}
	case folder.Mount.shut():
		return verdict{code: ByReadOnly, folder: true}
	case f.Flags&perm.Immutable != 0:
		return verdict{code: ByImmutable, folder: true}
	}

	v := a.permission(perm.Folder, f, mode.Write|mode.Execute)
	v.folder = true
	switch {
	case !v.ok:
		return v
	case f.Flags&perm.AppendOnly != 0:
		return verdict{code: ByAppendOnly, folder: true}
	case f.Mode&mode.Sticky != 0 && a.who.UID != p.UID && a.who.UID != f.UID && a.priv&FOwner == 0:
		return verdict{code: BySticky, folder: true}
	case p.Flags&perm.Immutable != 0:
		return verdict{code: ByImmutable}
	case p.Flags&perm.AppendOnly != 0:
		return verdict{code: ByAppendOnly}
	}

	return v
}

// entry writes the entry that decided, with names.
func (v verdict) entry(d *perm.Directory) string {
	if !v.share.entry.SID.IsZero() {
		return nt.EntryText(v.share.kind, v.share.entry, d)
	}
	if v.ruling.Entry.Tag == 0 {
		return ""
	}
	return v.ruling.Entry.Text(posix.Names(d))
}

// sentence says why, for people.
func (a *Asker) sentence(v verdict, folder, p *Place, op Operation, d *perm.Directory) string {
	it := "the path"
	if v.folder {
		it = "its folder " + folder.Path.String()
	} else if p.Kind == perm.Folder {
		it = "the folder"
	}

	needs := wants(op)
	who := cmp.Or(a.Name, d.Name(a.ID))
	if a.ID == perm.Everyone {
		who = "everyone"
	}

	if p.Set.Scheme() == nt.ID {
		if v.code == ByPrivilege {
			return a.privilege(it, who, d)
		}
		if s := shareSentence(v, it, who, d); s != "" {
			return s
		}
	}

	switch v.code {
	case ByPrivilege:
		if n, _ := posix.Number(a.ID); n == 0 && a.ID != perm.Everyone {
			return "root: " + v.priv.String() + " passes over the permissions of " + it
		}
		return v.priv.String() + " passes over the permissions of " + it
	case ByNoProgram:
		return "nobody may execute it, and then no privilege can either"
	case BySticky:
		return it + " is sticky: only the owner of an entry, the folder's owner " + ownerOf(folder, d) +
			" or root takes entries out of it, and " + who + " is none of them"
	case ByReadOnly:
		if at := pick(v, folder, p); at.Mount.Sealed {
			return it + " lies in a subvolume that is read-only" + mountedAt(at)
		}
		return it + " lies on a file system that is mounted read-only" + mountedAt(pick(v, folder, p))
	case ByNoExec:
		return it + " lies on a file system that is mounted no-exec" + mountedAt(pick(v, folder, p))
	case ByNoFollow:
		return "no link is followed there: the file system is mounted no-symfollow" + mountedAt(p)
	case ByNoDev:
		return it + " lies on a file system that is mounted no-dev" + mountedAt(pick(v, folder, p))
	case ByImmutable:
		return it + " is immutable: not even root can, before the flag is taken off"
	case ByAppendOnly:
		if op == Write {
			return it + " is append-only: it can be added to, and not be changed otherwise"
		}
		return it + " is append-only: not even root can, before the flag is taken off"
	case ByOwnership:
		if op == Own {
			return who + " owns it already"
		}
		return who + " owns it"
	case ByNotOwner:
		if op == Own {
			return "only root (CAP_CHOWN) gives a path another owner"
		}
		return "only its owner " + ownerOf(p, d) + " or root (CAP_FOWNER) changes its permissions"
	case BySetID:
		return "a change of owner takes its set-ID bits off, and that takes CAP_FOWNER besides CAP_CHOWN"
	case ByMountPoint:
		return "a file system is mounted there"
	case ByRoot:
		return "/ lies in no folder"
	case ByKind:
		return "there is no such thing with a " + p.Kind.String()
	case ByLink:
		return "it is a link: what it leads to decides"
	case ByUnread:
		return "its permissions could not be read"
	case ByFolderOnWay:
		return "it is a " + p.Kind.String() + ", no folder"
	case ByUnknownScheme:
		return "its permissions are of a kind that this program does not know"
	}

	return classSentence(v, it, needs, who, d)
}

// classSentence is for what an entry decided.
func classSentence(v verdict, it string, needs mode.Perm, who string, d *perm.Directory) string {
	e := v.ruling.Entry
	of := ""
	switch e.Tag {
	case posixacl.UserObj:
		of = who + " owns " + it + ", and the owner"
	case posixacl.User:
		of = "the entry for " + who + " on " + it
	case posixacl.GroupObj:
		of = who + " is in the owning group of " + it + ", which"
	case posixacl.Group:
		of = who + " is in group " + d.Name(posix.GID(e.ID)) + ", whose entry on " + it
	default:
		of = it + ", for others,"
	}

	need := letters(needs)
	switch {
	case v.ok:
		return of + " has " + need
	case v.code == ByMask:
		return of + " has " + e.Perm.String() + ", but the mask " + v.ruling.Mask.String() + " takes " +
			letters(needs&^v.ruling.Mask) + " away"
	}

	s := of + " has " + e.Perm.String() + ", not " + need
	if e.Tag == posixacl.Other && v.ruling.Idle {
		s += " (the access list's mask is empty, so the list is passed over)"
	}

	return s
}

func letters(p mode.Perm) string { return strings.ReplaceAll(p.String(), "-", "") }

// wants is what a permission check asks for an operation.
func wants(op Operation) mode.Perm {
	switch op {
	case Read, List:
		return mode.Read
	case Write:
		return mode.Write
	case Execute, Enter:
		return mode.Execute
	}
	return mode.Write | mode.Execute
}

func pick(v verdict, folder, p *Place) *Place {
	if v.folder {
		return folder
	}
	return p
}

func mountedAt(p *Place) string {
	if p.Mount.At == "" {
		return ""
	}
	return " (at " + p.Mount.At.String() + ")"
}

func ownerOf(p *Place, d *perm.Directory) string {
	s, err := posix.Of(p.Set)
	if err != nil {
		return ""
	}
	return d.Name(posix.UID(s.UID))
}

// followed says of a link why the kernel does not follow it for everybody (fs/namei.c, may_follow_link).
func (a *Asker) followed(folder, link *Place, p *posix.State) (out []string) {
	if link.Mount.NoFollow {
		out = append(out, "nobody follows it: the file system is mounted no-symfollow"+mountedAt(link))
	}
	if folder == nil {
		return out
	}
	const open = mode.Sticky | 0o002
	if f := a.posix.of(folder.Set); f != nil && f.Mode&open == open && f.UID != p.UID {
		out = append(out,
			"where the kernel guards links (fs.protected_symlinks, which Debian turns on) only its owner follows "+
				"it: its folder is sticky, and everybody may write there")
	}
	return out
}

// notes adds what an answer does not say by itself.
func (a *Asker) notes(v verdict, folder, at *Place, op Operation) (out []string) {
	if at.Set.Scheme() == nt.ID {
		return a.nt.notes(v)
	}
	p := a.posix.of(at.Set)
	if p == nil {
		return nil
	}

	if v.ruling.Idle {
		out = append(out,
			"the access list's mask is empty: Linux passes over the whole list, entries that keep "+
				"somebody out included")
	}

	if v.code == ByLink {
		return a.followed(folder, at, p)
	}

	switch {
	case op == Execute && v.ok:
		if p.Mode&(mode.SetUID|mode.SetGID) != 0 || p.Caps != "" {
			if at.Mount.NoSUID {
				out = append(out, "its set-ID bits and capabilities do not count: the file system is mounted no-suid")
			} else {
				out = append(out, "it runs with the identity or the capabilities of the file")
			}
		}
		out = append(out, "a script must be readable as well, since its interpreter reads it")

	case op == Delete && v.ok && at.Kind == perm.Folder:
		out = append(out, "a folder can be removed only when it is empty")
	case op == List && v.ok && !a.decide(nil, at, Enter).ok:
		out = append(out, "names only: without passing through, nothing in it can be reached or even looked at")
	case op == Enter && v.ok && !a.decide(nil, at, List).ok:
		out = append(out, "without listing: entries are reached by those who know their names")
	}

	return out
}
