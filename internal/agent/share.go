package agent

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/privilege"
	"idletally/internal/core/subtree"
	"idletally/internal/host/change"
	"idletally/internal/host/fileserver"
	"idletally/internal/host/ldap"
	"idletally/internal/host/smb"
	"idletally/internal/host/spool"
	"idletally/internal/wire"
)

// A FileServer is what an agent works for instead of its own host: one near it, whose shares are its roots.
type FileServer struct {
	Address  string        `json:"address"` // host:port
	User     string        `json:"user"`
	Domain   string        `json:"domain,omitempty"`
	Plain    bool          `json:"plain,omitempty"` // content may go unencrypted
	Old      bool          `json:"old,omitempty"`   // SMB 3.0 will do
	Kerberos *smb.Kerberos `json:"kerberos,omitempty"`
	// Who is in which group, if the file server's domain has a directory.
	LDAP     *ldap.Directory   `json:"ldap,omitempty"`
	Password string            `json:"-"`
	Sealed   []byte            `json:"sealed"`            // the password
	Probers  map[string][]byte `json:"probers,omitempty"` // sealed passwords of the accounts that it may try as
}

func (f *FileServer) access() smb.Access {
	return smb.Access{
		Address:  f.Address,
		User:     f.User,
		Password: f.Password,
		Domain:   f.Domain,
		Plain:    f.Plain,
		Old:      f.Old,
		Kerberos: f.Kerberos,
	}
}

func (f *FileServer) dial(ctx context.Context) (fileserver.Server, error) {
	s, err := smb.Dial(ctx, f.access())
	if err != nil { // no nil in an interface
		return nil, err
	}
	return s, nil
}

// offers checks whether a server has the shares of some roots. Servers do not list shares whose names end in $.
func offers(ctx context.Context, s fileserver.Server, roots []string) error {
	shares, err := s.Shares(ctx)
	if err != nil {
		return err
	}

	for _, r := range roots {
		name, _, err := fileserver.Split(r)
		if err != nil {
			return err
		}
		if !strings.HasSuffix(name, "$") &&
			!slices.ContainsFunc(shares, func(x string) bool { return strings.EqualFold(x, name) }) {
			return fmt.Errorf("--root %s: the server has no share %q: it has %s", pathname.Escape(r), name,
				strings.Join(shares, ", "))
		}
	}

	return nil
}

// descriptors is a host whose paths carry NT security descriptors.
type descriptors struct {
	a    *Agent
	dial func(context.Context) (fileserver.Server, error)

	ask func(context.Context) ([]fileserver.Account, time.Duration,
		error) // the domain's directory; nil: as it was named
}

// domain returns the accounts of the domain's directory, if one was named.
func (h *descriptors) domain(ctx context.Context) ([]fileserver.Account, error) {
	if h.a.Server == nil || h.a.Server.LDAP == nil {
		return nil, nil
	}
	ask := h.ask
	if ask == nil {
		ask = h.a.Server.LDAP.Known
	}
	list, age, err := ask(ctx)
	if err != nil && list != nil {
		h.a.Log.Warn("memberships are as the directory told them before", "age", age.Round(time.Second), "error", err)
		err = nil
	}
	return list, err
}

func (h *descriptors) top() bool { return true }

func (h *descriptors) unwatchable() string {
	if h.a.Server == nil {
		return "this system is not watched: take snapshots"
	}
	return "file servers are not watched: take snapshots"
}

// spelled changes the names of the roots to the spelling that is meant if their letter case differs: a server finds
// shares by either (MS-SRVS 3.1.1.2), and on Windows all names. The rest stays as it was asked for.
func (h *descriptors) spelled(path string) string {
	for _, root := range h.a.roots {
		own, asked := strings.Split(root, "/"), strings.Split(path, "/")
		same := min(len(own), len(asked))
		if h.a.Server != nil {
			same = min(same, 2) // of names in a share the server knows which are the same
		}
		if !slices.EqualFunc(own[:same], asked[:same], strings.EqualFold) {
			continue
		}
		return strings.Join(slices.Concat(own[:same], asked[same:]), "/")
	}
	return path
}

func (h *descriptors) watch(context.Context, []wire.WatchedPlace) {}

func (h *descriptors) fileSystem(ctx context.Context) (r change.FileSystem, hangUp func(), err error) {
	s, err := h.dial(ctx)
	if err != nil {
		return nil, nil, err
	}
	return fileserver.FileSystem(ctx, s), func() { _ = s.Close() }, nil // nothing more is asked of it
}

