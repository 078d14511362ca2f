package app

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/auth"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const (
	WaitForWork = 25 * time.Second
	askDatabase = 20 * time.Second // by each call that waits; work whose lease ran out is found so
	pulseEvery  = 200 * time.Millisecond
)

// A Host is a host as it is stored, and Work is what its agent is to do.
type (
	Host = store.Host
	Work = store.Work
)

// Enrol enrols a host whose agent brings the code that was made for it.
func (s *App) Enrol(ctx context.Context, in wire.Enrol) (out wire.Enrolled, err error) {
	host, err := s.store.UseCode(ctx, auth.HashToken(strings.TrimSpace(in.Code)), sha256.Sum256(in.Request))
	if isConflict(err) {
		s.refused(ctx, store.By{Who: "an agent"}, "enrolment refused", PlaceOf(ctx), "")
		return out, fault.Forbidden(
			"the enrolment code is wrong, was used before, or has expired: make a new one with idletally host invite")
	}
	if err != nil {
		return out, err
	}

	says, err := s.holds(ctx)
	if err != nil {
		return out, err
	}
	cert, serial, err := s.authority.Agent(host, in.Request, enrolmentEnd(says, time.Now()))
	if err != nil {
		return out, fault.Malformed(err.Error())
	}
	enrolment, err := s.store.SetCertificate(ctx, host, s.certified(serial, in.Version, false))
	if err != nil {
		return out, err
	}
	if err := s.store.Audit(ctx, store.By{Who: "agent " + host}, "host enrolled", host,
		"certificate "+serial); err != nil {
		return out, err
	}

	return wire.Enrolled{
		Host:        host,
		Enrolment:   enrolment,
		Certificate: cert,
		Authority:   s.authority.PEM,
		OrderKey:    s.OrderKey(),
		Succession:  s.authority.Succession,
	}, nil
}

// Renew returns an agent another certificate before its own, which has a serial number, expires. The key is the
// agent's new one.
func (s *App) Renew(ctx context.Context, h store.Host, serial string, in wire.Renewal) (out wire.Renewed, err error) {
	says, err := s.holds(ctx)
	if err != nil {
		return out, err
	}
	cert, next, err := s.authority.Agent(h.Name, in.Request, enrolmentEnd(says, began(h)))
	if err != nil {
		return out, fault.Malformed(err.Error())
	}
	if err := s.store.RenewCertificate(ctx, h.Name, serial, next); err != nil {
		return out, err
	}

	if err := s.store.Audit(ctx, store.By{Who: "agent " + h.Name}, "certificate renewed", h.Name,
		"certificate "+next); err != nil {
		s.log.Error("history was not written", "error", err)
	}
	return wire.Renewed{Certificate: cert}, nil
}

// HostOf returns the host whose agent calls by a certificate of our authority, if that is the host's newest. Greets
// says that the agent says which version it is: one that this service does not understand may do that and nothing
// else. Former says that a newer certificate has replaced this one, and that the agent should use that.
func (s *App) HostOf(ctx context.Context, name, serial string, greets bool) (h store.Host, former bool, err error) {
	h, err = s.store.Host(ctx, name)
	if err != nil && !isNotFound(err) {
		return h, false, err
	}

	if err != nil || h.Certificate != serial && h.Renewed != serial {
		s.refused(ctx, store.By{Who: "an agent"}, "certificate refused", name,
			"certificate "+serial+" is no longer valid")
		return h, false, fault.Forbidden("this certificate is no longer valid: the host was enrolled anew or taken out")
	}
	if err := wire.Speaks("the agent of "+h.Name, h.Version, h.Protocol, h.Oldest); err != nil && !greets {
		return h, false, fault.Conflict(err.Error())
	}

	says, err := s.holds(ctx)
	if err != nil {
		return h, false, err
	}
	if end := enrolmentEnd(says, began(h)); !end.IsZero() && time.Now().After(end) {
		return h, false,
			fault.Forbidden("this enrolment has ended: have the host enrolled anew (idletally host invite)")
	}

	former, err = s.holder(ctx, h, serial)
	return h, former, err
}

