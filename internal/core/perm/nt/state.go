// Package nt is the scheme of file shares: security descriptors (MS-DTYP section 2.4.6) and what file servers make of
// them.
//
//	d, _ := ntsd.ParseSDDL("O:BAD:(D;;FW;;;WD)(A;;FA;;;BA)")
//	s, _ := nt.SetOf(d)
//	perm.Describe(perm.File, s, nil).Grants[1].String() // "allow administrators: full"
package nt

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// ID is security descriptors of file shares.
const ID perm.SchemeID = 2

// SetOf returns the canonical value of a security descriptor.
func SetOf(d ntsd.Descriptor) (perm.Set, error) {
	b, err := d.Append([]byte{byte(ID)})
	return perm.Encoded(b), err
}

// Of reads a set of the NT scheme, checking every bound: it may come from a hostile agent.
func Of(s perm.Set) (ntsd.Descriptor, bool) {
	if s.Scheme() != ID {
		return ntsd.Descriptor{}, false
	}
	d, err := ntsd.Parse([]byte(s.Bytes()[1:]))
	return d, err == nil
}

// PrincipalOf returns the principal of an identity: its usual text.
func PrincipalOf(s ntsd.SID) perm.Principal { return perm.Principal(s.String()) }

// SID returns the identity of a principal of a share.
func SID(p perm.Principal) (ntsd.SID, bool) {
	if !strings.HasPrefix(string(p), "S-1-") {
		return ntsd.SID{}, false
	}
	s, err := ntsd.ParseSID(string(p))
	return s, err == nil
}

// TokenOf returns who an account or a group is to a file server, as far as its directory tells: everybody who signs
// in is also in everyone and authenticated, and comes over the network.
func TokenOf(id perm.Principal, d *perm.Directory) (ntsd.Token, bool) {
	s, ok := SID(id)
	if !ok {
		return ntsd.Token{}, false
	}
	t := ntsd.Token{User: s, Groups: []ntsd.SID{ntsd.Everyone, ntsd.Authenticated, ntsd.Network}}
	if a := d.Account(id); a != nil {
		for _, g := range a.Groups {
			if s, ok := SID(g); ok {
				t.Groups = append(t.Groups, s)
			}
		}
	}
	return t, true
}

// stranger is somebody who has signed in and is nobody in particular.
var stranger = ntsd.Token{Groups: []ntsd.SID{ntsd.Everyone, ntsd.Authenticated, ntsd.Network}}

// rightsOf sums up what a token gets.
func rightsOf(k perm.Kind, d *ntsd.Descriptor, t ntsd.Token) perm.Rights {
	m := d.Maximum(t)
	var r perm.Rights
	for right, bits := range map[perm.Rights]ace.Mask{
		perm.CanRead:    ace.ReadData,
		perm.CanExecute: ace.Execute,
		perm.CanDelete:  ace.Delete,
	} {
		if m&bits != 0 {
			r |= right
		}
	}

	if m&(ace.WriteData|ace.AppendData) != 0 {
		r |= perm.CanWrite
	}

	if m&(ace.WriteDAC|ace.WriteOwner) != 0 {
		r |= perm.CanChange
	}

	if k == perm.Folder && m&ace.DeleteChild != 0 {
		r |= perm.CanRemoveOthers
	}

	return r
}

// A State is a security descriptor as the state of a path.
type State struct{ ntsd.Descriptor }

// Scheme is the scheme of file shares: security descriptors (MS-DTYP 2.4.6).
type Scheme struct{}

func init() { perm.Register(Scheme{}) }

func (Scheme) ID() perm.SchemeID { return ID }
func (Scheme) String() string    { return "nt" }
func (Scheme) Aspects() []perm.Aspect {
	return []perm.Aspect{perm.AspectOwner, perm.AspectInheritance, perm.AspectGrants}
}
func (Scheme) GroupsOwn() bool                    { return true }
func (Scheme) FromAbove() bool                    { return true }
func (Scheme) Desire(w *perm.Desired) perm.Desire { return newDesired(w) }

func (Scheme) Decode(enc string) (perm.State, error) {
	d, err := ntsd.Parse([]byte(enc))
	return State{d}, err
}

// Identify knows the text of SIDs (MS-DTYP 2.4.2.1).
func (Scheme) Identify(id perm.Principal) (perm.Identity, bool) {
	s, ok := SID(id)
	if !ok {
		return perm.Identity{}, false
	}
	name, known := s.Known()
	if !known {
		name = string(id)
	}
	return perm.Identity{
		Scheme: ID,
		Text:   string(id),
		Name:   name,
		Group:  known && s != ntsd.System && s != ntsd.LocalService && s != ntsd.NetworkService,
		Known:  known,
		Sure:   known,
		Anyone: stranger.Has(s),
		Maker:  s == ntsd.CreatorOwner || s == ntsd.CreatorGroup,
	}, true
}

