package access

import (
	"fmt"
	"slices"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/privilege"
)

// This file is the NT scheme: what a file server decides by security descriptors (MS-DTYP 2.5.3, MS-FSA 2.1.5.1).

// The causes on shares.
const (
	ByAllow       Code = "allow entry"
	ByDeny        Code = "deny entry"
	ByNoEntry     Code = "no entry"
	ByNoList      Code = "no list"         // everybody may do everything
	ByDeleteChild Code = "delete children" // the folder's list grants it, whatever the path's own says
	ByTraverse    Code = "passing"         // servers let everybody pass through folders
	ByShareList   Code = "share list"      // the share's own list does not let it through
	ByShareTop    Code = "share"           // it is the share itself, or what holds the shares
	ByMark        Code = "marked"          // what is marked as read-only is neither written nor deleted
)

// shareRuling is what decided on a share.
type shareRuling struct {
	entry  ntsd.Entry
	kind   perm.Kind // of what the entry stands on
	rights ace.Mask  // that were asked for
	note   string    // what there is to say beside the reason
}

type ntAsker struct {
	token  ntsd.Token
	known  map[perm.Set]*ntsd.Descriptor
	shares map[perm.Set]ace.Mask // what the lists of shares let through
	// Groups of a directory of which nobody knows who is in them.
	doubtful map[ntsd.SID]bool
	asked    *perm.Directory
}

// everybodysGroups are those that whoever signs in to a file server is in.
var everybodysGroups = []perm.Principal{
	nt.PrincipalOf(ntsd.Everyone), nt.PrincipalOf(ntsd.Authenticated), nt.PrincipalOf(ntsd.Network),
}

func newNTAsker(s Subject) ntAsker {
	a := ntAsker{known: map[perm.Set]*ntsd.Descriptor{}, shares: map[perm.Set]ace.Mask{}}
	if sid, ok := nt.SID(s.ID); ok {
		a.token.User = sid
	}
	for _, h := range s.Held {
		a.token.Privileges |= h.Privileges
	}
	for _, g := range slices.Concat(everybodysGroups, s.Groups) {
		if sid, ok := nt.SID(g); ok {
			a.token.Groups = append(a.token.Groups, sid)
		}
	}
	return a
}

func (a *ntAsker) of(s perm.Set) *ntsd.Descriptor {
	d, ok := a.known[s]
	if !ok {
		if v, fine := nt.Of(s); fine {
			d = &v
		}
		if len(a.known) >= maxKnown {
			clear(a.known)
		}
		a.known[s] = d
	}
	return d
}

// through is what a share lets through. Of one whose list is not known that is everything.
func (a *ntAsker) through(m *Mount) ace.Mask {
	if m.Share.IsZero() {
		return ace.Full
	}
	mask, ok := a.shares[m.Share]
	if !ok {
		mask = ace.Full
		if d, fine := nt.Of(m.Share); fine {
			mask = d.Lets(a.token)
		}
		if len(a.shares) >= maxKnown {
			clear(a.shares)
		}
		a.shares[m.Share] = mask
	}
	return mask
}

// Lacks returns the rights to a place on a share that neither its list nor the share's own grants the asker.
func (a *Asker) Lacks(p *Place) ace.Mask {
	d := a.nt.of(p.Set)
	if d == nil {
		return 0
	}
	return a.nt.through(&p.Mount) &^ d.Maximum(a.nt.token)
}

// shown is what a share that hides asks for: all that reading takes, but for waiting.
const shown = ace.ReadSet &^ ace.Synchronize

// Sees reports whether a listing includes the last place of w, given that the asker may list the folder above it. It
// is always true unless the share uses access-based enumeration.
func (a *Asker) Sees(w Way) bool {
	p := &w[len(w)-1]
	if !p.Mount.Hides || p.Set.Scheme() != nt.ID {
		return true
	}
	d := a.nt.of(p.Set)
	return d != nil && d.Maximum(a.nt.token)&a.nt.through(&p.Mount)&shown == shown
}

