package perm

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"iter"
	"maps"
	"slices"
	"strings"

	"idletally/internal/core/privilege"
)

// A Principal is an account or a group: "u1001" and "g100" on POSIX hosts.
type Principal string

// Everyone is whoever is asked about nobody in particular.
const Everyone Principal = "everyone"

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
	vague    map[Principal]bool       // on a file server: groups of which nobody knows all who are in them
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

	d.vague = map[Principal]bool{}
	for i := range d.Groups {
		if g := &d.Groups[i]; g.Partly || strings.Contains(g.Name, `\`) && len(d.members[g.ID]) == 0 {
			d.vague[g.ID] = true
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
	return identify(id).Name
}

// Identify returns what a principal is by itself, and whether it is a group as far as the directory tells.
func (d *Directory) Identify(id Principal) Identity {
	who := identify(id)
	if !who.Sure {
		who.Group = d != nil && slices.ContainsFunc(d.Groups, func(a Account) bool { return a.ID == id })
	}
	return who
}

// IsGroup reports whether a principal is a group, as far as its text or the directory tells.
func (d *Directory) IsGroup(id Principal) bool { return d.Identify(id).Group }

// Unknown reports whether a principal is nobody that the host knows.
func (d *Directory) Unknown(id Principal) bool { return d.Account(id) == nil && !identify(id).Known }

// scheme returns the scheme that the principals of the host are of: the first that knows them. Of a host without
// accounts that is the first of all.
func (d *Directory) scheme() Scheme {
	if d != nil && len(d.Accounts) > 0 {
		if s := schemeOf(identify(d.Accounts[0].ID).Scheme); s != nil {
			return s
		}
	}
	return schemes[0]
}

// GroupsOwn reports whether groups own paths there, so that a name is looked for among accounts and groups.
func (d *Directory) GroupsOwn() bool { return d.scheme().GroupsOwn() }

// Find returns the account, or the group, that somebody calls by a name: by what the host calls it, and else by what
// the name says by itself on such a host, such as a number. It is one that may own a path there.
func (d *Directory) Find(name string, group bool) (Principal, bool) {
	find := d.User
	if group {
		find = d.Group
	}
	if id, ok := find(name); ok {
		return id, true
	}
	if !group && d.GroupsOwn() {
		if id, ok := d.Group(name); ok {
			return id, true
		}
	}
	return byItself(d.scheme(), name, group)
}

// Parse reads an account or group that is written by itself, as the host does it, such as a number.
func (d *Directory) Parse(text string, group bool) (Principal, bool) {
	return d.scheme().Parse(text, group)
}

// FindAny returns the account or else the group of a name, as entries that allow and deny write it. It may be somebody
// whom only the lists of one scheme know, of those that the host may have.
func (d *Directory) FindAny(name string) (Principal, bool) {
	for _, find := range []func(string) (Principal, bool){d.User, d.Group} {
		if id, ok := find(name); ok {
			return id, true
		}
	}
	for _, s := range schemes {
		if d != nil && len(d.Accounts) > 0 {
			if _, ok := s.Identify(d.Accounts[0].ID); !ok {
				continue // a host of others
			}
		}
		if id, ok := byItself(s, name, false); ok {
			return id, true
		}
	}
	return "", false
}

// byItself returns whom a name means in a scheme where no account has it.
func byItself(s Scheme, name string, group bool) (Principal, bool) {
	if id, ok := s.Known(name); ok {
		return id, true
	}
	return s.Parse(name, group)
}

// Vague reports whether not all members of a group are known.
func (d *Directory) Vague(id Principal) bool { return d != nil && d.vague[id] }

// Vagues returns all groups that are vague.
func (d *Directory) Vagues() iter.Seq[Principal] {
	if d == nil {
		return func(func(Principal) bool) {}
	}
	return maps.Keys(d.vague)
}

// Members counts the accounts that are known to be in a group.
func (d *Directory) Members(id Principal) int {
	if d == nil {
		return 0
	}
	return len(d.members[id])
}

// AlsoKnown returns the other identity of a file server's account: Samba counts for each of its accounts what entries
// grant to the system's account of that name.
func (d *Directory) AlsoKnown(id, as Principal) {
	for i := range d.Accounts {
		if a := &d.Accounts[i]; a.ID == id && !slices.Contains(a.Groups, as) {
			a.Groups = append(a.Groups, as)
		}
	}
}