// enrolmentEnd is when an enrolment ends that began at a time; zero is never.
func enrolmentEnd(p wire.Policy, began time.Time) time.Time {
	if p.EnrolmentDays == 0 {
		return time.Time{}
	}
	return began.AddDate(0, 0, p.EnrolmentDays)
}

// began is when a host was enrolled.
func began(h store.Host) time.Time { return *cmp.Or(h.Enrolled, &h.Created) }

// settling is how long an agent may still call by the certificate that it has renewed: what was under way ends within
// it.
const settling = 5 * time.Minute

// holder notices when two hold a host's identity: an agent that has begun to use a certificate goes on with it, so
// that whoever still calls by the one before is another. Which of them is the host cannot be told here: neither is
// shut out. Former reports that the caller uses the one before.
func (s *App) holder(ctx context.Context, h store.Host, serial string) (former bool, err error) {
	switch {
	case h.Renewed == "":
		return false, nil
	case serial == h.Renewed && h.RenewedUsed == nil:
		return false, s.store.UseRenewed(ctx, h.Name, serial)
	case serial == h.Renewed || h.RenewedUsed == nil:
		return false, nil
	case h.Twice != nil || time.Since(*h.RenewedUsed) < settling:
		return true, nil
	}

	news, err := s.store.HeldTwice(ctx, h.Name)
	if err == nil && news {
		s.log.Error("two hold the identity of a host's agent: somebody has its key", "host", h.Name)
		s.write(ctx, store.By{Who: "the service"}, "two agents", h.Name,
			"one calls by certificate "+h.Renewed+
				", another by the one that it took the place of: somebody has the agent's key")
	}
	return true, err
}

// Greet takes what an agent says of itself after it has started: what it held before it was restarted is free again.
func (s *App) Greet(ctx context.Context, h store.Host, in wire.Hello) (out wire.Greeting, err error) {
	in.Version, in.System = oneLine(in.Version), oneLine(in.System)
	if err := s.store.Greet(ctx, h.Name, in); err != nil {
		return out, err
	}
	if in.Roster.Number < h.Roster { // a host never goes back by itself
		s.log.Error("a host acts by an earlier edition of the roster than it did", "host", h.Name, "before", h.Roster,
			"now", in.Roster.Number)
		s.write(ctx, store.By{Who: "agent " + h.Name}, "roster lost", h.Name, fmt.Sprintf(
			"the host acted by edition %d of the roster, and acts by %d now: find out who took it away there", h.Roster,
			in.Roster.Number))
	}
	if err := wire.Speaks("the agent of "+h.Name, in.Version, in.Protocol, in.Oldest); err != nil {
		return out, fault.Conflict(err.Error())
	}
	if err := s.store.ReleaseWork(ctx, h.Name); err != nil {
		return out, err
	}

	if in.Version != h.Version {
		s.log.Info("agent", "host", h.Name, "version", in.Version, "before", h.Version)
	}
	return wire.Greeting{Version: s.config.Build.Version, Protocol: wire.Protocol, Oldest: wire.OldestProtocol}, nil
}

// wait returns what there is for an agent as soon as there is anything; nil if there is nothing for a while. It looks
// when it is woken by a key, and at intervals.
func (s *App) wait(ctx context.Context, key string, every time.Duration, look func() (any, error)) (any, error) {
	// Those that began together, as after a restart, do not come back together.
	end := time.NewTimer(WaitForWork*3/4 + rand.N(WaitForWork/2))
	defer end.Stop()
	for {
		poked := s.notifier.wait(key)
		out, err := look()
		if err != nil || out != nil {
			return out, err
		}

		select {
		case <-poked:
		case <-time.After(every):
		case <-ctx.Done():
			return nil, nil
		case <-end.C:
			return nil, nil
		case <-s.config.Stopping:
			return nil, nil
		}
	}
}

