package perm

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
)

// NTSet returns the canonical value of a security descriptor.
func NTSet(d ntsd.Descriptor) (Set, error) {
	b, err := d.Append([]byte{byte(SchemeNT)})
	return Set{string(b)}, err
}

// NTOf reads a set of the NT scheme, checking every bound: it may come from a hostile agent.
func NTOf(s Set) (ntsd.Descriptor, bool) {
	if s.Scheme() != SchemeNT {
		return ntsd.Descriptor{}, false
	}
	d, err := ntsd.Parse([]byte(s.enc[1:]))
	return d, err == nil
}

// SIDOf returns the principal of an identity: its usual text.
func SIDOf(s ntsd.SID) Principal { return Principal(s.String()) }

// SID returns the identity of a principal of a share.
func (p Principal) SID() (ntsd.SID, bool) {
	if !strings.HasPrefix(string(p), "S-1-") {
		return ntsd.SID{}, false
	}
	s, err := ntsd.ParseSID(string(p))
	return s, err == nil
}

// TokenOf returns who an account or a group is to a file server, as far as its directory tells: everybody who
// signs in is everyone and authenticated, too, and comes over the network.
func TokenOf(id Principal, d *Directory) (ntsd.Token, bool) {
	s, ok := id.SID()
	if !ok {
		return ntsd.Token{}, false
	}
	t := ntsd.Token{User: s, Groups: []ntsd.SID{ntsd.Everyone, ntsd.Authenticated, ntsd.Network}}
	if a := d.Account(id); a != nil {
		for _, g := range a.Groups {
			if s, ok := g.SID(); ok {
				t.Groups = append(t.Groups, s)
			}
		}
	}
	return t, true
}

// stranger is somebody who has signed in and is nobody in particular.
var stranger = ntsd.Token{Groups: []ntsd.SID{ntsd.Everyone, ntsd.Authenticated, ntsd.Network}}

// ntRights sums up what a token gets.
func ntRights(k Kind, d *ntsd.Descriptor, t ntsd.Token) Rights {
	m := d.Maximum(t)
	var r Rights
	for right, bits := range map[Rights]ace.Mask{
		CanRead:    ace.ReadData,
		CanExecute: ace.Execute,
		CanDelete:  ace.Delete,
	} {
		if m&bits != 0 {
			r |= right
		}
	}

	if m&(ace.WriteData|ace.AppendData) != 0 {
		r |= CanWrite
	}

	if m&(ace.WriteDAC|ace.WriteOwner) != 0 {
		r |= CanChange
	}

	if k == Folder && m&ace.DeleteChild != 0 {
		r |= CanRemoveOthers
	}

	return r
}

// An ntState is a security descriptor as the state of a path.
type ntState struct{ ntsd.Descriptor }

func decodeNT(s Set) (state, error) {
	d, err := ntsd.Parse([]byte(s.enc[1:]))
	return ntState{d}, err
}

func (n ntState) encode() (Set, error) { return NTSet(n.Descriptor) }

// traits reports entries of the path's own alone: nothing on a share is a program by its list.
func (n ntState) traits() Traits {
	if len(own(n.Entries)) > 0 {
		return WithEntries
	}
	return 0
}

func (n ntState) mentions() []Mention {
	var out []Mention
	for _, id := range ntMentioned(&n.Descriptor) {
		as := "named by an entry"
		if id == n.Owner {
			as = "owner"
		}
		out = append(out, Mention{SIDOf(id), as})
	}
	return out
}

func (n ntState) speaks(of []Principal) []Principal {
	for _, s := range ntMentioned(&n.Descriptor) {
		if id := SIDOf(s); !slices.Contains(of, id) {
			of = append(of, id)
		}
	}
	return of
}

func (n ntState) groupsFirst() bool { return false }

// untold reports whether somebody is the system, which may do all of it anyway, everybody, or no account.
func (n ntState) untold(who Principal) bool {
	s, ok := who.SID()
	return !ok || stranger.Has(s) || s == ntsd.System || s == ntsd.CreatorOwner || s == ntsd.CreatorGroup ||
		s == ntsd.OwnerRights
}

func (n ntState) rights(k Kind, who Principal, d *Directory) Rights {
	if k == Link {
		return 0
	}
	t, ok := TokenOf(who, d)
	if !ok {
		t = stranger
	}
	return ntRights(k, &n.Descriptor, t)
}

func (n ntState) view(k Kind, d *Directory) View { return ntView(k, n.Descriptor, d) }

func (n ntState) entries(k Kind, above []Above, d *Directory) []EntryLine {
	return ntEntries(k, &n.Descriptor, above, d)
}

func (n ntState) explain(k Kind) []string {
	if k == Link {
		return nil
	}
	return ntExplain(k, &n.Descriptor)
}

func (n ntState) terms(f Found, name func(Principal) string) []Term {
	return ntTerms(f, &n.Descriptor, name)
}

// narrow returns what comes after: a descriptor changes at once, owner and list, so that nothing stands between.
func (n ntState) narrow(_ Kind, to state) (Set, error) { return to.encode() }

