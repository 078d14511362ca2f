package private

import (
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
)

// The rights by which somebody can write to a file or a folder, or replace it, and those by which they can read it.
const (
	writing = ace.WriteData | ace.AppendData | ace.DeleteChild | ace.Delete | ace.WriteDAC | ace.WriteOwner
	reading = ace.ReadData
)

// other finds somebody whom a descriptor lets write or, of a secret, read, and who is neither self nor an
// administrator of the system. Deny entries are not relied on.
func other(d ntsd.Descriptor, self ntsd.SID, secret bool) (who ntsd.SID, found bool) {
	rights := writing
	if secret {
		rights |= reading
	}

	trusted := func(s ntsd.SID) bool {
		return s == self || s == ntsd.System || s == ntsd.Administrators || s == ntsd.OwnerRights
	}
	if !trusted(d.Owner) || d.Owner == ntsd.OwnerRights {
		return d.Owner, true
	}
	if d.Open {
		return ntsd.Everyone, true
	}

	for _, e := range d.Entries {
		if e.Foreign() { // which lets somebody do something on terms of its own
			return ntsd.Everyone, true
		}
		if e.Type != ntsd.Deny && e.Flags&ace.InheritOnly == 0 && e.Mask.Map()&rights != 0 && !trusted(e.SID) {
			return e.SID, true
		}
	}

	return ntsd.SID{}, false
}
