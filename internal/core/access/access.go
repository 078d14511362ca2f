// Package access answers who can do what with one path, and why: by the path's permissions, and by those of every
// folder on the way to it. It computes; what it says of Linux is held against the kernel by the tests of package probe,
// and what it says of file servers against Samba by those of package smb.
//
// What a scheme of permissions decides stands behind the interface [Scheme], in the scheme's own package; everybody
// else sees places, operations and answers.
//
//	way := access.Way{{Path: "/", Kind: perm.Folder, Set: root}, {Path: "/charts", Kind: perm.Folder, Set: charts}}
//	a := access.NewAsker(access.SubjectOf(names, posix.UID(1001))).May(way, access.List, names)
//	// a.Allowed, and a.Reason: "pim is in the owning group of the folder, which has r"
package access

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/privilege"
)

// An Operation is something that somebody may want to do with a path.
type Operation uint16 // not a byte, of which encoders make text when there are several

// The operations.
const (
	Read         Operation = 1 + iota // open a file's content for reading
	Write                             // open a file's content for writing
	Execute                           // run a file as a program
	List                              // read a folder's names
	Enter                             // pass through a folder to what is in it
	Create                            // make a new entry in a folder
	Delete                            // take the path out of its folder
	Rename                            // give it another name in its folder
	Change                            // change its permissions
	Own                               // become its owner
	CreateFile                        // make a file in a folder: on shares that takes another right than a folder
	CreateFolder                      // make a folder in one
)

// Operations lists them in the order in which they are shown.
var Operations = []Operation{
	Read, Write, Execute, List, Enter, Create, CreateFile, CreateFolder, Delete, Rename, Change, Own,
}

var operationNames = [...]string{
	"", "read", "write", "execute", "list", "enter", "create", "delete", "rename", "change", "own", "create-file",
	"create-folder",
}

var operationWords = [...]string{
	"", "read", "write", "execute", "list", "enter", "create entries in", "delete", "rename",
	"change the permissions of", "take ownership of", "create files in", "create folders in",
}

func (o Operation) String() string {
	if o < Read || int(o) >= len(operationNames) {
		return "unknown operation"
	}
	return operationNames[o]
}

// Words returns the operation as people read it, with the path to follow.
func (o Operation) Words() string { return operationWords[o] }

// ParseOperation reads an operation's name.
func ParseOperation(s string) (Operation, error) {
	if i := slices.Index(operationNames[:], s); i > 0 {
		return Operation(i), nil
	}
	return 0, fmt.Errorf("operation %q is unknown: want one of %s", s, strings.Join(operationNames[1:], ", "))
}

// MarshalText returns the operation's name.
func (o Operation) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// UnmarshalText reads the operation's name.
func (o *Operation) UnmarshalText(b []byte) (err error) {
	*o, err = ParseOperation(string(b))
	return err
}

// Meant returns the operation that is meant when somebody asks of a folder what only files have: reading a folder is
// listing it; writing it is making, removing and renaming what is in it, which all take the same right; and executing
// it is traversing it.
func Meant(op Operation, k perm.Kind) Operation {
	if k != perm.Folder {
		return op
	}
	switch op {
	case Read:
		return List
	case Write:
		return Create
	case Execute:
		return Enter
	}
	return op
}

// For lists the operations that make sense for a kind of path, in a scheme.
func For(k perm.Kind, id perm.SchemeID) []Operation {
	if s := schemeOf(id); s != nil {
		return s.Operations(k)
	}
	return OperationsOn(k)
}

// OperationsOn lists the operations that make sense for a kind of path on systems where one right covers all that is
// made in a folder.
func OperationsOn(k perm.Kind) []Operation {
	switch k {
	case perm.Folder:
		return []Operation{List, Enter, Create, Delete, Rename, Change, Own}
	case perm.File:
		return []Operation{Read, Write, Execute, Delete, Rename, Change, Own}
	case perm.Link:
		return []Operation{Delete, Rename, Own}
	}
	return []Operation{Read, Write, Delete, Rename, Change, Own}
}

