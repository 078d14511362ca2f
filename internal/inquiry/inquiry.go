// Package inquiry turns questions about access into answers for people, wherever the paths are looked up: in a stored
// snapshot, on a host through its agent, or on this machine.
package inquiry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/subtree"
	"idletally/internal/wire"
)

// A Source is where paths are looked up. Accounts are those that the question names, so that a directory that cannot
// be listed as a whole is asked for them.
type Source interface {
	Origin() wire.Origin
	Path(ctx context.Context, path string, accounts ...string) (access.Found, error)
	Folder(ctx context.Context, path, after string, limit int, accounts ...string) (access.Found, error)
	Below(ctx context.Context, ask BelowAsk) (subtree.Tally, *perm.Directory, error)
}

// ErrBad says that a question cannot be answered as it was put.
var ErrBad = errors.New("cannot answer this")

// A Suppose is what is assumed in the second half of an answer.
type Suppose struct {
	Joining    []string // groups that the account would belong to
	Privileges []string // capabilities(7) that its process would have
	States     subtree.Suppose
	Words      string // all of it, for people
}

// SupposeOf returns what a question assumes of the account itself.
func SupposeOf(joining, privileges []string) (Suppose, error) {
	out := Suppose{Joining: joining, Privileges: privileges}
	var words []string
	if len(joining) > 0 {
		words = append(words,
			"the account joins "+strings.Join(joining, ", ")+
				" (which counts from its next login, or the next start of its service, on)")
	}

	if len(privileges) > 0 {
		p, err := privilegesOf(privileges)
		if err != nil {
			return out, err
		}
		words = append(words, "its process has "+p.String())
	}

	out.Words = strings.Join(words, "; ")
	return out, nil
}

func privilegesOf(names []string) (all access.Privilege, err error) {
	for _, n := range names {
		p, err := access.ParsePrivilege(n)
		if err != nil {
			return 0, fmt.Errorf("%w: %w", ErrBad, err)
		}
		all |= p
	}
	return all, nil
}

// ofAccount reports whether anything is assumed of the account itself.
func (s Suppose) ofAccount() bool { return len(s.Joining)+len(s.Privileges) > 0 }

// Any reports whether anything is assumed.
func (s Suppose) Any() bool { return s.ofAccount() || s.States != nil }

// subject returns an account as it would be.
func (s Suppose) subject(d *perm.Directory, account string) (access.Subject, error) {
	p, err := privilegesOf(s.Privileges)
	if err != nil {
		return access.Subject{}, err
	}
	who, err := Subject(d, account, s.Joining...)
	who.Privileges |= p
	return who, err
}

// BelowAsk is a question about all that is in a folder.
type BelowAsk struct {
	Path      string // "": every root
	Account   string
	Operation access.Operation
	Suppose   Suppose
	Behind    bool // as if every folder could be traversed
	Weigh     bool // each entry of the folder by itself
	After     string
	Limit     int
}

// Everyone is the account that is nobody in particular.
const Everyone = string(perm.Everyone)

// Find finds an account by name or number. A number without an account is somebody too: it may own files.
func Find(d *perm.Directory, name string) (perm.Principal, error) {
	if name == Everyone {
		return perm.Everyone, nil
	}
	if id, ok := d.User(name); ok {
		return id, nil
	}
	if id, ok := d.Parse(name, false); ok {
		return id, nil
	}
	return "", fmt.Errorf("%w: there is no account %q on this host: give its name there, its number, or %s", ErrBad,
		name, Everyone)
}

func findGroups(d *perm.Directory, names []string) (out []perm.Principal, err error) {
	for _, name := range names {
		id, ok := d.Group(name)
		if !ok {
			if id, ok = d.Parse(name, true); !ok {
				return nil, fmt.Errorf("%w: there is no group %q on this host: give its name there, or its number",
					ErrBad, name)
			}
		}
		out = append(out, id)
	}
	return out, nil
}

// Subject returns an account with the groups that it would join.
func Subject(d *perm.Directory, account string, joining ...string) (access.Subject, error) {
	id, err := Find(d, account)
	if err != nil {
		return access.Subject{}, err
	}
	groups, err := findGroups(d, joining)
	if a := d.AccountNamed(account); a != nil && id != perm.Everyone {
		return access.SubjectNamed(d, a, groups...), err
	}
	return access.SubjectOf(d, id, groups...), err
}