// pollDatabase wakes calls that wait here for what came by way of another instance, until the context ends. One query
// serves them all.
func (s *App) pollDatabase(ctx context.Context) {
	pause := pulseEvery
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		if s.notifier.idle() {
			continue
		}
		s.engine.Round(ctx, wake, func(ctx context.Context) error {
			work, questions, err := s.store.Due(ctx)
			if err != nil {
				pause = min(2*pause, 10*time.Second) // who waits asks the database by itself, and tells what is wrong
				return nil
			}

			pause = pulseEvery
			for _, h := range work {
				s.notifier.wake(h)
			}
			for _, h := range questions {
				s.notifier.wake(questionsOf(h))
			}
			return nil
		})
	}
}

// NextWork waits for work of a host, and claims it; nil where there is none for a while.
func (s *App) NextWork(ctx context.Context, host string) (any, error) {
	if err := s.store.Seen(ctx, host); err != nil {
		return nil, err
	}
	return s.wait(ctx, host, askDatabase, func() (any, error) {
		work, err := s.store.ClaimWork(ctx, host)
		if err != nil || work == nil {
			return nil, err
		}
		return s.describeWork(ctx, *work)
	})
}

// NextQuestion waits for a question to a host; nil if there is none for a while. It waits apart from work, so that
// questions are answered while a long run goes on.
func (s *App) NextQuestion(ctx context.Context, host string) (any, error) {
	return s.wait(ctx, questionsOf(host), askDatabase, func() (any, error) {
		id, ask, err := s.store.TakeQuestion(ctx, host)
		if err != nil || id == "" {
			return nil, err
		}
		var q wire.Question
		if err := json.Unmarshal(ask, &q); err != nil {
			return nil, fmt.Errorf("question %s: %w", id, err)
		}
		q.ID = id
		return q, nil
	})
}

// IsAsked is an error unless a host has a question to answer.
func (s *App) IsAsked(ctx context.Context, host, id string) error {
	return s.store.OpenQuestion(ctx, host, id)
}

// TakeReply takes a host's answer to a question.
func (s *App) TakeReply(ctx context.Context, host, id string, answer []byte) error {
	err := s.store.AnswerQuestion(ctx, host, id, answer)
	if err == nil {
		s.notifier.wake(answerTo(id))
	}
	return err
}

func (s *App) describeWork(ctx context.Context, work store.Work) (wire.Work, error) {
	out := wire.Work{ID: work.ID, Kind: work.Kind}
	if work.Kind == wire.WorkSnapshot {
		snap, err := s.store.Snapshot(ctx, work.Subject)
		if err != nil {
			return out, err
		}

		out.Roots, out.Whole = wireSnapshot(snap).Roots, snap.Whole
		out.Cross = snap.Crossing
		return out, nil
	}

	run, err := s.store.Run(ctx, work.Subject)
	if err != nil {
		return out, err
	}
	p, err := s.store.Plan(ctx, run.Plan)
	if err != nil {
		return out, err
	}
	reviewers, err := s.approvedBy(ctx, p)
	if err != nil {
		return out, fmt.Errorf("run %s: %w", run.ID, err)
	}

	// A run that began in time may be resumed for a day: halted is worse than finished.
	expires := p.Expires.Add(orderLife - approvalLife)
	host, err := s.store.Host(ctx, work.Host)
	if err != nil {
		return out, err
	}

	order := plan.Order{
		Enrolment:  host.Enrolment,
		Run:        run.ID,
		Digest:     plan.Digest(p.Manifest),
		Host:       work.Host,
		Author:     p.Author,
		ApprovedBy: reviewers,
		Alone:      p.Alone,
		Expires:    expires,
	}

	if string(p.Digest) != string(order.Digest[:]) {
		return out, fmt.Errorf("plan %s is not the one that was approved: its manifest does not fit its digest", p.ID)
	}

	out.Order, out.Signature = order.Sign(s.authority.Orders)
	if err := s.store.KeepOrder(ctx, run.ID, work.Host, out.Order, out.Signature); err != nil {
		return out, err
	}
	out.Succession = s.authority.Succession
	out.Manifest = p.Manifest
	if out.Signed, err = s.signaturesOf(ctx, p.ID); err != nil {
		return out, err
	}
	out.Roster, err = s.lineFor(ctx, host)
	return out, err
}

