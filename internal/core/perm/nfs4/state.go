// Package nfs4 is the scheme of NFSv4 access lists (RFC 8881 section 6), as Linux shows them in the attribute
// system.nfs4_acl of paths on an NFSv4 mount.
//
// A state is owner, group, set-ID and sticky bits, and the list. The mode's nine bits are no part of it: they follow
// from the list (section 6.3.2). Entries name accounts as the server does, name@domain; they are taken for the host's
// account of that name, as its identity mapping does.
//
//	l := nfs4.List{
//		{Type: nfs4.Allow, Mask: ace.Full, Who: nfs4.Owner},
//		{Type: nfs4.Allow, Mask: ace.ReadSet, Who: "pim@saltmarsh.example"},
//	}
//	s := nfs4.State{UID: 1000, GID: 100, List: l}
//	s.Derived() // 0700: OWNER@ has everything, GROUP@ and EVERYONE@ have nothing
package nfs4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// ID is the scheme's byte.
const ID perm.SchemeID = 3

// specialBits are those of a mode that no list holds.
const specialBits = mode.SetUID | mode.SetGID | mode.Sticky

// A State is the permission state of a path on an NFSv4 mount.
type State struct {
	UID, GID uint32
	Special  mode.Mode // set-ID and sticky bits
	Flags    perm.Flags
	List     List
}

// Scheme is the scheme of NFSv4 access lists.
type Scheme struct{}

func init() { perm.Register(Scheme{}) }

func (Scheme) ID() perm.SchemeID                  { return ID }
func (Scheme) String() string                     { return "nfs4" }
func (Scheme) GroupsOwn() bool                    { return false }
func (Scheme) FromAbove() bool                    { return false }
func (Scheme) Desire(w *perm.Desired) perm.Desire { return newDesired(w) }
func (Scheme) Attributes() []string               { return []string{Attribute} }
func (Scheme) Claims(has func(string) bool) bool  { return has(Attribute) }
func (Scheme) Aspects() []perm.Aspect {
	return []perm.Aspect{perm.AspectOwner, perm.AspectGroup, perm.AspectMode, perm.AspectGrants}
}

// Read returns the state of an inode with its list.
func (Scheme) Read(i perm.Inode, get func(string) string) (perm.State, error) {
	l, err := DecodeXattr([]byte(get(Attribute)))
	if err != nil {
		return nil, err
	}
	return State{UID: i.UID, GID: i.GID, Special: i.Mode & specialBits, Flags: i.Flags, List: l}, nil
}

const flagShift = 12 // above the bits of a mode

// Decode reads an encoded state.
func (Scheme) Decode(enc string) (perm.State, error) {
	b := []byte(enc)
	var s State
	for _, to := range []*uint32{&s.UID, &s.GID} {
		v, n := binary.Uvarint(b)
		if n <= 0 || v > 1<<32-1 {
			return nil, errShort
		}
		*to, b = uint32(v), b[n:]
	}
	if len(b) < 2 {
		return nil, errShort
	}

	bits := binary.LittleEndian.Uint16(b)
	s.Special, s.Flags = mode.Mode(bits)&mode.All, perm.Flags(bits>>flagShift)
	if s.Special&^specialBits != 0 || s.Flags > perm.Immutable|perm.AppendOnly {
		return nil, fmt.Errorf("permission set of NFSv4 has the unknown bits %#x", bits)
	}

	var err error
	s.List, err = DecodeXattr(b[2:])
	return s, err
}

// Encode returns the canonical value.
func (s State) Encode() (perm.Set, error) {
	b := binary.AppendUvarint([]byte{byte(ID)}, uint64(s.UID))
	b = binary.AppendUvarint(b, uint64(s.GID))
	b = binary.LittleEndian.AppendUint16(b, uint16(s.Special)|uint16(s.Flags)<<flagShift)
	b = s.List.AppendXattr(b)
	if len(b) > perm.MaxSet || len(s.List) > MaxEntries {
		return perm.Set{}, errors.New("the NFSv4 list is longer than this program keeps")
	}
	return perm.Encoded(b), nil
}

// Set returns the canonical value of a state that is known to be short enough, and the zero set of any other.
func (s State) Set() perm.Set {
	set, _ := s.Encode()
	return set
}

// Of reads a set of the scheme.
func Of(s perm.Set) (State, error) {
	st, ok := s.State().(State)
	if !ok {
		return State{}, fmt.Errorf("permission set has scheme %s, want nfs4", s.Scheme())
	}
	return st, nil
}