// AccountOf describes an account.
func AccountOf(d *perm.Directory, name string) (wire.Account, error) {
	id, err := Find(d, name)
	if err != nil {
		return wire.Account{}, err
	}

	out := wire.Account{Name: nameOf(d, id), Groups: []string{}}
	if id == perm.Everyone {
		out.Known = true
		if a := d.AccountNamed(name); a != nil {
			out.Notes = append(out.Notes, "an account has this word for its name, too: ask for it by its number, "+
				d.Identify(a.ID).Text)
		}

		out.Notes = append(out.Notes,
			"stands for whoever is nobody in particular: no owner, in no group, named by no entry")
		return out, nil
	}

	out.ID = d.Identify(id).Text
	a := d.AccountNamed(name)
	if a == nil {
		a = d.Account(id)
	}

	if a == nil {
		out.Notes = append(out.Notes, "no account has this number: what it owns belongs to nobody who can sign in")
		return out, nil
	}

	out.Known, out.Name = true, a.Name
	for _, twin := range d.Named(a.ID) {
		if twin.Name != a.Name {
			out.Notes = append(out.Notes,
				twin.Name+" has the same number, with groups of its own: what either owns the other owns")
		}
	}

	for _, g := range a.Groups {
		out.Groups = append(out.Groups, d.Name(g))
	}

	for _, h := range access.SubjectNamed(d, a).Held {
		out.Notes = append(out.Notes, "holds "+h.Words(h.Privileges, a.ID, d))
	}

	if a.Service {
		out.Notes = append(out.Notes, "nobody signs in with this account: its login program refuses")
	}

	return out, nil
}

func nameOf(d *perm.Directory, id perm.Principal) string {
	if id == perm.Everyone {
		return Everyone
	}
	return d.Name(id)
}

func viewOf(k perm.Kind, s perm.Set, d *perm.Directory) *perm.View {
	if s.IsZero() {
		return nil
	}
	v := perm.Describe(k, s, d)
	return &v
}

// Sight shows one path.
func Sight(ctx context.Context, sc Source, path string) (wire.Sight, error) {
	f, err := sc.Path(ctx, path)
	if err != nil {
		return wire.Sight{}, err
	}

	d, s := f.Directory, f.Seen
	var above []perm.Above
	out := wire.Sight{
		Origin:   sc.Origin(),
		Path:     s.Path.String(),
		Kind:     s.Kind.String(),
		Gap:      s.Gap,
		Access:   viewOf(s.Kind, s.Set, d),
		Words:    perm.Explain(s.Kind, s.Set),
		Way:      []wire.WayPlace{},
		Withheld: s.Mount.Words(),
		Size:     s.Size,
		Links:    s.Links,
		Target:   s.Target.String(),
	}

	if !s.Modified.IsZero() {
		out.Modified = &s.Modified
	}

	if m := s.Mount; s.Set.Scheme().FromAbove() && m.At != "" {
		var told bool
		out.Share, told = perm.ShareEntries(m.Share, d)
		if !told {
			out.Notes = append(out.Notes,
				"what the share "+m.At.String()+
					" itself lets through could not be read: answers take it for everything")
		}
	}

	if words := s.Mark.Words(); words != "" {
		out.Notes = append(out.Notes, "it is "+words)
	}

	for _, p := range f.Way[:len(f.Way)-1] {
		place := wire.WayPlace{Path: p.Path.String(), Kind: p.Kind.String(), Withheld: p.Mount.Words()}
		if p.Path != "/" || !p.Set.Scheme().FromAbove() { // what holds a server's shares has no permissions
			place.Access = viewOf(p.Kind, p.Set, d)
		}

		out.Way = append(out.Way, place)
		above = append(above, perm.Above{Path: string(p.Path), Set: p.Set})
	}

	if s.Kind != perm.Link {
		out.Entries = perm.Entries(s.Kind, s.Set, above, d)
	}

	if out.Words == nil {
		out.Words = []string{}
	}

	if out.Entries == nil {
		out.Entries = []perm.EntryLine{}
	}

	if s.Kind != perm.Folder && s.Links > 1 {
		out.Notes = append(out.Notes,
			fmt.Sprintf("%d hard links: the same file has other names, and other ways lead to those", s.Links))
	}

	if s.Top {
		out.Notes = append(out.Notes, "a file system is mounted here")
	}

	if out.Access != nil {
		for _, u := range out.Access.Unknown {
			out.Notes = append(out.Notes, "its "+u+" no longer exists on the host: only the number is known")
		}
	}

	return out, nil
}

