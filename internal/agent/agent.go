//go:build linux

// Package agent is the loop on a host: enrol, wait for work, do it, report. It calls out; no
// port is open on the host.
package agent

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	mathrand "math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/host/change"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/host/scan"
	"idletally/internal/wire"
)

// Settings are what an agent keeps in its folder. They are the host's own: no service can
// change the list of roots.
type Settings struct {
	Service     string   `json:"service"`
	Host        string   `json:"host"`
	Roots       []string `json:"roots"` // escaped; outside of these it neither looks nor changes
	Authority   []byte   `json:"authority"`
	Certificate []byte   `json:"certificate"`
	Key         []byte   `json:"key"`
	OrderKey    []byte   `json:"order_key"` // pinned at enrolment
}

const settingsFile = "agent.json"

// Enrol trades a one-time code for a certificate and keeps what the agent needs.
func Enrol(ctx context.Context, folder, service string, authority []byte, code, version string, roots []string) (string, error) {
	for _, r := range roots {
		if err := pathname.Check(r); err != nil {
			return "", err
		}
	}
	if len(roots) == 0 {
		return "", errors.New("say with --root below which folders this host lets the agent work")
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	if err != nil {
		return "", err
	}
	c, err := client.NewAgent(service, authority, nil)
	if err != nil {
		return "", err
	}
	got, err := c.Enrol(ctx, wire.Enrol{Code: code, Request: request, Version: version})
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	s := Settings{Service: service, Host: got.Host, Authority: got.Authority, Certificate: got.Certificate,
		Key: pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), OrderKey: got.OrderKey}
	for _, r := range roots {
		s.Roots = append(s.Roots, pathname.Escape(r))
	}
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fmt.Errorf("agent's folder: %w", err)
	}
	return got.Host, os.WriteFile(filepath.Join(folder, settingsFile), b, 0o600)
}

// Load reads an agent's settings.
func Load(folder string) (Settings, error) {
	var s Settings
	b, err := os.ReadFile(filepath.Join(folder, settingsFile))
	if errors.Is(err, os.ErrNotExist) {
		return s, fmt.Errorf("this agent is not enrolled: there is no %s in %s: run idletally agent enrol", settingsFile, folder)
	}
	if err == nil {
		err = json.Unmarshal(b, &s)
	}
	return s, err
}

// An Agent works for one host.
type Agent struct {
	Folder string
	Log    *slog.Logger
	Settings
	Gentle   *scan.Gentle // how scans keep out of the way; nil: not at all
	api      *client.Agent
	roots    []string
	accounts identity.Recent
}

// New makes an agent from its folder.
func New(folder string, log *slog.Logger) (*Agent, error) {
	s, err := Load(folder)
	if err != nil {
		return nil, err
	}
	cert, err := tls.X509KeyPair(s.Certificate, s.Key)
	if err != nil {
		return nil, fmt.Errorf("agent's certificate: %w", err)
	}
	a := &Agent{Folder: folder, Log: log, Settings: s}
	for _, r := range s.Roots {
		raw, err := pathname.Unescape(r)
		if err != nil {
			return nil, err
		}
		a.roots = append(a.roots, raw)
	}
	a.api, err = client.NewAgent(s.Service, s.Authority, &cert)
	return a, err
}

// Run works, and answers questions, until the context ends.
func (a *Agent) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { cancel(a.listen(ctx)) }) // where one of the two ends, the other has no reason to go on
	hello := false
	err := a.repeat(ctx, "work", func() error {
		if !hello {
			if err := a.api.Hello(ctx); err != nil {
				return err
			}
			hello = true
		}
		work, err := a.api.Work(ctx)
		if err != nil || work == nil {
			return err
		}
		return a.do(ctx, work)
	})
	cancel(err)
	wg.Wait()
	return context.Cause(ctx)
}

