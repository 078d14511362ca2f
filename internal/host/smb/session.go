// Package smb reads file shares and changes their permissions, through SMB 3: signed and encrypted, unless somebody
// says otherwise. It is how shares are reached whose files carry NT security descriptors.
package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	mathrand "math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/host/fileserver"
)

// An Access says how a server is reached.
type Access struct {
	Address  string // host:port
	User     string
	Password string
	Domain   string
	Plain    bool          // content may go unencrypted; it is always signed
	Old      bool          // SMB 3.0 will do, where the server has no 3.1.1
	Ordinary bool          // no privilege passes over lists
	Kerberos *Kerberos     // nil signs in by NTLMv2
	Patience time.Duration // how long an answer may take; 0 is a minute
}

// A Session is a server that somebody is signed in to. It is safe for concurrent use. If the connection breaks it
// signs in anew, and repeats what can be asked again.
type Session struct {
	access   Access
	patience time.Duration
	batch    sync.Mutex // one folder's batch at a time: they share what the server lets be under way

	mu    sync.Mutex
	s     *smb2.Session
	era   int   // how often it signed in
	ended error // why it will not do so again
}

// The oldest dialects that are spoken (MS-SMB2 2.2.4).
const (
	smb300 = 0x0300
	smb311 = 0x0311
)

// Dial signs in.
func Dial(ctx context.Context, a Access) (*Session, error) {
	s := &Session{access: a, patience: cmp.Or(a.Patience, time.Minute)}
	var err error
	s.s, err = s.dial(ctx)
	return s, err
}

func (s *Session) dial(ctx context.Context) (*smb2.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()

	who, done, err := s.access.initiator()
	if err != nil {
		return nil, fmt.Errorf("file server %s: %w", s.access.Address, err)
	}
	defer done()

	oldest := uint16(smb311)
	if s.access.Old {
		oldest = smb300
	}

	d := &smb2.Dialer{
		Negotiator: smb2.Negotiator{
			RequireMessageSigning: true,
			RequireEncryption:     !s.access.Plain,
			MinDialect:            oldest,
		},
		Initiator: who,
	}

	var c *smb2.Session
	err = guarded(func() (err error) {
		c, err = d.Dial(ctx, s.access.Address)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("file server %s: %w", s.access.Address, explain(err))
	}

	return c, nil
}

// Close signs out.
func (s *Session) Close() error {
	s.mu.Lock()
	c := s.s
	s.ended = errors.New("the session is closed")
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), s.patience)
	defer cancel()
	return c.WithContext(ctx).Logoff()
}

// now returns the present connection, and its number.
func (s *Session) now() (*smb2.Session, int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.s, s.era
}

// again signs in anew, unless somebody has done so since an era. It tries for as long as patience lasts; after that
// nobody tries once more.
func (s *Session) again(ctx context.Context, era int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.era != era || s.ended != nil {
		return s.ended
	}

	end := time.Now().Add(s.patience)
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		c, err := s.dial(ctx)
		if err == nil {
			old := s.s
			s.s, s.era = c, s.era+1
			go func() { // where its connection is only mute, nobody else ends it
				quick, cancel := context.WithTimeout(context.Background(), time.Second)
				defer cancel()
				_ = old.WithContext(quick).Logoff()
			}()
			return nil
		}

		if ctx.Err() != nil {
			return ctx.Err()
		}

		if _, told := Status(err); told || time.Now().After(end) {
			s.ended = fmt.Errorf("%w: %w", fileserver.ErrLost, err)
			return s.ended
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause/2 + mathrand.N(pause)):
		}
	}
}

// A Share is one that is open.
type Share struct {
	Name string
	of   *Session
	ctx  context.Context

	mu  sync.Mutex
	s   *smb2.Share
	era int
}

// Open opens a share.
func (s *Session) Open(ctx context.Context, name string) (fileserver.Share, error) {
	x := &Share{Name: name, of: s, ctx: ctx, era: -1}
	if err := x.use(func(*smb2.Share) error { return nil }); err != nil {
		return nil, err
	}
	return x, nil
}

