package ntsd

import (
	"slices"

	"idletally/internal/core/ace"
	"idletally/internal/core/privilege"
)

// A Token is who somebody is to a server: the account and all its groups, including those that everybody is in.
type Token struct {
	User       SID
	Groups     []SID
	Privileges privilege.Set
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

// access goes through a list in order: the first entry that mentions a right decides it (MS-DTYP 2.5.3.2). It returns
// the rights that are granted, and hands out each decision.
func (d *Descriptor) access(t Token, decide func(rights ace.Mask, v Verdict)) ace.Mask {
	open, granted := ace.Mask(ace.Full)|ace.SystemSecurity, ace.Mask(0)
	settle := func(m ace.Mask, v Verdict) {
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

	if t.Privileges&privilege.Everything != 0 {
		settle(ace.Full, Verdict{true, ByPrivilege, 0})
	}

	if t.Privileges&privilege.Security != 0 {
		settle(ace.SystemSecurity, Verdict{true, ByPrivilege, 0})
	}

	settle(ace.SystemSecurity, Verdict{})
	if d.Open {
		settle(ace.Full, Verdict{true, ByNoList, 0})
		return granted
	}

	if t.Privileges&privilege.TakeOwnership != 0 {
		settle(ace.WriteOwner, Verdict{true, ByPrivilege, 0})
	}

	owns := t.Has(d.Owner)
	if owns &&
		!slices.ContainsFunc(d.Entries, func(e Entry) bool {
			return e.SID == OwnerRights && e.Flags&ace.InheritOnly == 0 && !e.Foreign()
		}) {
		settle(ace.ReadControl|ace.WriteDAC, Verdict{true, ByOwner, 0})
	}

	for i, e := range d.Entries {
		if e.Flags&ace.InheritOnly != 0 || !t.Has(e.SID) && !(owns && e.SID == OwnerRights) {
			continue
		}
		switch e.Type {
		case Allow, Deny:
			settle(e.Mask.Map(), Verdict{e.Type == Allow, ByEntry, i})
		}
	}

	settle(^ace.Mask(0), Verdict{})
	return granted
}

// Maximum returns all rights that a token has by a descriptor alone.
func (d *Descriptor) Maximum(t Token) ace.Mask { return d.access(t, nil) }

// Lets returns what a share allows a token, where d is the share's own list. Samba counts privileges there, even
// those that do not count for the paths in it.
func (d *Descriptor) Lets(t Token) ace.Mask {
	m := d.Maximum(t)
	if t.Privileges&privilege.Backup != 0 {
		m |= ace.FileRead | ace.Execute
	}
	if t.Privileges&privilege.Restore != 0 {
		m |= ace.FileWrite | ace.WriteDAC | ace.WriteOwner | ace.Delete
	}
	return m
}

// Check returns for each single right that is wanted whether a token has it, and what decides.
func (d *Descriptor) Check(t Token, want ace.Mask) map[ace.Mask]Verdict {
	out := map[ace.Mask]Verdict{}
	want = want.Map()
	d.access(t, func(rights ace.Mask, v Verdict) {
		for _, s := range ace.Single {
			if rights&want&s.Mask != 0 {
				out[s.Mask] = v
			}
		}
	})
	return out
}

// A Place is something on a share with what decides over it from elsewhere.
type Place struct {
	Descriptor *Descriptor
	Parent     *Descriptor // of the folder above; nil at the top
	Share      ace.Mask    // what the share allows to the token: Full where it withholds nothing
}

// Check returns what a token gets when it opens something on a share: what both the share and the list grant. And
// whoever may delete the children of a folder, and list it, may delete them and read their attributes whatever their
// own lists say.
func (p Place) Check(t Token, want ace.Mask) map[ace.Mask]Verdict {
	out := p.Descriptor.Check(t, want)
	above := ace.Mask(0)
	if p.Parent != nil {
		above = p.Parent.Maximum(t)
	}
	for right, v := range out {
		switch {
		case right&p.Share == 0 && right != ace.SystemSecurity:
			out[right] = Verdict{false, ByShare, 0}
		case !v.Granted && right == ace.Delete && above&ace.DeleteChild != 0,
			!v.Granted && right == ace.ReadAttributes && above&ace.ReadData != 0:
			out[right] = Verdict{true, ByParent, 0}
		}
	}
	return out
}
