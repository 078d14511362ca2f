package access

import (
	"slices"

	"idletally/internal/core/perm"
)

// A Holder is somebody and what they can do.
type Holder struct {
	Subject
	Answers []Answer
}

// Everybody answers one operation for every account of a host, for ids on the way that have no account, and, first of
// all, for nobody in particular.
func Everybody(w Way, op Operation, d *perm.Directory) []Holder {
	who := []Subject{SubjectOf(d, perm.Everyone)}
	if d != nil {
		for i := range d.Accounts {
			who = append(who, SubjectNamed(d, &d.Accounts[i]))
		}
	}

	for _, id := range spokenOf(w, d) {
		if !d.IsGroup(id) && d.Account(id) == nil {
			who = append(who, SubjectOf(d, id))
		}
	}

	out := make([]Holder, len(who))
	for i, s := range who {
		out[i] = Holder{s, []Answer{NewAsker(s).May(w, op, d)}}
	}

	return out
}

// Matter returns the subjects that matter at the end of a way: the owner, those whom entries name, the members of
// named groups, and nobody in particular. It returns at most most of them, and the count of all.
func Matter(w Way, d *perm.Directory, most int) (who []Subject, all int) {
	last := w[len(w)-1].Set
	var accounts []perm.Account
	if d != nil {
		accounts = d.Accounts
	}

	seen := map[*perm.Account]bool{}
	see := func(a *perm.Account) {
		if !seen[a] {
			seen[a] = true
			who = append(who, SubjectNamed(d, a))
		}
	}

	var groups []perm.Principal
	for _, m := range perm.Mentioned(last, d) {
		if d.IsGroup(m.ID) {
			groups = append(groups, m.ID)
			continue
		}
		for _, a := range d.Named(m.ID) {
			see(a)
		}
		if d.Account(m.ID) == nil && !slices.ContainsFunc(who, func(s Subject) bool { return s.ID == m.ID }) {
			who = append(who, SubjectOf(d, m.ID))
		}
	}

	for _, service := range []bool{true, false} { // service accounts matter most
		for i := range accounts {
			a := &accounts[i]
			if a.Service == service &&
				slices.ContainsFunc(a.Groups, func(g perm.Principal) bool { return slices.Contains(groups, g) }) {
				see(a)
			}
		}
	}

	all = len(who) + 1
	return append(who[:min(len(who), most)], SubjectOf(d, perm.Everyone)), all
}

// spokenOf lists the principals that the states at a way's end mention: the path's and its folder's.
func spokenOf(w Way, d *perm.Directory) (out []perm.Principal) {
	for _, p := range w[max(0, len(w)-2):] {
		for _, m := range perm.Mentioned(p.Set, d) {
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
