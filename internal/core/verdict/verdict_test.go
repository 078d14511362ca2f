package verdict

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// sound is a look of which all is as declared.
func sound() Look {
	return Look{At: now.Add(-time.Hour), Until: now.Add(25 * time.Hour), Edition: 3, Published: 3}
}

// faults are what each alone keeps a look from being as declared.
var faults = []struct {
	state State
	says  string
	mar   func(*Look)
}{
	{Never, "never looked at", func(l *Look) { *l = Look{Published: 3} }},
	{Failed, "the last look failed: the agent ran out of memory",
		func(l *Look) { l.Failed = "the agent ran out of memory" }},
	{Old, "last looked at 3 days ago, which is too long",
		func(l *Look) { l.At, l.Until = now.Add(-80*time.Hour), now.Add(-54*time.Hour) }},
	{Old, "looked at 3 days from now: a clock is wrong",
		func(l *Look) { l.At, l.Until = now.Add(80*time.Hour), now.Add(106*time.Hour) }},
	{Behind, "compared with edition 2, and edition 3 is published", func(l *Look) { l.Edition = 2 }},
	{Unread, "1 path could not be read", func(l *Look) { l.Unread = 1 }},
	{Drifted, "12 findings", func(l *Look) { l.Findings = 12 }},
}

func TestLook(t *testing.T) {
	if l := sound(); !slices.Equal(l.States(now), []State{Declared}) || l.Says(now) != "as declared" {
		t.Errorf("%v, %q", l.States(now), l.Says(now))
	}

	for i, f := range faults {
		t.Run(f.says, func(t *testing.T) {
			l := sound()
			f.mar(&l)
			if l.State(now) != f.state || l.Says(now) != f.says {
				t.Errorf("%s: %v, %q", f.state, l.States(now), l.Says(now))
			}

			for _, g := range faults[i+1:] { // the earlier one is said first, and the later one too
				both := l
				g.mar(&both)
				if f.state != Never && f.state != g.state &&
					!slices.Equal(both.States(now), []State{f.state, g.state}) {
					t.Errorf("%s and %s: %v", f.state, g.state, both.States(now))
				}
			}
		})
	}

	l := sound()
	for _, at := range []time.Time{l.Until.Add(-1), l.Until, l.Until.Add(1)} {
		if old := l.State(at) == Old; old == at.Before(l.Until) {
			t.Errorf("at %s, with %s: %s", at, l.Until, l.State(at))
		}
	}

	l.Until = (time.Time{})
	if l.State(now.AddDate(900, 0, 0)) != Declared {
		t.Error("a look that counts for ever is too old")
	}
}

// Of any hosts all is as declared only where it is on each.
func TestTally(t *testing.T) {
	some := []Look{sound()}
	for _, f := range faults {
		l := sound()
		f.mar(&l)
		some = append(some, l)
	}

	for a := range some {
		for b := range some {
			got := Of([]Look{some[a], some[b]}, now)
			if holds := a == 0 && b == 0; got.Holds() != holds || (got.State() == Declared) != holds {
				t.Errorf("%s and %s: %+v", some[a].State(now), some[b].State(now), got)
			}

			first := slices.Index(States, got.State())
			if first > slices.Index(States, some[a].State(now)) || first > slices.Index(States, some[b].State(now)) {
				t.Errorf("%s and %s: %s", some[a].State(now), some[b].State(now), got.State())
			}
		}
	}

	for _, c := range []struct {
		looks []Look
		says  string
	}{
		{nil, "it applies to no host, so nothing is known of it"},
		{some[:1], "everything is as declared"},
		{[]Look{some[0], some[0]}, "everything is as declared on all 2 hosts"},
		{[]Look{some[0], some[1], some[7]}, "1 of 3 hosts was never looked at; 1 has drifted; 1 is as declared"},
		{[]Look{{At: now.Add(-time.Hour), Until: now, Edition: 3, Published: 3, Findings: 2}},
			"the host was looked at too long ago, and has drifted"},
		{some[3:4], "the host was looked at too long ago"},
	} {
		t.Run(c.says, func(t *testing.T) {
			if got := Of(c.looks, now); got.Says() != c.says || got.Holds() != (got.State() == Declared) {
				t.Errorf("%q, %+v", got.Says(), got)
			}
		})
	}

	if got := Of(nil, now); got.State() != Nowhere || got.Holds() {
		t.Errorf("no host: %+v", got)
	}
}

func TestAge(t *testing.T) {
	for d, want := range map[time.Duration]string{
		-time.Second:                    "0 seconds",
		time.Second:                     "1 second",
		59 * time.Second:                "59 seconds",
		time.Minute:                     "1 minute",
		59*time.Minute + 59*time.Second: "59 minutes",
		time.Hour:                       "1 hour",
		47 * time.Hour:                  "47 hours",
		48 * time.Hour:                  "2 days",
		8000 * time.Hour:                "333 days",
	} {
		t.Run(fmt.Sprint(d), func(t *testing.T) {
			if got := Age(d); got != want {
				t.Errorf("%s: %q, not %q", d, got, want)
			}
		})
	}
}