// repeat does something again and again. Where the service does not answer it waits longer and
// longer, with jitter, up to half a minute.
func (a *Agent) repeat(ctx context.Context, what string, once func() error) error {
	fails := 0
	for ctx.Err() == nil {
		err := once()
		if err == nil {
			fails = 0
			continue
		}
		if ctx.Err() != nil {
			break
		}
		if client.Status(err) == http.StatusForbidden {
			return err // the certificate counts no more: only a person can help
		}
		fails++
		pause := time.Duration(mathrand.Int64N(int64(min(30*time.Second, 200*time.Millisecond<<min(fails, 8)))))
		a.Log.Warn("will try again", "what", what, "error", err, "pause", pause.Round(time.Millisecond))
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
	return ctx.Err()
}

func (a *Agent) do(ctx context.Context, w *wire.Work) error {
	a.Log.Info("work", "id", w.ID, "kind", w.Kind)
	var done, total atomic.Int64
	var halt atomic.Bool
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	// A run that was halted before anybody began it is not begun.
	answer, err := a.api.Progress(ctx, w.ID, wire.WorkProgress{})
	if err != nil {
		return err
	}
	halt.Store(answer.Halt)
	if w.Kind == wire.WorkSnapshot {
		if halt.Load() {
			return nil // nobody wants it any more
		}
		go a.keep(ctx, w.ID, &done, &total, &halt, cancel)
		err := a.snapshot(ctx, w, &done)
		if halt.Load() {
			a.Log.Info("snapshot cancelled", "work", w.ID)
			return nil
		}
		return err
	}
	go a.keep(ctx, w.ID, &done, &total, &halt, func() {})
	switch w.Kind {
	case wire.WorkRun:
		return a.run(ctx, w, &done, &total, &halt)
	}
	return fmt.Errorf("the service asks for work of the unknown kind %q: is this agent older than the service?", w.Kind)
}

// keep renews the lease and shows progress while work goes on.
func (a *Agent) keep(ctx context.Context, work string, done, total *atomic.Int64, halt *atomic.Bool, halted func()) {
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	last, since := int64(-1), time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		n := done.Load()
		if n == last && time.Since(since) < 5*time.Second {
			continue
		}
		last, since = n, time.Now()
		answer, err := a.api.Progress(ctx, work, wire.WorkProgress{Done: int(n), Total: int(total.Load())})
		if err != nil {
			a.Log.Debug("progress was not told", "error", err)
			continue
		}
		if answer.Halt {
			halt.Store(true)
			halted()
		}
	}
}

// allowed takes the roots that this host's own list does not hold out.
func (a *Agent) allowed(roots []string) (in []string, denied []wire.Denied, err error) {
	for _, r := range roots {
		raw, err := pathname.Unescape(r)
		if err != nil {
			return nil, nil, err
		}
		if slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(raw, own) }) {
			in = append(in, raw)
		} else {
			denied = append(denied, wire.Denied{Path: r, Reason: "this host's own list of roots does not hold it"})
		}
	}
	return in, denied, nil
}

func (a *Agent) snapshot(ctx context.Context, w *wire.Work, done *atomic.Int64) error {
	fail := func(format string, args ...any) error {
		return a.api.SnapshotDone(ctx, w.ID, wire.SnapshotDone{Failed: fmt.Sprintf(format, args...)})
	}
	roots, denied, err := a.allowed(w.Roots)
	if err != nil {
		return fail("roots: %v", err)
	}
	if len(denied) > 0 {
		return fail("%s: %s: add it with idletally agent enrol --root", denied[0].Path, denied[0].Reason)
	}
	dir, err := identity.Read(ctx)
	if err != nil {
		return fail("%v", err)
	}
	found, err := a.look(ctx, w, roots, done)
	if errors.Is(err, scan.ErrNotSpooled) {
		// The service has lost what it had when the last scan was kept, or it is another service.
		a.Log.Warn("the service lacks folders that have not changed: everything is read again", "error", err)
		w.Whole = true
		found, err = a.look(ctx, w, roots, done)
	}
	switch {
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errScan):
		return fail("%v", err)
	case err != nil:
		return err
	}
	defer found.past.Close()
	forest, stats := found.forest, found.stats
	d := wire.SnapshotDone{Forest: forest, Directory: dir, Paths: stats.Paths, Gaps: stats.Gaps}
	for _, r := range roots {
		// Where a root went away meanwhile its gap says so.
		if f, err := look.Path(r); err == nil && string(f.Seen.Path) == r {
			d.Ways = append(d.Ways, f.Way)
		}
	}
	for _, x := range stats.Denied {
		d.Denied = append(d.Denied, wire.Denied{Path: x.Path.String(), Reason: x.Reason})
	}
	if err := a.api.SnapshotDone(ctx, w.ID, d); err != nil {
		return err
	}
	if err := stats.Remember(found.past); err != nil { // the next scan reads everything
		a.Log.Warn("what the scan found is not kept", "error", err)
	}
	return nil
}

