package smb

import (
	"context"
	"fmt"
	"io"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/privilege"
	"idletally/internal/host/fileserver"
	"idletally/internal/host/smb/rpc"
)

// pipe opens a named pipe of the server and hands it out, once more over a new connection if the present one broke.
func (s *Session) pipe(ctx context.Context, name string, use func(io.ReadWriter) error) error {
	ask := func(c *smb2.Session) error {
		ctx, cancel := context.WithTimeout(ctx, s.patience)
		defer cancel()

		m, err := c.WithContext(ctx).Mount("IPC$")
		if err != nil {
			return fmt.Errorf("the server's pipes: %w", explain(err))
		}
		defer func() { _ = m.Umount() }()

		f, err := open(m, name, ace.ReadData|ace.WriteData|ace.AppendData|ace.ReadControl, 0)
		if err != nil {
			return fmt.Errorf("pipe %s: %w", name, explain(err))
		}
		defer f.Close()

		return use(f)
	}

	c, era := s.now()
	err := ask(c)
	if !broken(err) || ctx.Err() != nil {
		return err
	}
	if err := s.again(ctx, era); err != nil {
		return err
	}

	c, _ = s.now()
	return ask(c)
}

func (s *Session) lookUp(ctx context.Context, ask func(*rpc.Names) error) error {
	return s.pipe(ctx, "lsarpc", func(rw io.ReadWriter) error {
		n, err := rpc.OpenNames(rw)
		if err != nil {
			return err
		}
		return ask(n)
	})
}

// Names returns the server's names of identities, in their order.
func (s *Session) Names(ctx context.Context, sids []ntsd.SID) (out []fileserver.Name, err error) {
	err = s.lookUp(ctx, func(n *rpc.Names) error {
		out, err = n.Of(sids)
		return err
	})
	return out, err
}

// SIDs returns the identities that have names, in their order; one that is unknown is the zero SID.
func (s *Session) SIDs(ctx context.Context, names []string) (out []ntsd.SID, err error) {
	err = s.lookUp(ctx, func(n *rpc.Names) error {
		out, err = n.SIDs(names)
		return err
	})
	return out, err
}

// Accounts lists the accounts and groups that the server keeps.
func (s *Session) Accounts(ctx context.Context) (out []fileserver.Account, err error) {
	err = s.pipe(ctx, "samr", func(rw io.ReadWriter) error {
		out, err = rpc.Accounts(rw)
		return err
	})
	return out, err
}

// Privileges returns who holds privileges that pass over lists.
func (s *Session) Privileges(ctx context.Context) (out map[ntsd.SID]privilege.Set, err error) {
	err = s.pipe(ctx, "lsarpc", func(rw io.ReadWriter) error {
		out, err = rpc.Privileges(rw)
		return err
	})
	return out, err
}

// Shares lists the shares with files, except those that exist for administrators.
func (s *Session) Shares(ctx context.Context) (out []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()
	c, _ := s.now()
	list, err := c.WithContext(ctx).ListShares()
	if err != nil {
		return nil, fmt.Errorf("list the shares: %w", explain(err))
	}
	for _, x := range list {
		if x.Type() == smb2.ShareTypeDiskTree && !x.IsSpecial() {
			out = append(out, x.Name)
		}
	}
	return out, nil
}

// hidesUnreadable is the flag of a share that shows nobody what they cannot read (MS-SMB2 2.2.10).
const hidesUnreadable = 0x0800

// Terms asks what the share itself lays down. Some servers return its list only to administrators.
func (s *Share) Terms() (t access.Mount, err error) {
	t.At = pathname.Path("/" + s.Name)
	err = s.use(func(m *smb2.Share) error {
		t.Hides = m.ShareFlags()&hidesUnreadable != 0
		return nil
	})
	if err != nil {
		return t, err
	}

	err = s.of.pipe(s.ctx, "srvsvc", func(rw io.ReadWriter) error {
		info, err := rpc.Share(rw, s.Name)
		if err == nil && info.HasList {
			t.Share, err = nt.SetOf(info.List)
		}
		return err
	})

	return t, err
}
