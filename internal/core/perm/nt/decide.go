package nt

import (
	"fmt"
	"slices"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/privilege"
)

// This file is the NT scheme: what a file server decides by security descriptors (MS-DTYP 2.5.3, MS-FSA 2.1.5.1).

// The causes on shares.
const (
	ByAllow       access.Code = "allow entry"
	ByDeny        access.Code = "deny entry"
	ByNoEntry     access.Code = "no entry"
	ByNoList      access.Code = "no list"         // everybody may do everything
	ByDeleteChild access.Code = "delete children" // the folder's list grants it, whatever the path's own says
	ByTraverse    access.Code = "passing"         // servers let everybody pass through folders
	ByShareList   access.Code = "share list"      // the share's own list does not let it through
	ByShareTop    access.Code = "share"           // it is the share itself, or what holds the shares
	ByMark        access.Code = "marked"          // what is marked as read-only is neither written nor deleted
)

// shareRuling is what decided on a share.
type shareRuling struct {
	entry  ntsd.Entry
	kind   perm.Kind // of what the entry stands on
	rights ace.Mask  // that were asked for
	note   string    // what there is to say beside the reason
}

func init() { access.Register(decider{}) }

// decider is what file servers decide by security descriptors.
type decider struct{}

func (decider) ID() perm.SchemeID                       { return ID }
func (decider) Checker(s access.Subject) access.Checker { return newChecker(s) }

func (decider) Operations(k perm.Kind) []access.Operation {
	if k == perm.Folder {
		return []access.Operation{access.List, access.Enter, access.CreateFile, access.CreateFolder, access.Delete,
			access.Rename, access.Change, access.Own}
	}
	return access.OperationsOn(k)
}

// Complete gives a subject the privileges that the server grants it, or a group that it is in.
func (decider) Complete(s *access.Subject, d *perm.Directory) {
	for _, x := range slices.Concat([]perm.Principal{s.ID}, s.Groups, everybodysGroups) {
		if a := d.Account(x); a != nil && a.Privileges != 0 {
			s.Held = append(s.Held, access.Holding{Privileges: a.Privileges, By: x})
		}
	}
}

// maxKnown bounds how many states are kept decoded.
const maxKnown = 100_000

// A decision is a verdict with what decided.
type decision struct {
	access.Verdict
	share shareRuling
}

type checker struct {
	access.Subject
	token  ntsd.Token
	known  map[perm.Set]*ntsd.Descriptor
	shares map[perm.Set]ace.Mask // what the lists of shares let through
	// Groups of a directory of which nobody knows who is in them.
	doubtful map[ntsd.SID]bool
	asked    *perm.Directory
}

// everybodysGroups are those that whoever signs in to a file server is in.
var everybodysGroups = []perm.Principal{
	PrincipalOf(ntsd.Everyone), PrincipalOf(ntsd.Authenticated), PrincipalOf(ntsd.Network),
}

func newChecker(s access.Subject) *checker {
	a := &checker{Subject: s, known: map[perm.Set]*ntsd.Descriptor{}, shares: map[perm.Set]ace.Mask{}}
	if sid, ok := SID(s.ID); ok {
		a.token.User = sid
	}
	for _, h := range s.Held {
		a.token.Privileges |= h.Privileges
	}
	for _, g := range slices.Concat(everybodysGroups, s.Groups) {
		if sid, ok := SID(g); ok {
			a.token.Groups = append(a.token.Groups, sid)
		}
	}
	return a
}

func (a *checker) of(s perm.Set) *ntsd.Descriptor {
	d, ok := a.known[s]
	if !ok {
		if v, fine := Of(s); fine {
			d = &v
		}
		if len(a.known) >= maxKnown {
			clear(a.known)
		}
		a.known[s] = d
	}
	return d
}

// through returns what a share allows: everything, if its list is not known.
func (a *checker) through(m *access.Mount) ace.Mask {
	if m.Share.IsZero() {
		return ace.Full
	}
	mask, ok := a.shares[m.Share]
	if !ok {
		mask = ace.Full
		if d, fine := Of(m.Share); fine {
			mask = d.Lets(a.token)
		}
		if len(a.shares) >= maxKnown {
			clear(a.shares)
		}
		a.shares[m.Share] = mask
	}
	return mask
}