func (s *Session) mount(ctx context.Context, c *smb2.Session, name string) (*smb2.Share, error) {
	limit, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()
	var m *smb2.Share
	err := guarded(func() (err error) {
		m, err = c.WithContext(limit).Mount(name)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("share %s: %w", name, explain(err))
	}
	return m, nil
}

// mounted returns the share over the present connection.
func (s *Share) mounted() (*smb2.Share, int, error) {
	c, era := s.of.now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.s != nil && s.era == era {
		return s.s, era, nil
	}
	m, err := s.of.mount(s.ctx, c, s.Name)
	if err != nil {
		return nil, era, err
	}
	s.s, s.era = m, era
	return m, era, nil
}

// tries is how often something is repeated when the connection breaks.
const tries = 20

// use calls something that can be repeated: over a new connection, if the present one broke.
func (s *Share) use(ask func(*smb2.Share) error) error {
	for n := 1; ; n++ {
		m, era, err := s.mounted()
		if err == nil {
			err = guarded(func() error { return ask(m) })
		}
		if !broken(err) || s.ctx.Err() != nil {
			return err
		}
		if n == tries {
			return fmt.Errorf("%w: %w", fileserver.ErrLost, err)
		}
		if err := s.of.again(s.ctx, era); err != nil {
			return err
		}
	}
}

// guarded calls something whose answer may make the library panic: that is the server's fault, and must end nothing
// else.
func guarded(ask func() error) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("the file server's answer cannot be read: %v", fault)
		}
	}()
	return ask()
}

// broken reports whether it was the connection that failed, not what was asked.
func broken(err error) bool {
	var transport *smb2.TransportError
	if err == nil || errors.Is(err, fileserver.ErrLost) {
		return false
	}
	code, told := Status(err)
	if told {
		return code == statusSessionExpired || code == statusSessionDeleted || code == statusNetworkName
	}
	return errors.As(err, &transport) || errors.Is(err, net.ErrClosed) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, context.DeadlineExceeded) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) ||
		strings.Contains(err.Error(), "use of closed")
}

// Close lets the share go.
func (s *Share) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.s == nil {
		return nil
	}
	limit, cancel := context.WithTimeout(context.WithoutCancel(s.ctx), s.of.patience)
	defer cancel()
	return s.s.WithContext(limit).Umount()
}

// kept is the part of a descriptor that is read: owner, group and discretionary list.
const kept = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

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

// handle is something on a share that was opened once.
type handle struct {
	f      *smb2.File
	name   string
	cancel context.CancelFunc
}

// Hold opens something with certain rights.
func (s *Share) Hold(name string, rights ace.Mask) (h fileserver.Handle, err error) {
	err = s.use(func(m *smb2.Share) error {
		limit, cancel := context.WithTimeout(s.ctx, s.of.patience)
		options := uint32(forBackup)
		if s.of.access.Ordinary {
			options = 0
		}

		f, err := open(m.WithContext(limit), name, rights, options)
		if err != nil {
			cancel()
			return explain(err)
		}

		h = &handle{f, name, cancel}
		return nil
	})

	if err != nil {
		return nil, err
	}

	return h, nil
}

// Close lets it go.
func (h *handle) Close() error {
	defer h.cancel()
	return h.f.Close()
}

// Look reads what it is and its permissions.
func (h *handle) Look() (fileserver.Seen, error) {
	seen, err := stat(h.f)
	if err != nil {
		return fileserver.Seen{}, lost(err)
	}
	seen.Name = h.name
	raw, err := h.f.SecurityInfoRaw(kept)
	if err != nil {
		return seen, lost(err)
	}
	seen.Descriptor, err = ntsd.Parse(raw)
	return seen, err
}

// lost turns a failure into one of the connection: a handle is gone with it.
func lost(err error) error {
	if broken(err) {
		return fmt.Errorf("%w: %w", fileserver.ErrLost, err)
	}
	return explain(err)
}

func seenOf(info os.FileInfo) fileserver.Seen {
	seen := fileserver.Seen{Name: info.Name(), Kind: perm.File, Size: info.Size(), Modified: info.ModTime()}
	if st, ok := info.Sys().(*smb2.FileStat); ok {
		seen.Kind = kindOf(st.FileAttributes)
		seen.ID = st.FileId
		seen.ReadOnly = st.FileAttributes&readOnly != 0
	} else if info.IsDir() {
		seen.Kind = perm.Folder
	}
	return seen
}

// encoded is a descriptor on its way to the library.
type encoded []byte

func (e encoded) Size() int         { return len(e) }
func (e encoded) Encode(dst []byte) { copy(dst, e) }