// List returns a folder's content; for an account also what that account can do with each entry, and whether it sees
// names that it cannot open.
func List(ctx context.Context, sc Source, path, account, after string, limit int) (wire.Listing, error) {
	f, err := sc.Folder(ctx, path, after, limit, named(account)...)
	if err != nil {
		return wire.Listing{}, err
	}

	out := wire.Listing{
		Origin:  sc.Origin(),
		Path:    pathname.Escape(path),
		Account: account,
		Items:   []wire.Path{},
		Next:    f.Next.String(),
	}

	var asker *access.Asker
	if account != "" {
		s, err := Subject(f.Directory, account)
		if err != nil {
			return out, err
		}

		asker = access.NewAsker(s)
		if len(f.Way) > 0 {
			if a := asker.May(f.Way, access.List, f.Directory); !a.Allowed {
				out.Stopped = a.Reason
			}
		}
	}

	for _, e := range f.Entries {
		item := wire.Path{
			Path:   e.Path.String(),
			Name:   e.Path.String(),
			Kind:   e.Kind.String(),
			Gap:    e.Gap,
			Top:    e.Top,
			Access: viewOf(e.Kind, e.Set, f.Directory),
			Size:   e.Size,
			Target: e.Target.String(),
		}

		if path != "" {
			item.Name = pathname.Escape(pathname.Base(string(e.Path)))
		}

		if !e.Modified.IsZero() {
			item.Modified = &e.Modified
		}

		if asker != nil && len(f.Way) > 0 {
			item.May = []string{}
			way := append(slices.Clone(f.Way), e.Place)
			for _, op := range access.For(e.Kind, e.Set.Scheme()) {
				ok, unknown := asker.Sure(way, op, f.Directory)
				switch {
				case unknown:
					item.Unknown = append(item.Unknown, op.String())
				case ok:
					item.May = append(item.May, op.String())
				}
			}

			opens := slices.Contains(item.May, access.Read.String()) || slices.Contains(item.May, access.Enter.String())
			item.Hidden = !asker.Sees(way)
			item.Unopened = out.Stopped == "" && !item.Hidden && !opens && len(item.Unknown) == 0 && e.Kind != perm.Link
		}

		out.Items = append(out.Items, item)
	}

	return out, nil
}

func named(account string) []string {
	if account == "" || account == Everyone {
		return nil
	}
	return []string{account}
}

// Decide answers what an account can do with a path: one operation, or all that make sense.
func Decide(
	ctx context.Context, sc Source, account, path string, ops []access.Operation, sup Suppose,
) (wire.Judgement, error) {
	f, err := sc.Path(ctx, path, named(account)...)
	if err != nil {
		return wire.Judgement{}, err
	}

	d := f.Directory
	out := wire.Judgement{
		Origin:  sc.Origin(),
		Path:    f.Seen.Path.String(),
		Kind:    f.Seen.Kind.String(),
		Suppose: sup.Words,
		Answers: []access.Answer{},
	}

	if out.Account, err = AccountOf(d, account); err != nil {
		return out, err
	}
	now, err := Subject(d, account)
	if err != nil {
		return out, err
	}

	if len(ops) == 0 {
		ops = access.For(f.Seen.Kind, f.Seen.Set.Scheme())
	}

	for i, op := range ops {
		ops[i] = access.Meant(op, f.Seen.Kind)
	}

	asker := access.NewAsker(now)
	for _, op := range ops {
		out.Answers = append(out.Answers, asker.May(f.Way, op, d))
	}

	if !sup.Any() {
		return out, nil
	}
	then, err := sup.subject(d, account)
	if err != nil {
		return out, err
	}

	asker = access.NewAsker(then)
	way := sup.States.On(f.Way)
	for _, op := range ops {
		out.Then = append(out.Then, asker.May(way, op, d))
	}

	return out, nil
}

// maxHolders bounds how many accounts are listed one by one.
const maxHolders = 1000

