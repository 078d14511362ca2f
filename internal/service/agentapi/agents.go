// Package agentapi is the interface for agents, under /agent/v1: JSON, and plain bytes where there are many. Each call
// speaks for the host of its certificate alone.
package agentapi

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/chain"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/service/app"
	"idletally/internal/service/authority"
	"idletally/internal/service/budget"
	"idletally/internal/service/fault"
	"idletally/internal/service/web"
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
	maxHeard     = 240      // snapshots a minute that a host may give unasked
)

const helloPath = "/agent/v1/hello"

// Agents is the interface for agents, under /agent/v1.
type Agents struct{ *web.Edge }

// New serves what agents call on a router: JSON, and plain bytes where there are many.
func New(e *web.Edge, r chi.Router) *Agents {
	s := &Agents{e}
	r.Use(s.Limit(1200, web.KeyByAgent))
	serve := func(
		r chi.Router, method, path string, class budget.Class, who func(*http.Request) string,
		f func(w http.ResponseWriter, r *http.Request) error,
	) {
		s.Route(r, method, path, class, who, func(w http.ResponseWriter, r *http.Request) {
			if err := f(w, r); err != nil {
				s.Plain(w, r, err)
			}
		})
	}

	host := func(r *http.Request) string { return callingHost(r).Name }
	serve(r, "POST", "/agent/v1/enrol", app.Quick, web.Openly, s.enrol)
	r.Group(func(r chi.Router) {
		r.Use(s.agent)
		serve(r, "POST", helloPath, app.Quick, host, s.hello)
		serve(r, "POST", "/agent/v1/certificate", app.Quick, host, s.renew)
		serve(r, "POST", "/agent/v1/history", app.Quick, host, s.compareHistory)
		serve(r, "POST", "/agent/v1/keys", app.Quick, host, s.giveKeys)
		serve(r, "GET", "/agent/v1/work", app.Waiting, host, s.giveWork)
		serve(r, "GET", "/agent/v1/questions", app.Waiting, host, s.giveQuestion)
		serve(r, "POST", "/agent/v1/work/{id}/progress", app.Quick, host, s.progress)
		serve(r, "GET", "/agent/v1/work/{id}/chunks/{n}", app.Quick, host, s.giveChunk)
		serve(r, "POST", "/agent/v1/watches", app.Waiting, host, s.giveWatches)

		serve(r, "POST", "/agent/v1/questions/{id}", app.Sending, host, s.takeReply)
		serve(r, "POST", "/agent/v1/nodes/missing", app.Quick, host, s.missing)
		serve(r, "POST", "/agent/v1/nodes", app.Sending, host, s.takeNodes)
		serve(r, "POST", "/agent/v1/work/{id}/snapshot", app.Sending, host, s.endSnapshot)

		// Nobody asked for these: a stolen certificate must not fill the storage with them.
		few := r.With(s.Limit(maxHeard, web.KeyByAgent))
		serve(few, "POST", "/agent/v1/watches/{application}/snapshot", app.Sending, host, s.takeHeard)
		serve(r, "PUT", "/agent/v1/work/{id}/originals/{n}", app.Sending, host, s.takeOriginals)
		serve(r, "POST", "/agent/v1/work/{id}/run", app.Sending, host, s.endRun)
	})
	return s
}

type hostKey struct{}

// callingHost is the host whose agent calls, as it was stored when the call came.
func callingHost(r *http.Request) app.Host { return r.Context().Value(hostKey{}).(app.Host) }

// serialOf is the number of the certificate that an agent calls by.
func serialOf(r *http.Request) string { return r.TLS.VerifiedChains[0][0].SerialNumber.Text(16) }

// agent lets only enrolled agents in: a certificate of our authority that is the host's newest.
func (s *Agents) agent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.TLS == nil || len(r.TLS.VerifiedChains) == 0 {
			s.Plain(w, r, fault.Unauthorized("agents call with the certificate that enrolling gave them"))
			return
		}

		name := r.TLS.VerifiedChains[0][0].Subject.CommonName
		h, former, err := s.App.HostOf(r.Context(), name, serialOf(r), r.URL.Path == helloPath)
		if former {
			w.Header().Set("Connection", "close") // so that it comes by the newer one, if it has that
		}
		if err != nil {
			s.Plain(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), hostKey{}, h)))
	})
}