// rightFor is what an operation takes of the path's own list.
var rightFor = map[Operation]ace.Mask{
	Read:         ace.ReadData,
	List:         ace.ReadData,
	Write:        ace.WriteData,
	CreateFile:   ace.WriteData,
	CreateFolder: ace.AppendData,
	Execute:      ace.Execute,
	Delete:       ace.Delete,
	Rename:       ace.Delete,
	Change:       ace.WriteDAC,
	Own:          ace.WriteOwner,
}

// Adding is the right to have something of a kind in a folder: one for files, another one for folders (MS-FSA
// 2.1.5.1.1).
func Adding(k perm.Kind) ace.Mask {
	if k == perm.Folder {
		return ace.AppendData
	}
	return ace.WriteData
}

// top is what holds a server's shares: it has no list, and no client changes it.
const top = "/"

func (a *ntAsker) decide(folder, at *Place, op Operation) verdict {
	d := a.of(at.Set)
	if d == nil {
		return verdict{code: ByUnread}
	}

	switch {
	case op == Create:
		return a.either(folder, at)
	case at.Path == top && op != List && op != Enter, (op == Delete || op == Rename) && folder.Path == top:
		return verdict{code: ByShareTop}
	}

	through := a.through(&at.Mount)
	if op == Enter {
		if through&(ace.ReadData|ace.Execute|ace.ReadAttributes) == 0 {
			// who gets nothing from a share is not let in at all
			return verdict{code: ByShareList, share: shareRuling{kind: at.Kind, rights: ace.ReadData}}
		}
		return verdict{ok: true, code: ByTraverse}
	}

	right := rightFor[op]
	place := ntsd.Place{Descriptor: d, Share: through}
	var above *ntsd.Descriptor
	if folder != nil {
		above = a.of(folder.Set)
	}

	if op == Delete || op == Rename {
		if above == nil {
			return verdict{code: ByUnread}
		}
		place.Parent = above
	}

	v := a.verdictOf(place.Check(a.token, right)[right], at.Kind, d, right)
	made := above // where something is made
	switch op {
	case Rename:
		if v.ok { // its folder gets a name that it did not have
			right := Adding(at.Kind)
			if add := a.verdictOf(above.Check(a.token, right)[right], perm.Folder, above, right); !add.ok {
				add.folder = true
				v = add
			}
		}
	case CreateFile, CreateFolder:
		made = d
	default:
		return a.marked(v, at, op)
	}

	v.share.note = a.ownerRights(made)
	return v
}

// marked is a verdict with what the path is marked as (MS-FSA 2.1.5.1.2).
func (a *ntAsker) marked(v verdict, at *Place, op Operation) verdict {
	if !v.ok || op != Write && op != Delete {
		return v
	}
	switch at.Mark {
	case MarkReadOnly:
		out := verdict{code: ByMark, share: shareRuling{kind: at.Kind}}
		if d := a.of(at.Set); d.Maximum(a.token)&a.through(&at.Mount)&ace.WriteAttributes != 0 {
			out.share.note = "the account may take the mark off, and can then"
		}
		return out
	case NotLooked:
		v.share.note = join(v.share.note, "unless it is marked as read-only, which snapshots do not hold")
	}
	return v
}

