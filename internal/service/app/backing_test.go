package app

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/core/tree"
)

// What the history says of a plan's approvals: each row is a history, and who has to be behind an order.
func TestBacking(t *testing.T) {
	digest, other := tree.Hash{1}, tree.Hash{2}
	line := func(who, what, subject string, d tree.Hash) chain.Line {
		return chain.Line{Who: who, What: what, Subject: subject, Detail: d.String() + " a remark"}
	}
	first, last := line("purser", saidInPart, "p", digest), line("harbourmaster", saidApproved, "p", digest)

	for name, c := range map[string]struct {
		lines     []chain.Line
		reviewers []string
		backed    bool
	}{
		"both":          {[]chain.Line{first, last}, []string{"purser", "harbourmaster"}, true},
		"one is enough": {[]chain.Line{last}, []string{"harbourmaster"}, true},
		"nobody":        {nil, []string{"harbourmaster"}, false},
		"no reviewer":   {[]chain.Line{first, last}, nil, false},
		"one too few":   {[]chain.Line{first}, []string{"purser"}, false},
		"somebody else": {[]chain.Line{first, last}, []string{"purser", "harbourmaster", "nobody-known"}, false},
		"another plan": {[]chain.Line{line("harbourmaster", saidApproved, "q", digest)}, []string{"harbourmaster"},
			false},
		"another manifest": {[]chain.Line{line("harbourmaster", saidApproved, "p", other)}, []string{"harbourmaster"},
			false},
		"approved anew": {[]chain.Line{line("harbourmaster", saidApproved, "p", other), last},
			[]string{"harbourmaster"}, true},
		"replaced": {[]chain.Line{last, line("harbourmaster", saidApproved, "p", other)},
			[]string{"harbourmaster"}, false},
		"taken back": {[]chain.Line{first, last, line("harbourmaster", saidTakenBack, "p", digest)},
			[]string{"purser", "harbourmaster"}, false},
		"withdrawn": {[]chain.Line{first, last, line("quartermaster", saidWithdrawn, "p", digest)},
			[]string{"purser", "harbourmaster"}, false},
		"taken over": {[]chain.Line{first, last, line("the service", chain.TakenOver, "history", digest)},
			[]string{"purser", "harbourmaster"}, false},
		"something else": {[]chain.Line{last, line("harbourmaster", "plan declined", "q", digest)},
			[]string{"harbourmaster"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			b := &backing{plans: map[string][]approval{}}
			for i, l := range c.lines {
				l.Seq, l.ID, l.At = int64(i+1), fmt.Sprint(i), time.UnixMilli(int64(1000*i))
				l.Hash = l.After(b.read.Hash)
				if err := b.see(l); err != nil {
					t.Fatal(err)
				}
			}

			if err := b.says("p", digest, c.reviewers); (err == nil) != c.backed {
				t.Errorf("%s: %v", name, err)
			}

			if err := b.see(chain.Line{Seq: b.read.Seq + 1, What: saidApproved, Who: "x",
				Subject: "p"}); !errors.Is(err,
				chain.ErrBroken) {
				t.Errorf("%s: a line that does not fit: %v", name, err)
			}

			b.forget(time.Now())
			if len(b.plans) != 0 {
				t.Errorf("%s: kept for ever: %v", name, b.plans)
			}
		})
	}
}
