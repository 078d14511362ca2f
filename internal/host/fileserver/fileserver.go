// Package fileserver reads and changes paths that carry NT security descriptors, wherever they are: on the shares of
// a file server, or on a system of its own that has such descriptors. A Server reaches them; what is done with them
// is here.
package fileserver

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/privilege"
)

// A Server has shares, and knows who its accounts are. It is safe for concurrent use.
type Server interface {
	Open(ctx context.Context, share string) (Share, error)
	Shares(ctx context.Context) ([]string, error)
	// Names returns the server's names of identities, in their order; one that it does not know has no name.
	Names(ctx context.Context, sids []ntsd.SID) ([]Name, error)
	// Accounts lists the accounts and groups that the server keeps, with who is in which.
	Accounts(ctx context.Context) ([]Account, error)
	// Privileges returns which accounts and groups hold privileges that pass over lists.
	Privileges(ctx context.Context) (map[ntsd.SID]privilege.Set, error)
	Close() error
}

// A Share is one that is open.
type Share interface {
	// Terms returns what the share itself lays down, as far as the server tells.
	Terms() (access.Mount, error)
	// Hold opens something with certain rights, following no link; "" is the share's own folder. If the account has
	// the privilege, the list on it is not consulted.
	Hold(name string, rights ace.Mask) (Handle, error)
	// List reads a folder with all permissions, a piece at a time. An entry that could not be read comes with the
	// reason.
	List(folder string, each func([]Seen) error) error
	Close() error
}

// A Handle is something that was opened once: what is read through it is what is changed through it.
type Handle interface {
	Look() (Seen, error)
	Set(d ntsd.Descriptor, what Part) error // needs a handle with the rights for it
	Close() error
}

// A Seen is something on a share.
type Seen struct {
	Name       string
	Kind       perm.Kind
	Descriptor ntsd.Descriptor
	ID         uint64 // the server's number for it; 0 where it gives none
	Links      uint64 // names that it has; 0 where nobody asked
	Size       int64
	Modified   time.Time
	ReadOnly   bool // marked so (MS-FSCC 2.6)
	// When anything of it was changed last, in nanoseconds of Unix time by the server's clock; 0 if nobody asked.
	Changed int64
	Err     error // why its permissions could not be read
}

// A Part says which parts of a descriptor are set.
type Part uint8

// The parts.
const (
	SetOwner Part = 1 << iota
	SetGroup
	SetList
)

// A Name is what a server calls an identity.
type Name struct {
	SID    ntsd.SID
	Domain string
	Name   string
	Group  bool
}

// String returns it as people write it.
func (n Name) String() string {
	if n.Domain == "" {
		return n.Name
	}
	return n.Domain + `\` + n.Name
}

// An Account is one of the server's accounts or groups.
type Account struct {
	SID    ntsd.SID
	Name   string
	Domain string
	Group  bool
	Groups []ntsd.SID // of an account: those that it is in, as far as the server knows
	Partly bool       // of a group: not everybody who is in it is known
}

// ErrLost says that the connection to the server was lost, and could not be made again.
var ErrLost = errors.New("the file server does not answer any more")

// Refused reports whether somebody denied access.
func Refused(err error) bool { return errors.Is(err, fs.ErrPermission) }

// Gone reports whether a path is not there.
func Gone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// Look opens something and reads its permissions.
func Look(s Share, name string) (Seen, error) {
	h, err := s.Hold(name, ace.ReadControl|ace.ReadAttributes)
	if err != nil {
		return Seen{}, err
	}
	defer h.Close()
	return h.Look()
}

// Split returns the share of a path and what lies in it, in the server's own form: /charts/a/b is a\b in charts. A
// path that would mean something else there is refused, since a name like ..\..\other leads out of where it seems to
// lie.
func Split(path string) (share, below string, err error) {
	if strings.ContainsAny(path, "\\:*?\"<>|") {
		return "", "", fmt.Errorf("%s: no name on a share holds \\ : * ? \" < > or |", pathname.Escape(path))
	}
	share, below, _ = strings.Cut(strings.TrimPrefix(path, "/"), "/")
	return share, Path(below), nil
}

// Path makes a share's own form of a path below it: a/b is a\b.
func Path(below string) string { return strings.ReplaceAll(strings.Trim(below, "/"), "/", `\`) }

// Joined is a name in a folder, in that form.
func Joined(below, name string) string {
	if below == "" {
		return name
	}
	return below + `\` + name
}
