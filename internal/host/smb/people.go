package smb

import (
	"context"
	"fmt"
	"io"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/smb/rpc"
)

// pipe opens a named pipe of the server and hands it out.
func (s *Session) pipe(ctx context.Context, name string, use func(io.ReadWriter) error) error {
	ctx, cancel := context.WithTimeout(ctx, s.patience)
	defer cancel()
	m, err := s.s.WithContext(ctx).Mount("IPC$")
	if err != nil {
		return fmt.Errorf("the server's pipes: %w", explain(err))
	}
	defer func() { _ = m.Umount() }()
	f, err := open(m, name, ntsd.ReadData|ntsd.WriteData|ntsd.AppendData|ntsd.ReadControl, 0)
	if err != nil {
		return fmt.Errorf("pipe %s: %w", name, explain(err))
	}
	defer f.Close()
	return use(f)
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

// Names gives what the server calls identities, in their order.
func (s *Session) Names(ctx context.Context, sids []ntsd.SID) (out []rpc.Name, err error) {
	err = s.lookUp(ctx, func(n *rpc.Names) error {
		out, err = n.Of(sids)
		return err
	})
	return out, err
}

// SIDs gives the identities that have names, in their order; one that is unknown is the zero SID.
func (s *Session) SIDs(ctx context.Context, names []string) (out []ntsd.SID, err error) {
	err = s.lookUp(ctx, func(n *rpc.Names) error {
		out, err = n.SIDs(names)
		return err
	})
	return out, err
}

// Accounts lists the accounts and groups that the server keeps.
func (s *Session) Accounts(ctx context.Context) (out []rpc.Account, err error) {
	err = s.pipe(ctx, "samr", func(rw io.ReadWriter) error {
		out, err = rpc.Accounts(rw)
		return err
	})
	return out, err
}