// sensible holds the operations that make sense for each kind of path, as bits: whole snapshots are asked about.
var sensible = func() (out [perm.BlockDevice + 1]uint32) {
	for k := perm.File; k <= perm.BlockDevice; k++ {
		for _, o := range OperationsOn(k) {
			out[k] |= 1 << o
		}
	}
	out[perm.Folder] |= 1<<CreateFile | 1<<CreateFolder // also where one right is for both
	return out
}()

// of reports whether an operation makes sense for a kind of path.
func (o Operation) of(k perm.Kind) bool { return k <= perm.BlockDevice && sensible[k]&(1<<o) != 0 }

// A Mount is what the file system of a path denies to everybody, whatever the permissions say; or what a share denies
// to those whom its own list does not allow.
type Mount struct {
	At       pathname.Path `json:"at,omitempty" doc:"Where it is mounted"`
	ReadOnly bool          `json:"read_only,omitempty"`
	NoExec   bool          `json:"no_exec,omitempty"`
	NoSUID   bool          `json:"no_suid,omitempty"`
	NoDev    bool          `json:"no_dev,omitempty"`
	NoFollow bool          `json:"no_symfollow,omitempty"` // links on it are not followed
	Sealed   bool          `json:"sealed,omitempty"`       // it is a subvolume that is read-only, whatever the mount
	// The type of a file system that is mounted so that new paths get their folder's group (grpid); "" where
	// they do not.
	GroupOfFolder string   `json:"group_of_folder,omitempty"`
	Share         perm.Set `json:"share,omitzero"`  // the share's own list; zero where it is not known
	Hides         bool     `json:"hides,omitempty"` // the share shows nobody what they cannot read
}

// Shut reports whether nothing on it can be changed.
func (m Mount) Shut() bool { return m.ReadOnly || m.Sealed }

// Words names what a mount denies.
func (m Mount) Words() (out []string) {
	for _, x := range []struct {
		on   bool
		word string
	}{
		{m.ReadOnly, "read-only"},
		{m.NoExec, "no-exec"},
		{m.NoSUID, "no-suid"},
		{m.NoDev, "no-dev"},
		{m.NoFollow, "no-symfollow"},
		{m.Sealed, "read-only subvolume"},
		{m.GroupOfFolder != "", "grpid"},
		{m.Hides, "hides what cannot be read"},
	} {
		if x.on {
			out = append(out, x.word)
		}
	}

	return out
}

// A Place is a path with what decides access to it.
type Place struct {
	Path  pathname.Path `json:"path"`
	Kind  perm.Kind     `json:"kind"`
	Set   perm.Set      `json:"set"` // zero where it could not be read
	Mount Mount         `json:"mount"`
	Top   bool          `json:"top,omitempty"` // a file system is mounted here: it cannot be removed or renamed
	Mark  Mark          `json:"mark,omitempty"`
}

// A Mark is what a path on a share is marked as besides its list (MS-FSCC 2.6). Snapshots do not hold marks.
type Mark string

// The marks.
const (
	NotLooked    Mark = "" // nobody looked
	Unmarked     Mark = "none"
	MarkReadOnly Mark = "read-only"
)

// MarkOf returns the mark of a path that was looked at.
func MarkOf(readOnly bool) Mark {
	if readOnly {
		return MarkReadOnly
	}
	return Unmarked
}

// Words says what a mark denies.
func (m Mark) Words() string {
	if m == MarkReadOnly {
		return "marked as read-only: it is neither written nor deleted before the mark is taken off"
	}
	return ""
}

// A Way is the folders that lead to a path, from / on, and the path itself, which comes last.
type Way []Place

// A Privilege is a power that an account has beside its permissions.
type Privilege uint8

// The privileges: those of capabilities(7) that concern files.
const (
	Override   Privilege = 1 << iota // CAP_DAC_OVERRIDE
	ReadSearch                       // CAP_DAC_READ_SEARCH
	FOwner                           // CAP_FOWNER
	Chown                            // CAP_CHOWN
	FSetID                           // CAP_FSETID

	AllPrivileges = Override | ReadSearch | FOwner | Chown | FSetID
)

var privilegeNames = [...]string{"CAP_DAC_OVERRIDE", "CAP_DAC_READ_SEARCH", "CAP_FOWNER", "CAP_CHOWN", "CAP_FSETID"}