// readJSON decodes a body of at most so many bytes.
func readJSON(w http.ResponseWriter, r *http.Request, limit int64, to any) error {
	err := untrusted.ReadJSON(http.MaxBytesReader(w, r.Body, limit),
		untrusted.Bounds{Bytes: limit, Elements: untrusted.MaxElements}, to)
	return badBody(err)
}

// badBody returns what to tell a caller whose body could not be accepted.
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

func readBytes(w http.ResponseWriter, r *http.Request, limit int64) ([]byte, error) {
	b, err := untrusted.ReadAll(http.MaxBytesReader(w, r.Body, limit), limit)
	return b, badBody(err)
}

// answer writes what there is to say; nil says nothing.
func answer(w http.ResponseWriter, v any, err error) error {
	switch {
	case err != nil:
		return err
	case v == nil:
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}

// mayWait lets a call stay open for as long as one may wait.
func mayWait(w http.ResponseWriter) {
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(app.WaitForWork + 20*time.Second))
}

func (s *Agents) enrol(w http.ResponseWriter, r *http.Request) error {
	var in wire.Enrol
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}
	out, err := s.App.Enrol(r.Context(), in)
	return answer(w, out, err)
}

func (s *Agents) renew(w http.ResponseWriter, r *http.Request) error {
	var in wire.Renewal
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}
	out, err := s.App.Renew(r.Context(), callingHost(r), serialOf(r), in)
	return answer(w, out, err)
}

// hello comes first after an agent starts. Agents from before there were greetings say nothing by it.
func (s *Agents) hello(w http.ResponseWriter, r *http.Request) error {
	h := callingHost(r)
	if r.ContentLength == 0 {
		_, err := s.App.Greet(r.Context(), h, wire.Hello{Version: "an earlier one", Protocol: 1, Oldest: 1})
		return answer(w, nil, err)
	}

	var in wire.Hello
	if err := readJSON(w, r, 4<<10, &in); err != nil {
		return err
	}
	out, err := s.App.Greet(r.Context(), h, in)
	return answer(w, out, err)
}

func (s *Agents) giveWork(w http.ResponseWriter, r *http.Request) error {
	defer s.Metrics.AgentWaits()()
	mayWait(w)
	out, err := s.App.NextWork(r.Context(), callingHost(r).Name)
	return answer(w, out, err)
}

func (s *Agents) giveQuestion(w http.ResponseWriter, r *http.Request) error {
	mayWait(w)
	out, err := s.App.NextQuestion(r.Context(), callingHost(r).Name)
	return answer(w, out, err)
}

func (s *Agents) takeReply(w http.ResponseWriter, r *http.Request) error {
	host, id := callingHost(r).Name, chi.URLParam(r, "id")
	if err := s.App.IsAsked(r.Context(), host, id); err != nil {
		return err
	}
	b, err := readBytes(w, r, maxReply)
	if err != nil {
		return err
	}
	return answer(w, nil, s.App.TakeReply(r.Context(), host, id, b))
}

func (s *Agents) ownWork(r *http.Request) (app.Work, error) {
	return s.App.OwnWork(r.Context(), callingHost(r).Name, chi.URLParam(r, "id"))
}

func (s *Agents) progress(w http.ResponseWriter, r *http.Request) error {
	work, err := s.ownWork(r)
	if err != nil {
		return err
	}
	var in wire.WorkProgress
	if err := readJSON(w, r, 4<<10, &in); err != nil {
		return err
	}
	out, err := s.App.Progress(r.Context(), work, in)
	return answer(w, out, err)
}

// missing answers which of some hashes are not stored: one byte each.
func (s *Agents) missing(w http.ResponseWriter, r *http.Request) error {
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
	have, err := s.App.HaveNodes(r.Context(), hashes)
	if err != nil {
		return err
	}

	out := make([]byte, len(hashes))
	for i, h := range hashes {
		if !have[h] {
			out[i] = 1
		}
	}
	return writeBytes(w, out)
}

func writeBytes(w http.ResponseWriter, b []byte) error {
	w.Header().Set("Content-Type", "application/octet-stream")
	_, err := w.Write(b)
	return err
}

