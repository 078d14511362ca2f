package app

import (
	"errors"
	"testing"
	"time"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// What a rule asks of callers besides their roles: who they are in person, shown just now, with a second factor.
func TestRulesOfCallers(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		what string
		w    Caller
		r    Rule
		kind fault.Kind
	}{
		{"just signed in", Caller{shown: now}, Rule{ID: "add-token", Role: SignedIn, Fresh: true}, 0},
		{"long signed in", Caller{shown: now.Add(-freshFor - time.Second)},
			Rule{ID: "add-token", Role: SignedIn, Fresh: true}, fault.KindUnauthorized},
		{"never shown", Caller{}, Rule{ID: "add-token", Role: SignedIn, Fresh: true}, fault.KindUnauthorized},
		{"a token", Caller{By: "nightly", shown: now}, Rule{ID: "add-token", Role: SignedIn, Fresh: true},
			fault.KindForbidden},
		{"a token, in person", Caller{By: "nightly"}, Rule{ID: "end-sessions", Role: SignedIn, InPerson: true},
			fault.KindForbidden},
		{"in person", Caller{}, Rule{ID: "end-sessions", Role: SignedIn, InPerson: true}, 0},
		{"something else", Caller{}, Rule{ID: "list-tokens", Role: SignedIn}, 0},
		{"no second factor", Caller{shown: now, WantsTwoFactor: true},
			Rule{ID: "add-token", Role: SignedIn, Fresh: true}, fault.KindForbidden},
		{"no second factor, looking", Caller{WantsTwoFactor: true}, Rule{ID: "list-plans", Role: wire.Viewer},
			fault.KindForbidden},
		{"no second factor, following a run", Caller{WantsTwoFactor: true}, Rule{Role: wire.Viewer},
			fault.KindForbidden},
		{"no second factor, setting one up", Caller{shown: now, WantsTwoFactor: true},
			Rule{ID: "propose-second", Role: SignedIn, Fresh: true, BeforeTwoFactor: true},
			0},
	} {
		t.Run(c.what, func(t *testing.T) {
			err := c.r.allows(&c.w)
			var refused *fault.Error
			if errors.As(err, &refused) != (c.kind != 0) || refused != nil && (refused.Kind != c.kind ||
				(refused.Shown > 0) != (c.kind == fault.KindUnauthorized)) {
				t.Error(err)
			}
		})
	}
}

// What a role may not do is refused to it, and nothing else; one that somebody has for one application alone is enough
// where it is needed for one.
func TestRulesOfRoles(t *testing.T) {
	for _, role := range append([]string{Anybody, SignedIn}, wire.Roles...) {
		for _, have := range append([]string{"author@boats", "operator@boats"}, wire.Roles...) {
			for _, ofOne := range []bool{false, true} {
				err := Rule{Role: role, OfOne: ofOne}.allows(&Caller{Person: store.Person{Name: "somebody",
					RoleList: have}})
				want := role == Anybody || role == SignedIn || role == wire.Viewer || role == have ||
					ofOne && have == role+"@boats"
				if (err == nil) != want {
					t.Errorf("%q, for one %t, for %s: %v, want allowed %v", role, ofOne, have, err, want)
				}
			}
		}
		if err := (Rule{Role: role}).allows(nil); (err == nil) != (role == Anybody) {
			t.Errorf("%q for nobody: %v", role, err)
		}
	}
}
