package posix

import (
	"fmt"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// This file is the POSIX scheme: what Linux decides (fs/namei.c, fs/attr.c, fs/open.c), in
// terms of POSIX.1-2024 section 4.7 and POSIX.1e draft 17 section 23.1.5.

func init() { access.Register(decider{}) }

// decider is what Linux decides by modes and lists.
type decider struct{}

func (decider) ID() perm.SchemeID                         { return ID }
func (decider) Operations(k perm.Kind) []access.Operation { return access.OperationsOn(k) }
func (decider) Checker(s access.Subject) access.Checker   { return newChecker(s) }

// Complete gives root its capabilities.
func (decider) Complete(s *access.Subject, _ *perm.Directory) {
	if n, ok := unixid.Number(s.ID); ok && n == 0 && !unixid.IsGroup(s.ID) {
		s.Privileges = access.AllPrivileges
	}
}

// A decision is a verdict with what decided.
type decision struct {
	access.Verdict
	ruling posixacl.Ruling
	priv   access.Privilege
}

// A checker decides for one subject.
type checker struct {
	id   perm.Principal
	who  posixacl.Subject
	priv access.Privilege
	// Few states serve many paths, so that each is decoded once.
	known map[perm.Set]*State
	last  perm.Set
	state *State
}

// maxKnown bounds how many states are kept decoded.
const maxKnown = 100_000

func newChecker(s access.Subject) *checker {
	a := &checker{id: s.ID, who: posixacl.Subject{UID: posixacl.NoID}, priv: s.Privileges, known: map[perm.Set]*State{}}
	if n, ok := unixid.Number(s.ID); ok && !unixid.IsGroup(s.ID) {
		a.who.UID = n
	}
	for _, g := range s.Groups {
		if n, ok := unixid.Number(g); ok && unixid.IsGroup(g) {
			a.who.Groups = append(a.who.Groups, n)
		}
	}
	return a
}

// of reads a state; nil is one that cannot be read, which was refused when it came in.
func (a *checker) of(s perm.Set) *State {
	if s == a.last && a.state != nil {
		return a.state
	}
	p, ok := a.known[s]
	if !ok {
		if v, err := Of(s); err == nil {
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
func (a *checker) permission(k perm.Kind, p *State, want mode.Perm) decision {
	r := posixacl.Check(p.UID, p.GID, p.Mode, p.Access, a.who, want)
	v := decision{Verdict: access.Verdict{OK: r.Granted}, ruling: r}
	switch {
	case r.Masked:
		v.Code = access.ByMask
	case r.Entry.Tag == posixacl.UserObj:
		v.Code = access.ByOwner
	case r.Entry.Tag == posixacl.User:
		v.Code = access.ByAccount
	case r.Entry.Tag == posixacl.Other:
		v.Code = access.ByOthers
	default:
		v.Code = access.ByGroup
	}

	if v.OK || a.priv&(access.Override|access.ReadSearch) == 0 {
		return v
	}

	// capabilities(7): on a folder CAP_DAC_OVERRIDE gives everything, CAP_DAC_READ_SEARCH all but writing; on a file
	// no privilege makes a program of what nobody may run.
	switch {
	case a.priv&access.Override != 0 && (k == perm.Folder || want&mode.Execute == 0 || p.Mode&0o111 != 0):
		return decision{Verdict: access.Verdict{OK: true, Code: access.ByPrivilege}, priv: access.Override}
	case a.priv&access.ReadSearch != 0 && (k == perm.Folder && want&mode.Write == 0 || want == mode.Read):
		return decision{Verdict: access.Verdict{OK: true, Code: access.ByPrivilege}, priv: access.ReadSearch}
	case a.priv&access.Override != 0:
		return decision{Verdict: access.Verdict{Code: access.ByNoProgram}, ruling: r}
	}

	return v
}

func (a *checker) decide(folder, at *access.Place, op access.Operation) decision {
	p := a.of(at.Set)
	if p == nil {
		return decision{Verdict: access.Verdict{Code: access.ByUnread}}
	}

	special := at.Kind != perm.File && at.Kind != perm.Folder && at.Kind != perm.Link
	switch op {
	case access.Read, access.List:
		if at.Mount.NoDev && (at.Kind == perm.CharDevice || at.Kind == perm.BlockDevice) {
			return decision{Verdict: access.Verdict{Code: access.ByNoDev}}
		}
		return a.permission(at.Kind, p, mode.Read)
	case access.Enter:
		return a.permission(at.Kind, p, mode.Execute)
	case access.Execute:
		if at.Mount.NoExec {
			return decision{Verdict: access.Verdict{Code: access.ByNoExec}}
		}
		return a.permission(at.Kind, p, mode.Execute)
	case access.Write, access.Create, access.CreateFile, access.CreateFolder:
		want := mode.Write
		if op != access.Write {
			want |= mode.Execute
		}

		switch {
		case at.Mount.NoDev && (at.Kind == perm.CharDevice || at.Kind == perm.BlockDevice):
			return decision{Verdict: access.Verdict{Code: access.ByNoDev}}
		case at.Mount.Shut() && !special:
			return decision{Verdict: access.Verdict{Code: access.ByReadOnly}}
		case p.Flags&perm.Immutable != 0:
			return decision{Verdict: access.Verdict{Code: access.ByImmutable}}
		}

		v := a.permission(at.Kind, p, want)
		if v.OK && op == access.Write && p.Flags&perm.AppendOnly != 0 {
			return decision{Verdict: access.Verdict{Code: access.ByAppendOnly}}
		}

		return v

	case access.Change, access.Own:
		return a.attributes(at, p, op)
	}

	return a.remove(folder, at)
}

// attributes decides what only owners do (fs/attr.c).
func (a *checker) attributes(at *access.Place, p *State, op access.Operation) decision {
	switch {
	case at.Mount.Shut():
		return decision{Verdict: access.Verdict{Code: access.ByReadOnly}}
	case p.Flags&perm.Immutable != 0:
		return decision{Verdict: access.Verdict{Code: access.ByImmutable}}
	case p.Flags&perm.AppendOnly != 0:
		return decision{Verdict: access.Verdict{Code: access.ByAppendOnly}}
	case a.who.UID == p.UID:
		return decision{Verdict: access.Verdict{OK: true, Code: access.ByOwnership}}
	case op == access.Change && a.priv&access.FOwner != 0:
		return decision{Verdict: access.Verdict{OK: true, Code: access.ByPrivilege}, priv: access.FOwner}
	case op == access.Own && a.priv&(access.Chown|access.FOwner) == access.Chown && at.Kind != perm.Folder &&
		a.dropsSetID(p):
		return decision{Verdict: access.Verdict{Code: access.BySetID}}
	case op == access.Own && a.priv&access.Chown != 0:
		return decision{Verdict: access.Verdict{OK: true, Code: access.ByPrivilege}, priv: access.Chown}
	}

	return decision{Verdict: access.Verdict{Code: access.ByNotOwner}}
}

// dropsSetID reports whether a change of owner takes set-ID bits off, which is a change of the mode
// and asks for what changing the mode asks for (fs/attr.c, setattr_should_drop_suidgid).
func (a *checker) dropsSetID(p *State) bool {
	return p.Mode&mode.SetUID != 0 ||
		p.Mode&mode.SetGID != 0 && (p.Mode&0o010 != 0 || !a.who.In(p.GID) && a.priv&access.FSetID == 0)
}

// remove decides taking a path out of its folder (fs/namei.c, may_delete).
func (a *checker) remove(folder, at *access.Place) decision {
	f, p := a.of(folder.Set), a.of(at.Set)
	if f == nil || p == nil {
		return decision{Verdict: access.Verdict{Code: access.ByUnread}}
	}

	switch {
	case at.Top:
		return decision{Verdict: access.Verdict{Code: access.ByMountPoint}}
	case folder.Mount.Shut():
		return decision{Verdict: access.Verdict{Code: access.ByReadOnly, Folder: true}}
	case f.Flags&perm.Immutable != 0:
		return decision{Verdict: access.Verdict{Code: access.ByImmutable, Folder: true}}
	}

	v := a.permission(perm.Folder, f, mode.Write|mode.Execute)
	v.Folder = true
	switch {
	case !v.OK:
		return v
	case f.Flags&perm.AppendOnly != 0:
		return decision{Verdict: access.Verdict{Code: access.ByAppendOnly, Folder: true}}
	case f.Mode&mode.Sticky != 0 && a.who.UID != p.UID && a.who.UID != f.UID && a.priv&access.FOwner == 0:
		return decision{Verdict: access.Verdict{Code: access.BySticky, Folder: true}}
	case p.Flags&perm.Immutable != 0:
		return decision{Verdict: access.Verdict{Code: access.ByImmutable}}
	case p.Flags&perm.AppendOnly != 0:
		return decision{Verdict: access.Verdict{Code: access.ByAppendOnly}}
	}

	return v
}

// Decide returns what the kernel decides.
func (a *checker) Decide(folder, at *access.Place, op access.Operation) access.Verdict {
	return a.decide(folder, at, op).Verdict
}

// Unsure is false: a host knows all members of its groups.
func (a *checker) Unsure(*access.Place, *access.Place, access.Operation, bool, *perm.Directory) bool {
	return false
}

// Sees is true: Linux hides nothing.
func (a *checker) Sees(*access.Place) bool { return true }

// Reason says why, for people.
func (a *checker) Reason(q access.Question) (sentence, entry string) {
	v := a.decide(q.Folder, q.At, q.Operation)
	if v.ruling.Entry.Tag != 0 {
		entry = v.ruling.Entry.Text(Names(q.Names))
	}
	return a.sentence(q, v), entry
}

func (a *checker) sentence(q access.Question, v decision) string {
	if s := q.ByMount(); s != "" {
		return s
	}

	switch v.Code {
	case access.ByPrivilege:
		if n, _ := unixid.Number(a.id); n == 0 && a.id != perm.Everyone {
			return "root: " + v.priv.String() + " passes over the permissions of " + q.It
		}
		return v.priv.String() + " passes over the permissions of " + q.It
	case access.ByNoProgram:
		return "nobody may execute it, and then no privilege can either"
	case access.BySticky:
		return q.It + " is sticky: only the owner of an entry, the folder's owner " + a.ownerOf(q.Folder, q.Names) +
			" or root takes entries out of it, and " + q.Who + " is none of them"
	case access.ByImmutable:
		return q.It + " is immutable: not even root can, before the flag is taken off"
	case access.ByAppendOnly:
		if q.Operation == access.Write {
			return q.It + " is append-only: it can be added to, and not be changed otherwise"
		}
		return q.It + " is append-only: not even root can, before the flag is taken off"
	case access.ByOwnership:
		if q.Operation == access.Own {
			return q.Who + " owns it already"
		}
		return q.Who + " owns it"
	case access.ByNotOwner:
		if q.Operation == access.Own {
			return "only root (CAP_CHOWN) gives a path another owner"
		}
		return "only its owner " + a.ownerOf(q.At, q.Names) + " or root (CAP_FOWNER) changes its permissions"
	case access.BySetID:
		return "a change of owner takes its set-ID bits off, and that takes CAP_FOWNER besides CAP_CHOWN"
	}

	return classSentence(v, q.It, wants(q.Operation), q.Who, q.Names)
}

// classSentence is for what an entry decided.
func classSentence(v decision, it string, needs mode.Perm, who string, d *perm.Directory) string {
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
		of = who + " is in group " + d.Name(unixid.GID(e.ID)) + ", whose entry on " + it
	default:
		of = it + ", for others,"
	}

	need := letters(needs)
	switch {
	case v.OK:
		return of + " has " + need
	case v.Code == access.ByMask:
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
func wants(op access.Operation) mode.Perm {
	switch op {
	case access.Read, access.List:
		return mode.Read
	case access.Write:
		return mode.Write
	case access.Execute, access.Enter:
		return mode.Execute
	}
	return mode.Write | mode.Execute
}

func (a *checker) ownerOf(p *access.Place, d *perm.Directory) string {
	if s := a.of(p.Set); s != nil {
		return d.Name(unixid.UID(s.UID))
	}
	return ""
}

// followed says of a link why the kernel does not follow it for everybody (fs/namei.c, may_follow_link).
func (a *checker) followed(folder, link *access.Place, p *State) (out []string) {
	if link.Mount.NoFollow {
		out = append(out, "nobody follows it: the file system is mounted no-symfollow"+link.MountedAt())
	}
	if folder == nil {
		return out
	}
	const open = mode.Sticky | 0o002
	if f := a.of(folder.Set); f != nil && f.Mode&open == open && f.UID != p.UID {
		out = append(out,
			"where the kernel guards links (fs.protected_symlinks, which Debian turns on) only its owner follows "+
				"it: its folder is sticky, and everybody may write there")
	}
	return out
}

// Remarks adds what an answer does not say by itself.
func (a *checker) Remarks(q access.Question) access.Remarks { return access.Remarks{Notes: a.notes(q)} }

func (a *checker) notes(q access.Question) (out []string) {
	folder, at, op := q.Folder, q.At, q.Operation
	p := a.of(at.Set)
	if p == nil {
		return nil
	}
	if q.Verdict.Code == access.ByLink {
		return a.followed(folder, at, p)
	}

	v := decision{Verdict: q.Verdict}
	if q.Verdict.Decided() {
		v = a.decide(folder, at, op)
	}

	if v.ruling.Idle {
		out = append(out,
			"the access list's mask is empty: Linux passes over the whole list, entries that keep "+
				"somebody out included")
	}

	switch {
	case op == access.Execute && v.OK:
		if p.Mode&(mode.SetUID|mode.SetGID) != 0 || p.Caps != "" {
			if at.Mount.NoSUID {
				out = append(out, "its set-ID bits and capabilities do not count: the file system is mounted no-suid")
			} else {
				out = append(out, "it runs with the identity or the capabilities of the file")
			}
		}
		out = append(out, "a script must be readable as well, since its interpreter reads it")

	case op == access.Delete && v.OK && at.Kind == perm.Folder:
		out = append(out, "a folder can be removed only when it is empty")
	case op == access.List && v.OK && !a.decide(nil, at, access.Enter).OK:
		out = append(out, "names only: without passing through, nothing in it can be reached or even looked at")
	case op == access.Enter && v.OK && !a.decide(nil, at, access.List).OK:
		out = append(out, "without listing: entries are reached by those who know their names")
	}

	return out
}

// New says what a file or folder gets that a subject makes in a folder (open(2), mkdir(2), acl(5)).
func (decider) New(folder perm.State, k perm.Kind, s access.Subject, asked access.Asked,
	d *perm.Directory) (access.Made, error) {
	f := folder.(State)
	p := State{UID: newChecker(s).who.UID, Mode: asked.Mode & 0o777}
	if len(s.Groups) > 0 {
		p.GID, _ = unixid.Number(s.Groups[0])
	}

	var m access.Made
	switch fs := asked.Mount.GroupOfFolder; {
	// XFS goes by the folder's set-group-ID first, the others by the option alone.
	case fs != "" && (fs != "xfs" || f.Mode&mode.SetGID == 0):
		p.GID = f.GID
		m.Notes = append(m.Notes,
			"group "+d.Name(unixid.GID(f.GID))+
				": the file system is mounted so that new paths get their folder's group (grpid)")
	case f.Mode&mode.SetGID != 0:
		p.GID = f.GID
		m.Notes = append(m.Notes, "group "+d.Name(unixid.GID(f.GID))+": the folder has set-group-ID")
		if k == perm.Folder {
			p.Mode |= mode.SetGID
			m.Notes = append(m.Notes, "set-group-ID is passed on to folders")
		}
	default:
		m.Notes = append(m.Notes,
			"group "+d.Name(unixid.GID(p.GID))+
				": the primary group of who makes it, since the folder has no set-group-ID")
	}

	if f.Default != nil {
		p.Access, p.Mode = f.Default.Inherit(p.Mode)
		if k == perm.Folder {
			p.Default = f.Default
		}
		m.Notes = append(m.Notes,
			fmt.Sprintf(
				"entries come from the folder's default entries; the program asks for %s and the umask has "+
					"no part in it",
				asked.Mode))
	} else {
		p.Mode &^= asked.Umask & 0o777
		m.Notes = append(m.Notes,
			fmt.Sprintf("mode: the program asks for %s, the umask %s takes its bits away", asked.Mode, asked.Umask))
	}

	m.Set = p.Set()
	return m, nil
}
