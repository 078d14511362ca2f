// Package agent is the loop on a host: enrol, wait for work, do it, report. It calls the service; no port is open on
// the host.
package agent

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
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
	"sync"
	"sync/atomic"
	"time"

	"idletally/internal/atomicfile"
	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/private"
	"idletally/internal/wire"
)

// Settings are what an agent keeps in its folder. They belong to the host: no service can change the list of roots.
type Settings struct {
	Service     string   `json:"service"`
	Host        string   `json:"host"`
	Roots       []string `json:"roots"` // escaped; outside of these it neither looks nor changes
	Authority   []byte   `json:"authority"`
	Certificate []byte   `json:"certificate,omitempty"`
	Key         []byte   `json:"key,omitempty"`
	OrderKey    []byte   `json:"order_key,omitempty"` // pinned at enrolment
	Enrolment   string   `json:"enrolment,omitempty"` // orders of another one are not carried out
	LookOnly    bool     `json:"look_only,omitempty"` // changes nothing, whoever signs what
	Roster      string   `json:"roster,omitempty"`    // fingerprint of the one that was pinned, and is in its own file

	Server *FileServer `json:"server,omitempty"` // instead of the host itself
	// The agent is on the host with its own settings; this says who carries its calls to the service.
	Remote *Remote `json:"remote,omitempty"`
}

// SettingsFile is the name of the settings in an agent's folder.
const SettingsFile = "agent.json"

// A Joining is how a host joins a service: first a request, which is taken to the service, and then what comes back,
// which makes an agent.
type Joining struct {
	Folder    string // the agent's own
	Service   string
	Authority []byte
	Roots     []string
	Server    *FileServer // instead of the host itself
	Once      bool        // a host that is enrolled stays as it is
	key       []byte
}

// Request makes a key, and the request for its certificate.
func (j *Joining) Request(ctx context.Context) (request []byte, err error) {
	for _, r := range j.Roots {
		if err := pathname.Check(r); err != nil {
			return nil, err
		}
	}

	if len(j.Roots) == 0 {
		return nil, errors.New("say with --root below which folders this host lets the agent work")
	}
	if err := alone(j.Folder); err != nil {
		return nil, err
	}

	if j.Server != nil { // who cannot sign in there learns it now
		s, err := j.Server.dial(ctx)
		if err != nil {
			return nil, err
		}
		err = offers(ctx, s, j.Roots)
		if err := errors.Join(err, s.Close()); err != nil {
			return nil, err
		}

		if j.Server.LDAP != nil {
			if _, err := j.Server.LDAP.Accounts(ctx); err != nil {
				return nil, err
			}
		}
	}

	j.key, request, err = newKey()
	return request, err
}

// Accept stores what the service answered, and with it all that an agent needs.
func (j *Joining) Accept(got wire.Enrolled) error {
	if _, err := tls.X509KeyPair(got.Certificate, j.key); err != nil {
		return fmt.Errorf("the service sent a certificate for another key: %w", err)
	}

	s := Settings{
		Service:     j.Service,
		Host:        got.Host,
		Enrolment:   got.Enrolment,
		Authority:   got.Authority,
		Certificate: got.Certificate,
		Key:         j.key,
		OrderKey:    got.OrderKey,
		Server:      j.Server,
		Roots:       pathname.EscapeAll(j.Roots),
	}

	if err := prepare(j.Folder); err != nil {
		return err
	}
	if before, err := Load(j.Folder); err == nil { // whoever enrols it anew does not undo what was pinned
		s.Roster = before.Roster
	}

	if j.Server != nil {
		if err := j.Server.seal(j.Folder); err != nil {
			return err
		}
	}

	if j.Once {
		return s.saveFirst(j.Folder)
	}

	return s.save(j.Folder)
}

// Enrol exchanges a one-time code for a certificate and stores what the agent needs.
func Enrol(ctx context.Context, j Joining, code, version string) (host string, err error) {
	request, err := j.Request(ctx)
	if err != nil {
		return "", err
	}
	got, err := trade(ctx, j.Service, j.Authority, wire.Enrol{Code: code, Request: request, Version: version})
	if err != nil {
		return "", err
	}
	return got.Host, j.Accept(got)
}

// trade has a service enrol the host.
func trade(ctx context.Context, service string, authority []byte, ask wire.Enrol) (got wire.Enrolled, err error) {
	c, err := client.NewAgent(service, authority, nil)
	if err != nil {
		return got, err
	}
	return c.Enrol(ctx, ask)
}