// OwnWork returns work that a host has.
func (s *App) OwnWork(ctx context.Context, host, id string) (store.Work, error) {
	return s.store.OwnWork(ctx, host, id)
}

// Progress records how far a host has come with its work, and reports whether it is to go on.
func (s *App) Progress(ctx context.Context, work store.Work, in wire.WorkProgress) (out wire.WorkAnswer, err error) {
	if err := s.store.KeepWork(ctx, work.ID); err != nil {
		return out, err
	}

	switch work.Kind {
	case wire.WorkSnapshot:
		wanted, err := s.store.SnapshotProgress(ctx, work.Subject, in.Done)
		return wire.WorkAnswer{Halt: !wanted}, err
	case wire.WorkRun:
		out.Halt, err = s.store.RunProgress(ctx, work.Subject, work.Host, in.Done)
	}
	return out, err
}

// HaveNodes says of each of some nodes whether it is stored.
func (s *App) HaveNodes(ctx context.Context, hashes []tree.Hash) (map[tree.Hash]bool, error) {
	return s.store.Have(ctx, hashes)
}

// PutNodes stores nodes that a host sent, unless it has sent too many today: somebody with its agent's key must not
// be able to fill the disk before unreferenced nodes are removed.
func (s *App) PutNodes(ctx context.Context, host string, nodes [][]byte) error {
	bytes := 0
	for _, n := range nodes {
		bytes += len(n)
	}
	if s.config.PerHost > 0 && bytes > 0 {
		if err := s.takeQuota(ctx, host, int64(bytes)); err != nil {
			return err
		}
	}
	return s.store.PutNodes(ctx, nodes)
}

func (s *App) takeQuota(ctx context.Context, host string, bytes int64) error {
	err := s.store.TakeQuota(ctx, host, bytes, s.config.PerHost)
	if !isConflict(err) {
		return err
	}

	again := time.Until(time.Now().UTC().Truncate(24 * time.Hour).Add(24 * time.Hour))
	s.refused(ctx, store.By{Who: "agent " + host}, "storage refused", host,
		fmt.Sprintf("more than %d MiB in a day", s.config.PerHost>>20))
	return fault.TooMany(fmt.Sprintf(
		"this host has sent %d MiB today, and may send no more before midnight (UTC): see --host-quota of "+
			"idletally serve", s.config.PerHost>>20), again+time.Second)
}

// EndSnapshot stores a snapshot whose nodes were sent before.
func (s *App) EndSnapshot(ctx context.Context, work store.Work, in wire.SnapshotDone) error {
	if err := s.store.KeepSnapshot(ctx, work, in); err != nil {
		return err
	}
	if in.Failed == "" {
		s.engine.Given()
	}
	return nil
}

// A Part of a run is what one host has to do of it.
type Part struct {
	work store.Work
	plan store.Plan
	plan.HostPart
}

// RunPart returns the part of a run that is a host's work.
func (s *App) RunPart(ctx context.Context, host, work string) (x Part, err error) {
	if x.work, err = s.store.OwnWork(ctx, host, work); err != nil {
		return x, err
	}
	run, err := s.store.Run(ctx, x.work.Subject)
	if err != nil {
		return x, err
	}
	if x.plan, err = s.store.Plan(ctx, run.Plan); err != nil {
		return x, err
	}
	m, err := plan.ParseManifest(x.plan.Manifest)
	x.HostPart, _ = m.For(host)
	return x, err
}

