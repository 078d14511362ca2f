package access

import (
	"slices"

	"idletally/internal/core/perm"
)

// A Holder is somebody and what they can do.
type Holder struct {
	ID      perm.Principal
	Answers []Answer
}

// Everybody answers one operation for every account of a host, for the numbers that the way
// speaks of and no account has, and for whoever is nobody in particular, who comes first.
func Everybody(w Way, op Operation, d *perm.Directory) []Holder {
	ids := []perm.Principal{perm.Everyone}
	if d != nil {
		for i := range d.Accounts {
			ids = append(ids, d.Accounts[i].ID)
		}
	}
	for _, id := range spokenOf(w) {
		if !d.IsGroup(id) && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	out := make([]Holder, len(ids))
	for i, id := range ids {
		out[i] = Holder{id, []Answer{NewAsker(SubjectOf(d, id)).May(w, op, d)}}
	}
	return out
}

// Matter names the accounts that matter at the end of a way: the owner, those that entries name,
// and the members of the groups that are named; and whoever is nobody in particular. At most
// most of them; the count of all is told.
func Matter(w Way, d *perm.Directory, most int) (ids []perm.Principal, all int) {
	last := w[len(w)-1].Set
	var groups []perm.Principal
	see := func(id perm.Principal) {
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	for _, m := range perm.Mentioned(last) {
		if d.IsGroup(m.ID) {
			groups = append(groups, m.ID)
		} else {
			see(m.ID)
		}
	}
	if d != nil {
		for _, service := range []bool{true, false} { // service accounts matter most
			for _, a := range d.Accounts {
				if a.Service == service && slices.ContainsFunc(a.Groups, func(g perm.Principal) bool { return slices.Contains(groups, g) }) {
					see(a.ID)
				}
			}
		}
	}
	all = len(ids) + 1
	return append(ids[:min(len(ids), most)], perm.Everyone), all
}

// spokenOf lists who the states of a way's end speak of: of the path and of its folder.
func spokenOf(w Way) (out []perm.Principal) {
	for _, p := range w[max(0, len(w)-2):] {
		for _, m := range perm.Mentioned(p.Set) {
			if !slices.Contains(out, m.ID) {
				out = append(out, m.ID)
			}
		}
	}
	return out
}

// All answers every operation that makes sense for the path.
func (a *Asker) All(w Way, d *perm.Directory) []Answer {
	var out []Answer
	for _, op := range For(w[len(w)-1].Kind, w[len(w)-1].Set.Scheme()) {
		out = append(out, a.May(w, op, d))
	}
	return out
}
