package auth

import (
	"slices"
	"strings"
	"testing"

	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

func TestParseRoles(t *testing.T) {
	for _, c := range []struct {
		in   string
		want string // or what the error says
	}{
		{"viewer", "viewer"},
		{"operator viewer operator", "operator viewer"},
		{"author@ticketing author@tideboard", "author@ticketing author@tideboard"},
		{"author@ticketing author reviewer@ticketing", "author reviewer@ticketing"},
		{"captain", "role captain is unknown"},
		{"author@", "name of an application"},
		{"author@ticketing@tideboard", "name of an application"},
		{"author@Ticketing", "name of an application"},
		{"author@a,admin", "name of an application"},
		{"@ticketing", "is unknown"},
		{"admin@ticketing", "everywhere or not at all"},
		{"viewer@ticketing", "everywhere or not at all"},
		{strings.TrimSpace(strings.Repeat("viewer ", MaxRoles+1)), "too many"},
	} {
		t.Run(c.in, func(t *testing.T) {
			got, err := ParseRoles(strings.Fields(c.in))
			text := strings.Join(got, " ")
			if err != nil {
				text = err.Error()
			}

			if err == nil && text != c.want || err != nil && !strings.Contains(text, c.want) {
				t.Errorf("%s: %q, want %q", c.in, text, c.want)
			}
		})
	}
}

// Whatever a token and its person have: together they may what each of them may, for every application.
func TestRolesWithin(t *testing.T) {
	r := seeded.Rand(t)
	applications := []string{"ticketing", "tideboard", "x"}
	some := func() (out Roles) {
		for _, role := range wire.Roles {
			if r.IntN(3) == 0 {
				out = append(out, role)
			}
			for _, a := range applications {
				if slices.Contains(forOne, role) && r.IntN(3) == 0 {
					out = append(out, role+"@"+a)
				}
			}
		}

		return out
	}

	for range 2000 {
		token, person := some(), some()
		both := token.Within(person)
		for _, role := range wire.Roles {
			if got, want := both.Everywhere(role), token.Everywhere(role) && person.Everywhere(role); got != want {
				t.Fatalf("%v within %v is %v: %s everywhere is %t", token, person, both, role, got)
			}

			somewhere := false
			for _, a := range append(applications, "") {
				want := token.For(role, a) && person.For(role, a)
				if got := both.For(role, a); got != want {
					t.Fatalf("%v within %v is %v: %s for %q is %t", token, person, both, role, a, got)
				}
				somewhere = somewhere || want
			}

			if both.Somewhere(role) != somewhere {
				t.Fatalf("%v within %v is %v: %s somewhere is %t", token, person, both, role, !somewhere)
			}
		}
	}
}
