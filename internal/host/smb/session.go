// Package smb looks at file shares and changes their permissions, through SMB 3: signed and encrypted, unless somebody
// says otherwise. It is how shares are reached whose files carry NT security descriptors.
package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// An Access is how a server is reached.
type Access struct {
	Address  string // host:port
	User     string
	Password string
	Domain   string
	Plain    bool          // content may go unencrypted; it is always signed
	Patience time.Duration // how long an answer may take; 0 is a minute
}

// A Session is a server that somebody is signed in to. It is safe for concurrent use.
type Session struct {
	s        *smb2.Session
	plain    bool
	patience time.Duration
	batch    sync.Mutex // one folder's batch at a time: they share what the server lets be under way
}

// Dial signs in.
func Dial(ctx context.Context, a Access) (*Session, error) {
	patience := cmp.Or(a.Patience, time.Minute)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	d := &smb2.Dialer{Negotiator: smb2.Negotiator{RequireMessageSigning: true}, Initiator: &smb2.NTLMInitiator{User: a.User, Password: a.Password, Domain: a.Domain}}
	s, err := d.Dial(ctx, a.Address)
	if err != nil {
		return nil, fmt.Errorf("file server %s: %w", a.Address, explain(err))
	}
	return &Session{s: s, plain: a.Plain, patience: patience}, nil
}

// Close signs out.
func (s *Session) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), s.patience)
	defer cancel()
	return s.s.WithContext(ctx).Logoff()
}

// A Share is one that is open.
type Share struct {
	Name string
	s    *smb2.Share
	ctx  context.Context
	of   *Session
}

// Open opens a share.
func (s *Session) Open(ctx context.Context, name string) (*Share, error) {
	limit, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()
	m, err := s.s.WithContext(limit).Mount(name)
	if err != nil {
		return nil, fmt.Errorf("share %s: %w", name, explain(err))
	}
	if !s.plain && !encrypted(m) {
		_ = m.Umount()
		return nil, fmt.Errorf("share %s: the server does not encrypt: have it require encryption, or allow plain content for this host", name)
	}
	return &Share{name, m.WithContext(ctx), ctx, s}, nil
}

// The bits by which a server asks for encryption, of a session and of a share (MS-SMB2 2.2.6 and 2.2.10).
const (
	sessionEncrypts = 0x0004
	shareEncrypts   = 0x8000
)

// encrypted says whether what goes to a share is encrypted. The library does what the server asks for and does not tell; so
// this looks for itself, and where it finds nothing it says no.
func encrypted(m *smb2.Share) bool {
	field := func(v reflect.Value, name string) reflect.Value {
		for v.Kind() == reflect.Pointer {
			v = v.Elem()
		}
		if v.Kind() != reflect.Struct {
			return reflect.Value{}
		}
		return v.FieldByName(name)
	}
	tree := field(reflect.ValueOf(m), "treeConn")
	if !tree.IsValid() {
		return false
	}
	has := func(v reflect.Value, bit uint64) bool { return v.IsValid() && v.CanUint() && v.Uint()&bit != 0 }
	return has(field(tree, "shareFlags"), shareEncrypts) || has(field(field(tree, "session"), "sessionFlags"), sessionEncrypts)
}

// Close lets the share go.
func (s *Share) Close() error {
	limit, cancel := context.WithTimeout(context.WithoutCancel(s.ctx), s.of.patience)
	defer cancel()
	return s.s.WithContext(limit).Umount()
}

// kept is what of a descriptor is read: owner, group and discretionary list.
const kept = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

// A Seen is something on a share.
type Seen struct {
	Name       string
	Kind       perm.Kind
	Descriptor ntsd.Descriptor
	ID         uint64 // the server's number for it; 0 where it gives none
	Size       int64
	Modified   time.Time
	Err        error // why its permissions could not be read
}

const (
	attributeFolder  = 0x10
	attributeReparse = 0x400
)

func kindOf(attributes uint32) perm.Kind {
	switch {
	case attributes&attributeReparse != 0:
		return perm.Link
	case attributes&attributeFolder != 0:
		return perm.Folder
	}
	return perm.File
}

// A Handle is something on a share that was opened once: what is looked at through it is what is changed through it.
type Handle struct {
	f      *smb2.File
	name   string
	cancel context.CancelFunc
}

// Look opens something for a look at its permissions; "" is the share's own folder.
func (s *Share) Look(name string) (Seen, error) {
	h, err := s.Hold(name, ntsd.ReadControl|ntsd.ReadAttributes)
	if err != nil {
		return Seen{}, err
	}
	defer h.Close()
	return h.Look()
}

// Hold opens something with certain rights. Where the account has the privilege, the list on it does not stand in
// the way.
func (s *Share) Hold(name string, access ntsd.Mask) (*Handle, error) {
	limit, cancel := context.WithTimeout(s.ctx, s.of.patience)
	f, err := open(s.s.WithContext(limit), name, access, forBackup)
	if err != nil {
		cancel()
		return nil, explain(err)
	}
	return &Handle{f, name, cancel}, nil
}

// Close lets it go.
func (h *Handle) Close() error {
	defer h.cancel()
	return h.f.Close()
}

// Look reads what it is and its permissions.
func (h *Handle) Look() (Seen, error) {
	st, err := h.f.Stat()
	if err != nil {
		return Seen{}, explain(err)
	}
	seen := seenOf(st)
	seen.Name = h.name
	raw, err := h.f.SecurityInfoRaw(kept)
	if err != nil {
		return seen, explain(err)
	}
	seen.Descriptor, err = ntsd.Parse(raw)
	return seen, err
}