func (n ntState) cautions(k Kind, to state, d *Directory, matter []Principal) []Caution {
	return ntCautions(k, n.Descriptor, to.(ntState).Descriptor, d, matter)
}

func (n ntState) judged(w *Desired, k Kind) bool {
	return w.Owner != nil || k != Link && (w.NT.Inherits != nil || w.NT.Grants != nil)
}

func (n ntState) differences(w *Desired, f Found, d *Directory) []Difference {
	return w.ntDifferences(f, n.Descriptor, d)
}

func (n ntState) apply(w *Desired, f Found, aspects []Aspect) (Set, error) {
	d := n.Descriptor
	for _, a := range Aspects {
		if slices.Contains(aspects, a) {
			d = w.ntApply(a, f, d)
		}
	}
	return NTSet(d)
}

// OfShares reports whether a directory is a file server's.
func (d *Directory) OfShares() bool {
	if d == nil || len(d.Accounts) == 0 {
		return false
	}
	_, ok := d.Accounts[0].ID.SID()
	return ok
}

// Undissolved reports whether an identity of a share is a group, or another name of an account, of which nobody
// knows who that is: those of the system below a Samba server (S-1-22), and of another domain. Their names
// come with a domain, and no account is said to be in them.
func (d *Directory) Undissolved(s ntsd.SID) bool {
	if s.Authority() == 22 {
		return d == nil || len(d.members[SIDOf(s)]) == 0
	}
	return d != nil && d.vague[s]
}

// AlsoKnown tells of an account of a file server that it has another identity, too: Samba counts for each of
// its accounts what entries say of the system's account of that name.
func (d *Directory) AlsoKnown(id, as Principal) {
	for i := range d.Accounts {
		if a := &d.Accounts[i]; a.ID == id && !slices.Contains(a.Groups, as) {
			a.Groups = append(a.Groups, as)
		}
	}
}

// IsGroup reports whether a principal is a group, as far as its text or the directory tells.
func (d *Directory) IsGroup(id Principal) bool {
	if s, ok := id.SID(); ok {
		if _, well := s.Known(); well {
			return s != ntsd.System && s != ntsd.LocalService && s != ntsd.NetworkService
		}
	}
	if _, ok := id.ID(); ok {
		return id.IsGroup()
	}
	return d != nil && slices.ContainsFunc(d.Groups, func(a Account) bool { return a.ID == id })
}