// looked is what a scan found, all of it with the service.
type looked struct {
	forest tree.Hash
	stats  scan.Stats
	past   *scan.Past
}

var errScan = errors.New("scan")

// wholeEvery is how often everything is read, whatever the past says.
const wholeEvery = 24 * time.Hour

// look scans, reading again what can have changed, and sends what the service lacks.
func (a *Agent) look(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) (out looked, err error) {
	spool, err := scan.NewSpool(a.Folder)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	defer spool.Close()
	if out.past, err = a.past(roots, w.Whole); err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	defer func() {
		if err != nil {
			out.past.Close()
		}
	}()
	start := time.Now()
	out.forest, out.stats, err = scan.Scan(ctx, roots, scan.Options{Past: out.past, Gentle: a.Gentle, Progress: func(s scan.Stats) { done.Store(s.Paths) }}, spool)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	scanned := time.Since(start)
	sent, err := a.send(ctx, spool, out.forest)
	if err != nil {
		return out, err
	}
	a.Log.Info("snapshot", "paths", out.stats.Paths, "kept", out.stats.Kept, "gaps", out.stats.Gaps, "nodes", len(spool.Order()), "bytes_sent", sent,
		"scanned", scanned.Round(time.Millisecond), "took", time.Since(start).Round(time.Millisecond))
	return out, nil
}

// past opens what the last scan of some roots found.
func (a *Agent) past(roots []string, whole bool) (*scan.Past, error) {
	folder := filepath.Join(a.Folder, "past")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	names, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, n := range names { // of roots that nobody asks for any more
		if st, err := n.Info(); err == nil && time.Since(st.ModTime()) > 30*24*time.Hour {
			if err := scan.Forget(filepath.Join(folder, n.Name())); err != nil {
				return nil, err
			}
		}
	}
	name := sha256.Sum256([]byte(strings.Join(roots, "\x00")))
	file := filepath.Join(folder, hex.EncodeToString(name[:12]))
	p, err := scan.OpenPast(file, whole)
	if err == nil && !p.Whole() && time.Since(p.Full()) > wholeEvery {
		p.Close()
		return scan.OpenPast(file, true)
	}
	return p, err
}

const (
	askAtOnce = 10_000
	packSize  = 4 << 20
)

// send asks from the root downwards which nodes the service lacks, and sends those, children
// before parents. A node that it has stands for everything below.
func (a *Agent) send(ctx context.Context, spool *scan.Spool, forest tree.Hash) (int, error) {
	lacking := map[tree.Hash]bool{}
	for frontier := []tree.Hash{forest}; len(frontier) > 0; {
		var next []tree.Hash
		for ask := range slices.Chunk(frontier, askAtOnce) {
			missing, err := a.api.Missing(ctx, ask)
			if err != nil {
				return 0, err
			}
			for i, h := range ask {
				if !missing[i] || lacking[h] {
					continue
				}
				lacking[h] = true
				nodes, err := tree.Load(ctx, spool, h)
				if err != nil {
					return 0, err
				}
				next = append(next, nodes[0].Children()...)
			}
		}
		slices.SortFunc(next, func(x, y tree.Hash) int { return slices.Compare(x[:], y[:]) })
		frontier = slices.Compact(next)
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, err
	}
	sent := 0
	var pack []byte
	flush := func() error {
		if len(pack) == 0 {
			return nil
		}
		body := z.EncodeAll(pack, nil)
		sent += len(body)
		pack = pack[:0]
		return a.api.SendNodes(ctx, body)
	}
	for _, h := range spool.Order() {
		if !lacking[h] {
			continue
		}
		raw, err := spool.Nodes(ctx, []tree.Hash{h})
		if err != nil {
			return sent, err
		}
		pack = tree.AppendPack(pack, raw[0])
		if len(pack) >= packSize {
			if err := flush(); err != nil {
				return sent, err
			}
		}
	}
	return sent, flush()
}

// stored is a run's chunks in its folder, so that a run can go on without the service.
type stored struct {
	folder string
	part   plan.HostPart
	n      int
	last   []plan.Step
}

func (s *stored) Count() int { return len(s.part.Chunks) }

func (s *stored) file(n int) string { return filepath.Join(s.folder, fmt.Sprintf("chunk-%06d", n)) }