// newKey makes a key, and the request for its certificate.
func newKey() (key, request []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, nil, err
	}
	request, err = x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, k)
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), request, err
}

// Renew gets a certificate for a new key to replace the present one, which stays valid until it expires: whatever is
// lost on the way, one of the two is here.
func (a *Agent) Renew(ctx context.Context) error {
	a.renewal.Lock() // the service counts on one at a time
	defer a.renewal.Unlock()

	key, request, err := newKey()
	if err != nil {
		return err
	}
	pem, err := a.api.Renew(ctx, request)
	if err != nil {
		return err
	}
	cert, err := tls.X509KeyPair(pem, key)
	if err != nil {
		return fmt.Errorf("the service sent a certificate for another key: %w", err)
	}
	if err := a.amend(func(s *Settings) { s.Certificate, s.Key = pem, key }); err != nil {
		return err
	}

	a.api.Use(&cert)
	a.cert.Store(&cert)
	return nil
}

// renewing is how often an agent checks whether its certificate is to be renewed, which is when a third of its life
// is over.
const renewing = time.Hour

// keepCertificate renews the certificate in good time, until the context ends.
func (a *Agent) keepCertificate(ctx context.Context) error {
	return a.repeat(ctx, "certificate", func() error {
		leaf := a.cert.Load().Leaf
		if life := leaf.NotAfter.Sub(leaf.NotBefore); time.Until(leaf.NotAfter) < life*2/3 {
			if err := a.Renew(ctx); err != nil {
				return fmt.Errorf("the certificate ends %s: %w", leaf.NotAfter.Format(time.DateOnly), err)
			}
			a.Log.Info("certificate renewed", "until", a.cert.Load().Leaf.NotAfter)
		}
		select {
		case <-ctx.Done():
		case <-time.After(renewing/2 + mathrand.N(renewing)):
		}
		return nil
	})
}

// save writes the settings, all of them or nothing.
func (s *Settings) save(folder string) error { return s.put(folder, atomicfile.Write) }

// saveFirst writes the settings where there are none.
func (s *Settings) saveFirst(folder string) error {
	err := s.put(folder, atomicfile.Create)
	if errors.Is(err, os.ErrExist) {
		return alreadyEnrolled(folder)
	}
	return err
}

func (s *Settings) put(folder string, place func(name string, content []byte) error) error {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return place(filepath.Join(folder, SettingsFile), b)
}

func alreadyEnrolled(folder string) error {
	return fmt.Errorf("it is enrolled already: to enrol it anew, take %s away there first",
		pathname.Escape(filepath.ToSlash(filepath.Join(folder, SettingsFile))))
}

// ErrNotEnrolled says that a folder holds no agent.
var ErrNotEnrolled = errors.New("this agent is not enrolled")

// Load reads an agent's settings.
func Load(folder string) (Settings, error) {
	var s Settings
	if err := alone(folder); err != nil {
		return s, err
	}

	b, err := os.ReadFile(filepath.Join(folder, SettingsFile))
	if errors.Is(err, os.ErrNotExist) {
		return s, fmt.Errorf("%w: there is no %s in %s: run idletally agent enrol", ErrNotEnrolled, SettingsFile,
			folder)
	}

	if err == nil {
		err = json.Unmarshal(b, &s)
	}

	if err == nil && s.Server != nil {
		err = s.Server.unseal(folder)
	}

	if err == nil && s.Remote != nil {
		err = s.Remote.unseal(folder)
	}

	return s, err
}

// An Agent works for one host.
type Agent struct {
	Folder  string
	Log     *slog.Logger
	Version string // of this program
	Settings
	Deaf bool // does not listen to the kernel: what changes is found by snapshots that are asked for
	remembered
	api   *client.Agent
	roots []string
	state watchState
	host  host
	cert  atomic.Pointer[tls.Certificate]

	greeted  chan struct{} // when the service has answered anew
	keys     sync.Mutex    // of Authority and OrderKey, which others may take the place of
	settings sync.Mutex    // of their file
	health   health
	renewal  sync.Mutex
}

