package roster

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
)

// ErrRefused says that people of the roster have not signed what a host is to do.
var ErrRefused = errors.New("refused by the roster")

// ahead is how far clocks of people may be ahead of a host's.
const ahead = 10 * time.Minute

// An Order is what a host is to do, as the host itself sees it.
type Order struct {
	Plan        string
	Application string
	Digest      tree.Hash // of the plan's manifest
	Hosts       []string  // of the plan, in its order
	Host        string    // that is asked
	PutsBack    bool      // it leads to what was there before
	Enrolled    time.Time // when it was enrolled: what was signed before is for what it was then
}

// takes returns the rights that count for what somebody says of the order; each is enough.
func (o Order) takes(says string) []string {
	switch {
	case says == statement.Submitted:
		return []string{Submit}
	case says == statement.Approved:
		return []string{Approve}
	case says == statement.Alone && o.PutsBack:
		return []string{Alone, PutBack}
	case says == statement.Alone:
		return []string{Alone}
	}
	return nil
}

// People are who had something done.
type People struct {
	Submitter string   // or who acts alone
	Approvers []string // in the order of their names; never the submitter; none where somebody acts alone
	// They may only put back what the host itself found: whoever carries it out holds each step against that.
	OwnOriginals bool
	Newest       time.Time // of what they signed: nothing of it was made later
}

// Alone reports whether one person had it done.
func (p People) Alone() bool { return len(p.Approvers) == 0 }

// Authorize returns who of the roster submitted a plan and who approved it, or who may have it carried out alone; or
// ErrRefused, with the reason. Known reports whether the host came along an earlier edition: somebody may have signed
// while that one counted, if they are still who they were. Statements that say nothing for the order are passed over.
func (r Roster) Authorize(
	o Order, signed []Signed, known func(statement.Point) bool, now time.Time,
) (People, error) {
	if !now.Before(r.Until) || now.Add(ahead).Before(r.Made) {
		return People{}, fmt.Errorf("%w: edition %d is good from %s to %s, and now it is %s", ErrRefused, r.Edition,
			statement.Stamp(r.Made), statement.Stamp(r.Until), statement.Stamp(now))
	}
	if len(signed) > MaxSigned {
		return People{}, fmt.Errorf("%w: there are %d signatures, at most %d are looked at", ErrRefused, len(signed),
			MaxSigned)
	}

	by := map[string][]string{} // what they say: who
	var why []string
	var newest time.Time
	for _, s := range signed {
		st, err := r.Said(o, s, known, now)
		if err != nil {
			why = append(why, err.Error())
			continue
		}
		if !slices.Contains(by[st.Says], st.Who) {
			by[st.Says] = append(by[st.Says], st.Who)
		}
		if st.Made.After(newest) {
			newest = st.Made
		}
	}

	need := r.Needs(o.Application)
	for _, submitter := range by[statement.Submitted] {
		approvers := slices.DeleteFunc(slices.Clone(by[statement.Approved]), func(who string) bool {
			return who == submitter
		})
		if len(approvers) >= max(need, 1) {
			slices.Sort(approvers)
			return People{Submitter: submitter, Approvers: approvers, Newest: newest}, nil
		}
	}
	if alone := by[statement.Alone]; len(alone) > 0 {
		may := func(who string) bool { return r.Person(who).May(Alone, o.Application, o.Host) }
		all := max(slices.IndexFunc(alone, may), 0)
		return People{Submitter: alone[all], OwnOriginals: !may(alone[all]), Newest: newest}, nil
	}

	reason := fmt.Sprintf("plan %s of %s takes somebody who submits it and the approval of %d more; %d and %d have "+
		"signed", o.Plan, o.Application, need, len(by[statement.Submitted]), len(by[statement.Approved]))
	return People{}, fmt.Errorf("%w: %s", ErrRefused, strings.Join(append([]string{reason}, why...), "; "))
}

// PutsBack returns the people whose signature alone has a host put back what it found itself, for an application.
func (r Roster) PutsBack(application, host string) (people []Person) {
	for _, p := range r.People {
		if p.May(PutBack, application, host) || p.May(Alone, application, host) {
			people = append(people, p)
		}
	}
	return people
}

// Said returns what somebody says of an order, or why a signature says nothing of it. Known is as for
// [Roster.Authorize].
func (r Roster) Said(
	o Order, signed Signed, known func(statement.Point) bool, now time.Time,
) (statement.Statement, error) {
	s, person, err := r.speaker(signed)
	if err != nil {
		return s, err
	}
	rights := o.takes(s.Says)
	may := func(do string) bool { return person.May(do, o.Application, o.Host) }
	switch {
	case rights == nil:
		return s, fmt.Errorf("what %s says is about something else", s.Who)
	case !slices.ContainsFunc(rights, may):
		return s, fmt.Errorf("%s has signed %q, for which edition %d gives them no right of %s on %s", s.Who, s.Says,
			r.Edition, o.Application, o.Host)
	}

	if err := r.fits(o, s, known, now); err != nil {
		return s, fmt.Errorf("%s %w", s.Who, err)
	}
	if err := signed.Key.Verify(signed.Statement, signed.Signature, r.Terms()); err != nil {
		return s, fmt.Errorf("%s: %w", s.Who, err)
	}
	return s, nil
}

// fits returns how a statement is of something else than the order, or of another time.
func (r Roster) fits(o Order, s statement.Statement, known func(statement.Point) bool, now time.Time) error {
	same := s.Digest == o.Digest && s.Plan == o.Plan && s.Application == o.Application &&
		slices.Equal(s.Hosts, o.Hosts)
	switch {
	case !same:
		return errors.New("has signed another plan")
	case s.Roster != r.Point() && !(s.Roster.Number < r.Edition && known(s.Roster)):
		return errors.New("has signed by an edition that this host does not know")
	case !now.Before(s.Until):
		return fmt.Errorf("has signed what was good until %s", statement.Stamp(s.Until))
	case s.Made.After(now.Add(ahead)):
		return fmt.Errorf("has signed at %s, and now it is %s", statement.Stamp(s.Made), statement.Stamp(now))
	case s.Made.Before(o.Enrolled.Truncate(time.Second)):
		return errors.New("has signed before this host was enrolled")
	}

	return nil
}
