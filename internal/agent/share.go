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
	"idletally/internal/host/change"
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

// reach is how a run gets at what the agent works for, until hangUp: nil for the host's own paths.
func (s *Settings) reach(ctx context.Context) (r change.Reach, hangUp func(), err error) {
	if s.Server == nil {
		return nil, func() {}, nil
	}
	c, err := s.Server.dial(ctx)
	if err != nil {
		return nil, nil, err
	}
	return c.Reach(ctx), func() { _ = c.Close() }, nil // nothing more is asked of it
}

// errNotOnShares says what an agent of a file server cannot answer.
var errNotOnShares = errors.New("this host is a file server, which is asked about paths and folders only: take a snapshot, and ask that")

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
	ways := shareWays(ctx, s, roots)
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
	met = slices.Clone(met)
	for _, x := range own { // such as the group that every account is in, which nobody lists
		for _, g := range x.Groups {
			if !slices.Contains(met, g) {
				met = append(met, g)
			}
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

// theServer is what all shares lie in: it lets everybody through.
func theServer() (access.Place, error) {
	top, err := perm.NTSet(ntsd.Descriptor{Open: true})
	return access.Place{Path: "/", Kind: perm.Folder, Set: top}, err
}

// shareWay looks at a path of an open share, and at each folder that leads there.
func shareWay(share *smb.Share, path string) (way access.Way, last smb.Seen, err error) {
	top, err := theServer()
	if err != nil {
		return nil, last, err
	}
	way = access.Way{top}
	for i := 1; i <= len(path); i++ {
		if i < len(path) && path[i] != '/' {
			continue
		}
		_, below, err := smb.Split(path[:i])
		if err != nil {
			return way, last, err
		}
		if last, err = share.Look(below); err != nil {
			return way, last, fmt.Errorf("%s: %w", pathname.Escape(path[:i]), err)
		}
		set, err := perm.NTSet(last.Descriptor)
		if err != nil {
			return way, last, fmt.Errorf("%s: %w", pathname.Escape(path[:i]), err)
		}
		way = append(way, access.Place{Path: pathname.Path(path[:i]), Kind: last.Kind, Set: set})
	}
	return way, last, nil
}

// wayTo is shareWay, with the share opened for it alone.
func wayTo(ctx context.Context, s *smb.Session, path string) (access.Way, error) {
	name, _, err := smb.Split(path)
	if err != nil {
		return nil, err
	}
	share, err := s.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer share.Close()
	way, _, err := shareWay(share, path)
	return way, err
}

// shareWays gives what leads to each root; where one cannot be looked at its gap in the snapshot says so.
func shareWays(ctx context.Context, s *smb.Session, roots []string) (out []access.Way) {
	for _, root := range roots {
		if way, err := wayTo(ctx, s, root); err == nil {
			out = append(out, way)
		}
	}
	return out
}

// shareAnswer answers a question about a path or a folder as it is now.
func (a *Agent) shareAnswer(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	if q.Kind != wire.AskPath && q.Kind != wire.AskFolder {
		return r, errNotOnShares
	}
	s, err := a.Server.dial(ctx)
	if err != nil {
		return r, err
	}
	defer s.Close()
	f, met, err := a.onShare(ctx, s, q)
	if err != nil {
		return r, err
	}
	dir, err := directory(ctx, s, met)
	if err != nil {
		return r, err
	}
	r.Found = &f
	return r, tell(&r, q, dir)
}

func (a *Agent) onShare(ctx context.Context, s *smb.Session, q wire.Question) (f access.Found, met []ntsd.SID, err error) {
	path := string(q.Path)
	meet := func(s perm.Set) {
		d, _ := perm.NTOf(s) // nobody, where it could not be read
		for _, id := range d.SIDs() {
			if !slices.Contains(met, id) && len(met) < maxMet {
				met = append(met, id)
			}
		}
	}
	limit := min(max(q.Limit, 1), wire.MaxFolder)
	list := func(found []access.Seen) {
		slices.SortFunc(found, func(x, y access.Seen) int { return strings.Compare(string(x.Path), string(y.Path)) })
		for _, e := range found {
			if name := string(e.Path)[strings.LastIndexByte(string(e.Path), '/')+1:]; q.After != "" && name <= string(q.After) {
				continue
			}
			if len(f.Entries) == limit {
				last := string(f.Entries[limit-1].Path)
				f.Next = pathname.Path(last[strings.LastIndexByte(last, '/')+1:])
				return
			}
			f.Entries = append(f.Entries, e)
		}
	}
	if path == "/" {
		top, err := theServer()
		if err != nil {
			return f, nil, err
		}
		f.Way, f.Seen = access.Way{top}, access.Seen{Place: top}
		if q.Kind == wire.AskPath {
			return f, nil, nil
		}
		var shares []access.Seen
		for _, root := range a.roots {
			name, _, err := smb.Split(root)
			if err != nil {
				continue
			}
			e := access.Seen{Place: access.Place{Path: pathname.Path("/" + name), Kind: perm.Folder}}
			if slices.ContainsFunc(shares, func(x access.Seen) bool { return x.Path == e.Path }) {
				continue
			}
			if way, err := wayTo(ctx, s, string(e.Path)); err != nil {
				e.Gap = err.Error()
			} else {
				e.Place = way[len(way)-1]
				meet(e.Set)
			}
			shares = append(shares, e)
		}
		list(shares)
		return f, met, nil
	}
	name, below, err := smb.Split(path)
	if err != nil {
		return f, nil, err
	}
	share, err := s.Open(ctx, name)
	if err != nil {
		return f, nil, err
	}
	defer share.Close()
	way, seen, err := shareWay(share, path)
	if err != nil {
		return f, nil, err
	}
	f.Way, f.Seen = way, access.Seen{Place: way[len(way)-1], Size: seen.Size, Modified: seen.Modified}
	for _, p := range way {
		meet(p.Set)
	}
	if q.Kind == wire.AskPath {
		return f, met, nil
	}
	if seen.Kind != perm.Folder {
		return f, nil, fmt.Errorf("%s is a %s, not a folder", pathname.Escape(path), seen.Kind)
	}
	var found []access.Seen
	err = share.List(below, func(batch []smb.Seen) error {
		for _, x := range batch {
			e := access.Seen{Place: access.Place{Path: pathname.Path(pathname.Join(path, x.Name)), Kind: x.Kind}, Size: x.Size, Modified: x.Modified}
			if err := x.Err; err != nil {
				e.Gap = err.Error()
			} else if e.Set, err = perm.NTSet(x.Descriptor); err != nil {
				e.Gap = err.Error()
			}
			meet(e.Set)
			found = append(found, e)
		}
		return ctx.Err()
	})
	list(found)
	return f, met, err
}

// maxMet bounds whose names one answer tells.
const maxMet = 5000
