package app

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/verdict"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// needs adds what waits for a person, the gravest first.
func (s *App) needs(ctx context.Context, out *wire.Overview, hosts []store.Host, at time.Time) error {
	if f := s.fault.Load(); f != nil {
		out.Needs = append(out.Needs, wire.Need{
			Kind:    "history",
			Subject: "history",
			Title:   "The history is not what it was",
			Detail:  f.what,
			At:      &f.at,
		})
	}

	halted, err := s.haltedNeeds(ctx)
	if err != nil {
		return err
	}
	plans, err := s.planNeeds(ctx, at)
	if err != nil {
		return err
	}
	waivers, err := s.waiverNeeds(ctx, at)
	if err != nil {
		return err
	}

	out.Needs = slices.Concat(out.Needs, halted, graveNeeds(out.Applications), plans, waivers,
		verdictNeeds(out.Applications), hostNeeds(&out.Hosts, hosts, at))
	return nil
}

// haltedNeeds returns the runs that stand still.
func (s *App) haltedNeeds(ctx context.Context) (needs []wire.Need, err error) {
	runs, err := s.store.HaltedRuns(ctx, maxNeeds)
	if err != nil {
		return nil, err
	}

	for _, r := range runs {
		p, err := s.store.Plan(ctx, r.Plan)
		if err != nil {
			return nil, err
		}
		needs = append(needs, wire.Need{
			Kind:        "run",
			Subject:     r.ID,
			Application: p.Application,
			Title:       p.Title,
			Detail:      "the run stands still: it can go on, or be put back",
			At:          &r.Started,
		})
	}
	return needs, nil
}

// graveNeeds returns the applications with grave findings.
func graveNeeds(applications []wire.Standing) (needs []wire.Need) {
	for _, st := range applications {
		if st.Grave > 0 {
			needs = append(needs, wire.Need{
				Kind:        "grave",
				Subject:     st.Name,
				Application: st.Name,
				Title:       st.Name,
				Count:       st.Grave,
				Detail:      "grave findings that nobody accepted",
			})
		}
	}
	return needs
}

// planNeeds returns the plans that wait for a review, and those that are approved and wait for a run.
func (s *App) planNeeds(ctx context.Context, at time.Time) (needs []wire.Need, err error) {
	for _, state := range []lifecycle.Plan{lifecycle.PlanInReview, lifecycle.PlanApproved} {
		plans, err := s.store.Plans(ctx, state, "", maxNeeds)
		if err != nil {
			return nil, err
		}

		for _, p := range plans {
			n := wire.Need{
				Kind:        "review",
				Subject:     p.ID,
				Application: p.Application,
				Title:       p.Title,
				Detail:      "by " + p.Author,
				At:          &p.Created,
			}
			if state == lifecycle.PlanApproved {
				n.Kind = "approved"
				n.At = p.Expires
				n.Detail = "by " + p.Author + "; approved by " + p.DecidedBy
				if p.Expires != nil && p.Expires.Before(at) {
					continue // the approval is too old: the plan says so itself
				}
			}
			needs = append(needs, n)
		}
	}
	return needs, nil
}

// waiverNeeds returns the waivers that end soon.
func (s *App) waiverNeeds(ctx context.Context, at time.Time) (needs []wire.Need, err error) {
	waivers, err := s.store.EndingWaivers(ctx, at.Add(endingSoon), maxNeeds)
	if err != nil {
		return nil, err
	}

	for _, w := range waivers {
		needs = append(needs, wire.Need{
			Kind:        "waiver",
			Subject:     w.Application,
			Application: w.Application,
			Host:        w.Host,
			Title:       w.Pattern,
			Detail:      w.Reason,
			At:          &w.Ends,
		})
	}
	return needs, nil
}

// verdictNeeds returns the applications of which nobody can say on some hosts that they are as declared.
func verdictNeeds(applications []wire.Standing) (needs []wire.Need) {
	for _, st := range applications {
		for _, x := range []struct {
			state  verdict.State
			detail string
		}{
			{verdict.Never, "hosts that nobody has looked at yet"},
			{verdict.Failed, "hosts that could not be looked at the last time"},
			{verdict.Old, "hosts that were looked at too long ago"},
			{verdict.Behind, "hosts that were compared with an earlier edition"},
		} {
			if n := st.Verdict.In[string(x.state)]; n > 0 {
				needs = append(needs, wire.Need{
					Kind:        string(x.state),
					Subject:     st.Name,
					Application: st.Name,
					Title:       st.Name,
					Count:       int64(n),
					Detail:      x.detail,
				})
			}
		}
	}
	return needs
}

// hostNeeds counts the hosts, and returns those whose agents do not call.
func hostNeeds(c *wire.HostCount, hosts []store.Host, at time.Time) (needs []wire.Need) {
	var unseen []store.Host
	for _, h := range hosts {
		c.All++
		if h.Certificate == "" {
			continue
		}

		c.Enrolled++
		if h.Watching != nil && *h.Watching {
			c.Watching++
		}
		if Silent(h, at) {
			unseen = append(unseen, h)
		}
	}

	c.Unseen = len(unseen)
	for i, h := range unseen {
		if i == maxUnseen && len(unseen) > maxUnseen+1 {
			return append(needs, wire.Need{
				Kind:   "host",
				Title:  fmt.Sprintf("%d more hosts", len(unseen)-maxUnseen),
				Detail: "their agents do not call",
			})
		}
		needs = append(needs, wire.Need{
			Kind:    "host",
			Subject: h.Name,
			Host:    h.Name,
			Title:   h.Name,
			Detail:  "its agent does not call",
			At:      h.LastSeen,
		})
	}
	return needs
}
