package ntsd

import (
	"fmt"
	"slices"
	"strings"
)

// Privileges let accounts pass over lists (MS-DTYP 2.5.3.2).
type Privileges uint8

// The privileges that matter to files.
const (
	TakeOwnership Privileges = 1 << iota // become owner of anything
	Backup                               // read anything, where it is opened for that
	Restore                              // write anything, and give ownership to anybody, where it is opened for that
	Security                             // read and change system lists
	Everything                           // no privilege of the standard: the server lets whoever has it do everything
)

// privilegeNames are those of the standard (MS-LSAD 3.1.1.2.1), in the order of the bits.
var privilegeNames = [...]string{
	"SeTakeOwnershipPrivilege", "SeBackupPrivilege", "SeRestorePrivilege", "SeSecurityPrivilege", "everything",
}

// String returns the names of the privileges, separated by commas.
func (p Privileges) String() string {
	var out []string
	for i, n := range privilegeNames {
		if p&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return strings.Join(out, ", ")
}

// PrivilegeNamed returns the one of a name, and 0 for one that has no bearing on files.
func PrivilegeNamed(name string) Privileges {
	if i := slices.Index(privilegeNames[:], name); i >= 0 {
		return 1 << i
	}
	return 0
}

// MarshalText returns what String does.
func (p Privileges) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what MarshalText gives.
func (p *Privileges) UnmarshalText(b []byte) error {
	*p = 0
	if len(b) == 0 {
		return nil
	}
	for name := range strings.SplitSeq(string(b), ", ") {
		one := PrivilegeNamed(name)
		if one == 0 {
			return fmt.Errorf("%q is no privilege that bears on files", name)
		}
		*p |= one
	}
	return nil
}

// A Token is who somebody is to a server: the account with all its groups, those that everybody has included.
type Token struct {
	User       SID
	Groups     []SID
	Privileges Privileges
}

// Has reports whether an identity is one of the token's.
func (t Token) Has(s SID) bool { return t.User == s || slices.Contains(t.Groups, s) }

// A Reason is what decided a right.
type Reason uint8

// The reasons.
const (
	ByNothing   Reason = iota // no entry grants it
	ByEntry                   // an entry granted or withheld it
	ByOwner                   // an owner may read and change permissions
	ByNoList                  // there is no list
	ByPrivilege               // a privilege passes over the list
	ByShare                   // the share withholds it
	ByParent                  // the folder above grants it
)

// A Verdict is what one right comes to.
type Verdict struct {
	Granted bool
	Reason  Reason
	Entry   int // the one that decided, where one did
}

// access goes through a list in its order: the first entry that speaks of a right decides it (MS-DTYP
// 2.5.3.2). It gives the rights that are granted, and hands each decision out.
func (d *Descriptor) access(t Token, decide func(rights Mask, v Verdict)) Mask {
	open, granted := Mask(Full)|SystemSecurity, Mask(0)
	settle := func(m Mask, v Verdict) {
		m &= open
		if m == 0 {
			return
		}

		open &^= m
		if v.Granted {
			granted |= m
		}

		if decide != nil {
			decide(m, v)
		}
	}

	if t.Privileges&Everything != 0 {
		settle(Full, Verdict{true, ByPrivilege, 0})
	}

	if t.Privileges&Security != 0 {
		settle(SystemSecurity, Verdict{true, ByPrivilege, 0})
	}

	settle(SystemSecurity, Verdict{})
	if d.Open {
		settle(Full, Verdict{true, ByNoList, 0})
		return granted
	}

	if t.Privileges&TakeOwnership != 0 {
		settle(WriteOwner, Verdict{true, ByPrivilege, 0})
	}

	owns := t.Has(d.Owner)
	if owns &&
		!slices.ContainsFunc(d.Entries, func(e Entry) bool {
			return e.SID == OwnerRights && e.Flags&InheritOnly == 0 && !e.Foreign()
		}) {
		settle(ReadControl|WriteDAC, Verdict{true, ByOwner, 0})
	}

	for i, e := range d.Entries {
		if e.Flags&InheritOnly != 0 || !t.Has(e.SID) && !(owns && e.SID == OwnerRights) {
			continue
		}
		switch e.Type {
		case Allow, Deny:
			settle(e.Mask.Map(), Verdict{e.Type == Allow, ByEntry, i})
		}
	}

	settle(^Mask(0), Verdict{})
	return granted
}

// Maximum returns all rights that a token has by a descriptor alone.
func (d *Descriptor) Maximum(t Token) Mask { return d.access(t, nil) }

// Lets returns what a share lets through to a token where d is the share's own list. Samba counts privileges
// there, also those that do not count at the paths in it.
func (d *Descriptor) Lets(t Token) Mask {
	m := d.Maximum(t)
	if t.Privileges&Backup != 0 {
		m |= FileRead | Execute
	}
	if t.Privileges&Restore != 0 {
		m |= FileWrite | WriteDAC | WriteOwner | Delete
	}
	return m
}

// Check says of each single right that is wanted whether a token has it, and what decides so.
func (d *Descriptor) Check(t Token, want Mask) map[Mask]Verdict {
	out := map[Mask]Verdict{}
	want = want.Map()
	d.access(t, func(rights Mask, v Verdict) {
		for _, s := range single {
			if rights&want&s.mask != 0 {
				out[s.mask] = v
			}
		}
	})
	return out
}

// A Place is something on a share with what decides over it from elsewhere.
type Place struct {
	Descriptor *Descriptor
	Parent     *Descriptor // of the folder above; nil at the top
	Share      Mask        // what the share lets through to the token: Full where it withholds nothing
}

// Check says what a token gets when it opens something on a share: what the share lets through of what the
// list grants; and whoever may delete the children of a folder, and list it, may delete them and read their
// attributes whatever their own lists say.
func (p Place) Check(t Token, want Mask) map[Mask]Verdict {
	out := p.Descriptor.Check(t, want)
	above := Mask(0)
	if p.Parent != nil {
		above = p.Parent.Maximum(t)
	}
	for right, v := range out {
		switch {
		case right&p.Share == 0 && right != SystemSecurity:
			out[right] = Verdict{false, ByShare, 0}
		case !v.Granted && right == Delete && above&DeleteChild != 0,
			!v.Granted && right == ReadAttributes && above&ReadData != 0:
			out[right] = Verdict{true, ByParent, 0}
		}
	}
	return out
}
