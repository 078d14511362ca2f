//go:build linux

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/tree"
	"idletally/internal/host/fileserver"
	"idletally/internal/host/smb"
	"idletally/internal/samba"
)

// shares measures a snapshot of a share of so many files with their descriptors, in folders of a thousand.
// Its floor is a plain batched listing of the same folders over the same kind of connection, descriptors
// included, one folder after another and nothing else: no parsing, no interning, no sorting, no hashing.
func shares(files, rounds int, parent string) error {
	dir, err := os.MkdirTemp(parent, "idletally-bench-share-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)

	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}

	const keeper, password = "keeper", "for the bench alone"
	server, err := samba.Start(context.Background(), dir, samba.World{
		Accounts: []samba.Account{{Name: keeper, Password: password, Keeper: true}},
		Shares:   []samba.Share{{Name: "charts"}},
	})
	if err != nil {
		return err
	}
	defer server.Stop()

	var folders []string
	for i := 0; i*1000 < files; i++ {
		name := fmt.Sprintf("folder-%03d", i)
		folders = append(folders, name)
		at := filepath.Join(server.Share("charts"), name)
		if err := os.Mkdir(at, 0o777); err != nil {
			return err
		}

		for j := range min(1000, files-i*1000) {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("sheet-%04d.chart", j)), nil, 0o666); err != nil {
				return err
			}
		}
	}

	ctx := context.Background()
	s, err := smb.Dial(ctx, smb.Access{Address: server.Address(), User: keeper, Password: password})
	if err != nil {
		return err
	}
	defer s.Close()

	raw, err := (&smb2.Dialer{
		Negotiator: smb2.Negotiator{RequireMessageSigning: true},
		Initiator:  &smb2.NTLMInitiator{User: keeper, Password: password},
	}).Dial(ctx, server.Address())
	if err != nil {
		return err
	}
	defer func() { _ = raw.Logoff() }()

	share, err := raw.Mount("charts")
	if err != nil {
		return err
	}

	plain := func(folder string) (int, error) {
		f, err := share.Open(folder)
		if err != nil {
			return 0, err
		}
		defer f.Close()
		n := 0
		for {
			list, err := f.ReaddirPlus(1000,
				smb2.OwnerSecurityInformation|smb2.GroupSecurityInformation|smb2.DACLSecurityInformation)
			n += len(list)
			if errors.Is(err, io.EOF) || err == nil && len(list) == 0 {
				return n, nil
			}
			if err != nil {
				return n, err
			}
		}
	}

	err = inTurn(rounds, func() (float64, float64, error) {
		start, n := time.Now(), 0
		for _, f := range append([]string{""}, folders...) {
			got, err := plain(f)
			if err != nil {
				return 0, 0, err
			}
			n += got
		}

		floor := time.Since(start).Seconds()
		start = time.Now()
		var mu sync.Mutex
		found, err := fileserver.Scan(ctx, s, []string{"/charts"}, nil, func(tree.Hash, []byte) error {
			mu.Lock()
			defer mu.Unlock()
			return nil
		})
		if err == nil && (found.Gaps > 0 || found.Paths != int64(n+1)) {
			err = fmt.Errorf("the floor saw %d, the scan %d with %d gaps", n, found.Paths, found.Gaps)
		}

		return floor, time.Since(start).Seconds(), err
	}, func(f, o float64) {
		fmt.Printf("figure share-snapshot-%d %.3f s floor %.3f ratio %.2f\n", files, o, f, o/f)
	})

	if err != nil {
		return err
	}

	return permit(ctx, s, folders[0], min(1000, files))
}

// permit measures how many paths a second get another list: opened, read, set, read again.
func permit(ctx context.Context, s *smb.Session, folder string, n int) error {
	share, err := s.Open(ctx, "charts")
	if err != nil {
		return err
	}
	d, err := ntsd.ParseSDDL("D:PAI(A;;FA;;;BA)(A;;FR;;;AU)")
	if err != nil {
		return err
	}

	start := time.Now()
	for i := range n {
		h, err := share.Hold(fmt.Sprintf(`%s\sheet-%04d.chart`, folder, i),
			ace.ReadControl|ace.WriteDAC|ace.ReadAttributes)
		if err != nil {
			return err
		}

		_, before := h.Look()
		set := h.Set(d, fileserver.SetList)
		after, look := h.Look()
		if err := errors.Join(before, set, look, h.Close()); err != nil {
			return err
		}
		if !after.Descriptor.Equal(ntsd.Descriptor{
			Owner:   after.Descriptor.Owner,
			Group:   after.Descriptor.Group,
			Control: d.Control,
			Entries: d.Entries,
		}) {
			return errors.New("a list was not set as asked")
		}
	}

	fmt.Printf("figure share-changes %.0f /s floor 0 ratio 0\n", float64(n)/time.Since(start).Seconds())
	return nil
}
