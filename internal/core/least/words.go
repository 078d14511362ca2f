package least

import (
	"math/bits"
	"slices"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// Words are what a rule would say of a path, in the terms of the baseline language.
type Words struct {
	Owner   perm.Principal     // whose it becomes; "" leaves it
	Mode    string             // symbolic; "" leaves it
	Entry   *perm.DesiredEntry // that is there at the least
	Grant   *perm.DesiredGrant // likewise, on paths whose lists allow and deny
	Without perm.Principal     // for whom there is none of those entries; "" takes none away
	NoEntry perm.Principal     // for whom there is no entry but the one that is said here, in lists of the mode's kind
}

// and returns both together, as they are said one after the other.
func (w Words) and(x Words) Words {
	if x.Owner != "" {
		w.Owner = x.Owner
	}
	if w.Mode != "" && x.Mode != "" {
		w.Mode += "," + x.Mode
	} else if x.Mode != "" {
		w.Mode = x.Mode
	}
	if x.Entry != nil {
		w.Entry = x.Entry
	}
	if x.Grant != nil {
		w.Grant = x.Grant
	}
	if x.Without != "" {
		w.Without = x.Without
	}
	return w
}

// forAnother returns an entry that says the same of somebody else.
func (w Words) forAnother(who perm.Principal, names *perm.Directory) Words {
	if w.Entry != nil {
		w.Entry = &perm.DesiredEntry{Who: who, Perm: w.Entry.Perm}
	}
	if w.Grant != nil {
		g := *w.Grant
		g.Party = party(who, names)
		w.Grant = &g
	}
	return w
}

// desired returns what the words declare.
func (w Words) desired(names *perm.Directory) *perm.Desired {
	d := &perm.Desired{}
	if w.Owner != "" {
		d.Owner = &w.Owner
	}
	if w.Mode != "" {
		if m, err := mode.ParseWanted(w.Mode); err == nil { // tries makes no others
			d.Mode = &m
		}
	}
	w.entries(d)
	w.grants(d, names)
	return d
}

// entries adds what the words say of entries in lists of the mode's kind.
func (w Words) entries(d *perm.Desired) {
	if w.Entry == nil && w.NoEntry == "" {
		return
	}
	if d.Entries == nil {
		d.Entries = &perm.DesiredEntries{AtLeast: true}
	}
	if w.NoEntry != "" { // and what was said of them before
		d.Entries.List = slices.DeleteFunc(d.Entries.List, func(e perm.DesiredEntry) bool { return e.Who == w.NoEntry })
		if !slices.Contains(d.Entries.Without, w.NoEntry) {
			d.Entries.Without = append(d.Entries.Without, w.NoEntry)
		}
	}
	if w.Entry != nil {
		d.Entries.List = append(d.Entries.List, *w.Entry)
	}
}

// grants adds what the words say of entries that allow and deny.
func (w Words) grants(d *perm.Desired, names *perm.Directory) {
	if w.Grant == nil && w.Without == "" {
		return
	}
	if d.Grants == nil {
		d.Grants = &perm.DesiredGrants{AtLeast: true}
	}
	if w.Grant != nil {
		d.Grants.List = append(d.Grants.List, *w.Grant)
	}
	if w.Without != "" {
		d.Grants.Without = append(d.Grants.Without, party(w.Without, names))
	}
}

// together returns what several words declare of one place, the later ones after the earlier.
func together(list []Words, names *perm.Directory) *perm.Desired {
	var all Words
	for _, w := range list {
		all = all.and(Words{Owner: w.Owner, Mode: w.Mode})
	}
	d := all.desired(names)
	for _, w := range list {
		w.entries(d)
		w.grants(d, names)
	}
	return d
}

func party(who perm.Principal, names *perm.Directory) perm.Party {
	return perm.Party{Who: who, Name: names.Name(who)}
}

// tries lists what may be said of a place by some means, what allows least first.
func (a Ask) tries(m Means, who perm.Principal, p *access.Place, code access.Code) (out []Words) {
	if code == access.BySticky && m != Ownership { // which no entry passes over
		if m == ByMode {
			out = []Words{{Mode: "a-t"}}
		}
		return out
	}
	switch m {
	case ForAccount:
		return a.entries(who, p)
	case ByMode:
		if p.Kind != perm.File && p.Kind != perm.Folder { // no rule declares a mode of other kinds
			return nil
		}
		for _, perms := range permissions {
			for _, class := range []string{"u", "g", "o"} {
				out = append(out, Words{Mode: class + "+" + perms.letters()})
			}
		}
	case NoDeny:
		for _, x := range perm.Mentioned(p.Set, a.Names) {
			if x.ID == a.Who.ID || slices.Contains(a.Who.Groups, x.ID) {
				out = append(out, Words{Without: x.ID})
			}
		}
	case Ownership:
		out = append(out, Words{Owner: a.Who.ID})
	}
	return out
}

// entries are entries for somebody, in the terms of the place's scheme.
func (a Ask) entries(who perm.Principal, p *access.Place) (out []Words) {
	for _, bits := range permissions {
		out = append(out, Words{Entry: &perm.DesiredEntry{Who: who, Perm: mode.Perm(bits)}})
	}
	if !out[0].desired(a.Names).Judges(p.Kind, p.Set) { // it knows entries of the other sort, or none
		out = nil
	}
	one := party(who, a.Names)
	if !(&perm.Desired{Grants: &perm.DesiredGrants{AtLeast: true}}).Judges(p.Kind, p.Set) {
		return out
	}
	for _, rights := range masks {
		out = append(out, Words{Grant: &perm.DesiredGrant{Party: one, Rights: rights}})
	}
	return out
}

// A bitsOf is permissions of one class.
type bitsOf mode.Perm

func (b bitsOf) letters() (out string) {
	for i, letter := range "xwr" {
		if b&(1<<i) != 0 {
			out = string(letter) + out
		}
	}
	return out
}

// permissions are those of one class, the smallest first; masks are rights of entries that allow and deny, likewise, of
// as many single ones as one operation takes.
var (
	permissions = []bitsOf{4, 2, 1, 5, 3, 6, 7}
	masks       = smallest(4)
)

// smallest lists the sets of at most n rights of files, those of fewer first.
func smallest(n int) (out []ace.Mask) {
	var single []ace.Mask
	for b := range 32 {
		if bit := ace.Mask(1) << b; ace.Full&bit != 0 && bit != ace.Synchronize {
			single = append(single, bit)
		}
	}
	level := []ace.Mask{0}
	for range n {
		var next []ace.Mask
		for _, m := range level {
			for _, bit := range single {
				if bit > m { // each set once: its rights in their order
					next = append(next, m|bit)
				}
			}
		}
		out, level = append(out, next...), next
	}
	return out
}

// ones counts rights.
func ones(r perm.Rights) int { return bits.OnesCount16(uint16(r)) }
