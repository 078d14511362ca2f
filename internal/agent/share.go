//go:build linux

package agent

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/scan"
	"idletally/internal/host/smb"
	"idletally/internal/wire"
)

// A FileServer is what an agent works for instead of its own host: one near it, whose shares are its roots.
type FileServer struct {
	Address  string `json:"address"` // host:port
	User     string `json:"user"`
	Password string `json:"password"`
	Domain   string `json:"domain,omitempty"`
	Plain    bool   `json:"plain,omitempty"` // content may go unencrypted
}

func (f *FileServer) dial(ctx context.Context) (*smb.Session, error) {
	return smb.Dial(ctx, smb.Access{Address: f.Address, User: f.User, Password: f.Password, Domain: f.Domain, Plain: f.Plain})
}

// errNotOnShares says what an agent of a file server cannot do.
var errNotOnShares = errors.New("this host is a file server, which is asked through snapshots only: take one and look at that")

// shareSnapshot is snapshot for a file server.
func (a *Agent) shareSnapshot(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) error {
	fail := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return a.api.SnapshotDone(ctx, w.ID, wire.SnapshotDone{Failed: err.Error()})
	}
	s, err := a.Server.dial(ctx)
	if err != nil {
		return fail(err)
	}
	defer s.Close()
	spool, err := scan.NewSpool(a.Folder)
	if err != nil {
		return fail(err)
	}
	defer spool.Close()
	start := time.Now()
	found, err := s.Scan(ctx, roots, func(paths int64) { done.Store(paths) }, spool.Put)
	if err != nil {
		return fail(err)
	}
	scanned := time.Since(start)
	sent, err := a.send(ctx, spool, found.Forest)
	if err != nil {
		return err
	}
	dir, err := directory(ctx, s, found.SIDs)
	if err != nil {
		return fail(err)
	}
	ways, err := shareWays(ctx, s, roots)
	if err != nil {
		return fail(err)
	}
	d := wire.SnapshotDone{Forest: found.Forest, Directory: dir, Paths: found.Paths, Gaps: found.Gaps, Ways: ways}
	for _, x := range found.Denied {
		d.Denied = append(d.Denied, wire.Denied{Path: pathname.Escape(x.Path), Reason: x.Reason})
	}
	a.Log.Info("snapshot", "paths", found.Paths, "gaps", found.Gaps, "nodes", spool.Count(), "bytes_sent", sent, "scanned", scanned.Round(time.Microsecond), "took", time.Since(start).Round(time.Microsecond))
	return a.api.SnapshotDone(ctx, w.ID, d)
}

// directory names who there is on a server: its own accounts and groups, the well-known ones, and whoever else what was
// found speaks of. Whom the server does not know has no name.
func directory(ctx context.Context, s *smb.Session, met []ntsd.SID) (*perm.Directory, error) {
	d := &perm.Directory{}
	known := map[ntsd.SID]bool{}
	add := func(id ntsd.SID, name string, group bool, groups []ntsd.SID) {
		if known[id] || name == "" {
			return
		}
		known[id] = true
		acc := perm.Account{ID: perm.SIDOf(id), Name: name}
		for _, g := range groups {
			acc.Groups = append(acc.Groups, perm.SIDOf(g))
		}
		if group {
			d.Groups = append(d.Groups, acc)
		} else {
			d.Accounts = append(d.Accounts, acc)
		}
	}
	own, err := s.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range own {
		if _, well := x.SID.Known(); !well {
			add(x.SID, x.Name, x.Group, x.Groups)
		}
	}
	var ask []ntsd.SID
	for _, id := range met {
		if name, well := id.Known(); well {
			add(id, name, id != ntsd.System && id != ntsd.CreatorOwner && id != ntsd.OwnerRights && id != ntsd.Self, nil)
		} else if !known[id] {
			ask = append(ask, id)
		}
	}
	names, err := s.Names(ctx, ask)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		add(n.SID, n.String(), n.Group, nil)
	}
	for _, list := range []*[]perm.Account{&d.Accounts, &d.Groups} {
		slices.SortFunc(*list, func(a, b perm.Account) int { return strings.Compare(string(a.ID), string(b.ID)) })
	}
	return d.Index(), nil
}

// shareWays gives what leads to each root: the server itself, which lets everybody through, the share, and folders in it.
func shareWays(ctx context.Context, s *smb.Session, roots []string) (out []access.Way, err error) {
	top, err := perm.NTSet(ntsd.Descriptor{Open: true})
	if err != nil {
		return nil, err
	}
	for _, root := range roots {
		name, _ := smb.Split(root)
		share, err := s.Open(ctx, name)
		if err != nil {
			continue // its gap says so
		}
		way := access.Way{{Path: "/", Kind: perm.Folder, Set: top}}
		for i := 1; i <= len(root); i++ {
			if i < len(root) && root[i] != '/' {
				continue
			}
			_, below := smb.Split(root[:i])
			seen, err := share.Look(below)
			if err != nil {
				break
			}
			set, err := perm.NTSet(seen.Descriptor)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", root[:i], err)
			}
			way = append(way, access.Place{Path: pathname.Path(root[:i]), Kind: seen.Kind, Set: set})
		}
		_ = share.Close()
		if string(way[len(way)-1].Path) == root {
			out = append(out, way)
		}
	}
	return out, nil
}