// takeNodes stores a pack as it comes, some nodes at a time: what it expands to is never in memory as a whole.
func (s *Agents) takeNodes(w http.ResponseWriter, r *http.Request) error {
	z, err := zstd.NewReader(http.MaxBytesReader(w, r.Body, maxPack), zstd.WithDecoderMaxMemory(maxWindow),
		zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	defer z.Close()

	var nodes [][]byte
	size := 0
	store := func() error {
		if err := s.App.PutNodes(r.Context(), callingHost(r).Name, nodes); err != nil {
			return err
		}
		s.Metrics.NodesReceived(len(nodes))
		nodes, size = nodes[:0], 0
		return nil
	}

	for pack := tree.NewPack(z, maxPackWhole); ; {
		b, err := pack.Next()
		if errors.Is(err, io.EOF) {
			return answer(w, nil, store())
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
}

func (s *Agents) endSnapshot(w http.ResponseWriter, r *http.Request) error {
	work, err := s.ownWork(r)
	if err != nil {
		return err
	}
	var in wire.SnapshotDone
	if err := readJSON(w, r, maxSnapshot, &in); err != nil {
		return err
	}
	return answer(w, nil, s.App.EndSnapshot(r.Context(), work, in))
}

// ownPart returns the calling host's part of a run, and the number of a chunk of it, if the call has one.
func (s *Agents) ownPart(r *http.Request) (x app.Part, n int, err error) {
	if x, err = s.App.RunPart(r.Context(), callingHost(r).Name, chi.URLParam(r, "id")); err != nil {
		return x, 0, err
	}
	if text := chi.URLParam(r, "n"); text != "" {
		if n, err = strconv.Atoi(text); err != nil {
			return x, 0, fault.NotFound("no such chunk")
		}
	}
	return x, n, nil
}

func (s *Agents) giveChunk(w http.ResponseWriter, r *http.Request) error {
	x, n, err := s.ownPart(r)
	if err != nil {
		return err
	}
	b, err := s.App.Chunk(r.Context(), x, n)
	if err != nil {
		return err
	}
	return writeBytes(w, b)
}

func (s *Agents) takeOriginals(w http.ResponseWriter, r *http.Request) error {
	x, n, err := s.ownPart(r)
	if err != nil {
		return err
	}
	b, err := readBytes(w, r, plan.MaxChunk)
	if err != nil {
		return err
	}
	return answer(w, nil, s.App.KeepOriginals(r.Context(), x, n, b))
}

func (s *Agents) endRun(w http.ResponseWriter, r *http.Request) error {
	x, _, err := s.ownPart(r)
	if err != nil {
		return err
	}

	// Each result is an object of three members in a list.
	bounds := untrusted.Bounds{Bytes: maxRunDone, Elements: 100 + 2*x.Steps*4}
	var in wire.RunDone
	if err := badBody(untrusted.ReadJSON(http.MaxBytesReader(w, r.Body, maxRunDone), bounds, &in)); err != nil {
		return err
	}
	return answer(w, nil, s.App.EndRun(r.Context(), x, in))
}

func (s *Agents) giveWatches(w http.ResponseWriter, r *http.Request) error {
	var in wire.WatchAsk
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}
	mayWait(w)
	out, err := s.App.NextWatches(r.Context(), callingHost(r).Name, in)
	return answer(w, out, err)
}

func (s *Agents) takeHeard(w http.ResponseWriter, r *http.Request) error {
	var in wire.Heard
	if err := readJSON(w, r, maxSnapshot, &in); err != nil {
		return err
	}
	return answer(w, nil, s.App.TakeHeard(r.Context(), callingHost(r).Name, chi.URLParam(r, "application"), in))
}

func (s *Agents) compareHistory(w http.ResponseWriter, r *http.Request) error {
	var seen chain.Head
	if err := readJSON(w, r, 4<<10, &seen); err != nil {
		return err
	}
	now, err := s.App.CompareHistory(r.Context(), callingHost(r).Name, seen)
	return answer(w, now, err)
}

func (s *Agents) giveKeys(w http.ResponseWriter, r *http.Request) error {
	var known wire.KnownKeys
	if err := readJSON(w, r, 4<<10, &known); err != nil {
		return err
	}

	issuer := ""
	if chain := r.TLS.VerifiedChains[0]; len(chain) > 1 {
		issuer = authority.Fingerprint(chain[len(chain)-1].Raw)
	}
	out, err := s.App.GiveKeys(r.Context(), callingHost(r), issuer, known)
	return answer(w, out, err)
}
