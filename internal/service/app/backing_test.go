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
	alone := line("bosun", saidAlone, "p", digest)

	for name, c := range map[string]struct {
		lines     []chain.Line
		reviewers []string
		backed    bool
		alone     bool // as the database says
	}{
		"both":          {[]chain.Line{first, last}, []string{"purser", "harbourmaster"}, true, false},
		"one is enough": {[]chain.Line{last}, []string{"harbourmaster"}, true, false},
		"nobody":        {nil, []string{"harbourmaster"}, false, false},
		"no reviewer":   {[]chain.Line{first, last}, nil, false, false},
		"one too few":   {[]chain.Line{first}, []string{"purser"}, false, false},
		"somebody else": {[]chain.Line{first, last}, []string{"purser", "harbourmaster", "nobody-known"}, false, false},
		"another plan": {[]chain.Line{line("harbourmaster", saidApproved, "q", digest)}, []string{"harbourmaster"},
			false, false},
		"another manifest": {[]chain.Line{line("harbourmaster", saidApproved, "p", other)}, []string{"harbourmaster"},
			false, false},
		"approved anew": {[]chain.Line{line("harbourmaster", saidApproved, "p", other), last},
			[]string{"harbourmaster"}, true, false},
		"replaced": {[]chain.Line{last, line("harbourmaster", saidApproved, "p", other)},
			[]string{"harbourmaster"}, false, false},
		"taken back": {[]chain.Line{first, last, line("harbourmaster", saidTakenBack, "p", digest)},
			[]string{"purser", "harbourmaster"}, false, false},
		"withdrawn": {[]chain.Line{first, last, line("quartermaster", saidWithdrawn, "p", digest)},
			[]string{"purser", "harbourmaster"}, false, false},
		"taken over": {[]chain.Line{first, last, line("the service", chain.TakenOver, "history", digest)},
			[]string{"purser", "harbourmaster"}, false, false},
		"something else": {[]chain.Line{last, line("harbourmaster", "plan declined", "q", digest)},
			[]string{"harbourmaster"}, true, false},
		"one alone":                 {[]chain.Line{first, alone}, []string{"bosun"}, true, true},
		"one alone, said to be two": {[]chain.Line{alone}, []string{"bosun"}, false, false},
		"two, said to be one alone": {[]chain.Line{last}, []string{"harbourmaster"}, false, true},
		"one alone, taken out of review": {[]chain.Line{alone, line("bosun", saidWithdrawn, "p", digest)},
			[]string{"bosun"}, false, true},
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

			if err := b.says("p", digest, c.reviewers, c.alone); (err == nil) != c.backed {
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
