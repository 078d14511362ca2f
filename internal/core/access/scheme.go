package access

import (
	"cmp"
	"fmt"
	"slices"

	"idletally/internal/core/perm"
)

// A Scheme decides who can do what with paths whose permissions are of one scheme.
type Scheme interface {
	ID() perm.SchemeID
	// Operations lists those that make sense for a kind of path.
	Operations(k perm.Kind) []Operation
	// Complete adds to a subject the powers that its identity has by itself. It leaves those of other schemes alone.
	Complete(s *Subject, d *perm.Directory)
	// Checker makes a subject ready for many questions.
	Checker(s Subject) Checker
	// New returns what a file or folder gets that a subject makes in a folder.
	New(folder perm.State, k perm.Kind, s Subject, asked Asked, d *perm.Directory) (Made, error)
}

// A Checker decides for one subject. It may keep what it has decoded: one goroutine at a time uses it.
type Checker interface {
	// Decide returns the verdict for a path in a folder that is reached. Both have been read, and the operation makes
	// sense for the path's kind; the folder is nil for /, and is there wherever the operation takes it.
	Decide(folder, at *Place, op Operation) Verdict
	// Unsure reports whether the verdict would change if somebody were in a group whose members are not known.
	Unsure(folder, at *Place, op Operation, ok bool, d *perm.Directory) bool
	// Sees reports whether a listing shows a path on a share that hides what the reader cannot read.
	Sees(at *Place) bool

	// Reason explains a verdict of Decide in one sentence, and returns the entry that decided, if one did.
	Reason(q Question) (sentence, entry string)
	// Remarks returns what the reason does not cover.
	Remarks(q Question) Remarks
}

// A Verdict is a decision without names and sentences, for callers that only need the result.
type Verdict struct {
	OK     bool
	Code   Code
	Folder bool // the folder that the path is in decides, not the path
}

// Decided reports whether a Checker gave the verdict; if not, the scheme had no part in it.
func (v Verdict) Decided() bool {
	switch v.Code {
	case ByRoot, ByKind, ByLink, ByUnread, ByFolderOnWay, ByNoFollow, ByUnknownScheme:
		return false
	}
	return true
}

// A Question asks why a verdict came out as it did.
type Question struct {
	Folder, At *Place // the folder is nil for /
	Operation  Operation
	Verdict    Verdict
	Names      *perm.Directory
	It, Who    string // the path that decides, and the subject, as sentences call them
}

// Place returns the place that decided.
func (q Question) Place() *Place {
	if q.Verdict.Folder {
		return q.Folder
	}
	return q.At
}

// Remarks are what an answer says besides its reason.
type Remarks struct {
	Notes    []string
	ByAsking bool // see [Answer]
	Unknown  bool // see [Answer]
}

// schemes are those that were registered, in the order of their IDs.
var schemes []Scheme

// Register makes a scheme known; see [perm.Register].
func Register(s Scheme) {
	if schemeOf(s.ID()) != nil {
		panic(fmt.Sprintf("access: scheme %d was registered twice", s.ID()))
	}
	schemes = append(schemes, s)
	slices.SortFunc(schemes, func(a, b Scheme) int { return cmp.Compare(a.ID(), b.ID()) })
}

func schemeOf(id perm.SchemeID) Scheme {
	for _, s := range schemes {
		if s.ID() == id {
			return s
		}
	}
	return nil
}

// ByMount explains why a mount denies something; it is empty if no mount decided.
func (q Question) ByMount() string {
	at := q.Place()
	switch q.Verdict.Code {
	case ByReadOnly:
		if at.Mount.Sealed {
			return q.It + " lies in a subvolume that is read-only" + mountedAt(at)
		}
		return q.It + " lies on a file system that is mounted read-only" + mountedAt(at)
	case ByNoExec:
		return q.It + " lies on a file system that is mounted no-exec" + mountedAt(at)
	case ByNoDev:
		return q.It + " lies on a file system that is mounted no-dev" + mountedAt(at)
	case ByMountPoint:
		return "a file system is mounted there"
	}
	return ""
}

func mountedAt(p *Place) string {
	if p.Mount.At == "" {
		return ""
	}
	return " (at " + p.Mount.At.String() + ")"
}

// MountedAt says where the file system of a place is mounted, in brackets; empty if that is not known.
func (p *Place) MountedAt() string { return mountedAt(p) }
