package auth

import (
	"fmt"
	"testing"
	"time"

	"idletally/internal/wire"
)

func TestPolicy(t *testing.T) {
	strict := wire.Policy{
		ReviewerAfter: 24,
		SecondFactor:  []string{wire.Admin, wire.Reviewer},
		EnrolmentDays: 400,
		Idle:          30,
		Agree:         2,
		AgreeSigned:   true,
	}

	for what, change := range map[string]func(p *wire.Policy) (looser bool){
		"nothing":          func(*wire.Policy) bool { return false },
		"managers approve": func(p *wire.Policy) bool { p.ManagersApprove = true; return true },
		"sooner":           func(p *wire.Policy) bool { p.ReviewerAfter = 23; return true },
		"later":            func(p *wire.Policy) bool { p.ReviewerAfter = 25; return false },
		"one role less":    func(p *wire.Policy) bool { p.SecondFactor = []string{wire.Admin}; return true },
		"another role": func(p *wire.Policy) bool {
			p.SecondFactor = []string{wire.Admin, wire.Operator}
			return true
		},
		"one role more":            func(p *wire.Policy) bool { p.SecondFactor = wire.Roles; return false },
		"longer enrolments":        func(p *wire.Policy) bool { p.EnrolmentDays = 401; return true },
		"endless enrolments":       func(p *wire.Policy) bool { p.EnrolmentDays = 0; return true },
		"shorter enrolments":       func(p *wire.Policy) bool { p.EnrolmentDays = 30; return false },
		"longer sessions":          func(p *wire.Policy) bool { p.Idle = 31; return true },
		"fewer agree":              func(p *wire.Policy) bool { p.Agree = 1; return true },
		"more agree":               func(p *wire.Policy) bool { p.Agree = 3; return false },
		"who agrees signs no more": func(p *wire.Policy) bool { p.AgreeSigned = false; return true },
		"shorter sessions":         func(p *wire.Policy) bool { p.Idle = 29; return false },
		"stricter and looser":      func(p *wire.Policy) bool { p.Idle, p.ReviewerAfter = 5, 0; return true },
		"the same in other order": func(p *wire.Policy) bool {
			p.SecondFactor = []string{wire.Reviewer, wire.Admin}
			return false
		},
	} {
		t.Run(what, func(t *testing.T) {
			to := strict
			if want := change(&to); Loosens(strict, to) != want {
				t.Errorf("%s: looser is %v", what, !want)
			}
		})
	}

	if !Loosens(wire.Policy{EnrolmentDays: 1}, wire.Policy{}) || Loosens(wire.Policy{}, wire.Policy{EnrolmentDays: 1}) {
		t.Error("no end of an enrolment is stricter than one")
	}

	both := Roles{wire.Admin, "reviewer@tideboard"}
	if MayApprove(strict, both, "tideboard") || !MayApprove(wire.Policy{ManagersApprove: true}, both, "tideboard") ||
		MayApprove(wire.Policy{ManagersApprove: true}, both, "ticketing") {
		t.Error("managers approve, or nobody does")
	}

	if !WantsTwoFactor(strict, Roles{"reviewer@tideboard"}) || WantsTwoFactor(strict, Roles{wire.Operator}) ||
		WantsTwoFactor(wire.Policy{}, both) {
		t.Error("a second factor is wanted of others")
	}

	for _, c := range []struct {
		from, to Roles
		gains    bool
	}{
		{both, Roles{"reviewer@tideboard"}, true}, // who manages people no more
		{Roles{"reviewer@tideboard"}, both, false},
		{nil, Roles{wire.Reviewer}, true},
		{Roles{"reviewer@a"}, Roles{wire.Reviewer}, true},
		{Roles{wire.Reviewer}, Roles{"reviewer@a"}, false},
		{Roles{"reviewer@a"}, Roles{"reviewer@a", "reviewer@b"}, true},
		{Roles{"reviewer@a", wire.Viewer}, Roles{"reviewer@a", wire.Author}, false},
	} {
		t.Run(fmt.Sprint(c.from), func(t *testing.T) {
			if GainsReview(strict, c.from, c.to) != c.gains {
				t.Errorf("%v to %v", c.from, c.to)
			}
		})
	}

	now := time.Unix(1_795_600_000, 0)
	young, old := now.Add(-time.Hour), now.Add(-25*time.Hour)
	if Delay(strict, &young, now) != 0 || Delay(strict, &old, now) != 24*time.Hour ||
		Delay(strict, nil, now) != 24*time.Hour {
		t.Error("the delay is another one")
	}
}