func (h *descriptors) snapshot(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) error {
	a := h.a
	s, err := h.dial(ctx)
	if err != nil {
		return a.cannot(ctx, w, err)
	}
	defer s.Close()

	spool, err := spool.New(a.Folder)
	if err != nil {
		return a.cannot(ctx, w, err)
	}
	defer spool.Close()

	start := time.Now()
	found, err := fileserver.Scan(ctx, s, roots, func(paths int64) { done.Store(paths) }, spool.Put)
	if err != nil {
		return a.cannot(ctx, w, err)
	}

	scanned := time.Since(start)
	sent, err := a.send(ctx, spool, found.Forest)
	if err != nil {
		return err
	}

	ways := shareWays(ctx, s, roots)
	for _, w := range ways {
		if d, ok := nt.Of(w[len(w)-1].Mount.Share); ok {
			found.SIDs = append(found.SIDs, d.SIDs()...)
		}
	}

	dir, err := h.directory(ctx, s, found.SIDs)
	if err != nil {
		return a.cannot(ctx, w, err)
	}

	for _, way := range ways {
		if err := h.mark(ctx, s, way, dir); err != nil {
			return a.cannot(ctx, w, err)
		}
	}

	d := wire.SnapshotDone{Forest: found.Forest, Directory: dir, Paths: found.Paths, Gaps: found.Gaps, Ways: ways}
	for _, x := range found.Denied {
		d.Denied = append(d.Denied, wire.Denied{Path: pathname.Escape(x.Path), Reason: x.Reason})
	}

	a.Log.Info("snapshot", "paths", found.Paths, "gaps", found.Gaps, "nodes", spool.Count(), "bytes_sent", sent,
		"scanned", scanned.Round(time.Microsecond), "took", time.Since(start).Round(time.Microsecond))
	return a.api.SnapshotDone(ctx, w.ID, d)
}

