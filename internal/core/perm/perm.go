// Package perm is one path's permission state, whatever the kind of system it lives on: a small
// comparable value that snapshots intern, rules are held against and plans change.
//
// What a scheme means (POSIX modes and lists, NT security descriptors) stands behind the interface
// in scheme.go; everybody else sees sets, aspects and effects.
package perm

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
)

// A Kind is what a path is. It is always said in words: names and colours mislead.
type Kind uint8

// The kinds.
const (
	File Kind = 1 + iota
	Folder
	Link
	Socket
	Pipe
	CharDevice
	BlockDevice
)

var kindNames = [...]string{"", "file", "folder", "link", "socket", "pipe", "character device", "block device"}

// Valid reports whether k is one of the kinds.
func (k Kind) Valid() bool { return k >= File && k <= BlockDevice }

func (k Kind) String() string {
	if !k.Valid() {
		return "unknown kind " + strconv.Itoa(int(k))
	}
	return kindNames[k]
}

// MarshalText returns the kind's word.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the kind's word.
func (k *Kind) UnmarshalText(b []byte) error {
	i := slices.Index(kindNames[:], string(b))
	if i < 1 {
		return fmt.Errorf("kind %q is unknown", b)
	}
	*k = Kind(i)
	return nil
}

// MaxSet bounds the encoded form of a set in bytes.
const MaxSet = 128 << 10

// A Set is one path's permission state in canonical bytes, so that two sets are the same state
// exactly when they are ==. The zero Set is no state.
type Set struct{ enc string }

// Bytes returns the canonical encoding, the scheme's byte first.
func (s Set) Bytes() string { return s.enc }

// IsZero reports whether there is no state at all.
func (s Set) IsZero() bool { return s.enc == "" }

// MarshalText returns the encoding as base64.
func (s Set) MarshalText() ([]byte, error) {
	return base64.StdEncoding.AppendEncode(nil, []byte(s.enc)), nil
}

// UnmarshalText reads and checks what MarshalText gave; nothing is the zero Set.
func (s *Set) UnmarshalText(b []byte) error {
	raw, err := base64.StdEncoding.AppendDecode(nil, b)
	if err != nil {
		return fmt.Errorf("permission set: %w", err)
	}
	if len(raw) == 0 {
		*s = Set{}
		return nil
	}
	*s, err = ParseSet(string(raw))
	return err
}

// Scheme says how the set is to be read.
func (s Set) Scheme() Scheme {
	if s.enc == "" {
		return 0
	}
	return Scheme(s.enc[0])
}

// ParseSet checks an encoding that came from elsewhere.
func ParseSet(b string) (Set, error) {
	if len(b) > MaxSet {
		return Set{}, fmt.Errorf("permission set has %d bytes, at most %d are allowed", len(b), MaxSet)
	}

	s := Set{b}
	scheme, ok := schemes[s.Scheme()]
	if !ok {
		return Set{}, fmt.Errorf("permission set has the unknown scheme %d", s.Scheme())
	}
	st, err := scheme.decode(s)
	if err != nil {
		return Set{}, err
	}
	if again, err := st.encode(); err != nil || again != s {
		return Set{}, errors.New("permission set is not in canonical form")
	}
	return s, nil
}

// errNoState is what comes of making something of a path that could not be read.
var errNoState = errors.New("the path's permissions are not known")

// A Principal is an account or a group: "u1001" and "g100" on POSIX hosts.
type Principal string

// Everyone is whoever is asked about nobody in particular.
const Everyone Principal = "everyone"

// UID makes the principal of a POSIX account.
func UID(id uint32) Principal { return Principal("u" + strconv.FormatUint(uint64(id), 10)) }

// GID makes the principal of a POSIX group.
func GID(id uint32) Principal { return Principal("g" + strconv.FormatUint(uint64(id), 10)) }

// ID returns the number of a POSIX principal.
func (p Principal) ID() (uint32, bool) {
	if len(p) < 2 || p[0] != 'u' && p[0] != 'g' {
		return 0, false
	}
	n, err := strconv.ParseUint(string(p[1:]), 10, 32)
	return uint32(n), err == nil
}