// Derived returns the mode that follows from the list (RFC 8881 section 6.3.2), with the bits that do not.
func (s State) Derived() mode.Mode {
	class := func(who string) (p mode.Perm) {
		var allowed, denied ace.Mask
		for _, e := range s.List {
			if !e.decides() || e.Who != who && e.Who != Everyone {
				continue
			}
			if e.Type == Allow {
				allowed |= e.Mask &^ denied
			} else {
				denied |= e.Mask &^ allowed
			}
		}

		if allowed&ace.ReadData != 0 {
			p |= mode.Read
		}
		if both := ace.WriteData | ace.AppendData; allowed&both == both {
			p |= mode.Write
		}
		if allowed&ace.Execute != 0 {
			p |= mode.Execute
		}
		return p
	}
	return s.Special.With(class(Owner), class(Group), class(Everyone))
}

// DeclaredMode is the mode that follows from the list.
func (s State) DeclaredMode() (mode.Mode, bool) { return s.Derived(), true }

// Traits reports execute for anybody, and entries for others than the three that every mode has.
func (s State) Traits() (t perm.Traits) {
	for _, e := range s.List {
		if e.decides() && e.Type == Allow && e.Mask&ace.Execute != 0 {
			t |= perm.Executable
		}
		if e.Who != Owner && e.Who != Group && e.Who != Everyone {
			t |= perm.WithEntries
		}
	}
	return t
}

// prefix begins the principals of this scheme: whom an entry names that is no account of the host.
const (
	userPrefix  = "nfs:user:"
	groupPrefix = "nfs:group:"
)

// principal returns whom an entry names: the host's account of that name, where a directory has it. OWNER@ and GROUP@
// are the owner and the owning group.
func (s State) principal(e Entry, d *perm.Directory) perm.Principal {
	switch e.Who {
	case Owner:
		return unixid.UID(s.UID)
	case Group:
		return unixid.GID(s.GID)
	case Everyone:
		return perm.Everyone
	}
	return named(e.Who, e.group(), d)
}

func named(who string, group bool, d *perm.Directory) perm.Principal {
	if id, ok := unixid.Parse(who, group); ok && string(id[1:]) == who { // with zeros in front it is no number
		return id
	}
	if local, _, ok := strings.Cut(who, "@"); ok && !special[who] {
		find := d.User
		if group {
			find = d.Group
		}
		if id, ok := find(local); ok {
			return id
		}
	}
	if group {
		return perm.Principal(groupPrefix + who)
	}
	return perm.Principal(userPrefix + who)
}

// Identify knows the host's accounts by their numbers, and those that lists name as the server does.
func (Scheme) Identify(id perm.Principal) (perm.Identity, bool) {
	if _, ok := unixid.Number(id); ok {
		text := string(id[1:])
		return perm.Identity{Scheme: ID, Text: text, Name: text, Group: unixid.IsGroup(id), Sure: true}, true
	}
	for prefix, group := range map[string]bool{userPrefix: false, groupPrefix: true} {
		if who, ok := strings.CutPrefix(string(id), prefix); ok {
			return perm.Identity{
				Scheme: ID, Text: who, Name: who, Group: group || who == Group,
				Known: special[who], Sure: true,
				Anyone: who == Everyone || who == Authenticated,
				Maker:  who == Owner || who == Group,
			}, true
		}
	}
	return perm.Identity{}, false
}

// Known knows the who that stand for no account, and everyone.
func (Scheme) Known(name string) (perm.Principal, bool) {
	if name == string(perm.Everyone) {
		name = Everyone
	}
	return perm.Principal(userPrefix + name), special[name]
}

// Parse reads name@domain.
func (Scheme) Parse(text string, group bool) (perm.Principal, bool) {
	local, domain, ok := strings.Cut(text, "@")
	if !ok || local == "" || domain == "" || len(text) > MaxWho {
		return "", false
	}
	return named(text, group, nil), true
}

// Mentions returns owner and group, and those that entries name.
func (s State) Mentions(d *perm.Directory) []perm.Mention {
	out := []perm.Mention{
		{ID: unixid.GID(s.GID), As: "owning group"},
		{ID: unixid.UID(s.UID), As: "owner"},
	}
	for _, e := range s.List {
		if special[e.Who] || e.Type > Deny {
			continue
		}
		as := "named by an entry"
		if e.group() {
			as = "group named by an entry"
		}
		out = append(out, perm.Mention{ID: s.principal(e, d), As: as})
	}
	return out
}

// Speaks adds those that the state mentions.
func (s State) Speaks(of []perm.Principal, d *perm.Directory) []perm.Principal {
	for _, m := range s.Mentions(d) {
		if !slices.Contains(of, m.ID) {
			of = append(of, m.ID)
		}
	}
	return of
}

// GroupsFirst is true: they say more.
func (s State) GroupsFirst() bool { return true }

// Untold reports whether somebody is root: what root can do is decided by the server, and not by the list.
func (s State) Untold(who perm.Principal) bool { return who == unixid.UID(0) }