// either decides whether something can be made in a folder, be it files or folders alone.
func (a *ntAsker) either(folder, at *Place) verdict {
	file, sub := a.decide(folder, at, CreateFile), a.decide(folder, at, CreateFolder)
	switch {
	case file.ok && !sub.ok:
		file.share.note = join(file.share.note, "files alone: to create folders takes "+ace.AppendData.Words(true))
	case sub.ok && !file.ok:
		sub.share.note = join(sub.share.note, "folders alone: to create files takes "+ace.WriteData.Words(true))
		return sub
	}
	return file
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// ownerRights says where servers differ: some pass over the entries for owner rights of a folder in which
// something is made.
func (a *ntAsker) ownerRights(folder *ntsd.Descriptor) string {
	if folder == nil || folder.Owner != a.token.User {
		return ""
	}
	for _, e := range folder.Entries {
		if e.SID == ntsd.OwnerRights && e.Flags&ace.InheritOnly == 0 {
			return "the folder has an entry for owner rights: Samba passes over it where something is made in a " +
				"folder, and may answer otherwise"
		}
	}
	return ""
}

// maxUndissolved bounds the groups that an answer is tried with: who owns something may name thousands.
const maxUndissolved = 20

// undissolvedSID is [perm.Undissolved], for many entries: it does not write each identity as text.
func (a *ntAsker) undissolvedSID(s ntsd.SID, d *perm.Directory) bool {
	if s.Authority() == 22 {
		return nt.Undissolved(d, s)
	}
	if a.doubtful == nil || a.asked != d {
		a.doubtful, a.asked = nt.Doubtful(d), d
	}
	return a.doubtful[s]
}

// undissolved tells which groups would turn an answer round for whoever is in them, where nobody knows who
// is: an entry of such a group must not count as nobody's.
func (a *ntAsker) undissolved(folder, at *Place, op Operation, ok bool, d *perm.Directory) (out []string) {
	sets := []perm.Set{at.Set, at.Mount.Share}
	if folder != nil {
		sets = append(sets, folder.Set)
	}

	var seen []ntsd.SID
	for _, s := range sets {
		list := a.of(s)
		if list == nil {
			continue
		}
		for _, e := range list.Entries {
			if !a.undissolvedSID(e.SID, d) || a.token.Has(e.SID) || slices.Contains(seen, e.SID) {
				continue
			}
			if len(seen) == maxUndissolved {
				return append(out,
					fmt.Sprintf(
						"not known: more than %d groups are named of which the server does not tell who is in them",
						maxUndissolved))
			}

			seen = append(seen, e.SID)
			in := ntAsker{token: a.token, known: a.known, shares: map[perm.Set]ace.Mask{}}
			in.token.Groups = append(slices.Clone(a.token.Groups), e.SID)
			if in.decide(folder, at, op).ok != ok {
				out = append(out,
					fmt.Sprintf("not known: the server does not tell who is in %s, and for them the answer is %s",
						d.Name(nt.PrincipalOf(e.SID)), map[bool]string{true: "no", false: "yes"}[ok]))
			}
		}
	}

	return out
}

func (a *ntAsker) notes(v verdict) []string {
	if v.share.note == "" {
		return nil
	}
	return []string{v.share.note}
}

// privilege says by what the asker passes over the list of something.
func (a *Asker) privilege(it, who string, d *perm.Directory) string {
	if a.nt.token.Privileges&privilege.Everything != 0 {
		return "the server lets " + who + " do everything, whatever the list of " + it + " says"
	}
	return who + " holds " + a.holderOf(privilege.TakeOwnership, d) + ", which passes over the list of " + it
}

// holderOf names a privilege with the group that brings it.
func (a *Asker) holderOf(p privilege.Set, d *perm.Directory) string {
	for _, h := range a.Held {
		if h.Privileges&p != 0 {
			return h.Words(p, a.ID, d)
		}
	}
	return p.String()
}

// passedOver tells what a refusal does not count: privileges that programs have to ask for (MS-FSA
// 2.1.5.1.2.1), and what the server does not tell.
func (a *Asker) passedOver(v verdict, op Operation, d *perm.Directory) (byAsking bool, out []string) {
	if v.ok || v.code == ByShareTop || v.code == ByShareList || v.code == ByKind || v.code == ByUnread {
		return false, nil
	}

	p, what := privilege.Restore, "write"
	if op == Read || op == List || op == Execute {
		p, what = privilege.Backup, "read"
	}

	byAsking = a.nt.token.Privileges&p != 0
	if byAsking {
		out = append(out,
			"holds "+a.holderOf(p, d)+": programs that ask for it "+what+
				" whatever lists say, on Windows servers; Samba does not go by it")
	}

	if d != nil {
		for _, x := range d.Untold {
			out = append(out, "not counted, since the server does not tell it: "+x)
		}
	}

	return byAsking, out
}

func (a *ntAsker) verdictOf(v ntsd.Verdict, k perm.Kind, d *ntsd.Descriptor, right ace.Mask) verdict {
	out := verdict{ok: v.Granted, share: shareRuling{kind: k, rights: right}}
	switch v.Reason {
	case ntsd.ByEntry:
		out.share.entry = d.Entries[v.Entry]
		out.code = ByDeny
		if v.Granted {
			out.code = ByAllow
		}

	case ntsd.ByOwner:
		out.code = ByOwnership
	case ntsd.ByNoList:
		out.code = ByNoList
	case ntsd.ByParent:
		out.code, out.folder = ByDeleteChild, true
	case ntsd.ByPrivilege:
		out.code = ByPrivilege
	case ntsd.ByShare:
		out.code = ByShareList
	default:
		out.code = ByNoEntry
	}

	return out
}

// shareSentence is for what a share's list decided; it is empty for all else.
func shareSentence(v verdict, it, who string, d *perm.Directory) string {
	rights := v.share.rights.Words(v.share.kind == perm.Folder)
	switch v.code {
	case ByAllow:
		return "an entry on " + it + " grants " + rights + ": " + nt.EntryText(v.share.kind, v.share.entry, d)
	case ByDeny:
		return "an entry on " + it + " withholds " + rights + ": " + nt.EntryText(v.share.kind, v.share.entry, d)
	case ByNoEntry:
		return "no entry on " + it + " grants " + who + " " + rights
	case ByNoList:
		return it + " has no list: everybody may do everything"
	case ByDeleteChild:
		return it + " grants " + who + " to delete what is in it, whatever the path's own list says"
	case ByShareList:
		return "the share's own list does not let " + who + " " + rights + ", whatever the list of " + it + " says"
	case ByShareTop:
		return "it is the share itself, or what holds the shares: clients neither make, rename nor remove these"
	case ByMark:
		return it + " is " + MarkReadOnly.Words()
	case ByTraverse:
		return "file servers let everybody who signs in pass through folders to what they may reach"
	}

	return ""
}

// newOnShare says what something new gets in a folder of a share, by what the folder passes on.
func newOnShare(parent *ntsd.Descriptor, k perm.Kind, s Subject, d *perm.Directory) (m Made, err error) {
	owner, _ := nt.SID(s.ID)
	var group ntsd.SID
	if len(s.Groups) > 0 {
		group, _ = nt.SID(s.Groups[0])
	}

	if parent.Open {
		m.Notes = append(m.Notes, "the folder has no list, and hands nothing on")
	}

	child := ntsd.Child(parent, k == perm.Folder, owner, group, []ntsd.Entry{
		{Mask: ace.Full, SID: owner},
		{Mask: ace.Full, SID: ntsd.System},
	})
	if fromAbove := ntsd.Child(parent, k == perm.Folder, owner, group, nil); len(fromAbove.Entries) == 0 {
		m.Notes = append(m.Notes,
			"nothing is handed on to a "+k.String()+
				": it gets what the server gives by itself, as a rule everything to "+d.Name(s.ID)+
				" and to the system")
	} else {
		m.Notes = append(m.Notes, "entries come down from the folder; no program and no umask has a part in it")
		for _, e := range parent.Entries {
			if e.SID == ntsd.CreatorOwner && e.Flags&(ace.ObjectInherit|ace.ContainerInherit) != 0 {
				m.Notes = append(m.Notes, "what the folder hands on for creator owner goes to "+d.Name(s.ID))
				break
			}
		}
	}

	m.Set, err = nt.SetOf(child)
	return m, err
}
