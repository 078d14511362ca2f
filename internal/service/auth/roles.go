package auth

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/wire"
)

// Roles are what somebody may do: each a role that they have everywhere, such as operator, or for one
// application alone, such as operator@ticketing.
type Roles []string

// forOne are the roles that can be had for one application: everybody may look, and people belong to no application.
var forOne = []string{wire.Author, wire.Reviewer, wire.Operator}

// SplitRole takes a role and its application apart; "" is all of them.
func SplitRole(text string) (role, application string, err error) {
	role, application, bound := strings.Cut(text, "@")
	switch {
	case !slices.Contains(wire.Roles, role):
		err = fmt.Errorf(
			"role %s is unknown: want some of %s, or one for an application alone, such as author@ticketing", text,
			strings.Join(wire.Roles, ", "))
	case bound && !slices.Contains(forOne, role):
		err = fmt.Errorf("the role %s is had everywhere or not at all: %s can be for one application", role,
			strings.Join(forOne, ", "))
	case bound && !baseline.Name.MatchString(application):
		err = fmt.Errorf("role %s: want the name of an application after the @", text)
	}
	return role, application, err
}

// MaxRoles bounds how many roles one person has.
const MaxRoles = 100

// ParseRoles checks roles, and leaves out those that others include: an author needs no author@ticketing.
func ParseRoles(list []string) (Roles, error) {
	if len(list) > MaxRoles {
		return nil, fmt.Errorf("%d roles are too many: want at most %d", len(list), MaxRoles)
	}
	var errs []error
	var out Roles
	for _, text := range slices.Compact(slices.Sorted(slices.Values(list))) {
		role, application, err := SplitRole(text)
		if err != nil {
			errs = append(errs, err)
		}
		if application == "" || !slices.Contains(list, role) {
			out = append(out, text)
		}
	}
	return out, errors.Join(errs...)
}

// Everywhere reports whether somebody has a role for all applications, and for what belongs to none.
func (r Roles) Everywhere(role string) bool { return slices.Contains(r, role) }

// For reports whether somebody has a role for an application.
func (r Roles) For(role, application string) bool {
	return r.Everywhere(role) || application != "" && slices.Contains(r, role+"@"+application)
}

// Somewhere reports whether somebody has a role for any application.
func (r Roles) Somewhere(role string) bool {
	return r.Everywhere(role) || slices.ContainsFunc(r, func(x string) bool { return strings.HasPrefix(x, role+"@") })
}

// Within returns what both allow: a token's roles within those of its person.
func (r Roles) Within(of Roles) (both Roles) {
	for _, mine := range r {
		for _, x := range of {
			role, application, _ := strings.Cut(x, "@")
			switch {
			case mine == x, application != "" && mine == role: // the person has it for this application alone
				both = append(both, x)
			case application == "" && strings.HasPrefix(mine, role+"@"):
				both = append(both, mine)
			}
		}
	}
	return both
}