func seenOf(info os.FileInfo) Seen {
	seen := Seen{Name: info.Name(), Kind: perm.File, Size: info.Size(), Modified: info.ModTime()}
	if st, ok := info.Sys().(*smb2.FileStat); ok {
		seen.Kind, seen.ID = kindOf(st.FileAttributes), st.FileId
	} else if info.IsDir() {
		seen.Kind = perm.Folder
	}
	return seen
}

// encoded is a descriptor on its way to the library.
type encoded []byte

func (e encoded) Size() int         { return len(e) }
func (e encoded) Encode(dst []byte) { copy(dst, e) }

// A Part says what of a descriptor is set.
type Part uint8

// The parts.
const (
	SetOwner Part = 1 << iota
	SetGroup
	SetList
)

// Set sets parts of the permissions. It needs a handle with the rights for them.
func (h *Handle) Set(d ntsd.Descriptor, what Part) error {
	var flags smb2.SecurityInformationRequestFlags
	for part, flag := range map[Part]smb2.SecurityInformationRequestFlags{SetOwner: smb2.OwnerSecurityInformation, SetGroup: smb2.GroupSecurityInformation, SetList: smb2.DACLSecurityInformation} {
		if what&part != 0 {
			flags |= flag
		}
	}
	if what&SetOwner == 0 {
		d.Owner = ntsd.SID{}
	}
	if what&SetGroup == 0 {
		d.Group = ntsd.SID{}
	}
	b, err := d.Append(nil)
	if err != nil {
		return err
	}
	return explain(h.f.SetSecurityInfoRaw(flags, encoded(b)))
}

// batch is how many entries of a folder are asked for at once.
const batch = 1000

// List reads a folder with all permissions, a piece at a time. What could not be read is told with the entry. Names that no
// server of sound mind sends are left out.
func (s *Share) List(folder string, each func([]Seen) error) error {
	limit, cancel := context.WithCancel(s.ctx)
	defer cancel()
	impatient := time.AfterFunc(s.of.patience, cancel)
	defer impatient.Stop()
	f, err := open(s.s.WithContext(limit), folder, ntsd.ReadData|ntsd.ReadAttributes|ntsd.Synchronize, forBackup)
	if err != nil {
		return explain(err)
	}
	defer f.Close()
	for {
		s.of.batch.Lock()
		list, err := f.ReaddirPlus(batch, kept)
		s.of.batch.Unlock()
		impatient.Reset(s.of.patience)
		out := make([]Seen, 0, len(list))
		for _, e := range list {
			seen := seenOf(e.FileInfo)
			if seen.Name == "" || seen.Name == "." || seen.Name == ".." || strings.ContainsAny(seen.Name, "/\\\x00") {
				continue
			}
			switch {
			case e.RawSecurityDescriptor != nil:
				seen.Descriptor, seen.Err = ntsd.Parse(e.RawSecurityDescriptor)
			case e.Err != nil:
				seen.Err = explain(e.Err)
				// Where it was not the server that refused, it was not asked: others had too much under way.
				if _, told := Status(e.Err); !told && !Refused(e.Err) && limit.Err() == nil {
					if one, err := s.Look(joined(folder, seen.Name)); err == nil {
						seen.Descriptor, seen.Err = one.Descriptor, nil
					} else {
						seen.Err = err
					}
				}
			}
			out = append(out, seen)
		}
		if len(out) > 0 {
			if err := each(out); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF), err == nil && len(list) == 0:
			return nil
		case err != nil:
			return explain(err)
		}
	}
}

// NT status codes that people meet (MS-ERREF 2.3.1).
const (
	statusAccessDenied  = 0xC000_0022
	statusLogonFailure  = 0xC000_006D
	statusNoSuchShare   = 0xC000_00CC
	statusNotFound      = 0xC000_0034
	statusPathNotFound  = 0xC000_003A
	statusInvalidOwner  = 0xC000_005A
	statusSharing       = 0xC000_0043
	statusDeletePending = 0xC000_0056
	statusDisabled      = 0xC000_0072
	statusLockedOut     = 0xC000_0234
)

// Status gives the code of a server's refusal.
func Status(err error) (uint32, bool) {
	var r *smb2.ResponseError
	if errors.As(err, &r) {
		return r.Code, true
	}
	return 0, false
}

// Refused says whether a server denied access.
func Refused(err error) bool {
	code, _ := Status(err)
	return code == statusAccessDenied || errors.Is(err, os.ErrPermission)
}

// Gone says whether a path is not there.
func Gone(err error) bool {
	code, ok := Status(err)
	return ok && (code == statusNotFound || code == statusPathNotFound || code == statusDeletePending) || errors.Is(err, os.ErrNotExist)
}

// explain puts what people meet into words, and keeps the cause.
func explain(err error) error {
	if err == nil {
		return nil
	}
	code, ok := Status(err)
	switch {
	case errors.Is(err, os.ErrPermission):
		code = statusAccessDenied
	case errors.Is(err, os.ErrNotExist):
		code = statusNotFound
	case !ok:
		return err
	}
	words := map[uint32]string{
		statusAccessDenied: "the server denies access",
		statusLogonFailure: "the server does not take this name and password",
		statusNoSuchShare:  "the server has no such share",
		statusNotFound:     "it is not there",
		statusPathNotFound: "a folder on the way is not there",
		statusInvalidOwner: "this account may not give ownership to that one: it needs the privilege to restore files",
		statusSharing:      "somebody has it open and lets nobody in",
		statusDisabled:     "the account is disabled",
		statusLockedOut:    "the account is locked out",
	}[code]
	if words == "" {
		return err
	}
	return fmt.Errorf("%s: %w", words, err)
}

// Path makes a share's own form of a path below it: /charts/a/b of share charts is a\b.
func Path(below string) string { return strings.ReplaceAll(strings.Trim(below, "/"), "/", `\`) }
