package cli

import (
	"strings"
	"testing"
	"time"

	"idletally/internal/agent"
)

// An agent is well as long as its service answers it, and its certificate counts.
func TestAgentsAreJudged(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) *time.Time { at := now.Add(-d); return &at }
	later := now.AddDate(0, 1, 0)

	for _, c := range []struct {
		what string
		s    agent.Status
		well bool
		says string
	}{
		{"answered", agent.Status{Until: later, Since: *ago(time.Hour), Answered: ago(30 * time.Second)}, true,
			"it works"},
		{"one call failed",
			agent.Status{
				Until:    later,
				Since:    *ago(time.Hour),
				Answered: ago(time.Second),
				Failing:  &agent.Failing{Why: "refused", Since: *ago(time.Second)},
			},
			true, "refused"},
		{"just begun", agent.Status{Until: later, Since: *ago(time.Second)}, true, "it works"},
		{"begun, and refused",
			agent.Status{Until: later, Since: *ago(time.Second), Failing: &agent.Failing{Why: "connection refused"}},
			false, "connection refused"},
		{"begun long ago", agent.Status{Until: later, Since: *ago(time.Hour)}, false, "has not answered it yet"},
		{"not answered any more",
			agent.Status{
				Until:    later,
				Since:    *ago(time.Hour),
				Answered: ago(10 * time.Minute),
				Failing:  &agent.Failing{Why: "away"},
			},
			false, "for 10m0s: away"},
		{"at work for long",
			agent.Status{
				Until:    later,
				Since:    *ago(time.Hour),
				Answered: ago(time.Minute),
				Work:     &agent.WorkNow{Since: *ago(50 * time.Minute)},
			},
			true, "it works"},
		{"at work, and not answered any more",
			agent.Status{Until: later, Since: *ago(time.Hour), Answered: ago(10 * time.Minute), Work: &agent.WorkNow{}},
			false, "has not answered it for 10m0s"},
		{"answered, and never given work",
			agent.Status{
				Until:    later,
				Since:    *ago(time.Hour),
				Answered: ago(time.Second),
				Failing:  &agent.Failing{What: "work", Why: "speaks protocol 9", Since: *ago(20 * time.Minute)},
			},
			false,
			"asked for work in vain for 20m0s: speaks protocol 9"},
		{"with a certificate that has ended",
			agent.Status{Until: now, Since: *ago(time.Hour), Answered: ago(time.Second)}, false,
			"certificate has ended"},
	} {
		t.Run(c.what, func(t *testing.T) {
			if well, says := judge(c.s, now); well != c.well || !strings.Contains(says, c.says) {
				t.Errorf("%s: %t, %q", c.what, well, says)
			}
		})
	}
}
