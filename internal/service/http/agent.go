package http

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/service/auth"
	"idletally/internal/service/desk"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const (
	maxPack      = 16 << 20             // of a pack of nodes, in bytes, compressed
	maxPackWhole = tree.MaxNode + 8<<20 // and unfolded: agents begin another one after 4 MiB
	maxAtOnce    = 4 << 20              // of nodes, that are stored together
	maxNodesOnce = 2000
	maxReply     = 16 << 20 // of an answer about a live host
	maxSnapshot  = 32 << 20 // of what a snapshot comes with
	maxRunDone   = 64 << 20 // of what a run came to
	maxWindow    = 16 << 20 // how far back a compressed pack may refer
	waitForWork  = 25 * time.Second
	askDatabase  = 20 * time.Second // by each call that waits; work whose lease ran out is found so
	pulseEvery   = 200 * time.Millisecond
	maxHeard     = 240 // snapshots a minute that a host may give unasked
)

type hostKey struct{}

// callingHost is the host whose agent calls, as it was stored when the call came.
func callingHost(ctx context.Context) store.Host { return ctx.Value(hostKey{}).(store.Host) }

func agentHost(ctx context.Context) string { return callingHost(ctx).Name }

// agentRoutes are what agents call: JSON, and plain bytes where there are many.
func (s *Server) agentRoutes(r chi.Router) {
	serve := func(
		r chi.Router, method, path string, who func(*http.Request) string,
		f func(w http.ResponseWriter, r *http.Request) error,
	) {
		s.route(r, method, path, who, func(w http.ResponseWriter, r *http.Request) {
			if err := f(w, r); err != nil {
				s.plain(w, r, err)
			}
		})
	}

	host := func(r *http.Request) string { return agentHost(r.Context()) }
	serve(r, "POST", "/agent/v1/enrol", openly, s.enrol)
	r.Group(func(r chi.Router) {
		r.Use(s.agent)
		serve(r, "POST", helloPath, host, s.hello)
		serve(r, "POST", "/agent/v1/certificate", host, s.renew)
		serve(r, "POST", "/agent/v1/history", host, s.compareHistory)
		serve(r, "POST", "/agent/v1/keys", host, s.giveKeys)
		serve(r, "GET", "/agent/v1/work", host, s.giveWork)
		serve(r, "GET", "/agent/v1/questions", host, s.giveQuestion)
		serve(r, "POST", "/agent/v1/work/{id}/progress", host, s.progress)
		serve(r, "GET", "/agent/v1/work/{id}/chunks/{n}", host, s.giveChunk)
		serve(r, "POST", "/agent/v1/watches", host, s.giveWatches)

		serve(r, "POST", "/agent/v1/questions/{id}", host, s.takeReply)
		serve(r, "POST", "/agent/v1/nodes/missing", host, s.missing)
		serve(r, "POST", "/agent/v1/nodes", host, s.takeNodes)
		serve(r, "POST", "/agent/v1/work/{id}/snapshot", host, s.endSnapshot)

		// Nobody asked for these: a stolen certificate must not fill the storage with them.
		serve(r.With(s.limit(maxHeard, keyByAgent)), "POST", "/agent/v1/watches/{application}/snapshot", host,
			s.takeHeard)
		serve(r, "PUT", "/agent/v1/work/{id}/originals/{n}", host, s.takeOriginals)
		serve(r, "POST", "/agent/v1/work/{id}/run", host, s.endRun)
	})
}

// readJSON decodes a body of at most so many bytes.
func readJSON(w http.ResponseWriter, r *http.Request, limit int64, to any) error {
	err := untrusted.ReadJSON(http.MaxBytesReader(w, r.Body, limit),
		untrusted.Bounds{Bytes: limit, Elements: untrusted.MaxElements}, to)
	return badBody(err)
}

// badBody says of a body that could not be taken what the caller is to know.
func badBody(err error) error {
	var large *http.MaxBytesError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &large), errors.Is(err, untrusted.ErrTooMuch):
		return fault.TooLarge("body: " + err.Error())
	}
	return fault.Malformed("body: " + err.Error())
}