// Lacks returns the rights to a place on a share that neither its list nor the share's own grants somebody.
func Lacks(s access.Subject, p *access.Place) ace.Mask {
	a := newChecker(s)
	d := a.of(p.Set)
	if d == nil {
		return 0
	}
	return a.through(&p.Mount) &^ d.Maximum(a.token)
}

// shown is what a share that hides asks for before it shows a path: all that reading takes, except synchronize.
const shown = ace.ReadSet &^ ace.Synchronize

// Sees reports whether a listing shows a path, on a share that uses access-based enumeration.
func (a *checker) Sees(p *access.Place) bool {
	d := a.of(p.Set)
	return d != nil && d.Maximum(a.token)&a.through(&p.Mount)&shown == shown
}

// rightFor is what an operation takes of the path's own list.
var rightFor = map[access.Operation]ace.Mask{
	access.Read:         ace.ReadData,
	access.List:         ace.ReadData,
	access.Write:        ace.WriteData,
	access.CreateFile:   ace.WriteData,
	access.CreateFolder: ace.AppendData,
	access.Execute:      ace.Execute,
	access.Delete:       ace.Delete,
	access.Rename:       ace.Delete,
	access.Change:       ace.WriteDAC,
	access.Own:          ace.WriteOwner,
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

func (a *checker) decide(folder, at *access.Place, op access.Operation) decision {
	d := a.of(at.Set)
	if d == nil {
		return decision{Verdict: access.Verdict{Code: access.ByUnread}}
	}

	switch {
	case op == access.Create:
		return a.either(folder, at)
	case at.Path == top && op != access.List && op != access.Enter, (op == access.Delete || op == access.Rename) &&
		folder.Path == top:
		return decision{Verdict: access.Verdict{Code: ByShareTop}}
	}

	through := a.through(&at.Mount)
	if op == access.Enter {
		if through&(ace.ReadData|ace.Execute|ace.ReadAttributes) == 0 {
			// who gets nothing from a share is not let in at all
			return decision{access.Verdict{Code: ByShareList}, shareRuling{kind: at.Kind, rights: ace.ReadData}}
		}
		return decision{Verdict: access.Verdict{OK: true, Code: ByTraverse}}
	}

	right := rightFor[op]
	place := ntsd.Place{Descriptor: d, Share: through}
	var above *ntsd.Descriptor
	if folder != nil {
		above = a.of(folder.Set)
	}

	if op == access.Delete || op == access.Rename {
		if above == nil {
			return decision{Verdict: access.Verdict{Code: access.ByUnread}}
		}
		place.Parent = above
	}

	v := a.verdictOf(place.Check(a.token, right)[right], at.Kind, d, right)
	made := above // where something is made
	switch op {
	case access.Rename:
		if v.OK { // its folder gets a name that it did not have
			right := Adding(at.Kind)
			if add := a.verdictOf(above.Check(a.token, right)[right], perm.Folder, above, right); !add.OK {
				add.Folder = true
				v = add
			}
		}
	case access.CreateFile, access.CreateFolder:
		made = d
	default:
		return a.marked(v, at, op)
	}

	v.share.note = a.ownerRights(made)
	return v
}

// marked returns a verdict with the path's mark counted (MS-FSA 2.1.5.1.2).
func (a *checker) marked(v decision, at *access.Place, op access.Operation) decision {
	if !v.OK || op != access.Write && op != access.Delete {
		return v
	}
	switch at.Mark {
	case access.MarkReadOnly:
		out := decision{access.Verdict{Code: ByMark}, shareRuling{kind: at.Kind}}
		if d := a.of(at.Set); d.Maximum(a.token)&a.through(&at.Mount)&ace.WriteAttributes != 0 {
			out.share.note = "the account may take the mark off, and can then"
		}
		return out
	case access.NotLooked:
		v.share.note = join(v.share.note, "unless it is marked as read-only, which snapshots do not hold")
	}
	return v
}

// either decides whether something can be made in a folder, be it files or folders alone.
func (a *checker) either(folder, at *access.Place) decision {
	file, sub := a.decide(folder, at, access.CreateFile), a.decide(folder, at, access.CreateFolder)
	switch {
	case file.OK && !sub.OK:
		file.share.note = join(file.share.note, "files alone: to create folders takes "+ace.AppendData.Words(true))
	case sub.OK && !file.OK:
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

// ownerRights says where servers differ: some ignore the owner-rights entries of a folder in which something is made.
func (a *checker) ownerRights(folder *ntsd.Descriptor) string {
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

// maxUndissolved bounds the groups that an answer is tried with: an owner may name thousands.
const maxUndissolved = 20

// undissolvedSID is [perm.Undissolved], for many entries: it does not write each identity as text.
func (a *checker) undissolvedSID(s ntsd.SID, d *perm.Directory) bool {
	if s.Authority() == 22 {
		return Undissolved(d, s)
	}
	if a.doubtful == nil || a.asked != d {
		a.doubtful, a.asked = Doubtful(d), d
	}
	return a.doubtful[s]
}

// undissolved returns the groups that would reverse an answer for their members, where it is not known who these are:
// an entry of such a group must not count as nobody's.
func (a *checker) undissolved(folder, at *access.Place, op access.Operation, ok bool,
	d *perm.Directory) (out []string) {
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
			in := checker{token: a.token, known: a.known, shares: map[perm.Set]ace.Mask{}}
			in.token.Groups = append(slices.Clone(a.token.Groups), e.SID)
			if in.decide(folder, at, op).OK != ok {
				out = append(out,
					fmt.Sprintf("not known: the server does not tell who is in %s, and for them the answer is %s",
						d.Name(PrincipalOf(e.SID)), map[bool]string{true: "no", false: "yes"}[ok]))
			}
		}
	}

	return out
}

// Decide returns what the server decides.
func (a *checker) Decide(folder, at *access.Place, op access.Operation) access.Verdict {
	return a.decide(folder, at, op).Verdict
}

// Unsure reports whether the verdict would be another one for members of a group of which nobody knows who is in it.
func (a *checker) Unsure(folder, at *access.Place, op access.Operation, ok bool, d *perm.Directory) bool {
	return len(a.undissolved(folder, at, op, ok, d)) > 0
}

// Reason says what a share's list decided.
func (a *checker) Reason(q access.Question) (sentence, entry string) {
	v := a.decide(q.Folder, q.At, q.Operation)
	if !v.share.entry.SID.IsZero() {
		entry = EntryText(v.share.kind, v.share.entry, q.Names)
	}
	switch v.Code {
	case access.ByPrivilege:
		return a.privilege(q.It, q.Who, q.Names), entry
	case access.ByOwnership:
		if q.Operation == access.Own {
			return q.Who + " owns it already", entry
		}
		return q.Who + " owns it", entry
	}
	return shareSentence(v, q.It, q.Who, q.Names), entry
}

// Remarks says what an answer does not count, and what nobody knows.
func (a *checker) Remarks(q access.Question) (out access.Remarks) {
	v := decision{Verdict: q.Verdict}
	if q.Verdict.Decided() {
		v = a.decide(q.Folder, q.At, q.Operation)
	}
	if v.share.note != "" {
		out.Notes = append(out.Notes, v.share.note)
	}

	var more []string
	out.ByAsking, more = a.passedOver(v, q.Operation, q.Names)
	out.Notes = append(out.Notes, more...)
	open := a.undissolved(q.Folder, q.At, q.Operation, v.OK, q.Names)
	out.Unknown, out.Notes = len(open) > 0, append(out.Notes, open...)
	return out
}

// privilege names the privilege by which the asker passes over a list.
func (a *checker) privilege(it, who string, d *perm.Directory) string {
	if a.token.Privileges&privilege.Everything != 0 {
		return "the server lets " + who + " do everything, whatever the list of " + it + " says"
	}
	return who + " holds " + a.holderOf(privilege.TakeOwnership, d) + ", which passes over the list of " + it
}

// holderOf names a privilege and the group that it comes from.
func (a *checker) holderOf(p privilege.Set, d *perm.Directory) string {
	for _, h := range a.Held {
		if h.Privileges&p != 0 {
			return h.Words(p, a.ID, d)
		}
	}
	return p.String()
}

// passedOver tells what a refusal does not count: privileges that programs have to ask for (MS-FSA
// 2.1.5.1.2.1), and what the server does not tell.
func (a *checker) passedOver(v decision, op access.Operation, d *perm.Directory) (byAsking bool, out []string) {
	if v.OK || v.Code == ByShareTop || v.Code == ByShareList || v.Code == access.ByKind || v.Code == access.ByUnread {
		return false, nil
	}

	p, what := privilege.Restore, "write"
	if op == access.Read || op == access.List || op == access.Execute {
		p, what = privilege.Backup, "read"
	}

	byAsking = a.token.Privileges&p != 0
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

func (a *checker) verdictOf(v ntsd.Verdict, k perm.Kind, d *ntsd.Descriptor, right ace.Mask) decision {
	out := decision{access.Verdict{OK: v.Granted}, shareRuling{kind: k, rights: right}}
	switch v.Reason {
	case ntsd.ByEntry:
		out.share.entry = d.Entries[v.Entry]
		out.Code = ByDeny
		if v.Granted {
			out.Code = ByAllow
		}

	case ntsd.ByOwner:
		out.Code = access.ByOwnership
	case ntsd.ByNoList:
		out.Code = ByNoList
	case ntsd.ByParent:
		out.Code, out.Folder = ByDeleteChild, true
	case ntsd.ByPrivilege:
		out.Code = access.ByPrivilege
	case ntsd.ByShare:
		out.Code = ByShareList
	default:
		out.Code = ByNoEntry
	}

	return out
}

// shareSentence is for what a share's list decided; it is empty for all else.
func shareSentence(v decision, it, who string, d *perm.Directory) string {
	rights := v.share.rights.Words(v.share.kind == perm.Folder)
	switch v.Code {
	case ByAllow:
		return "an entry on " + it + " grants " + rights + ": " + EntryText(v.share.kind, v.share.entry, d)
	case ByDeny:
		return "an entry on " + it + " denies " + rights + ": " + EntryText(v.share.kind, v.share.entry, d)
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
		return it + " is " + access.MarkReadOnly.Words()
	case ByTraverse:
		return "file servers let everybody who signs in pass through folders to what they may reach"
	}

	return ""
}

// New returns what something new in a folder of a share gets, by what it inherits.
func (decider) New(folder perm.State, k perm.Kind, s access.Subject, _ access.Asked,
	d *perm.Directory) (m access.Made, err error) {
	parent := folder.(State).Descriptor
	owner, _ := SID(s.ID)
	var group ntsd.SID
	if len(s.Groups) > 0 {
		group, _ = SID(s.Groups[0])
	}

	if parent.Open {
		m.Notes = append(m.Notes, "the folder has no list, and hands nothing on")
	}

	child := ntsd.Child(&parent, k == perm.Folder, owner, group, []ntsd.Entry{
		{Mask: ace.Full, SID: owner},
		{Mask: ace.Full, SID: ntsd.System},
	})
	if fromAbove := ntsd.Child(&parent, k == perm.Folder, owner, group, nil); len(fromAbove.Entries) == 0 {
		m.Notes = append(m.Notes,
			"nothing is handed on to a "+k.String()+
				": it gets what the server gives by itself, as a rule everything to "+d.Name(s.ID)+
				" and to the system")
	} else {
		m.Notes = append(m.Notes,
			"entries are inherited from the folder; neither a program nor a umask has a part in it")
		for _, e := range parent.Entries {
			if e.SID == ntsd.CreatorOwner && e.Flags&(ace.ObjectInherit|ace.ContainerInherit) != 0 {
				m.Notes = append(m.Notes,
					"what can be inherited from the folder for creator owner goes to "+d.Name(s.ID))
				break
			}
		}
	}

	m.Set, err = SetOf(child)
	return m, err
}