// Chunk returns a chunk of a part's steps.
func (s *App) Chunk(ctx context.Context, x Part, n int) ([]byte, error) {
	return s.store.PlanChunk(ctx, x.plan.ID, x.work.Host, n)
}

// KeepOriginals stores what a host found where it is to change something, before it does.
func (s *App) KeepOriginals(ctx context.Context, x Part, n int, chunk []byte) error {
	if err := x.fits(n, chunk); err != nil {
		return err
	}
	return s.store.PutOriginals(ctx, x.work.Subject, x.work.Host, n, chunk)
}

// fits reports whether originals can be of this part: an agent can only speak of the plan's own roots.
func (x Part) fits(n int, chunk []byte) error {
	if n < 0 || n >= len(x.Chunks) {
		return fault.NotFound("no such chunk")
	}
	steps, err := plan.DecodeChunk(chunk)
	if err != nil {
		return fault.Malformed(err.Error())
	}
	within := plan.Within(x.Roots)
	for _, st := range steps {
		if !within(st.Path) {
			return fault.Malformed("an original lies under none of the plan's roots")
		}
	}
	return nil
}

// EndRun takes the outcome of a run on a host.
func (s *App) EndRun(ctx context.Context, x Part, in wire.RunDone) error {
	rows, err := s.resultsOf(ctx, x, in)
	if err != nil {
		return err
	}

	// A last look: a new snapshot shows the result in the whole tree, and its drift. It is asked for before the run
	// is seen to be ended, so that whoever sees that sees what is still to come.
	if in.State == lifecycle.PartFinished {
		last := wire.NewSnapshot{Application: x.plan.Application, Host: x.work.Host}
		if _, err := s.engine.AskSnapshot(ctx, last, "run "+x.work.Subject); err != nil &&
			!errors.Is(err, engine.ErrBad) {
			s.log.Error("snapshot after run", "run", x.work.Subject, "host", x.work.Host, "error", err)
		}
	}
	return s.endPart(ctx, x, in, rows)
}

// resultsOf checks what a host says of how a run ended there.
func (s *App) resultsOf(ctx context.Context, x Part, in wire.RunDone) (rows []store.Result, err error) {
	if in.State != lifecycle.PartFinished && in.State != lifecycle.PartHalted && in.State != lifecycle.PartFailed {
		return nil, fault.Malformed("state: want finished, halted or failed")
	}

	var steps []plan.Step
	chunk := -1
	for _, res := range append(in.Results, in.Wrong...) {
		if n := res.Step / plan.StepsPerChunk; n != chunk {
			if n < 0 || n >= len(x.Chunks) {
				return nil, fault.Malformed("a result speaks of a step that the plan does not have")
			}
			if steps, err = s.verifiedSteps(ctx, x.plan, x.work.Host, n); err != nil {
				return nil, err
			}
			chunk = n
		}

		i := res.Step % plan.StepsPerChunk
		if i < 0 || i >= len(steps) {
			return nil, fault.Malformed("a result speaks of a step that the plan does not have")
		}

		outcome := res.Outcome.String()
		if res.Outcome == plan.Done {
			outcome = "changed again"
		}

		rows = append(rows, store.Result{
			Host:    x.work.Host,
			Step:    res.Step,
			Outcome: outcome,
			Path:    []byte(steps[i].Path),
			Reason:  res.Reason,
		})
	}

	return rows, nil
}

