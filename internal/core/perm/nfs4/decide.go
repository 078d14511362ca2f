package nfs4

import (
	"errors"
	"slices"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// This file is what a server decides by a list (RFC 8881 sections 6.2.1 and 6.2.1.3).

// The causes.
const (
	ByAllow       access.Code = "allow entry"
	ByDeny        access.Code = "deny entry"
	ByNoEntry     access.Code = "no entry"
	ByDeleteChild access.Code = "delete children" // the folder's list grants it
	ByAdding      access.Code = "adding"          // no entry speaks of deleting: who may add to the folder may delete
	ByServer      access.Code = "server"          // what root can do the server decides
)

func init() { access.Register(decider{}) }

type decider struct{}

func (decider) ID() perm.SchemeID { return ID }

// Operations tells files from folders where something is made: that takes different rights.
func (decider) Operations(k perm.Kind) []access.Operation {
	if k == perm.Folder {
		return []access.Operation{
			access.List, access.Enter, access.CreateFile, access.CreateFolder, access.Delete, access.Rename,
			access.Change,
			access.Own,
		}
	}
	return access.OperationsOn(k)
}

// Complete tells the subject the host's names for the account and its groups: entries use them.
func (decider) Complete(s *access.Subject, d *perm.Directory) {
	for _, g := range s.Groups {
		if a := d.Account(g); a != nil {
			s.Called = append(s.Called, access.Called{ID: g, Name: a.Name})
		}
	}
}

// Checker makes a subject ready for many questions.
func (decider) Checker(s access.Subject) access.Checker {
	c := &checker{known: map[perm.Set]*State{}}
	c.who.as = s.ID
	if n, ok := unixid.Number(s.ID); ok && !unixid.IsGroup(s.ID) {
		c.who.uid, c.root = numeric(n), n == 0
		if strings.Trim(s.Name, "0123456789") != "" {
			c.who.name = s.Name
		}
	}
	for _, g := range s.Groups {
		if n, ok := unixid.Number(g); ok {
			c.who.gids = append(c.who.gids, numeric(n))
		}
	}
	for _, x := range s.Called {
		c.who.groups = append(c.who.groups, x.Name)
	}
	return c
}

// New is an error: what a new path gets is the server's own affair, and servers differ in it.
func (decider) New(perm.State, perm.Kind, access.Subject, access.Asked, *perm.Directory) (access.Made, error) {
	return access.Made{}, errors.New("what a new path gets on an NFSv4 mount is not computed: servers differ in it")
}

// A checker decides for one subject.
type checker struct {
	who   requester
	root  bool
	known map[perm.Set]*State
}

// maxKnown bounds how many states are kept decoded.
const maxKnown = 100_000

func (c *checker) of(s perm.Set) *State {
	st, ok := c.known[s]
	if !ok {
		if v, fine := s.State().(State); fine {
			st = &v
		}
		if len(c.known) >= maxKnown {
			clear(c.known)
		}
		c.known[s] = st
	}
	return st
}

// A decision is a verdict with what decided.
type decision struct {
	access.Verdict
	right   ace.Mask
	entry   *Entry
	several bool // domains have names in the list of the entry
}

// rightFor is what an operation takes of the path's own list (RFC 8881 section 6.2.1.3.1).
var rightFor = map[access.Operation]ace.Mask{
	access.Read:         ace.ReadData,
	access.List:         ace.ReadData,
	access.Write:        ace.WriteData,
	access.Execute:      ace.Execute,
	access.Enter:        ace.Execute,
	access.CreateFile:   ace.WriteData,
	access.CreateFolder: ace.AppendData,
	access.Change:       ace.WriteDAC,
	access.Own:          ace.WriteOwner,
}

func (c *checker) one(s *State, right ace.Mask) decision {
	r := s.check(&c.who, right)
	d := decision{Verdict: access.Verdict{OK: r.granted, Code: ByNoEntry}, right: right}
	if r.entry >= 0 {
		d.entry, d.Code = &s.List[r.entry], ByDeny
		d.several = strings.Contains(d.entry.Who, "@") && !special[d.entry.Who] && domainOf(s.List) == ""
		if r.granted {
			d.Code = ByAllow
		}
	}
	return d
}

// Decide returns the verdict for a path in a folder that is reached.
func (c *checker) Decide(folder, at *access.Place, op access.Operation) access.Verdict {
	return c.decide(folder, at, op).Verdict
}

func (c *checker) decide(folder, at *access.Place, op access.Operation) decision {
	s := c.of(at.Set)
	if s == nil {
		return decision{Verdict: access.Verdict{Code: access.ByUnread}}
	}
	if code := heldBack(folder, at, op, s); code != "" {
		return decision{Verdict: access.Verdict{Code: code, Folder: code == access.ByReadOnly && removes(op)}}
	}

	var d decision
	switch {
	case removes(op):
		d = c.takeOut(folder, at, s, op)
	case op == access.Create, op == access.CreateFile, op == access.CreateFolder:
		d = c.make(s, op)
	default:
		d = c.one(s, rightFor[op])
	}

	if !d.OK && c.root && d.Decided() {
		return decision{Verdict: access.Verdict{OK: true, Code: ByServer}}
	}
	return d
}

// make decides making something in a folder. It is looked up in there first, which takes passing through it.
func (c *checker) make(folder *State, op access.Operation) decision {
	d := c.one(folder, rightFor[op])
	if op == access.Create { // whatever it is
		d = c.one(folder, ace.WriteData)
		if folders := c.one(folder, ace.AppendData); !d.OK && folders.OK {
			d = folders
		}
	}
	if passes := c.one(folder, ace.Execute); d.OK && !passes.OK {
		return passes
	}
	return d
}

// takeOut decides deleting and renaming. A renamed path also gets a new name in the folder.
func (c *checker) takeOut(folder, at *access.Place, s *State, op access.Operation) decision {
	up := c.of(folder.Set)
	if up == nil {
		return decision{Verdict: access.Verdict{Code: access.ByUnread}}
	}
	d := c.remove(up, s)
	if adds := c.one(up, adding(at.Kind)); op == access.Rename && d.OK && !adds.OK {
		d = adds
		d.Folder = true
	}
	return d
}

func removes(op access.Operation) bool { return op == access.Delete || op == access.Rename }

func adding(k perm.Kind) ace.Mask {
	if k == perm.Folder {
		return ace.AppendData
	}
	return ace.WriteData
}

// heldBack returns the code of what a mount or a flag denies to everybody; "" if nothing is denied.
func heldBack(folder, at *access.Place, op access.Operation, s *State) access.Code {
	looks := op == access.Read || op == access.List || op == access.Enter
	switch {
	case looks:
		return ""
	case op == access.Execute:
		if at.Mount.NoExec {
			return access.ByNoExec
		}
		return ""
	case removes(op) && at.Top:
		return access.ByMountPoint
	case removes(op) && folder.Mount.Shut(), at.Mount.Shut():
		return access.ByReadOnly
	}
	return flagged(s.Flags, op)
}

// flagged returns the code of what flags deny to everybody who changes something.
func flagged(f perm.Flags, op access.Operation) access.Code {
	switch makes := op == access.CreateFile || op == access.CreateFolder; {
	case f&perm.Immutable != 0:
		return access.ByImmutable
	case f&perm.AppendOnly != 0 && !makes:
		return access.ByAppendOnly
	}
	return ""
}

// remove decides taking a path out of its folder (RFC 8881 section 6.2.1.3.2): DELETE on the path, or DELETE_CHILD on
// the folder, allows it. Where neither list speaks of it, who may add to the folder may, unless it is sticky and they
// own neither.
func (c *checker) remove(folder, path *State) decision {
	own, child := c.one(path, ace.Delete), c.one(folder, ace.DeleteChild)
	switch {
	case own.OK:
		return own
	case child.OK:
		child.Code, child.Folder = ByDeleteChild, true
		return child
	case own.entry != nil:
		return own
	case child.entry != nil:
		child.Folder = true
		return child
	}

	d := c.one(folder, ace.WriteData)
	d.Folder = true
	if d.OK {
		d.Code = ByAdding
		owns := c.who.uid != "" && (c.who.uid == numeric(path.UID) || c.who.uid == numeric(folder.UID))
		if folder.Special&mode.Sticky != 0 && !owns {
			return decision{Verdict: access.Verdict{Code: access.BySticky, Folder: true}}
		}
	}
	return d
}

// Unsure reports whether an entry for identities that only the server knows would reverse the verdict, or whether the
// subject is root, about whom servers decide as they like.
func (c *checker) Unsure(folder, at *access.Place, op access.Operation, ok bool, _ *perm.Directory) bool {
	return len(c.doubts(folder, at, op, ok)) > 0
}

func (c *checker) doubts(folder, at *access.Place, op access.Operation, ok bool) (out []string) {
	d := c.decide(folder, at, op)
	if d.Code == ByServer {
		return []string{"not known: many servers take root for nobody in particular (root squashing)"}
	}
	if d.several {
		out = append(out,
			"not known: the list names accounts of several domains, and only the server knows which is this "+
				"host's")
	}
	if op == access.Change && !ok {
		if s := c.of(at.Set); s != nil && c.who.uid == numeric(s.UID) && c.who.uid != "" {
			out = append(out, "not known: the list does not let the owner, and many servers do all the same")
		}
	}

	for _, p := range []*access.Place{at, folder} {
		if p == nil {
			continue
		}
		if s := c.of(p.Set); s != nil {
			out = append(out, s.unnamed(asked(op, at.Kind), ok)...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// unnamed returns the entries for identities that only the server knows which would reverse an answer.
func (s *State) unnamed(rights ace.Mask, ok bool) (out []string) {
	for _, e := range s.List {
		switch e.Who {
		case Owner, Group, Everyone, Authenticated, Anonymous:
			continue
		}
		if special[e.Who] && e.decides() && e.Mask&rights != 0 && (e.Type == Allow) != ok {
			out = append(out, "not known: only the server knows who is meant by "+e.Who)
		}
	}
	return out
}

// asked returns every right that may decide an operation.
func asked(op access.Operation, k perm.Kind) ace.Mask {
	if removes(op) {
		return ace.Delete | ace.DeleteChild | ace.WriteData | adding(k)
	}
	if op == access.Create {
		return ace.WriteData | ace.AppendData
	}
	return rightFor[op]
}

// Sees is true: a listing shows every name.
func (c *checker) Sees(*access.Place) bool { return true }

// Reason says which entry decided.
func (c *checker) Reason(q access.Question) (sentence, entry string) {
	if s := q.ByMount(); s != "" {
		return s, ""
	}
	d := c.decide(q.Folder, q.At, q.Operation)
	k := q.Place().Kind
	if d.entry != nil {
		entry = grantOf(k, *d.entry, q.Names, d.several).String()
	}
	rights := d.right.Words(k == perm.Folder)

	switch d.Code {
	case ByAllow:
		return "an entry on " + q.It + " grants " + rights + ": " + entry, entry
	case ByDeny:
		return "an entry on " + q.It + " denies " + rights + ": " + entry, entry
	case ByDeleteChild:
		return q.It + " grants " + q.Who + " to delete what is in it, whatever the path's own list says", entry
	case ByAdding:
		return "no entry speaks of deleting, and " + q.Who + " may add to " + q.It, entry
	case access.BySticky:
		return q.It + " is sticky, no entry speaks of deleting, and " + q.Who + " owns neither", ""
	case access.ByImmutable:
		return q.It + " is immutable", ""
	case access.ByAppendOnly:
		return q.It + " is append-only", ""
	case ByServer:
		return "no entry on " + q.It + " lets root: the server decides what root can do", ""
	}
	return "no entry on " + q.It + " grants " + q.Who + " " + rights, ""
}

// Remarks says what is not known, and how names were matched.
func (c *checker) Remarks(q access.Question) (out access.Remarks) {
	if !q.Verdict.Decided() {
		return out
	}
	doubts := c.doubts(q.Folder, q.At, q.Operation, q.Verdict.OK)
	out.Unknown, out.Notes = len(doubts) > 0, doubts
	if d := c.decide(q.Folder, q.At, q.Operation); d.entry != nil && !special[d.entry.Who] &&
		strings.Contains(d.entry.Who, "@") {
		out.Notes = append(out.Notes, "the list says "+d.entry.Who+
			": it is taken for who is called so on this host, as identity mapping does")
	}
	return out
}