// Set sets parts of the permissions. It needs a handle with the rights for them.
func (h *handle) Set(d ntsd.Descriptor, what fileserver.Part) error {
	var flags smb2.SecurityInformationRequestFlags
	for part, flag := range map[fileserver.Part]smb2.SecurityInformationRequestFlags{
		fileserver.SetOwner: smb2.OwnerSecurityInformation,
		fileserver.SetGroup: smb2.GroupSecurityInformation,
		fileserver.SetList:  smb2.DACLSecurityInformation,
	} {
		if what&part != 0 {
			flags |= flag
		}
	}

	if what&fileserver.SetOwner == 0 {
		d.Owner = ntsd.SID{}
	}

	if what&fileserver.SetGroup == 0 {
		d.Group = ntsd.SID{}
	}

	b, err := d.Append(nil)
	if err != nil {
		return err
	}

	return lost(h.f.SetSecurityInfoRaw(flags, encoded(b)))
}

// batch is how many entries of a folder are asked for at once.
const batch = 1000

// List reads a folder with all permissions. Names that no sound server sends are left out, and over a new connection
// those that were handed out already.
func (s *Share) List(folder string, each func([]fileserver.Seen) error) error {
	told := map[string]bool{} // of folders that have more than one piece
	return s.use(func(m *smb2.Share) error {
		again := map[string]bool{}
		for name := range told {
			again[name] = true
		}

		return s.list(m, folder, func(piece []fileserver.Seen, last bool) error {
			if len(again) > 0 {
				piece = slices.DeleteFunc(piece, func(x fileserver.Seen) bool { return again[x.Name] })
			}

			if !last {
				for _, x := range piece {
					told[x.Name] = true
				}
			}

			if len(piece) == 0 {
				return nil
			}

			return each(piece)
		})
	})
}

func (s *Share) list(m *smb2.Share, folder string, each func(piece []fileserver.Seen, last bool) error) error {
	limit, cancel := context.WithCancel(s.ctx)
	defer cancel()

	var late atomic.Bool
	impatient := time.AfterFunc(s.of.patience, func() {
		late.Store(true)
		cancel()
	})
	defer impatient.Stop()

	fail := func(err error) error {
		if late.Load() {
			return fmt.Errorf("%w: %w", context.DeadlineExceeded, err)
		}
		return explain(err)
	}

	f, err := open(m.WithContext(limit), folder, ace.ReadData|ace.ReadAttributes|ace.Synchronize, forBackup)
	if err != nil {
		return fail(err)
	}
	defer f.Close()

	for {
		impatient.Reset(s.of.patience)
		s.of.batch.Lock()
		list, err := f.ReaddirPlus(batch, kept)
		s.of.batch.Unlock()
		impatient.Stop() // the server is not to blame for whoever takes what it said
		if err != nil && !errors.Is(err, io.EOF) {
			return fail(err)
		}

		out := make([]fileserver.Seen, 0, len(list))
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
				// It was not the server that refused; it was never asked, since too much was under way.
				if _, told := Status(e.Err); !told && !fileserver.Refused(e.Err) && limit.Err() == nil {
					if broken(e.Err) {
						return fail(e.Err)
					}
					if one, err := fileserver.Look(s, fileserver.Joined(folder, seen.Name)); err == nil {
						seen.Descriptor, seen.Err = one.Descriptor, nil
					} else {
						seen.Err = err
					}
				}
			}

			out = append(out, seen)
		}

		last := err != nil || len(list) < batch
		if err := each(out, last); err != nil || last {
			return err
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
	statusDiskFull      = 0xC000_007F

	statusNetworkName    = 0xC000_00C9 // the share went away
	statusSessionDeleted = 0xC000_0203
	statusSessionExpired = 0xC000_035C
)

// Status returns the code of a server's refusal.
func Status(err error) (uint32, bool) {
	var r *smb2.ResponseError
	if errors.As(err, &r) {
		return r.Code, true
	}
	return 0, false
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
		statusDiskFull:     "the server has no room for it",
	}[code]

	kind := map[uint32]error{
		statusAccessDenied:  fs.ErrPermission,
		statusNotFound:      fs.ErrNotExist,
		statusPathNotFound:  fs.ErrNotExist,
		statusDeletePending: fs.ErrNotExist,
	}[code]

	switch {
	case words == "" && kind == nil:
		return err
	case kind == nil || errors.Is(err, kind):
		return fmt.Errorf("%s: %w", words, err)
	}

	return &said{cmp.Or(words, err.Error()), kind, err}
}

// said is words for an error, of a kind that callers know.
type said struct {
	words string
	kind  error
	cause error
}

func (s *said) Error() string   { return s.words + ": " + s.cause.Error() }
func (s *said) Unwrap() []error { return []error{s.kind, s.cause} }