// endPart stores how a run ended on a host, and tells whoever waits for that.
func (s *App) endPart(ctx context.Context, x Part, in wire.RunDone, rows []store.Result) error {
	if in.Roster.Number > 0 {
		if err := s.store.SetHostRoster(ctx, x.work.Host, in.Roster); err != nil {
			return err
		}
	}
	next, err := s.store.EndRunHost(ctx, x.work, in, rows)
	if err != nil {
		return err
	}

	for _, h := range next {
		s.notifier.wake(h)
	}

	s.happen(ctx, store.Happening{Kind: wire.HappenedRun, Host: x.work.Host, Subject: x.work.Subject})
	if run, err := s.store.Run(ctx, x.work.Subject); err == nil && run.State != lifecycle.RunRunning {
		s.tellPlan(ctx, wire.NoticeRun, run.Plan, string(run.State))
	}

	if err := s.store.Audit(ctx, store.By{Who: "agent " + x.work.Host}, "run "+string(in.State), x.work.Subject,
		in.Message); err != nil {
		return err
	}

	s.notifier.wake(x.work.Host)
	return nil
}

// maxCurrent bounds for how many applications an agent says at once that they are unchanged.
const maxCurrent = 200

// watchLists wakes agents when something was published.
const watchLists = "what to watch on "

func watchesOf(host string) string { return watchLists + host }

// NextWatches records how an agent watches, and waits until it has to watch something else; nil if that does not
// change for a while. What is published at another instance is found when the agent asks again.
func (s *App) NextWatches(ctx context.Context, host string, in wire.WatchAsk) (any, error) {
	if err := s.store.SetWatching(ctx, host, in.State); err != nil {
		return nil, err
	}

	now := time.Now()
	for _, c := range in.Current[:min(len(in.Current), maxCurrent)] {
		if err := s.store.SetCurrent(ctx, host, c, now.Add(-wire.Ago(c.Seconds))); err != nil {
			return nil, err
		}
	}

	return s.wait(ctx, watchesOf(host), WaitForWork, func() (any, error) {
		h, err := s.store.Host(ctx, host)
		if err != nil {
			return nil, err
		}
		mark, err := s.engine.WatchMark(ctx, h)
		if err != nil || mark == in.Known {
			return nil, err
		}

		list, err := s.engine.WatchList(ctx, h)
		return wire.WatchList{Version: mark, Applications: list}, err
	})
}

// TakeHeard takes a snapshot that nobody asked for.
func (s *App) TakeHeard(ctx context.Context, host, application string, in wire.Heard) error {
	h, err := s.store.Host(ctx, host)
	if err != nil {
		return err
	}
	return s.engine.TakeHeard(ctx, h, application, in)
}

// CompareHistory compares the end of the history that a host was shown with what is stored now, and returns the
// newest. A host may be hostile: only what this service signed counts.
func (s *App) CompareHistory(ctx context.Context, host string, seen chain.Head) (chain.Head, error) {
	now, err := s.store.Head(ctx)
	if err != nil {
		return now, err
	}

	if seen.Seq > 0 && s.signed(seen) {
		why, err := s.differs(ctx, seen, now)
		if err != nil {
			return now, err
		}
		if why != "" {
			s.witness.Report(fmt.Sprintf("host %s was shown another one: %s", host, why))
		}
	}
	return now, nil
}

// GiveKeys returns by which keys an agent is to know the service, and records by which it does. Issuer is the
// fingerprint of the authority that signed the certificate that it calls by.
func (s *App) GiveKeys(ctx context.Context, h store.Host, issuer string, known wire.KnownKeys) (wire.Keys, error) {
	trusted := ""
	if slices.Contains(known.Authorities, issuer) {
		trusted = issuer
	}

	key := ""
	if slices.ContainsFunc(s.authority.Signers(), func(k ed25519.PublicKey) bool {
		return bytes.Equal(k, known.OrderKey)
	}) {
		key = hex.EncodeToString(known.OrderKey)
	}

	if h.Authority != trusted || h.OrderKey != key {
		if err := s.store.SetKnown(ctx, h.Name, trusted, key); err != nil {
			return wire.Keys{}, err
		}
	}
	return wire.Keys{Authorities: s.authority.PEM, Succession: s.authority.Succession}, nil
}