// Known knows the identities that have the same name on every server.
func (Scheme) Known(name string) (perm.Principal, bool) {
	s, ok := ntsd.KnownSID(name)
	return PrincipalOf(s), ok
}

// Parse reads the text of a SID.
func (Scheme) Parse(text string, _ bool) (perm.Principal, bool) {
	s, err := ntsd.ParseSID(text)
	return PrincipalOf(s), err == nil
}

func (n State) Encode() (perm.Set, error) { return SetOf(n.Descriptor) }

// Traits reports entries of the path's own alone: nothing on a share is a program by its list.
func (n State) Traits() perm.Traits {
	if len(own(n.Entries)) > 0 {
		return perm.WithEntries
	}
	return 0
}

func (n State) Mentions(*perm.Directory) []perm.Mention {
	var out []perm.Mention
	for _, id := range mentioned(&n.Descriptor) {
		as := "named by an entry"
		if id == n.Owner {
			as = "owner"
		}
		out = append(out, perm.Mention{ID: PrincipalOf(id), As: as})
	}
	return out
}

func (n State) Speaks(of []perm.Principal, _ *perm.Directory) []perm.Principal {
	for _, s := range mentioned(&n.Descriptor) {
		if id := PrincipalOf(s); !slices.Contains(of, id) {
			of = append(of, id)
		}
	}
	return of
}

func (n State) GroupsFirst() bool { return false }

// Untold reports whether somebody is the system, which may do all of it anyway, everybody, or no account.
func (n State) Untold(who perm.Principal) bool {
	s, ok := SID(who)
	return !ok || stranger.Has(s) || s == ntsd.System || s == ntsd.CreatorOwner || s == ntsd.CreatorGroup ||
		s == ntsd.OwnerRights
}

func (n State) Rights(k perm.Kind, who perm.Principal, d *perm.Directory) perm.Rights {
	if k == perm.Link {
		return 0
	}
	t, ok := TokenOf(who, d)
	if !ok {
		t = stranger
	}
	return rightsOf(k, &n.Descriptor, t)
}

// What no security descriptor has: a mode, power for programs, and a folder of which it is known who may exchange
// what lies in it.
func (n State) DeclaredMode() (mode.Mode, bool)             { return 0, false }
func (n State) Empowers(perm.Kind, perm.State) bool         { return false }
func (n State) Exchangers(*perm.Directory) ([]string, bool) { return nil, false }

func (n State) Cause(perm.Kind, perm.Aspect, perm.State, perm.State, *perm.Directory) perm.Cause {
	return perm.Cause{}
}

func (n State) View(k perm.Kind, d *perm.Directory) perm.View { return view(k, n.Descriptor, d) }

func (n State) Lines(k perm.Kind, above []perm.Above, d *perm.Directory) []perm.EntryLine {
	return lines(k, &n.Descriptor, above, d)
}

func (n State) Explain(k perm.Kind) []string {
	if k == perm.Link {
		return nil
	}
	return explain(k, &n.Descriptor)
}

func (n State) Terms(f perm.Found, _ *perm.Directory, name func(perm.Principal) string) []perm.Term {
	return terms(f, &n.Descriptor, name)
}

// Narrow returns what comes after: a descriptor changes at once, owner and list, so that nothing stands between.
func (n State) Narrow(_ perm.Kind, to perm.State) (perm.Set, error) { return to.Encode() }

// Undissolved reports whether an identity of a share is a group, or another name of an account, whose accounts cannot
// be told: those of the system below a Samba server (S-1-22), and of another domain. Their names come with a domain,
// and no account is said to be in them.
func Undissolved(d *perm.Directory, s ntsd.SID) bool {
	if s.Authority() == 22 {
		return d.Members(PrincipalOf(s)) == 0
	}
	return d.Vague(PrincipalOf(s))
}