// Numbered reads the bare number of an account or group.
func Numbered(text string, group bool) (Principal, bool) {
	n, err := strconv.ParseUint(text, 10, 32)
	switch {
	case err != nil || n == 1<<32-1: // (uid_t)-1 stands for no change
		return "", false
	case group:
		return GID(uint32(n)), true
	}
	return UID(uint32(n)), true
}

// IsGroup reports whether the principal is a group.
func (p Principal) IsGroup() bool { return strings.HasPrefix(string(p), "g") }

// An Account is a principal as its host knows it.
type Account struct {
	ID      Principal   `json:"id"`
	Name    string      `json:"name"`
	Groups  []Principal `json:"groups,omitempty"` // memberships, the primary group first
	Service bool        `json:"service,omitempty"`

	// On a file server, of a group: others may be in it than those who are known to be.
	Partly bool `json:"partly,omitempty"`
	// On a file server: the privileges that an account, or all members of a group, hold by themselves.
	Privileges privilege.Set `json:"privileges,omitempty"`
}

// A Directory is what a host says of its accounts and groups at one time.
type Directory struct {
	Accounts []Account `json:"accounts"`
	Groups   []Account `json:"groups"`
	Untold   []string  `json:"untold,omitempty"` // what the host does not tell, so that answers cannot count it
	byID     map[Principal]*Account
	byName   map[string]*Account      // "u:NAME", "g:NAME"
	twins    map[Principal][]*Account // of a number with several names, the accounts after the first
	members  map[Principal][]int32    // where in the accounts the members of groups are
	vague    map[ntsd.SID]bool        // on a file server: groups of which nobody knows all who are in them
}