func ntMentioned(d *ntsd.Descriptor) []ntsd.SID {
	out := []ntsd.SID{}
	add := func(s ntsd.SID) {
		if !s.IsZero() && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, e := range d.Entries {
		add(e.SID)
	}
	add(d.Owner)
	return out
}

// A Grant is one entry of a share's list, as people read it.
type Grant struct {
	Who       string `json:"who"`
	Type      string `json:"type" enum:"allow,deny,other" doc:"other: of a kind that is kept and not understood"`
	Rights    string `json:"rights" doc:"Named sets and single rights, separated by commas"`
	Reaches   string `json:"reaches,omitempty" doc:"Of a folder: what it reaches, any of here, folders, files, and once for one level; or nothing"`
	Inherited bool   `json:"inherited,omitempty" doc:"It came from a folder above"`
	Unknown   bool   `json:"unknown,omitempty" doc:"The server knows the identity no more"`
}

// String returns it in one line.
func (g Grant) String() string {
	s := g.Type + " " + g.Who + ": " + g.Rights
	if g.Reaches != "" && g.Reaches != ace.ReachesAll {
		s += "; reaches " + g.Reaches
	}
	if g.Inherited {
		s += "; inherited"
	}
	return s
}

func grantsOf(k Kind, d *ntsd.Descriptor, dir *Directory) (out []Grant) {
	for _, e := range d.Entries {
		id := SIDOf(e.SID)
		g := Grant{
			Who:       dir.Name(id),
			Type:      "allow",
			Rights:    e.Mask.Words(k == Folder),
			Inherited: e.Flags&ace.Inherited != 0,
			Unknown:   dir.unknownSID(e.SID),
		}

		switch {
		case e.Foreign():
			g.Type = "other"
			g.Who = "?"
			g.Rights = "kept as it is"
		case e.Type == ntsd.Deny:
			g.Type = "deny"
		}

		if k == Folder {
			g.Reaches = e.Flags.Reaches()
		}

		out = append(out, g)
	}

	return out
}

// EntryText writes one entry of a share's list.
func EntryText(k Kind, e ntsd.Entry, dir *Directory) string {
	return grantsOf(k, &ntsd.Descriptor{Entries: []ntsd.Entry{e}}, dir)[0].String()
}

// ShareEntries writes the entries of the list that a server keeps for a share as a whole (MS-SRVS 3.1.4.10). What they
// reach is not said, since it is always all of the share. It reports false where s is no such list.
func ShareEntries(s Set, dir *Directory) ([]string, bool) {
	d, ok := NTOf(s)
	if !ok {
		return nil, false
	}
	if d.Open {
		return []string{NoListAtAll}, true
	}
	entries := slices.Clone(d.Entries)
	for i := range entries {
		entries[i].Flags = ace.ObjectInherit | ace.ContainerInherit
	}
	d.Entries = entries
	return ntView(Folder, d, dir).Entries, true
}

func (d *Directory) unknownSID(s ntsd.SID) bool {
	_, well := s.Known()
	return !well && d.Account(SIDOf(s)) == nil
}

// How a share's path takes entries from above.
const (
	InheritsFromAbove = "from above"
	InheritsStopped   = "stopped"
	NoListAtAll       = "no list: everybody may do everything"
)

func inheritanceOf(d *ntsd.Descriptor) string {
	switch {
	case d.Open:
		return NoListAtAll
	case d.Control&ntsd.Protected != 0:
		return InheritsStopped
	}
	return InheritsFromAbove
}

func ntView(k Kind, d ntsd.Descriptor, dir *Directory) View {
	v := View{
		Scheme:      SchemeNT.String(),
		Owner:       dir.Name(SIDOf(d.Owner)),
		Group:       dir.Name(SIDOf(d.Group)),
		Grants:      grantsOf(k, &d, dir),
		Inheritance: inheritanceOf(&d),
	}
	for _, g := range v.Grants {
		v.Entries = append(v.Entries, g.String())
	}
	if dir.unknownSID(d.Owner) {
		v.Unknown = append(v.Unknown, string(AspectOwner))
	}
	return v
}

// ntEntries lists the entries of a share's list in their order, with the folder that each comes from.
func ntEntries(k Kind, d *ntsd.Descriptor, above []Above, dir *Directory) (out []EntryLine) {
	way := handings(k, d, above)
	for i, g := range grantsOf(k, d, dir) {
		e := d.Entries[i]
		line := EntryLine{
			Text:      g.String(),
			Who:       g.Who,
			Rights:    g.Rights,
			Effective: g.Rights,
			Deny:      g.Type == "deny",
			Reaches:   g.Reaches,
			Unknown:   g.Unknown,
			Origin:    "set here",
		}

		if e.Flags&ace.InheritOnly != 0 {
			line.Effective = "nothing here"
		}

		if g.Inherited {
			line.Origin = ntOrigin(e, way)
		}

		out = append(out, line)
	}

	return out
}

// A handing is what a folder passes on to what lies on the way below it: by what that comes to there, the
// folder's entry that it comes from.
type handing struct {
	path string
	from map[ntsd.Entry]ntsd.Entry
}

// handings returns what each folder above a path passes on, the nearest first, as far as somebody has seen it.
func handings(k Kind, d *ntsd.Descriptor, above []Above) (out []handing) {
	for _, a := range slices.Backward(above) {
		up, ok := NTOf(a.Set)
		if !ok || up.Open { // what holds the shares has no list
			break
		}

		h := handing{a.Path, map[ntsd.Entry]ntsd.Entry{}}
		for _, x := range up.Entries {
			for _, y := range x.HandedOn(k == Folder, d.Owner, d.Group) {
				if was, there := h.from[y.Plain()]; !there || was.Flags&ace.Inherited != 0 {
					// one of the folder's own goes first
					h.from[y.Plain()] = x
				}
			}
		}

		out = append(out, h)
		k, d = Folder, &up
	}

	return out
}

// ntOrigin tells which folder an entry that is marked as coming from above is set in: each one on the way has
// to pass on just this entry, to this kind of thing, for whoever owns it.
func ntOrigin(e ntsd.Entry, way []handing) string {
	last := "" // folder that is known to hand it on
	for _, h := range way {
		x, ok := h.from[e.Plain()]
		switch {
		case !ok && last != "":
			return "from " + last + ", which has it from no folder above"
		case !ok:
			return "from no folder above"
		case x.Flags&ace.Inherited == 0:
			return "from " + h.path
		}
		last, e = h.path, x
	}

	if last == "" {
		return "from a folder above"
	}

	return "from above " + last
}

// ntExplain says what a descriptor means.
func ntExplain(k Kind, d *ntsd.Descriptor) (out []string) {
	say := func(s string) { out = append(out, s) }
	switch inheritanceOf(d) {
	case NoListAtAll:
		return []string{"There is no list at all: everybody may do everything with it."}
	case InheritsStopped:
		say("It takes no entries from above: what changes there does not come down to here.")
	default:
		say("It takes entries from the folder above.")
	}

	owner := "The owner can always read and change its permissions, whatever the list says."
	for _, e := range d.Entries {
		if e.SID == ntsd.OwnerRights && e.Flags&ace.InheritOnly == 0 {
			owner = "An entry for owner rights says what the owner can do, instead of reading and changing permissions."
		}
	}

	say(owner)
	if len(d.Entries) == 0 {
		say("The list is empty: nobody else can do anything with it.")
	}

	if r := ntRights(k, d, stranger); r != 0 {
		say("Everybody who signs in can " + strings.Join(r.Words(k), ", ") + ".")
	}

	if !ntsd.Canonical(d.Entries) {
		say("The entries do not stand in the usual order, denying before allowing: the first one that speaks of a " +
			"right decides.")
	}

	return out
}