// Everybody answers who can do something with a path.
func Everybody(ctx context.Context, sc Source, path string, op access.Operation, sup Suppose) (wire.Holders, error) {
	if sup.ofAccount() {
		return wire.Holders{}, fmt.Errorf(
			"%w: what is supposed of an account is part of the question what one account can do", ErrBad)
	}

	f, err := sc.Path(ctx, path)
	if err != nil {
		return wire.Holders{}, err
	}

	d, way := f.Directory, sup.States.On(f.Way)
	op = access.Meant(op, f.Seen.Kind)
	out := wire.Holders{
		Origin:    sc.Origin(),
		Path:      f.Seen.Path.String(),
		Kind:      f.Seen.Kind.String(),
		Operation: op,
		Suppose:   sup.Words,
		Allowed:   []wire.Holder{},
		Refused:   []wire.Holder{},
	}

	matter, _ := access.Matter(way, d, maxHolders)
	for _, h := range access.Everybody(way, op, d) {
		a := h.Answers[0]
		if h.ID == perm.Everyone {
			out.Everyone = a
			continue
		}

		out.Accounts++
		row := wire.Holder{
			Account: h.Name,
			Known:   d.Account(h.ID) != nil,
			Cause:   string(a.Cause),
			Reason:  a.Reason,
			Entry:   a.Entry,
		}

		switch {
		case a.Unknown:
			row.Reason = strings.Join(a.Notes, "; ")
			if len(out.Unsure) < maxHolders {
				out.Unsure = append(out.Unsure, row)
			}
		case a.Allowed && len(out.Allowed) < maxHolders:
			out.Allowed = append(out.Allowed, row)
		case !a.Allowed && len(out.Refused) < maxHolders &&
			(out.Everyone.Allowed || a.ByAsking ||
				slices.ContainsFunc(matter, func(s access.Subject) bool { return s.ID == h.ID && s.Name == h.Name })):
			if a.ByAsking {
				row.Reason += "; " + strings.Join(a.Notes, "; ")
			}
			out.Refused = append(out.Refused, row)
		}
	}

	return out, nil
}

// Matrix answers what the accounts that matter can do with a path.
func Matrix(ctx context.Context, sc Source, path string, most int, sup Suppose) (wire.Matrix, error) {
	f, err := sc.Path(ctx, path)
	if err != nil {
		return wire.Matrix{}, err
	}

	d, then := f.Directory, sup.States.On(f.Way)
	out := wire.Matrix{
		Origin:     sc.Origin(),
		Path:       f.Seen.Path.String(),
		Kind:       f.Seen.Kind.String(),
		Suppose:    sup.Words,
		Operations: access.For(f.Seen.Kind, f.Seen.Set.Scheme()),
		Rows:       []wire.MatrixRow{},
	}

	who, all := access.Matter(then, d, most)
	out.Accounts = all
	for _, s := range who {
		row := wire.MatrixRow{
			Account: s.Name,
			Known:   s.ID == perm.Everyone || d.Account(s.ID) != nil,
			Part:    part(f.Seen.Set, s, d),
		}
		asker := access.NewAsker(s)
		row.Cells = asker.All(f.Way, d)
		if sup.States != nil {
			row.Then = asker.All(then, d)
		}

		out.Rows = append(out.Rows, row)
	}

	return out, nil
}

// part returns why an account matters to a path.
func part(s perm.Set, who access.Subject, d *perm.Directory) string {
	if who.ID == perm.Everyone {
		return "nobody in particular"
	}
	var parts []string
	for _, m := range perm.Mentioned(s, d) {
		switch {
		case m.ID == who.ID:
			parts = append(parts, m.As)
		case d.IsGroup(m.ID) && slices.Contains(who.Groups, m.ID):
			parts = append(parts, "in group "+d.Name(m.ID))
		}
	}
	return strings.Join(parts, ", ")
}

