package auth

import (
	"slices"
	"time"

	"idletally/internal/wire"
)

// Loosens reports whether one policy allows something that another one forbids.
func Loosens(from, to wire.Policy) bool {
	longer := from.EnrolmentDays > 0 && (to.EnrolmentDays == 0 || to.EnrolmentDays > from.EnrolmentDays)
	missing := func(role string) bool { return !slices.Contains(to.SecondFactor, role) }
	return to.ManagersApprove && !from.ManagersApprove || to.ReviewerAfter < from.ReviewerAfter ||
		to.Idle > from.Idle || longer || to.Agree < from.Agree || from.AgreeSigned && !to.AgreeSigned ||
		slices.ContainsFunc(from.SecondFactor, missing)
}

// MayApprove reports whether approvals of somebody with these roles count for an application.
func MayApprove(p wire.Policy, r Roles, application string) bool {
	return r.For(wire.Reviewer, application) && (p.ManagersApprove || !r.Everywhere(wire.Admin))
}

// WantsTwoFactor reports whether somebody with these roles has to have a second factor.
func WantsTwoFactor(p wire.Policy, r Roles) bool {
	return slices.ContainsFunc(p.SecondFactor, r.Somewhere)
}

// GainsReview reports whether somebody may approve with some roles what they may not with others, even because they
// no longer manage people.
func GainsReview(p wire.Policy, from, to Roles) bool {
	return slices.ContainsFunc(to, func(role string) bool {
		_, application, _ := SplitRole(role) // they were checked
		return MayApprove(p, to, application) && !MayApprove(p, from, application)
	})
}

// Founding is how long after its first person was added a new installation's reviewers count at once, and its policy
// can be loosened at once: somebody has to begin.
const Founding = 24 * time.Hour

// Delay is how long new reviewers do not count, nor a looser policy: no admin gets around the first by the second.
func Delay(p wire.Policy, began *time.Time, now time.Time) time.Duration {
	if began != nil && now.Sub(*began) < Founding {
		return 0
	}
	return time.Duration(p.ReviewerAfter) * time.Hour
}