func (p Privilege) String() string {
	var out []string
	for i, n := range privilegeNames {
		if p&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return strings.Join(out, ", ")
}

// ParsePrivilege reads a capability's name.
func ParsePrivilege(s string) (Privilege, error) {
	if i := slices.Index(privilegeNames[:], strings.ToUpper(s)); i >= 0 {
		return 1 << i, nil
	}
	return 0, fmt.Errorf("privilege %q has no bearing on files: want one of %s", s,
		strings.Join(privilegeNames[:], ", "))
}

// A Subject is somebody who asks for access.
type Subject struct {
	ID perm.Principal // perm.Everyone is whoever is nobody in particular
	// one number may have several names, each with groups of its own; "" for what the host calls the number
	Name       string
	Groups     []perm.Principal
	Privileges Privilege
	Held       []Holding // on file servers
	Called     []Called  // groups, for lists that name them
}

// Called is a group and the host's name for it.
type Called struct {
	ID   perm.Principal
	Name string
}

// A Holding is privileges on a file server and who holds them: the account, or a group that it is in.
type Holding struct {
	Privileges privilege.Set
	By         perm.Principal
}

// Words names some of the privileges, with the group that brings them to somebody.
func (h Holding) Words(some privilege.Set, who perm.Principal, d *perm.Directory) string {
	if h.By == who {
		return some.String()
	}
	return some.String() + " (by " + d.Name(h.By) + ")"
}

// SubjectOf returns the subject with a number, as the host knows it, with further groups that it is not in yet. If
// the number has several names, it is the first.
func SubjectOf(d *perm.Directory, id perm.Principal, joining ...perm.Principal) Subject {
	if a := d.Account(id); a != nil {
		return SubjectNamed(d, a, joining...)
	}
	return subject(d, Subject{ID: id, Name: d.Name(id)}, joining)
}

// SubjectNamed returns an account as its host knows it, with further groups that it is not in yet.
func SubjectNamed(d *perm.Directory, a *perm.Account, joining ...perm.Principal) Subject {
	s := Subject{ID: a.ID, Name: a.Name, Groups: slices.Clone(a.Groups)}
	if a.Name == string(perm.Everyone) { // which is our word for somebody else
		s.Name += " (" + d.Identify(a.ID).Name + ")"
	}
	return subject(d, s, joining)
}

func subject(d *perm.Directory, s Subject, joining []perm.Principal) Subject {
	for _, g := range joining {
		if !slices.Contains(s.Groups, g) {
			s.Groups = append(s.Groups, g)
		}
	}
	for _, x := range schemes {
		x.Complete(&s, d)
	}
	return s
}

// A Pass is one folder on a way, and what allows or denies traversing it.
type Pass struct {
	Path    pathname.Path `json:"path"`
	Passed  bool          `json:"passed"`
	Reason  string        `json:"reason"`
	Reached bool          `json:"reached" doc:"False behind the place where the way stops"`
}

// An Answer is what somebody can do with a path, with the one cause that decides it.
type Answer struct {
	Operation Operation     `json:"operation"`
	Allowed   bool          `json:"allowed"`
	Unknown   bool          `json:"unknown,omitempty" doc:"Nobody knows: who is in a group that would turn the answer round the server does not tell. The notes say which"`
	ByAsking  bool          `json:"by_asking,omitempty" doc:"Refused, but the account holds a privilege that lets programs do it that ask for it, on some servers. The notes say which"`
	Cause     Code          `json:"cause"`
	At        pathname.Path `json:"at" doc:"The path whose permissions decide: the path itself, its folder, or one on the way to it"`
	Reason    string        `json:"reason" doc:"The deciding cause in one sentence"`
	Entry     string        `json:"entry,omitempty" doc:"The entry that decides"`
	Way       []Pass        `json:"way" doc:"The folders from / to the one that the path is in"`
	Notes     []string      `json:"notes,omitempty"`
}

// A Code names a cause.
type Code string

// The causes.
const (
	ByOwner         Code = "owner"          // the owner's permissions
	ByAccount       Code = "account entry"  // the entry that names the account
	ByGroup         Code = "group"          // the owning group's, or a group entry
	ByOthers        Code = "others"         // what everybody else gets
	ByMask          Code = "mask"           // an entry grants it, the mask takes it away
	ByPrivilege     Code = "privilege"      // permissions are passed over
	ByNoProgram     Code = "no execute bit" // even root runs only what somebody may run
	BySticky        Code = "sticky"         // only owners remove from a sticky folder
	ByReadOnly      Code = "read-only"      // mount
	ByNoExec        Code = "no-exec"        // mount
	ByNoDev         Code = "no-dev"         // mount
	ByNoFollow      Code = "no-symfollow"   // mount
	ByImmutable     Code = "immutable"      // flag
	ByAppendOnly    Code = "append-only"    // flag
	ByOwnership     Code = "ownership"      // owners change permissions
	ByNotOwner      Code = "not the owner"  // others do not
	BySetID         Code = "set-ID bits"    // a change of owner would change the mode too
	ByMountPoint    Code = "mount point"    // busy
	ByRoot          Code = "top"            // / is in no folder
	ByKind          Code = "kind"           // there is no such thing with this kind of path
	ByLink          Code = "link"           // ask about its target
	ByUnread        Code = "not read"       // the snapshot does not know
	ByFolderOnWay   Code = "no folder"      // a part of the way is no folder
	ByUnknownScheme Code = "unknown scheme" // a newer program wrote it
)

// An Asker is a subject made ready for many questions. It may be used by one goroutine at a time.
type Asker struct {
	Subject
	checkers []Checker // by the schemes' order; nil until one is needed
	last     Checker   // the one that was needed last: neighbours are mostly of one scheme
	lastID   perm.SchemeID
}

// NewAsker makes an asker.
func NewAsker(s Subject) *Asker { return &Asker{Subject: s, checkers: make([]Checker, len(schemes))} }

// checker returns the asker's checker for a scheme, and nil for one that nobody knows.
func (a *Asker) checker(id perm.SchemeID) Checker {
	if a.last != nil && a.lastID == id {
		return a.last
	}
	for i, s := range schemes {
		if s.ID() == id {
			if a.checkers[i] == nil {
				a.checkers[i] = s.Checker(a.Subject)
			}
			a.last, a.lastID = a.checkers[i], id
			return a.last
		}
	}
	return nil
}

// Passes reports whether the asker can traverse a folder on the way.
func (a *Asker) Passes(p *Place) Verdict {
	switch {
	case p.Kind == perm.Link && p.Mount.NoFollow:
		return Verdict{Code: ByNoFollow}
	case p.Kind == perm.Link:
		return Verdict{OK: true, Code: ByLink} // reading a link takes no right
	case p.Kind != perm.Folder:
		return Verdict{Code: ByFolderOnWay}
	}
	return a.Decide(nil, p, Enter)
}

// Decide answers for a path in a folder that is reached; folder is nil for /.
func (a *Asker) Decide(folder, p *Place, op Operation) Verdict {
	if (op == Delete || op == Rename) && folder == nil {
		return Verdict{Code: ByRoot}
	}
	if p.Set.IsZero() || (op == Delete || op == Rename) && folder.Set.IsZero() {
		return Verdict{Code: ByUnread}
	}

	if !op.of(p.Kind) {
		if p.Kind == perm.Link {
			return Verdict{Code: ByLink}
		}
		return Verdict{Code: ByKind}
	}

	c := a.checker(p.Set.Scheme())
	if c == nil {
		return Verdict{Code: ByUnknownScheme}
	}
	return c.Decide(folder, p, op)
}

// question asks why a verdict came out as it did.
func (a *Asker) question(v Verdict, folder, p *Place, op Operation, d *perm.Directory) Question {
	q := Question{Folder: folder, At: p, Operation: op, Verdict: v, Names: d, It: "the path"}
	if v.Folder {
		q.It = "its folder " + folder.Path.String()
	} else if p.Kind == perm.Folder {
		q.It = "the folder"
	}
	q.Who = cmp.Or(a.Name, d.Name(a.ID))
	if a.ID == perm.Everyone {
		q.Who = "everyone"
	}
	return q
}

// Reason says why, for people, and writes the entry that decided.
func (a *Asker) Reason(v Verdict, folder, p *Place, op Operation, d *perm.Directory) (sentence, entry string) {
	switch v.Code {
	case ByRoot:
		return "/ lies in no folder", ""
	case ByKind:
		return "there is no such thing with a " + p.Kind.String(), ""
	case ByLink:
		return "it is a link: what it leads to decides", ""
	case ByUnread:
		return "its permissions could not be read", ""
	case ByFolderOnWay:
		return "it is a " + p.Kind.String() + ", no folder", ""
	case ByNoFollow:
		return "no link is followed there: the file system is mounted no-symfollow" + mountedAt(p), ""
	case ByUnknownScheme:
		return "its permissions are of a kind that this program does not know", ""
	}
	return a.checker(p.Set.Scheme()).Reason(a.question(v, folder, p, op, d))
}

// May answers whether the asker can do something at the end of a way.
func (a *Asker) May(w Way, op Operation, d *perm.Directory) Answer {
	out := Answer{Operation: op, Way: []Pass{}}
	last := len(w) - 1
	stopped := false

	for i := range w[:last] {
		p := &w[i]
		pass := Pass{Path: p.Path, Reached: !stopped}
		if !stopped {
			v := a.Passes(p)
			var entry string
			pass.Passed = v.OK
			pass.Reason, entry = a.Reason(v, nil, p, Enter, d)
			if !v.OK {
				stopped = true
				out.Cause, out.At = v.Code, p.Path
				out.Reason, out.Entry = "the way stops at "+p.Path.String()+": "+pass.Reason, entry
			}
		}

		out.Way = append(out.Way, pass)
	}

	if stopped {
		return out
	}

	p := &w[last]
	folder := w.FolderOf(last)
	v := a.Decide(folder, p, op)
	out.Allowed, out.Cause, out.At = v.OK, v.Code, p.Path
	if v.Folder {
		out.At = folder.Path
	}

	out.Reason, out.Entry = a.Reason(v, folder, p, op, d)
	if c := a.checker(p.Set.Scheme()); c != nil {
		more := c.Remarks(a.question(v, folder, p, op, d))
		out.Notes, out.ByAsking, out.Unknown = more.Notes, more.ByAsking, more.Unknown
	}
	return out
}

// FolderOf returns the folder that holds a place of the way; there may be a link between them.
func (w Way) FolderOf(i int) *Place {
	if w[i].Path == "/" {
		return nil
	}
	at := pathname.Path(pathname.Folder(string(w[i].Path)))
	for j := i - 1; j >= 0; j-- {
		if w[j].Path == at {
			return &w[j]
		}
	}
	return nil
}

// Can is May without a reason.
func (a *Asker) Can(w Way, op Operation) bool {
	return a.reaches(w) && a.Decide(w.FolderOf(len(w)-1), &w[len(w)-1], op).OK
}

// reaches reports whether a way leads to its end.
func (a *Asker) reaches(w Way) bool {
	for i := range w[:len(w)-1] {
		if !a.Passes(&w[i]).OK {
			return false
		}
	}
	return true
}

// Sure is Can, and also reports whether the answer is unknown, as Answer.Unknown does.
func (a *Asker) Sure(w Way, op Operation, d *perm.Directory) (ok, unknown bool) {
	if !a.reaches(w) {
		return false, false
	}
	return a.Judge(w.FolderOf(len(w)-1), &w[len(w)-1], op, d)
}

// Judge decides for a path in a folder that is reached, and reports whether the answer is unknown.
func (a *Asker) Judge(folder, p *Place, op Operation, d *perm.Directory) (ok, unknown bool) {
	ok = a.Decide(folder, p, op).OK
	c := a.checker(p.Set.Scheme())
	return ok, c != nil && c.Unsure(folder, p, op, ok, d)
}

// Sees reports whether a listing includes the last place of w, given that the asker may list the folder above it. It
// is always true unless what w lies on hides what somebody cannot read.
func (a *Asker) Sees(w Way) bool {
	p := &w[len(w)-1]
	c := a.checker(p.Set.Scheme())
	return !p.Mount.Hides || c == nil || c.Sees(p)
}