// grants returns the entries as people read them. Where a list has names of several domains they are told apart by
// them.
func (s State) grants(k perm.Kind, d *perm.Directory) []perm.Grant {
	out, several := make([]perm.Grant, len(s.List)), domainOf(s.List) == ""
	for i, e := range s.List {
		out[i] = grantOf(k, e, d, several)
	}
	return out
}

// grantOf returns one of them, with a name's domain where that is wanted.
func grantOf(k perm.Kind, e Entry, d *perm.Directory, domain bool) perm.Grant {
	g := perm.Grant{
		Who:       e.Who,
		Type:      "allow",
		Rights:    e.Mask.Words(k == perm.Folder),
		Inherited: e.Flags&Inherited != 0,
	}
	if !special[e.Who] {
		id := named(e.Who, e.group(), d)
		g.Unknown = d.Account(id) == nil
		if !(domain && strings.Contains(e.Who, "@")) {
			g.Who = d.Name(id)
		}
		if strings.ContainsAny(g.Who, " \t:;,|\"") { // it would pass for more than a name
			g.Who = strconv.Quote(g.Who)
		}
		if e.group() {
			g.Who = "group " + g.Who
		}
	}
	switch e.Type {
	case Deny:
		g.Type = "deny"
	case Audit, Alarm:
		g.Type = "other"
	}
	if k == perm.Folder {
		g.Reaches = ace.Flags(e.Flags & reaching).Reaches()
	}
	return g
}

// View returns the state as people read it. The mode is the one that follows from the list.
func (s State) View(k perm.Kind, d *perm.Directory) perm.View {
	m := s.Derived()
	v := perm.View{
		Scheme:  Scheme{}.String(),
		Owner:   d.Name(unixid.UID(s.UID)),
		Group:   d.Name(unixid.GID(s.GID)),
		Mode:    m.String(),
		Letters: m.Letters(),
		Flags:   s.Flags.Words(),
		Grants:  s.grants(k, d),
	}
	for _, g := range v.Grants {
		v.Entries = append(v.Entries, g.String())
	}
	if d.Account(unixid.UID(s.UID)) == nil {
		v.Unknown = append(v.Unknown, string(perm.AspectOwner))
	}
	if d.Account(unixid.GID(s.GID)) == nil {
		v.Unknown = append(v.Unknown, string(perm.AspectGroup))
	}
	return v
}

// Lines lists the entries in their order. The list tells that an entry was inherited, but not from where.
func (s State) Lines(k perm.Kind, _ []perm.Above, d *perm.Directory) (out []perm.EntryLine) {
	for i, g := range s.grants(k, d) {
		line := perm.EntryLine{
			Text: g.String(), Who: g.Who, Rights: g.Rights, Effective: g.Rights, Deny: g.Type == "deny",
			Reaches: g.Reaches, Unknown: g.Unknown, Origin: "set here",
		}
		if !s.List[i].decides() {
			line.Effective = "nothing here"
		}
		if g.Inherited {
			line.Origin = "from the folder above, when it was made"
		}
		out = append(out, line)
	}
	return out
}

// Explain says what the list means.
func (s State) Explain(k perm.Kind) []string {
	if k == perm.Link {
		return []string{"A link has no permissions of its own: what it leads to decides."}
	}

	out := []string{
		"The entries count in their order: for each right the first entry that speaks of it decides, and what no " +
			"entry allows is denied.",
		"The mode " + s.Derived().String() + " follows from the entries for OWNER@, GROUP@ and EVERYONE@.",
	}
	if !canonical(s.List) {
		out = append(out, "An entry that denies stands behind one that allows: it takes away nothing that was allowed "+
			"before it.")
	}
	if slices.ContainsFunc(s.List, func(e Entry) bool { return e.Type > Deny }) {
		out = append(out, "Entries of kind other ask the server to write down who uses it; they decide nothing.")
	}
	for _, w := range s.Flags.Words() {
		out = append(out, "It is "+w+".")
	}
	return out
}

// canonical reports whether entries that deny stand before those that allow.
func canonical(l List) bool {
	allowed := false
	for _, e := range l {
		if e.Type == Deny && allowed {
			return false
		}
		allowed = allowed || e.Type == Allow
	}
	return true
}

// Astray is empty: entries from above are copied when a path is made.
func (s State) Astray(perm.Found, *perm.Directory) string { return "" }
func (s State) TakesAnew(perm.State) bool                 { return false }

// Cause is empty: why a new path came out as it did is not worked out for these lists.
func (s State) Cause(perm.Kind, perm.Aspect, perm.State, perm.State, *perm.Directory) perm.Cause {
	return perm.Cause{}
}

// numeric writes an account as lists may (RFC 8881 section 5.9).
func numeric(id uint32) string { return strconv.FormatUint(uint64(id), 10) }