func writeJSON(w http.ResponseWriter, v any) error {
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}

func readBytes(w http.ResponseWriter, r *http.Request, limit int64) ([]byte, error) {
	b, err := untrusted.ReadAll(http.MaxBytesReader(w, r.Body, limit), limit)
	return b, badBody(err)
}

func (s *Server) enrol(w http.ResponseWriter, r *http.Request) error {
	var in wire.Enrol
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}

	host, err := s.Store.UseCode(r.Context(), auth.HashToken(strings.TrimSpace(in.Code)), sha256.Sum256(in.Request))
	if isConflict(err) {
		s.refused(r.Context(), store.By{Who: "an agent"}, "enrolment refused", from(r.Context()), "")
		return fault.Forbidden(
			"the enrolment code is wrong, was used before, or has expired: make a new one with idletally host invite")
	}

	if err != nil {
		return err
	}
	says, err := s.holds(r.Context())
	if err != nil {
		return err
	}
	cert, serial, err := s.Authority.Agent(host, in.Request, enrolmentEnd(says, time.Now()))
	if err != nil {
		return fault.Malformed(err.Error())
	}
	enrolment, err := s.Store.SetCertificate(r.Context(), host, s.certified(serial, in.Version, false))
	if err != nil {
		return err
	}
	if err := s.Store.Audit(r.Context(), store.By{Who: "agent " + host}, "host enrolled", host,
		"certificate "+serial); err != nil {
		return err
	}

	return writeJSON(w, wire.Enrolled{
		Host:        host,
		Enrolment:   enrolment,
		Certificate: cert,
		Authority:   s.Authority.PEM,
		OrderKey:    s.OrderKey(),
		Succession:  s.Authority.Succession,
	})
}

// renew returns an agent another certificate before its own ends. The key is the agent's new one.
func (s *Server) renew(w http.ResponseWriter, r *http.Request) error {
	var in wire.Renewal
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}
	says, err := s.holds(r.Context())
	if err != nil {
		return err
	}

	h := callingHost(r.Context())
	host := h.Name
	cert, serial, err := s.Authority.Agent(host, in.Request, enrolmentEnd(says, began(h)))
	if err != nil {
		return fault.Malformed(err.Error())
	}
	if err := s.Store.RenewCertificate(r.Context(), host, r.TLS.VerifiedChains[0][0].SerialNumber.Text(16),
		serial); err != nil {
		return err
	}

	if err := s.Store.Audit(r.Context(), store.By{Who: "agent " + host}, "certificate renewed", host,
		"certificate "+serial); err != nil {
		s.Log.Error("history was not written", "error", err)
	}

	return writeJSON(w, wire.Renewed{Certificate: cert})
}

// agent lets only enrolled agents in: a certificate of our authority that is the host's newest.
func (s *Server) agent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.TLS == nil || len(r.TLS.VerifiedChains) == 0 {
			s.plain(w, r, fault.Unauthorized("agents call with the certificate that enrolling gave them"))
			return
		}

		leaf := r.TLS.VerifiedChains[0][0]
		h, err := s.Store.Host(r.Context(), leaf.Subject.CommonName)
		if err != nil && !isNotFound(err) {
			s.plain(w, r, err)
			return
		}

		serial := leaf.SerialNumber.Text(16)
		if err != nil || h.Certificate != serial && h.Renewed != serial {
			s.refused(r.Context(), store.By{Who: "an agent"}, "certificate refused", leaf.Subject.CommonName,
				"certificate "+serial+" counts no more")
			s.plain(w, r,
				fault.Forbidden("this certificate counts no more: the host was enrolled anew or taken out"))
			return
		}

		if err := wire.Speaks("the agent of "+h.Name, h.Version, h.Protocol, h.Oldest); err != nil &&
			r.URL.Path != helloPath {
			s.plain(w, r, fault.Conflict(err.Error()))
			return
		}

		says, err := s.holds(r.Context())
		if end := enrolmentEnd(says, began(h)); err == nil && !end.IsZero() && time.Now().After(end) {
			err = fault.Forbidden(
				"this enrolment has ended: have the host enrolled anew (idletally host invite)")
		}

		if err == nil {
			err = s.holder(w, r, h, serial)
		}

		if err != nil {
			s.plain(w, r, err)
			return
		}

		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), hostKey{}, h)))
	})
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