// A host is what an agent works for: the system that it runs on, or a file server near it. How it reads and changes
// permissions depends on the kind.
type host interface {
	// snapshot carries out work: a snapshot of all that is below some roots.
	snapshot(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) error
	// answer answers a question about a path that may be shown.
	answer(ctx context.Context, q wire.Question) (wire.Reply, error)
	// fileSystem is how a run gets at its paths, until hangUp.
	fileSystem(ctx context.Context) (r change.FileSystem, hangUp func(), err error)
	// unwatchable says why changes cannot be watched; "" if they can.
	unwatchable() string
	// watch follows changes until the context ends.
	watch(ctx context.Context, list []wire.WatchedPlace)
	// spelled returns a path as the host's roots spell it, where another spelling is the same to the host.
	spelled(path string) string
	// top reports whether / itself is shown: what is in it then depends on the roots.
	top() bool
}

func hostOf(a *Agent) host {
	if s := a.Server; s != nil {
		return &descriptors{a: a, dial: s.dial}
	}
	return ownHost(a)
}

// New makes an agent from its folder.
func New(folder string, log *slog.Logger) (*Agent, error) {
	s, err := Load(folder)
	if err != nil {
		return nil, err
	}
	if s.Remote != nil {
		return nil, fmt.Errorf("%s is of a host that is reached over SSH: its agent is there", folder)
	}
	cert, err := tls.X509KeyPair(s.Certificate, s.Key)
	if err != nil {
		return nil, fmt.Errorf("agent's certificate: %w", err)
	}

	a := &Agent{Folder: folder, Log: log, Settings: s, greeted: make(chan struct{}, 1)}
	for _, r := range s.Roots {
		raw, err := pathname.Unescape(r)
		if err != nil {
			return nil, err
		}
		a.roots = append(a.roots, raw)
	}

	a.host = hostOf(a)
	a.cert.Store(&cert)
	if s.Service == "" { // nothing leads there: what it does is carried
		return a, nil
	}

	a.api, err = client.NewAgent(s.Service, s.Authority, &cert)
	return a, err
}

// Run works, and answers questions, until the context ends.
func (a *Agent) Run(ctx context.Context) error {
	if a.api == nil {
		return errors.New("this host has no way to its service: carry orders here, for idletally agent carry")
	}
	free, err := lock(a.Folder)
	if err != nil {
		return err
	}
	defer free()

	ctx, cancel := context.WithCancelCause(ctx)
	var wg sync.WaitGroup

	// When one of them ends, the others have no reason to go on.
	wg.Go(func() { cancel(a.listen(ctx)) })
	wg.Go(func() { cancel(a.watch(ctx)) })
	wg.Go(func() { cancel(a.keepCertificate(ctx)) })
	wg.Go(func() { cancel(a.keepTrust(ctx)) })
	wg.Go(func() { cancel(a.inform(ctx)) })
	hello, before := false, false
	err = a.call(ctx, "work", func() error {
		if !hello {
			if err := a.hello(ctx); err != nil {
				return err
			}

			hello = true
			if before {
				a.greet()
			}

			before = true
		}

		work, err := a.api.Work(ctx)
		if err == nil && work != nil {
			err = a.do(ctx, work)
		}

		hello = err == nil // what was given and lost on its way, or not brought to its end, is asked for again at once
		return err
	})

	cancel(err)
	wg.Wait()
	return context.Cause(ctx)
}

// started is when this program did.
var started = time.Now()

// hello tells the service what runs here, and learns whether the two can work together. If they cannot, it tries
// again and again: either may be upgraded soon.
func (a *Agent) hello(ctx context.Context) error {
	name, up := system()
	g, err := a.api.Hello(ctx, wire.Hello{
		Version:  a.Version,
		Protocol: wire.Protocol,
		Oldest:   wire.OldestProtocol,
		System:   name,
		Up:       int64(up / time.Second),
		Runs:     int64(time.Since(started) / time.Second),
		Roster:   a.rosterPoint(),
	})
	if err != nil {
		return err
	}
	return wire.Speaks("the service", g.Version, g.Protocol, g.Oldest)
}

// call is repeat for requests to the service, and records how they go.
func (a *Agent) call(ctx context.Context, what string, once func() error) error {
	return a.repeat(ctx, what, func() error {
		err := once()
		if ctx.Err() == nil {
			a.health.note(what, err)
		}
		return err
	})
}