// BelowOf answers what an account can do below a folder.
func BelowOf(ctx context.Context, sc Source, ask BelowAsk) (wire.Below, error) {
	t, d, err := sc.Below(ctx, ask)
	if err != nil {
		return wire.Below{}, err
	}

	out := wire.Below{
		Origin:    sc.Origin(),
		Path:      pathname.Escape(ask.Path),
		Operation: ask.Operation,
		Suppose:   ask.Suppose.Words,
		Looked:    t.Looked,
		Held:      t.Held,
		Then:      t.Then,
		Gained:    t.Gained,
		Lost:      t.Lost,
		Closed:    t.Closed,
		Unread:    t.Unread,
		Unknown:   t.Unknown,
		Stopped:   t.Stopped,
		Next:      t.Next.String(),
		Groups:    []wire.BelowGroup{},
		Items:     []wire.BelowPath{},
	}

	if out.Account, err = AccountOf(d, ask.Account); err != nil {
		return out, err
	}

	for _, g := range t.Groups[:min(len(t.Groups), maxHolders)] {
		out.Groups = append(out.Groups, wire.BelowGroup{
			Kind:    g.Kind.String(),
			Access:  perm.Describe(g.Kind, g.Set, d),
			Was:     g.Was,
			Is:      g.Is,
			Count:   g.Count,
			Folder:  g.Folder.String(),
			Example: g.Example.String(),
		})
	}

	for _, w := range t.Weights {
		out.Weights = append(out.Weights, wire.Weight{
			Path:   w.Path.String(),
			Folder: w.Kind == perm.Folder,
			Held:   w.Held,
			Looked: w.Looked,
		})
	}

	for _, p := range t.Paths {
		out.Items = append(out.Items, wire.BelowPath{
			Path: p.Path.String(),
			Kind: p.Kind.String(),
			Was:  p.Was,
			Is:   p.Is,
		})
	}

	return out, nil
}

// SubtreeQueryOf turns a person's question into the core's.
func SubtreeQueryOf(d *perm.Directory, ask BelowAsk) (subtree.Query, error) {
	now, err := Subject(d, ask.Account)
	if err != nil {
		return subtree.Query{}, err
	}

	q := subtree.Query{
		Under:     ask.Path,
		Operation: ask.Operation,
		Now:       access.NewAsker(now),
		Behind:    ask.Behind,
		After:     ask.After,
		Limit:     ask.Limit,
		Weigh:     ask.Weigh,
		Names:     d,
	}

	if ask.Suppose.Any() {
		then, err := ask.Suppose.subject(d, ask.Account)
		if err != nil {
			return subtree.Query{}, err
		}
		q.Then, q.Suppose = access.NewAsker(then), ask.Suppose.States
	}

	return q, nil
}

// Compare sets the system's own answers beside the computed ones. A difference is an error of ours, and comes with
// all that is needed to repeat it.
func Compare(o wire.Origin, f access.Found, account string, tries []access.Try) (wire.Probe, error) {
	d := f.Directory
	out := wire.Probe{Origin: o, Path: f.Seen.Path.String(), Kind: f.Seen.Kind.String(), Rows: []wire.ProbeRow{}}
	s, err := Subject(d, account)
	if err != nil {
		return out, err
	}
	if out.Account, err = AccountOf(d, account); err != nil {
		return out, err
	}

	asker := access.NewAsker(s)
	for _, t := range tries {
		row := wire.ProbeRow{Operation: t.Operation, Computed: asker.May(f.Way, t.Operation, d), Tried: t}
		row.Differ = t.Untried == "" && !row.Computed.Unknown && t.Allowed != row.Computed.Allowed
		out.Differ = out.Differ || row.Differ
		out.Rows = append(out.Rows, row)
	}

	if out.Differ {
		out.Repeat = repeat(f, s, out.Rows)
	}

	return out, nil
}

func repeat(f access.Found, s access.Subject, rows []wire.ProbeRow) string {
	var b strings.Builder
	fmt.Fprintf(&b, "subject %s groups %v privileges %s\n", s.ID, s.Groups, s.Privileges)
	for _, p := range f.Way {
		set, _ := p.Set.MarshalText() // it cannot fail
		fmt.Fprintf(&b, "%s %s set %s mount %v top %v\n", p.Kind, p.Path, set, p.Mount.Words(), p.Top)
	}
	for _, r := range rows {
		if r.Differ {
			fmt.Fprintf(&b, "%s: computed %v (%s), tried %v (%s)\n", r.Operation, r.Computed.Allowed, r.Computed.Cause,
				r.Tried.Allowed, r.Tried.Call)
		}
	}
	return b.String()
}