// settling is how long an agent may still call by the certificate that it has renewed: what was under way
// ends within it.
const settling = 5 * time.Minute

// holder notices when two hold a host's identity: an agent that has begun to use a certificate goes on with
// it, so that whoever still calls by the one before is another. Which of them is the host's nobody can tell
// here: neither is shut out.
func (s *Server) holder(w http.ResponseWriter, r *http.Request, h store.Host, serial string) error {
	switch {
	case h.Renewed == "":
		return nil
	case serial == h.Renewed && h.RenewedUsed == nil:
		return s.Store.UseRenewed(r.Context(), h.Name, serial)
	case serial == h.Renewed || h.RenewedUsed == nil:
		return nil
	}

	w.Header().Set("Connection", "close") // so that it comes by the newer one, if it has that
	if h.Twice != nil || time.Since(*h.RenewedUsed) < settling {
		return nil
	}

	news, err := s.Store.HeldTwice(r.Context(), h.Name)
	if err == nil && news {
		s.Log.Error("two hold the identity of a host's agent: somebody has its key", "host", h.Name)
		s.write(r.Context(), store.By{Who: "the service"}, "two agents", h.Name,
			"one calls by certificate "+h.Renewed+
				", another by the one that it took the place of: somebody has the agent's key")
	}

	return err
}

const helloPath = "/agent/v1/hello"

// hello comes first after an agent starts: what an earlier life of it held is free again. Agents of before
// there were greetings say nothing by it.
func (s *Server) hello(w http.ResponseWriter, r *http.Request) error {
	in := wire.Hello{Version: "an earlier one", Protocol: 1, Oldest: 1}
	h := callingHost(r.Context())
	silent := r.ContentLength == 0
	if !silent {
		if err := readJSON(w, r, 4<<10, &in); err != nil {
			return err
		}
		in.Version, in.System = oneLine(in.Version), oneLine(in.System)
	}

	if err := s.Store.Greet(r.Context(), h.Name, in); err != nil {
		return err
	}
	if err := wire.Speaks("the agent of "+h.Name, in.Version, in.Protocol, in.Oldest); err != nil {
		return fault.Conflict(err.Error())
	}
	if err := s.Store.ReleaseWork(r.Context(), h.Name); err != nil {
		return err
	}

	if in.Version != h.Version && !silent {
		s.Log.Info("agent", "host", h.Name, "version", in.Version, "before", h.Version)
	}

	if silent {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}

	return writeJSON(w, wire.Greeting{Version: s.Build.Version, Protocol: wire.Protocol, Oldest: wire.OldestProtocol})
}

// wait holds an agent's call until there is something for it, for a while.
func (s *Server) wait(
	w http.ResponseWriter, r *http.Request, key string, every time.Duration, look func() (any, error),
) error {
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(waitForWork + 20*time.Second))

	// Not all that began together, as after a restart, come back together.
	end := time.NewTimer(waitForWork*3/4 + rand.N(waitForWork/2))
	defer end.Stop()
	for {
		poked := s.notifier.wait(key)
		out, err := look()
		if err != nil {
			return err
		}
		if out != nil {
			return writeJSON(w, out)
		}

		select {
		case <-poked:
		case <-time.After(every):
		case <-r.Context().Done():
			return nil
		case <-end.C:
			w.WriteHeader(http.StatusNoContent)
			return nil
		case <-s.Stopping:
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
	}
}