// directory returns who there is on a server: its own accounts and groups, the well-known ones, and whoever else is
// mentioned by what was found. Those whom the server does not know have no name.
func (h *descriptors) directory(ctx context.Context, s fileserver.Server, met []ntsd.SID) (*perm.Directory, error) {
	d := &perm.Directory{}
	known := map[ntsd.SID]bool{}
	partly := map[perm.Principal]bool{}
	add := func(id ntsd.SID, name string, group bool, groups []ntsd.SID) {
		if known[id] || name == "" {
			return
		}

		known[id] = true
		acc := perm.Account{ID: nt.PrincipalOf(id), Name: name}
		for _, g := range groups {
			acc.Groups = append(acc.Groups, nt.PrincipalOf(g))
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

	// The server's own accounts: those of a domain have other names in the system below it.
	below := map[string]ntsd.SID{}
	for _, x := range own {
		if !x.Group {
			below[x.Name] = x.SID
		}
	}

	domain, err := h.domain(ctx)
	if err != nil {
		return nil, err
	}

	own = append(own, domain...)
	for _, x := range own {
		if _, well := x.SID.Known(); !well {
			add(x.SID, x.Name, x.Group, x.Groups)
			partly[nt.PrincipalOf(x.SID)] = x.Partly
		}
	}

	held, err := s.Privileges(ctx)
	if err != nil {
		if errors.Is(err, fileserver.ErrLost) || ctx.Err() != nil {
			return nil, err
		}
		h.a.Log.Warn("privileges are not counted", "error", err)
		d.Untold = append(d.Untold, "who holds privileges")
	}

	all := map[ntsd.SID]bool{}
	for _, id := range met {
		all[id] = true
	}

	for id := range held {
		all[id] = true
	}

	for _, x := range own { // such as the group that every account is in, which nobody lists
		for _, g := range x.Groups {
			all[g] = true
		}
	}

	var ask []ntsd.SID
	for _, id := range slices.SortedFunc(maps.Keys(all), func(a, b ntsd.SID) int {
		return strings.Compare(a.Bytes(), b.Bytes())
	}) {
		if name, well := id.Known(); well {
			add(id, name, id != ntsd.System && id != ntsd.CreatorOwner && id != ntsd.OwnerRights && id != ntsd.Self,
				nil)
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
		if is, ok := below[n.Name]; ok && n.SID.SystemAccount() {
			d.AlsoKnown(nt.PrincipalOf(is), nt.PrincipalOf(n.SID))
		}
	}

	for _, list := range []*[]perm.Account{&d.Accounts, &d.Groups} {
		slices.SortFunc(*list, func(a, b perm.Account) int { return strings.Compare(string(a.ID), string(b.ID)) })
		for i := range *list {
			a := &(*list)[i]
			if id, ok := nt.SID(a.ID); ok {
				a.Privileges = held[id]
			}
			a.Partly = partly[a.ID]
		}
	}

	return d.Index(), nil
}

// mark finds out whether the server allows the agent's own account what the lists at the end of a way do not, as
// Samba does for accounts in its settings: of nobody else can that be known. It asks for what no list grants, and
// closes it again.
func (h *descriptors) mark(ctx context.Context, s fileserver.Server, way access.Way, dir *perm.Directory) error {
	if h.a.Server == nil || len(way) < 2 {
		return nil
	}

	own := dir.AccountNamed(h.a.Server.User)
	if own == nil ||
		slices.ContainsFunc(dir.Accounts, func(a perm.Account) bool { return a.Name == own.Name && a.ID != own.ID }) {
		// the server's, or a domain's
		return nil
	}

	asker := access.SubjectNamed(dir, own)
	if len(asker.Held) > 0 { // by which it might have been let
		return nil
	}

	last := way[len(way)-1]
	missing := nt.Lacks(asker, &last)
	if least := missing & (ace.WriteDAC | ace.WriteOwner); least != 0 { // which is in nobody's way who has it open
		missing = least
	}

	if missing == 0 {
		return nil
	}

	name, below, err := fileserver.Split(string(last.Path))
	if err != nil {
		return err
	}
	share, err := s.Open(ctx, name)
	if err != nil {
		return err
	}
	defer share.Close()

	got, err := share.Hold(below, missing)
	if err != nil {
		if errors.Is(err, fileserver.ErrLost) {
			return err
		}
		return nil // as the lists say
	}

	own.Privileges |= privilege.Everything
	return got.Close()
}

// theServer is what all shares lie in: everybody can traverse it.
func theServer() (access.Place, error) {
	top, err := nt.SetOf(ntsd.Descriptor{Open: true})
	return access.Place{Path: "/", Kind: perm.Folder, Set: top}, err
}

// shareWay looks at a path of an open share, and at each folder that leads there.
func shareWay(share fileserver.Share, path string) (way access.Way, last fileserver.Seen, err error) {
	top, err := theServer()
	if err != nil {
		return nil, last, err
	}

	// Not every server tells the list of a share. Without it the list of the path counts alone, and the answer says
	// so.
	terms, _ := share.Terms()
	way = access.Way{top}
	for i := 1; i <= len(path); i++ {
		if i < len(path) && path[i] != '/' {
			continue
		}
		_, below, err := fileserver.Split(path[:i])
		if err != nil {
			return way, last, err
		}
		if last, err = fileserver.Look(share, below); err != nil {
			return way, last, fmt.Errorf("%s: %w", pathname.Escape(path[:i]), err)
		}
		set, err := nt.SetOf(last.Descriptor)
		if err != nil {
			return way, last, fmt.Errorf("%s: %w", pathname.Escape(path[:i]), err)
		}

		way = append(way, access.Place{
			Path:  pathname.Path(path[:i]),
			Kind:  last.Kind,
			Set:   set,
			Mount: terms,
			Mark:  access.MarkOf(last.ReadOnly),
		})
	}

	return way, last, nil
}

// wayTo is shareWay with the share opened for it alone.
func wayTo(ctx context.Context, s fileserver.Server, path string) (access.Way, error) {
	name, _, err := fileserver.Split(path)
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

// shareWays returns what leads to each root; where one cannot be looked at its gap in the snapshot says so.
func shareWays(ctx context.Context, s fileserver.Server, roots []string) (out []access.Way) {
	for _, root := range roots {
		if way, err := wayTo(ctx, s, root); err == nil {
			out = append(out, way)
		}
	}
	return out
}

// answer answers a question about what is there now.
func (h *descriptors) answer(ctx context.Context, q wire.Question) (r wire.Reply, err error) {
	s, err := h.dial(ctx)
	if err != nil {
		return r, err
	}
	defer s.Close()

	if q.Kind == wire.AskBelow {
		return h.below(ctx, s, q)
	}
	f, met, err := h.a.onShare(ctx, s, q)
	if err != nil {
		return r, err
	}
	dir, err := h.directory(ctx, s, met)
	if err != nil {
		return r, err
	}
	if err := h.mark(ctx, s, f.Way, dir); err != nil {
		return r, err
	}

	r.Found = &f
	if q.Kind == wire.AskProbe {
		if r.Tries, err = h.probe(ctx, q, f.Seen.Kind); err != nil {
			return r, err
		}
	}

	return r, tell(&r, q, dir)
}

// below scans a folder and asks the core about all that is in it.
func (h *descriptors) below(ctx context.Context, s fileserver.Server, q wire.Question) (r wire.Reply, err error) {
	nodes, err := spool.New(h.a.Folder)
	if err != nil {
		return r, err
	}
	defer nodes.Close()

	found, err := fileserver.Scan(ctx, s, []string{string(q.Path)}, nil, nodes.Put)
	if err != nil {
		return r, err
	}
	way, err := wayTo(ctx, s, string(q.Path))
	if err != nil {
		return r, err
	}
	dir, err := h.directory(ctx, s, found.SIDs)
	if err != nil {
		return r, err
	}
	if err := h.mark(ctx, s, way, dir); err != nil {
		return r, err
	}
	reach, err := h.a.subtreeQueryOf(dir, q)
	if err != nil {
		return r, err
	}
	t, err := subtree.Snapshot{Source: nodes, Forest: found.Forest, Ways: []access.Way{way}}.Ask(ctx, reach)
	if err != nil {
		return r, err
	}

	r.Tally, r.Found = &t, &access.Found{Way: way, Seen: access.Seen{Place: way[len(way)-1]}}
	return r, tell(&r, q, dir)
}

// probe signs in as the account, which takes its password.
func (h *descriptors) probe(ctx context.Context, q wire.Question, k perm.Kind) ([]access.Try, error) {
	now, err := Load(h.a.Folder) // whom it may try as can be said while it runs
	if err != nil {
		return nil, err
	}

	f := now.Server
	if f == nil || f.Probers[q.Account] == nil {
		return nil, fmt.Errorf(
			"to try as %s the agent has to sign in as %s: store the password at the agent, with idletally agent "+
				"prober %s --password-file FILE",
			q.Account, q.Account, q.Account)
	}

	password, err := unseal(h.a.Folder, f.secret(q.Account), f.Probers[q.Account])
	if err != nil {
		return nil, err
	}

	as := f.as(q.Account, password).access()
	as.Ordinary = true
	s, err := smb.Dial(ctx, as)
	if err != nil {
		return nil, err
	}
	defer s.Close()

	name, below, err := fileserver.Split(string(q.Path))
	if err != nil {
		return nil, err
	}
	share, err := s.Open(ctx, name)
	if fileserver.Refused(err) { // the share's own list lets nothing through
		return refusedAll(k, name), nil
	}
	if err != nil {
		return nil, err
	}
	defer share.Close()

	return fileserver.Try(share, below, k)
}

func refusedAll(k perm.Kind, share string) (out []access.Try) {
	for _, op := range access.For(k, nt.ID) {
		out = append(out, access.Try{Operation: op, Call: "open the share " + share + ": the server denies access"})
	}
	return out
}

func (a *Agent) onShare(
	ctx context.Context,
	s fileserver.Server,
	q wire.Question,
) (f access.Found, met []ntsd.SID, err error) {
	path := string(q.Path)
	meet := func(s perm.Set) {
		d, _ := nt.Of(s) // nobody, where it could not be read
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
			if name := pathname.Base(string(e.Path)); q.After != "" && name <= string(q.After) {
				continue
			}
			if len(f.Entries) == limit {
				f.Next = pathname.Path(pathname.Base(string(f.Entries[limit-1].Path)))
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
		if q.Kind != wire.AskFolder {
			return f, nil, nil
		}

		var shares []access.Seen
		for _, root := range a.roots {
			name, _, err := fileserver.Split(root)
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

	name, below, err := fileserver.Split(path)
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

	f.Way, f.Seen = way,
		access.Seen{Place: way[len(way)-1], Size: seen.Size, Modified: seen.Modified, Links: seen.Links}
	for _, p := range way {
		meet(p.Set)
		meet(p.Mount.Share)
	}

	if q.Kind != wire.AskFolder {
		return f, met, nil
	}
	if seen.Kind != perm.Folder {
		return f, nil, fmt.Errorf("%s is a %s, not a folder", pathname.Escape(path), seen.Kind)
	}

	var found []access.Seen
	err = share.List(below, func(batch []fileserver.Seen) error {
		for _, x := range batch {
			e := access.Seen{
				Place: access.Place{
					Path:  pathname.Path(pathname.Join(path, x.Name)),
					Kind:  x.Kind,
					Mount: f.Seen.Mount,
					Mark:  access.MarkOf(x.ReadOnly),
				},
				Size:     x.Size,
				Modified: x.Modified,
			}

			if err := x.Err; err != nil {
				e.Gap = err.Error()
			} else if e.Set, err = nt.SetOf(x.Descriptor); err != nil {
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

// maxMet bounds the accounts whose names one answer tells.
const maxMet = 5000
