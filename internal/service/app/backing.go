package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// What is done to a plan's approvals, as the history tells it. The lines are read again before an order is signed.
const (
	saidApproved  = "plan approved"
	saidInPart    = "plan approved in part"
	saidAlone     = "plan approved alone"
	saidWithdrawn = "plan withdrawn"
	saidTakenBack = "plan approval withdrawn"
)

// backing is what the signed history says of plans' approvals. Rows of the database can be written by whoever has the
// database; a line of the history has to fit all lines before it, up to a head that is signed with a key outside.
type backing struct {
	mu    sync.Mutex
	read  chain.Walker // up to where
	plans map[string][]approval
}

// An approval is one that stands.
type approval struct {
	reviewer string
	digest   string // of what was approved
	last     bool   // with it there were as many as were needed
	alone    bool   // by the roster nobody else was needed
	at       time.Time
}

// see takes the line that follows.
func (b *backing) see(l chain.Line) error {
	if err := b.read.Next(l); err != nil || l.Seq <= 0 { // what was written before there was a chain proves no approval
		return err
	}

	others := func() []approval {
		return slices.DeleteFunc(b.plans[l.Subject], func(a approval) bool { return a.reviewer == l.Who })
	}
	switch l.What {
	case saidApproved, saidInPart:
		digest, _, _ := strings.Cut(l.Detail, " ")
		b.plans[l.Subject] = append(others(), approval{l.Who, digest, l.What == saidApproved, false, l.At})
	case saidAlone:
		digest, _, _ := strings.Cut(l.Detail, " ")
		b.plans[l.Subject] = []approval{{l.Who, digest, true, true, l.At}}
	case saidTakenBack:
		b.plans[l.Subject] = others()
	case saidWithdrawn:
		delete(b.plans, l.Subject)
	case chain.TakenOver: // what stands before was not written by this service
		clear(b.plans)
	}

	return nil
}

// forget drops what is older than a time, since no order can come of it any more.
func (b *backing) forget(before time.Time) {
	for id, list := range b.plans {
		list = slices.DeleteFunc(list, func(a approval) bool { return a.at.Before(before) })
		if len(list) == 0 {
			delete(b.plans, id)
		} else {
			b.plans[id] = list
		}
	}
}

// says returns an error unless each of the reviewers approved exactly this, alone where that is said, and with one of
// them there were enough.
func (b *backing) says(id string, digest tree.Hash, reviewers []string, alone bool) error {
	enough := false
	for _, who := range reviewers {
		i := slices.IndexFunc(b.plans[id], func(a approval) bool {
			return a.reviewer == who && a.digest == digest.String() && a.alone == alone
		})
		if i < 0 {
			return fmt.Errorf(
				"%w: the history does not say that %s approved plan %s as it is: have it approved again, and find "+
					"out who writes to the database",
				store.ErrConflict, who, id)
		}
		enough = enough || b.plans[id][i].last
	}

	if !enough {
		return fmt.Errorf(
			"%w: the history does not say that plan %s has all the approvals that it needs: have it approved again",
			store.ErrConflict, id)
	}

	return nil
}

// approvedBy returns whose approvals of a plan count, or an error unless the signed history agrees with what is
// stored of the plan. The first call reads the whole history, each later one what has come since.
func (s *App) approvedBy(ctx context.Context, p store.Plan) (reviewers []string, err error) {
	all, err := s.store.Approvals(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	if p.Expires == nil || len(all) == 0 {
		return nil, fmt.Errorf("plan %s has no approval", p.ID)
	}

	for _, a := range all {
		if a.At.After(p.Expires.Add(-approvalLife - time.Second)) { // the others were too old to count
			reviewers = append(reviewers, a.Reviewer)
		}
	}

	b := s.backing
	b.mu.Lock()
	defer b.mu.Unlock()

	h, _, err := s.store.Chain(ctx, b.read.Seq, b.see)
	if err == nil {
		err = b.read.End(h, s.OrderKey())
	}

	if errors.Is(err, chain.ErrBroken) {
		err = fmt.Errorf("%w: %w", store.ErrConflict, err)
	}

	if err != nil {
		return nil, fmt.Errorf("no order is signed for plan %s: %w", p.ID, err)
	}

	b.forget(time.Now().Add(-2 * orderLife))
	return reviewers, b.says(p.ID, plan.Digest(p.Manifest), reviewers, p.Alone)
}