func (s *stored) Steps(n int) ([]plan.Step, error) {
	if s.last != nil && s.n == n {
		return s.last, nil
	}
	b, err := os.ReadFile(s.file(n))
	if err != nil {
		return nil, err
	}
	steps, err := plan.CheckChunk(b, s.part.Chunks[n], s.part.Roots)
	if err == nil {
		s.n, s.last = n, steps
	}
	return steps, err
}

var runID = regexp.MustCompile(`^[0-9a-z]{16}$`)

func (a *Agent) run(ctx context.Context, w *wire.Work, done, total *atomic.Int64, halt *atomic.Bool) error {
	fail := func(format string, args ...any) error {
		msg := fmt.Sprintf(format, args...)
		a.Log.Error("run failed", "work", w.ID, "reason", msg)
		return a.api.RunDone(ctx, w.ID, wire.RunDone{State: "failed", Message: msg})
	}
	order, part, err := plan.Verify(a.OrderKey, w.Order, w.Signature, w.Manifest, a.Host, time.Now())
	if err != nil {
		return fail("%v", err)
	}
	if !runID.MatchString(order.Run) { // it becomes the name of a folder
		return fail("order refused: run %q has an impossible name", order.Run)
	}
	folder := filepath.Join(a.Folder, "runs", order.Run)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fail("run's folder: %v", err)
	}
	chunks := &stored{folder: folder, part: part}
	for n, h := range part.Chunks {
		if _, err := chunks.Steps(n); err == nil {
			continue
		}
		b, err := a.api.Chunk(ctx, w.ID, n)
		if err != nil {
			return err
		}
		if _, err := plan.CheckChunk(b, h, part.Roots); err != nil {
			return fail("%v", err)
		}
		if err := os.WriteFile(chunks.file(n), b, 0o600); err != nil {
			return fail("keep the plan: %v: free some space and resume the run", err)
		}
	}
	j, err := change.OpenJournal(filepath.Join(folder, "journal"), change.Head{Run: order.Run, Digest: order.Digest.String(), Host: a.Host, Steps: part.Steps})
	if err != nil {
		return fail("%v", err)
	}
	defer j.Close()
	total.Store(int64(part.Steps))
	r := &change.Runner{Journal: j, Roots: raws(part.Roots), Allowed: a.roots, Chunks: chunks,
		Progress: func(n, _ int) { done.Store(int64(n)) }, Halt: halt.Load}
	end := wire.RunDone{State: "finished"}
	if err := r.Run(ctx); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		end.State, end.Message = "failed", err.Error()
		if errors.Is(err, change.ErrHalted) {
			end.State = "halted"
		}
	}
	if end.State == "finished" {
		if end.Wrong, err = r.Verify(ctx); err != nil {
			return err
		}
	}
	if err := a.sendOriginals(ctx, w.ID, j, chunks); err != nil {
		return err
	}
	for _, res := range j.Results() {
		switch res.Outcome {
		case plan.Done:
			end.Done++
		case plan.Pending:
		default:
			end.Results = append(end.Results, res)
		}
	}
	a.Log.Info("run", "run", order.Run, "state", end.State, "done", end.Done, "other", len(end.Results), "message", end.Message)
	return a.api.RunDone(ctx, w.ID, end)
}

func raws(escaped []string) []string {
	var out []string
	for _, r := range escaped {
		if raw, err := pathname.Unescape(r); err == nil {
			out = append(out, raw)
		}
	}
	return out
}

// sendOriginals stores what was found before each change, chunk by chunk, in the database.
func (a *Agent) sendOriginals(ctx context.Context, work string, j *change.Journal, chunks *stored) error {
	base := 0
	results := j.Results()
	for n := range chunks.Count() {
		steps, err := chunks.Steps(n)
		if err != nil {
			return err
		}
		var originals []plan.Step
		for i, s := range steps {
			o, ok := j.Original(base + i)
			left := s.After
			if results[base+i].Outcome != plan.Done { // a run that was halted leaves paths narrowed
				ok = ok && j.Narrowed(base+i)
				if left, err = perm.Narrow(s.Kind, s.Before, s.After); err != nil {
					return err
				}
			}
			if ok {
				originals = append(originals, plan.Step{Path: s.Path, Kind: s.Kind, Before: o, After: left})
			}
		}
		if err := a.api.SendOriginals(ctx, work, n, plan.EncodeChunk(originals)); err != nil {
			return err
		}
		base += len(steps)
	}
	return nil
}