func mentioned(d *ntsd.Descriptor) []ntsd.SID {
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

// Doubtful returns the groups of which a directory does not know all members.
func Doubtful(d *perm.Directory) map[ntsd.SID]bool {
	out := map[ntsd.SID]bool{}
	for id := range d.Vagues() {
		if s, ok := SID(id); ok {
			out[s] = true
		}
	}
	return out
}

func grantsOf(k perm.Kind, d *ntsd.Descriptor, dir *perm.Directory) (out []perm.Grant) {
	for _, e := range d.Entries {
		id := PrincipalOf(e.SID)
		g := perm.Grant{
			Who:       dir.Name(id),
			Type:      "allow",
			Rights:    e.Mask.Words(k == perm.Folder),
			Inherited: e.Flags&ace.Inherited != 0,
			Unknown:   dir.Unknown(PrincipalOf(e.SID)),
		}

		switch {
		case e.Foreign():
			g.Type = "other"
			g.Who = "?"
			g.Rights = "kept as it is"
		case e.Type == ntsd.Deny:
			g.Type = "deny"
		}

		if k == perm.Folder {
			g.Reaches = e.Flags.Reaches()
		}

		out = append(out, g)
	}

	return out
}

// EntryText writes one entry of a share's list.
func EntryText(k perm.Kind, e ntsd.Entry, dir *perm.Directory) string {
	return grantsOf(k, &ntsd.Descriptor{Entries: []ntsd.Entry{e}}, dir)[0].String()
}

// WholeEntries writes the entries of the list that a server keeps for a share as a whole (MS-SRVS 3.1.4.10). What they
// reach is not said, since it is always all of the share.
func (n State) WholeEntries(dir *perm.Directory) []string {
	if n.Open {
		return []string{perm.NoListAtAll}
	}
	d := n.Descriptor
	d.Entries = slices.Clone(d.Entries)
	for i := range d.Entries {
		d.Entries[i].Flags = ace.ObjectInherit | ace.ContainerInherit
	}
	return view(perm.Folder, d, dir).Entries
}

// PassesOnSame reports whether two states of a folder pass the same on.
func (n State) PassesOnSame(as perm.State) bool {
	other := as.(State)
	return ntsd.HandsOnSame(&n.Descriptor, &other.Descriptor)
}

// Resumes reports whether it takes nothing from above, and after a change does again.
func (n State) Resumes(after perm.State) bool {
	return n.Control&ntsd.Protected != 0 && after.(State).Control&ntsd.Protected == 0
}

// Reinherit returns the state with what a folder passes on.
func (n State) Reinherit(k perm.Kind, folder perm.State) perm.Inheriting {
	above := folder.(State)
	return State{ntsd.Reinherit(&n.Descriptor, &above.Descriptor, k == perm.Folder)}
}

func inheritanceOf(d *ntsd.Descriptor) string {
	switch {
	case d.Open:
		return perm.NoListAtAll
	case d.Control&ntsd.Protected != 0:
		return perm.InheritsStopped
	}
	return perm.InheritsFromAbove
}

func view(k perm.Kind, d ntsd.Descriptor, dir *perm.Directory) perm.View {
	v := perm.View{
		Scheme:      ID.String(),
		Owner:       dir.Name(PrincipalOf(d.Owner)),
		Group:       dir.Name(PrincipalOf(d.Group)),
		Grants:      grantsOf(k, &d, dir),
		Inheritance: inheritanceOf(&d),
	}
	for _, g := range v.Grants {
		v.Entries = append(v.Entries, g.String())
	}
	if dir.Unknown(PrincipalOf(d.Owner)) {
		v.Unknown = append(v.Unknown, string(perm.AspectOwner))
	}
	return v
}

// lines lists the entries of a share's list in their order, with the folder that each comes from.
func lines(k perm.Kind, d *ntsd.Descriptor, above []perm.Above, dir *perm.Directory) (out []perm.EntryLine) {
	way := handings(k, d, above)
	for i, g := range grantsOf(k, d, dir) {
		e := d.Entries[i]
		line := perm.EntryLine{
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
			line.Origin = originOf(e, way)
		}

		out = append(out, line)
	}

	return out
}

// A handing is what paths below inherit from a folder: by what that becomes there, the folder's entry that it comes
// from.
type handing struct {
	path string
	from map[ntsd.Entry]ntsd.Entry
}

// handings returns what a path inherits from each folder above it, the nearest first, as far as somebody has seen
// them.
func handings(k perm.Kind, d *ntsd.Descriptor, above []perm.Above) (out []handing) {
	for _, a := range slices.Backward(above) {
		up, ok := Of(a.Set)
		if !ok || up.Open { // what holds the shares has no list
			break
		}

		h := handing{a.Path, map[ntsd.Entry]ntsd.Entry{}}
		for _, x := range up.Entries {
			for _, y := range x.HandedOn(k == perm.Folder, d.Owner, d.Group) {
				if was, there := h.from[y.Plain()]; !there || was.Flags&ace.Inherited != 0 {
					// one of the folder's own goes first
					h.from[y.Plain()] = x
				}
			}
		}

		out = append(out, h)
		k, d = perm.Folder, &up
	}

	return out
}

// originOf returns the folder in which an inherited entry is set: each one on the way has to pass on just this entry,
// to this kind of path, for whoever owns it.
func originOf(e ntsd.Entry, way []handing) string {
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

// explain says what a descriptor means.
func explain(k perm.Kind, d *ntsd.Descriptor) (out []string) {
	say := func(s string) { out = append(out, s) }
	switch inheritanceOf(d) {
	case perm.NoListAtAll:
		return []string{"There is no list at all: everybody may do everything with it."}
	case perm.InheritsStopped:
		say("It inherits no entries (it is protected): what changes above has no effect here.")
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

	if r := rightsOf(k, d, stranger); r != 0 {
		say("Everybody who signs in can " + strings.Join(r.Words(k), ", ") + ".")
	}

	if !ntsd.Canonical(d.Entries) {
		say("The entries do not stand in the usual order, denying before allowing: the first one that speaks of a " +
			"right decides.")
	}

	return out
}