// pollDatabase wakes those that wait here for what came by way of another instance, until the context ends. One
// question to the database serves them all.
func (s *Server) pollDatabase(ctx context.Context) {
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
		s.desk.Round(ctx, wake, func(ctx context.Context) error {
			work, questions, err := s.Store.Due(ctx)
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

func (s *Server) giveWork(w http.ResponseWriter, r *http.Request) error {
	host := agentHost(r.Context())
	s.metrics.waiting.Inc()
	defer s.metrics.waiting.Dec()
	if err := s.Store.Seen(r.Context(), host); err != nil {
		return err
	}
	return s.wait(w, r, host, askDatabase, func() (any, error) {
		work, err := s.Store.ClaimWork(r.Context(), host)
		if err != nil || work == nil {
			return nil, err
		}
		return s.describeWork(r.Context(), *work)
	})
}

// giveQuestion returns an agent what somebody wants to know of its host. It waits apart from work,
// so that questions are answered while a long run goes on.
func (s *Server) giveQuestion(w http.ResponseWriter, r *http.Request) error {
	host := agentHost(r.Context())
	return s.wait(w, r, questionsOf(host), askDatabase, func() (any, error) {
		id, ask, err := s.Store.TakeQuestion(r.Context(), host)
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

func (s *Server) takeReply(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	if err := s.Store.OpenQuestion(r.Context(), agentHost(r.Context()), id); err != nil {
		return err
	}
	b, err := readBytes(w, r, maxReply)
	if err != nil {
		return err
	}
	if err := s.Store.AnswerQuestion(r.Context(), agentHost(r.Context()), id, b); err != nil {
		return err
	}
	s.notifier.wake(answerTo(id))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) describeWork(ctx context.Context, work store.Work) (wire.Work, error) {
	out := wire.Work{ID: work.ID, Kind: work.Kind}
	if work.Kind == wire.WorkSnapshot {
		snap, err := s.Store.Snapshot(ctx, work.Subject)
		if err != nil {
			return out, err
		}

		out.Roots, out.Whole = wireSnapshot(snap).Roots, snap.Whole
		out.Cross = snap.Crossing
		return out, nil
	}

	run, err := s.Store.Run(ctx, work.Subject)
	if err != nil {
		return out, err
	}
	p, err := s.Store.Plan(ctx, run.Plan)
	if err != nil {
		return out, err
	}
	reviewers, err := s.approvedBy(ctx, p)
	if err != nil {
		return out, fmt.Errorf("run %s: %w", run.ID, err)
	}

	// A run that began in time may be resumed for a day: halted is worse than finished.
	expires := p.Expires.Add(orderLife - approvalLife)
	host, err := s.Store.Host(ctx, work.Host)
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
		Expires:    expires,
	}

	if string(p.Digest) != string(order.Digest[:]) {
		return out, fmt.Errorf("plan %s is not the one that was approved: its manifest does not fit its digest", p.ID)
	}

	out.Order, out.Signature = order.Sign(s.Authority.Orders)
	out.Succession = s.Authority.Succession
	out.Manifest = p.Manifest
	return out, nil
}

func (s *Server) ownWork(r *http.Request) (store.Work, error) {
	return s.Store.OwnWork(r.Context(), agentHost(r.Context()), chi.URLParam(r, "id"))
}

func (s *Server) progress(w http.ResponseWriter, r *http.Request) error {
	work, err := s.ownWork(r)
	if err != nil {
		return err
	}
	var in wire.WorkProgress
	if err := readJSON(w, r, 4<<10, &in); err != nil {
		return err
	}
	if err := s.Store.KeepWork(r.Context(), work.ID); err != nil {
		return err
	}

	var out wire.WorkAnswer
	if work.Kind == wire.WorkSnapshot {
		wanted, err := s.Store.SnapshotProgress(r.Context(), work.Subject, in.Done)
		if err != nil {
			return err
		}
		out.Halt = !wanted
	}

	if work.Kind == wire.WorkRun {
		if out.Halt, err = s.Store.RunProgress(r.Context(), work.Subject, work.Host, in.Done); err != nil {
			return err
		}
	}

	return writeJSON(w, out)
}

// missing answers which of some hashes are not stored: one byte each.
func (s *Server) missing(w http.ResponseWriter, r *http.Request) error {
	b, err := readBytes(w, r, 2<<20)
	if err != nil {
		return err
	}
	if len(b)%sha256.Size != 0 {
		return fault.Malformed("body: want hashes of 32 bytes")
	}

	hashes := make([]tree.Hash, len(b)/sha256.Size)
	for i := range hashes {
		copy(hashes[i][:], b[i*sha256.Size:])
	}

	have, err := s.Store.Have(r.Context(), hashes)
	if err != nil {
		return err
	}

	out := make([]byte, len(hashes))
	for i, h := range hashes {
		if !have[h] {
			out[i] = 1
		}
	}

	w.Header().Set("Content-Type", "application/octet-stream")
	_, err = w.Write(out)
	return err
}

func (s *Server) takeNodes(w http.ResponseWriter, r *http.Request) error {
	if err := s.storePack(w, r); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// storePack stores a pack as it comes, some nodes at a time: what it unfolds to never is in memory whole.
func (s *Server) storePack(w http.ResponseWriter, r *http.Request) error {
	z, err := zstd.NewReader(http.MaxBytesReader(w, r.Body, maxPack), zstd.WithDecoderMaxMemory(maxWindow),
		zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	defer z.Close()

	var nodes [][]byte
	size := 0
	store := func() error {
		if err := s.takeQuota(r.Context(), int64(size)); err != nil {
			return err
		}
		if err := s.Store.PutNodes(r.Context(), nodes); err != nil {
			return err
		}

		s.metrics.nodes.Add(float64(len(nodes)))
		nodes, size = nodes[:0], 0
		return nil
	}

	for pack := tree.NewPack(z, maxPackWhole); ; {
		b, err := pack.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return badBody(fmt.Errorf("pack: %w", err))
		}

		nodes = append(nodes, b)
		size += len(b)
		if size >= maxAtOnce || len(nodes) >= maxNodesOnce {
			if err := store(); err != nil {
				return err
			}
		}
	}

	return store()
}

// takeQuota refuses what an agent sends beyond what it may in a day: somebody who has its key is not to fill
// the disk before what leads nowhere is taken away.
func (s *Server) takeQuota(ctx context.Context, bytes int64) error {
	if s.PerHost == 0 || bytes == 0 {
		return nil
	}
	err := s.Store.TakeQuota(ctx, agentHost(ctx), bytes, s.PerHost)
	if isConflict(err) {
		again := time.Until(time.Now().UTC().Truncate(24 * time.Hour).Add(24 * time.Hour))
		s.refused(ctx, store.By{Who: "agent " + agentHost(ctx)}, "storage refused", agentHost(ctx),
			fmt.Sprintf("more than %d MiB in a day", s.PerHost>>20))
		err = fault.TooMany(fmt.Sprintf(
			"this host has sent %d MiB today, and may send no more before midnight (UTC): see --host-quota of "+
				"idletally serve", s.PerHost>>20), again+time.Second)
	}
	return err
}

func (s *Server) endSnapshot(w http.ResponseWriter, r *http.Request) error {
	work, err := s.ownWork(r)
	if err != nil {
		return err
	}
	var in wire.SnapshotDone
	if err := readJSON(w, r, maxSnapshot, &in); err != nil {
		return err
	}
	if err := s.Store.KeepSnapshot(r.Context(), work, in); err != nil {
		return err
	}

	if in.Failed == "" {
		s.desk.Given()
	}

	w.WriteHeader(http.StatusNoContent)
	return nil
}

// A part of a run is what of it one host has to do.
type part struct {
	work store.Work
	plan store.Plan
	plan.HostPart
}

func (s *Server) runPart(ctx context.Context, host, work string) (x part, err error) {
	if x.work, err = s.Store.OwnWork(ctx, host, work); err != nil {
		return x, err
	}
	run, err := s.Store.Run(ctx, x.work.Subject)
	if err != nil {
		return x, err
	}
	if x.plan, err = s.Store.Plan(ctx, run.Plan); err != nil {
		return x, err
	}
	m, err := plan.ParseManifest(x.plan.Manifest)
	x.HostPart, _ = m.For(host)
	return x, err
}

func (s *Server) ownPart(r *http.Request) (part, error) {
	return s.runPart(r.Context(), agentHost(r.Context()), chi.URLParam(r, "id"))
}

func (s *Server) giveChunk(w http.ResponseWriter, r *http.Request) error {
	x, err := s.ownPart(r)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "n"))
	if err != nil {
		return fault.NotFound("no such chunk")
	}
	b, err := s.Store.PlanChunk(r.Context(), x.plan.ID, x.work.Host, n)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, err = w.Write(b)
	return err
}

func (s *Server) takeOriginals(w http.ResponseWriter, r *http.Request) error {
	x, err := s.ownPart(r)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "n"))
	if err != nil {
		return fault.NotFound("no such chunk")
	}

	b, err := readBytes(w, r, plan.MaxChunk)
	if err == nil {
		err = x.fits(n, b)
	}

	if err == nil {
		err = s.Store.PutOriginals(r.Context(), x.work.Subject, x.work.Host, n, b)
	}

	if err != nil {
		return err
	}

	w.WriteHeader(http.StatusNoContent)
	return nil
}

// fits reports whether originals can be of this part: an agent can only speak of the plan's own roots.
func (x part) fits(n int, chunk []byte) error {
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

func (s *Server) endRun(w http.ResponseWriter, r *http.Request) error {
	x, err := s.ownPart(r)
	if err != nil {
		return err
	}

	// Each result is an object of three members in a list.
	bounds := untrusted.Bounds{Bytes: maxRunDone, Elements: 100 + 2*x.Steps*4}
	var in wire.RunDone
	if err := badBody(untrusted.ReadJSON(http.MaxBytesReader(w, r.Body, maxRunDone), bounds, &in)); err != nil {
		return err
	}
	rows, err := s.resultsOf(r.Context(), x, in)
	if err != nil {
		return err
	}

	// A last look: a new snapshot shows the result in the whole tree, and its drift. It is asked for before
	// the run is seen to be ended, so that whoever sees that sees what is still to come.
	if in.State == "finished" {
		if _, err := s.desk.AskSnapshot(r.Context(),
			wire.NewSnapshot{Application: x.plan.Application, Host: x.work.Host}, "run "+x.work.Subject); err != nil &&
			!errors.Is(err, desk.ErrBad) {
			s.Log.Error("snapshot after run", "run", x.work.Subject, "host", x.work.Host, "error", err)
		}
	}

	if err := s.endPart(r.Context(), x, in, rows); err != nil {
		return err
	}

	w.WriteHeader(http.StatusNoContent)
	return nil
}

// resultsOf checks what a host says of how a run ended there.
func (s *Server) resultsOf(ctx context.Context, x part, in wire.RunDone) (rows []store.Result, err error) {
	if in.State != "finished" && in.State != "halted" && in.State != "failed" {
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

// endPart keeps how a run ended on a host, and tells whoever waits for that.
func (s *Server) endPart(ctx context.Context, x part, in wire.RunDone, rows []store.Result) error {
	next, err := s.Store.EndRunHost(ctx, x.work, in, rows)
	if err != nil {
		return err
	}

	for _, h := range next {
		s.notifier.wake(h)
	}

	s.happen(ctx, store.Happening{Kind: wire.HappenedRun, Host: x.work.Host, Subject: x.work.Subject})
	if run, err := s.Store.Run(ctx, x.work.Subject); err == nil && run.State != "running" {
		s.tellPlan(ctx, wire.NoticeRun, run.Plan, run.State)
	}

	if err := s.Store.Audit(ctx, store.By{Who: "agent " + x.work.Host}, "run "+in.State, x.work.Subject,
		in.Message); err != nil {
		return err
	}

	s.notifier.wake(x.work.Host)
	return nil
}