// repeat does something again and again. While the service does not answer, it waits longer and longer, with jitter,
// up to half a minute.
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

	now := WorkNow{ID: w.ID, Kind: w.Kind, Since: time.Now()}
	a.health.begin(func() WorkNow {
		now.Done, now.Total = done.Load(), total.Load()
		return now
	})
	defer a.health.begin(nil)

	// A run that was halted before anybody began it is not begun.
	answer, err := a.api.Progress(ctx, w.ID, wire.WorkProgress{})
	if err != nil {
		return err
	}

	halt.Store(answer.Halt)
	switch w.Kind {
	case wire.WorkSnapshot:
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
	case wire.WorkRun:
		go a.keep(ctx, w.ID, &done, &total, &halt, func() {})
		return a.run(ctx, a.api, w, &done, &total, &halt)
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

// runSink is where a run's chunks come from, and where its results go: the service, or files that are carried.
type runSink interface {
	Chunk(ctx context.Context, work string, n int) ([]byte, error)
	SendOriginals(ctx context.Context, work string, n int, chunk []byte) error
	RunDone(ctx context.Context, work string, d wire.RunDone) error
}

// An accepted order is one that this host carries out.
type accepted struct {
	order  plan.Order
	part   plan.HostPart
	plan   plan.Manifest
	folder string // of the run
	// Each step has to lead to what this host itself found.
	ownOriginals bool
}

// accept returns the order of a run, or why this host does not carry it out: by the key that signs orders, by its own
// settings, by what its roster's people have signed, and because each order counts once.
func (a *Agent) accept(w *wire.Work, now time.Time) (got accepted, err error) {
	if _, err := a.believe(nil, w.Succession); err != nil {
		return got, fmt.Errorf("order refused: %w", err)
	}
	if got.order, got.part, err = plan.Verify(a.orderKey(), w.Order, w.Signature, w.Manifest, a.Host, now); err != nil {
		return got, err
	}
	if got.plan, err = plan.ParseManifest(w.Manifest); err != nil {
		return got, err
	}

	switch {
	case a.LookOnly:
		return got, fmt.Errorf("this host only looks: its own settings (%s) or the option --look-only forbid changes",
			SettingsFile)
	case !runID.MatchString(got.order.Run): // it becomes the name of a folder
		return got, fmt.Errorf("order refused: run %q has an impossible name", got.order.Run)
	case a.Enrolment != "" && got.order.Enrolment != a.Enrolment:
		return got, errors.New("order refused: it is for another enrolment of this host than the one that counts")
	}

	by, err := a.agreed(got.order, got.plan, w, now)
	switch {
	case err != nil:
		return got, fmt.Errorf("order refused: %w", err)
	case got.order.Alone && by.Submitter == "":
		return got, errors.New("order refused: one person alone has nothing changed on a host without a roster")
	}
	got.ownOriginals = by.OwnOriginals
	got.folder = filepath.Join(a.Folder, "runs", got.order.Run)
	return got, a.refuseTaken(got.order, got.folder)
}

// take records an order, before it changes anything; or says why its steps are not what the order is good for.
func (a *Agent) take(got accepted, chunks change.Chunks) error {
	if got.ownOriginals {
		if err := leadsBack(filepath.Join(a.Folder, "runs"), chunks); err != nil {
			return fmt.Errorf("order refused: %w", err)
		}
	}
	return a.takeOrder(got.order)
}

// ended is how a run ended here, and by which roster the host acts.
func (a *Agent) ended(state lifecycle.Part, message string) wire.RunDone {
	return wire.RunDone{State: state, Message: message, Roster: a.rosterPoint()}
}

// fetched returns the steps of an order as they lie in the run's folder, with the plan that they are of; what is not
// there yet comes from the service. Wrong is why they are not the order's, or cannot be kept; err is of the way.
func fetched(ctx context.Context, to runSink, w *wire.Work, got accepted) (chunks *stored, wrong, err error) {
	if err := private.MkdirAll(got.folder); err != nil {
		return nil, fmt.Errorf("run's folder: %w", err), nil
	}
	if err := private.WriteFile(filepath.Join(got.folder, manifestFile), w.Manifest); err != nil {
		return nil, fmt.Errorf("keep the plan: %w: free some space and resume the run", err), nil
	}

	chunks = &stored{folder: got.folder, part: got.part}
	for n, h := range got.part.Chunks {
		if _, err := chunks.Steps(n); err == nil {
			continue
		}
		b, err := to.Chunk(ctx, w.ID, n)
		if err != nil {
			return nil, nil, err
		}
		if _, err := plan.CheckChunk(b, h, got.part.Roots); err != nil {
			return nil, err, nil
		}
		if err := private.WriteFile(chunks.file(n), b); err != nil {
			return nil, fmt.Errorf("keep the plan: %w: free some space and resume the run", err), nil
		}
	}
	return chunks, nil, nil
}

func (a *Agent) run(ctx context.Context, to runSink, w *wire.Work, done, total *atomic.Int64, halt *atomic.Bool) error {
	fail := func(format string, args ...any) error {
		msg := fmt.Sprintf(format, args...)
		a.Log.Error("run failed", "work", w.ID, "reason", msg)
		return to.RunDone(ctx, w.ID, a.ended(lifecycle.PartFailed, msg))
	}
	got, err := a.accept(w, time.Now())
	if err != nil {
		return fail("%v", err)
	}
	order, part, folder := got.order, got.part, got.folder
	chunks, wrong, err := fetched(ctx, to, w, got)
	switch {
	case err != nil:
		return err
	case wrong != nil:
		return fail("%v", wrong)
	}

	if err := a.take(got, chunks); err != nil {
		return fail("%v", err)
	}

	j, err := change.OpenJournal(filepath.Join(folder, "journal"), change.Head{
		Run:    order.Run,
		Digest: order.Digest.String(),
		Host:   a.Host,
		Steps:  part.Steps,
	})

	if err != nil {
		return fail("%v", err)
	}
	defer j.Close()

	total.Store(int64(part.Steps))
	r := &change.Runner{
		Journal:  j,
		Roots:    raws(part.Roots),
		Allowed:  a.roots,
		Chunks:   chunks,
		PutBack:  got.plan.Kind == plan.Restore,
		Progress: func(n, _ int) { done.Store(int64(n)) },
		Halt:     halt.Load,
	}

	reach, hangUp, err := a.host.fileSystem(ctx)
	if err != nil {
		return fail("%v", err)
	}
	defer hangUp()

	r.Files = reach
	end := a.ended(lifecycle.PartFinished, "")
	if err := r.Run(ctx); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		end.State, end.Message = lifecycle.PartFailed, err.Error()
		if errors.Is(err, change.ErrHalted) {
			end.State = lifecycle.PartHalted
		}
	}

	left, err := r.Settle(ctx)
	if err != nil {
		return err
	}

	if end.State == lifecycle.PartFinished {
		if end.Wrong, err = r.Verify(ctx); err != nil {
			return err
		}
	}

	if err := sendOriginals(ctx, to, w.ID, j, chunks, left); err != nil {
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

	a.Log.Info("run", "run", order.Run, "state", end.State, "done", end.Done, "other", len(end.Results), "message",
		end.Message)
	if err := to.RunDone(ctx, w.ID, end); err != nil {
		return err
	}
	if _, direct := to.(*client.Agent); direct && end.State == lifecycle.PartFinished { // the service has it all
		return stow(filepath.Join(a.Folder, "runs"), order.Run)
	}

	return nil
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

// sendOriginals sends what was found before each change, chunk by chunk.
func sendOriginals(
	ctx context.Context, to runSink, work string, j *change.Journal, chunks change.Chunks, left map[int]perm.Set,
) error {
	return originals(j, chunks, left, func(n int, list []plan.Step) error {
		return to.SendOriginals(ctx, work, n, plan.EncodeChunk(list))
	})
}

// originals hands out, chunk by chunk, what a run found and changed, as steps from that to what it left. For steps
// that were not finished, left returns their state.
func originals(
	j *change.Journal, chunks change.Chunks, left map[int]perm.Set, each func(n int, list []plan.Step) error,
) error {
	base := 0
	results := j.Results()
	for n := range chunks.Count() {
		steps, err := chunks.Steps(n)
		if err != nil {
			return err
		}

		var list []plan.Step
		for i, s := range steps {
			o, changed := j.Original(base + i)
			now := s.After
			if results[base+i].Outcome != plan.Done {
				unfinished, ok := left[base+i]
				now, changed = unfinished, changed && ok && unfinished != o.Set
			}

			if changed {
				list = append(list, plan.Step{Path: s.Path, Kind: s.Kind, Before: o.Set, After: now, File: o.File})
			}
		}

		if err := each(n, list); err != nil {
			return err
		}

		base += len(steps)
	}

	return nil
}