// Index prepares the look-ups; it is called once after the lists are filled.
func (d *Directory) Index() *Directory {
	d.byID = map[Principal]*Account{}
	d.byName = map[string]*Account{}
	d.twins = map[Principal][]*Account{}

	for prefix, list := range map[string][]Account{"u:": d.Accounts, "g:": d.Groups} {
		for i := range list {
			a := &list[i]
			if d.byID[a.ID] == nil { // the first name of an id counts, as in getpwuid
				d.byID[a.ID] = a
			} else if prefix == "u:" {
				d.twins[a.ID] = append(d.twins[a.ID], a)
			}
			if d.byName[prefix+a.Name] == nil {
				d.byName[prefix+a.Name] = a
			}
		}
	}

	d.members = map[Principal][]int32{}
	for i := range d.Accounts {
		for _, g := range d.Accounts[i].Groups {
			d.members[g] = append(d.members[g], int32(i))
		}
	}

	d.vague = map[ntsd.SID]bool{}
	for i := range d.Groups {
		g := &d.Groups[i]
		if s, ok := g.ID.SID(); ok && (g.Partly || strings.Contains(g.Name, `\`) && len(d.members[g.ID]) == 0) {
			d.vague[s] = true
		}
	}

	return d
}

// Encode writes a directory as it is stored, with the hash that names it.
func (d *Directory) Encode() (b []byte, hash [sha256.Size]byte, err error) {
	b, err = json.Marshal(d)
	return b, sha256.Sum256(b), err
}

// Hash names what a directory holds, so that one that is known need not be sent again.
func (d *Directory) Hash() (string, error) {
	_, hash, err := d.Encode()
	return hex.EncodeToString(hash[:]), err
}

// Account finds a principal; nil where the host has none of that id.
func (d *Directory) Account(id Principal) *Account {
	if d == nil {
		return nil
	}
	return d.byID[id]
}

// Named returns the accounts of one number, one for each of its names, in the order in which the host lists them.
func (d *Directory) Named(id Principal) []*Account {
	first := d.Account(id)
	if first == nil {
		return nil
	}
	return append([]*Account{first}, d.twins[id]...)
}

// AccountNamed finds an account by its name; nil where the host has none. Of several with one number it is
// just that one.
func (d *Directory) AccountNamed(name string) *Account {
	if d == nil {
		return nil
	}
	return d.byName["u:"+name]
}

// User finds an account's number by name.
func (d *Directory) User(name string) (Principal, bool) { return d.named("u:" + name) }

// Group finds a group by name.
func (d *Directory) Group(name string) (Principal, bool) { return d.named("g:" + name) }

func (d *Directory) named(key string) (Principal, bool) {
	if d == nil || d.byName[key] == nil {
		return "", false
	}
	return d.byName[key].ID, true
}

// Name returns a principal's name on the host, or its number where no account has it.
func (d *Directory) Name(id Principal) string {
	if a := d.Account(id); a != nil {
		return a.Name
	}
	if s, ok := id.SID(); ok {
		if name, ok := s.Known(); ok {
			return name
		}
	}
	if n, ok := id.ID(); ok {
		return strconv.FormatUint(uint64(n), 10)
	}
	return string(id)
}

// An Aspect is one part of a permission state that a rule can speak of by itself.
type Aspect string

// The aspects.
const (
	AspectOwner    Aspect = "owner"
	AspectGroup    Aspect = "group"
	AspectMode     Aspect = "mode"
	AspectEntries  Aspect = "entries"
	AspectDefaults Aspect = "defaults"
	AspectCaps     Aspect = "capability"
	AspectFlags    Aspect = "flags"

	// Of shares:
	AspectGrants      Aspect = "grants"      // a path's own entries
	AspectInheritance Aspect = "inheritance" // whether it takes entries from above

	AspectPresence Aspect = "presence" // that the path is there at all, or is not
)

// Aspects lists those that a change of permissions can mend, in the order in which they are shown.
var Aspects = []Aspect{
	AspectOwner, AspectGroup, AspectMode, AspectEntries, AspectDefaults, AspectCaps, AspectFlags, AspectInheritance,
	AspectGrants,
}

// AllAspects lists those that can be declared.
var AllAspects = append(slices.Clone(Aspects), AspectPresence)

// A Difference is one aspect of one path that is not as declared.
type Difference struct {
	Aspect          Aspect
	Rule            int    // the rule that says so
	Declared, Found string // as people read it
	Wants, Has      Value  // the same, as it is known
	Mended          Set    // the found state with this aspect alone as declared
}

// Traits are what conditions of rules ask of a state, besides the kind of its path.
type Traits uint8

// The traits.
const (
	Executable  Traits = 1 << iota // somebody may execute it: a file that is a program
	WithEntries                    // it has access entries beyond the mode
)

// TraitsOf returns a state's traits.
func TraitsOf(s Set) Traits { return s.state().traits() }

// View is a set as people read it.
type View struct {
	Scheme   string   `json:"scheme,omitempty" enum:"posix,nt" doc:"How the system keeps permissions: by mode and POSIX lists, or by security descriptors, as shares do"`
	Owner    string   `json:"owner" doc:"Owner's name on the host, or the bare number"`
	Group    string   `json:"group" doc:"Owning group's name on the host, or the bare number"`
	Mode     string   `json:"mode,omitempty" doc:"Four octal digits" example:"0640"`
	Letters  string   `json:"letters,omitempty" example:"rw-r-----"`
	Entries  []string `json:"entries,omitempty" doc:"Access entries beyond the mode, POSIX.1e short text"`
	Defaults []string `json:"defaults,omitempty" doc:"Default entries of a folder"`
	Flags    []string `json:"flags,omitempty" doc:"immutable, append-only"`
	// Of a share:
	Grants      []Grant  `json:"grants,omitempty" doc:"The entries of a share's list, in their order"`
	Inheritance string   `json:"inheritance,omitempty" doc:"How a share's path takes entries from above"`
	Unknown     []string `json:"unknown,omitempty" doc:"Aspects whose account no longer exists on the host"`
}

// OfShare reports whether it is a view of a share's path, which has no mode.
func (v View) OfShare() bool { return v.Scheme == SchemeNT.String() }

// String returns it in one line.
func (v View) String() string {
	s := strings.TrimSpace(v.Owner + ":" + v.Group + " " + v.Mode)
	if v.OfShare() {
		s = v.Owner + ", " + v.Inheritance
	}
	for _, part := range []struct {
		name string
		list []string
	}{{"", v.Entries}, {"default", v.Defaults}, {"flags", v.Flags}} {
		if len(part.list) > 0 {
			s += " " + part.name + "[" + strings.Join(part.list, " ") + "]"
		}
	}
	return s
}

// Describe renders the set of a path of some kind with its host's names.
func Describe(k Kind, s Set, d *Directory) View { return s.state().view(k, d) }
