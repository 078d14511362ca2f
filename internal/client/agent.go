package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"sync"
	"sync/atomic"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/wire"
)

// Agent makes the calls of an agent.
type Agent struct {
	address     string
	http        *http.Client
	transport   atomic.Pointer[http.Transport]
	swapping    sync.Mutex // of the transport
	certificate atomic.Pointer[tls.Certificate]
}

// NewAgent makes an agent's client; certificate is nil before enrolling.
func NewAgent(address string, authority []byte, certificate *tls.Certificate) (*Agent, error) {
	c, err := New(address, authority, "")
	if err != nil {
		return nil, err
	}
	a := &Agent{address: c.Address, http: c.HTTP}
	transport := c.HTTP.Transport.(*http.Transport)
	if certificate != nil {
		a.certificate.Store(certificate)
		transport.TLSClientConfig.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			return a.certificate.Load(), nil
		}
	}
	a.transport.Store(transport)
	c.HTTP.Transport = current{&a.transport}
	return a, nil
}

// current sends by the transport of the moment.
type current struct {
	*atomic.Pointer[http.Transport]
}

// RoundTrip implements http.RoundTripper.
func (c current) RoundTrip(r *http.Request) (*http.Response, error) { return c.Load().RoundTrip(r) }

// CloseIdleConnections is called by http.Client.
func (c current) CloseIdleConnections() { c.Load().CloseIdleConnections() }

// Through makes connections by dial, which knows where they lead. It has to come before the first call.
func (a *Agent) Through(dial func(ctx context.Context, network, address string) (net.Conn, error)) {
	a.transport.Load().DialContext = dial
}

// Trust makes new connections trust exactly these authorities; what is under way goes on.
func (a *Agent) Trust(authorities []byte) error {
	config, err := TLS(authorities)
	if err != nil {
		return err
	}
	a.anew(config.RootCAs)
	return nil
}

// anew makes each call from now on by a new connection that trusts some authorities; those that are under way keep
// theirs. Without any it goes on trusting the former ones.
func (a *Agent) anew(trusted *x509.CertPool) {
	a.swapping.Lock()
	defer a.swapping.Unlock()
	was := a.transport.Load()
	next := was.Clone()
	if trusted != nil {
		next.TLSClientConfig.RootCAs = trusted
	}
	a.transport.Store(next)
	was.CloseIdleConnections() // the others close when they have been idle for a while
}

// Keys tells by which keys this host knows the service, and asks by which it should; the answer is empty from an
// older service.
func (a *Agent) Keys(ctx context.Context, known wire.KnownKeys) (out wire.Keys, err error) {
	status, err := a.json(ctx, http.MethodPost, "/keys", known, &out)
	if status == http.StatusNotFound {
		return wire.Keys{}, nil
	}
	return out, err
}

// Use has calls made with another certificate.
func (a *Agent) Use(certificate *tls.Certificate) {
	a.certificate.Store(certificate)
	a.anew(nil)
}

// Renew asks for another certificate.
func (a *Agent) Renew(ctx context.Context, request []byte) ([]byte, error) {
	var out wire.Renewed
	_, err := a.json(ctx, http.MethodPost, "/certificate", wire.Renewal{Request: request}, &out)
	return out.Certificate, err
}

func (a *Agent) call(
	ctx context.Context, method, path string, body []byte, kind string, limit time.Duration, most int64,
) ([]byte, int, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()

	req, err := http.NewRequestWithContext(ctx, method, a.address+"/agent/v1"+path, bytes.NewReader(body))
	if err != nil {
		return nil, 0, err
	}

	req.Header.Set("Content-Type", kind)
	resp, err := a.http.Do(req)
	if err != nil {
		return nil, 0, unreachable(a.address, err)
	}
	defer resp.Body.Close()

	if err := CheckResponse(resp); err != nil {
		return nil, resp.StatusCode, err
	}

	b, err := untrusted.ReadAll(resp.Body, most)
	return b, resp.StatusCode, err
}

// maxAnswer bounds one answer of the service in JSON, in bytes: the service may be hostile.
const maxAnswer = 32 << 20

func (a *Agent) json(ctx context.Context, method, path string, in, out any) (int, error) {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return 0, err
		}
	}
	b, status, err := a.call(ctx, method, path, body, "application/json", 90*time.Second, maxAnswer)
	if err != nil || status == http.StatusNoContent || out == nil {
		return status, err
	}
	return status, untrusted.JSON(b, untrusted.MaxElements, out)
}

const octets = "application/octet-stream"

// Enrol trades a code for a certificate.
func (a *Agent) Enrol(ctx context.Context, in wire.Enrol) (out wire.Enrolled, err error) {
	for n := 1; ; n++ { // the same request may come again with its code
		status, err := a.json(ctx, http.MethodPost, "/enrol", in, &out)
		var resp *http.Response
		if status != 0 {
			resp = &http.Response{StatusCode: status}
		}

		if status == http.StatusTooManyRequests && n < 6 { // many hosts of one network begin at once
			select {
			case <-ctx.Done():
				return out, ctx.Err()
			case <-time.After(10*time.Second + mathrand.N(time.Minute)):
			}
			continue
		}

		if err == nil || !passing(resp, err, n) {
			return out, err
		}
		if err := rest(ctx, n); err != nil {
			return out, err
		}
	}
}

// Hello says that this agent has just started, and as what. A service from before there were greetings answers with
// none.
func (a *Agent) Hello(ctx context.Context, in wire.Hello) (out wire.Greeting, err error) {
	status, err := a.json(ctx, http.MethodPost, "/hello", in, &out)
	if err == nil && status == http.StatusNoContent {
		out = wire.Greeting{Version: "an earlier one", Protocol: 1, Oldest: 1}
	}
	return out, err
}

// History shows the newest end of the history that this host was shown, and returns the present one.
func (a *Agent) History(ctx context.Context, seen chain.Head) (now chain.Head, err error) {
	status, err := a.json(ctx, http.MethodPost, "/history", seen, &now)
	if status == http.StatusNotFound { // an older service
		return seen, nil
	}
	return now, err
}

// Work waits for something to do; nil where there was nothing for a while.
func (a *Agent) Work(ctx context.Context) (*wire.Work, error) {
	var w wire.Work
	status, err := a.json(ctx, http.MethodGet, "/work", nil, &w)
	if err != nil || status == http.StatusNoContent || w.ID == "" {
		return nil, err
	}
	return &w, nil
}

// Question waits for a question; nil where there was none for a while.
func (a *Agent) Question(ctx context.Context) (*wire.Question, error) {
	var q wire.Question
	status, err := a.json(ctx, http.MethodGet, "/questions", nil, &q)
	if err != nil || status == http.StatusNoContent || q.ID == "" {
		return nil, err
	}
	return &q, nil
}

// Reply answers a question.
func (a *Agent) Reply(ctx context.Context, question string, r wire.Reply) error {
	_, err := a.json(ctx, http.MethodPost, "/questions/"+question, r, nil)
	return err
}

// Progress keeps the work and asks whether to go on.
func (a *Agent) Progress(ctx context.Context, work string, p wire.WorkProgress) (out wire.WorkAnswer, err error) {
	_, err = a.json(ctx, http.MethodPost, "/work/"+work+"/progress", p, &out)
	return out, err
}

// Missing tells which hashes the service does not have.
func (a *Agent) Missing(ctx context.Context, hashes []tree.Hash) ([]bool, error) {
	body := make([]byte, 0, len(hashes)*len(tree.Hash{}))
	for _, h := range hashes {
		body = append(body, h[:]...)
	}

	b, _, err := a.call(ctx, http.MethodPost, "/nodes/missing", body, octets, time.Minute, int64(len(hashes)))
	if err != nil {
		return nil, err
	}
	if len(b) != len(hashes) {
		return nil, errors.New("the service answered for another number of nodes")
	}

	out := make([]bool, len(b))
	for i := range b {
		out[i] = b[i] != 0
	}

	return out, nil
}

// SendNodes sends a compressed pack.
func (a *Agent) SendNodes(ctx context.Context, pack []byte) error {
	_, _, err := a.call(ctx, http.MethodPost, "/nodes", pack, octets, 2*time.Minute, maxAnswer)
	return err
}

// SnapshotDone ends a snapshot.
func (a *Agent) SnapshotDone(ctx context.Context, work string, d wire.SnapshotDone) error {
	_, err := a.json(ctx, http.MethodPost, "/work/"+work+"/snapshot", d, nil)
	return err
}

// Chunk fetches steps of a run.
func (a *Agent) Chunk(ctx context.Context, work string, n int) ([]byte, error) {
	b, _, err := a.call(ctx, http.MethodGet, fmt.Sprintf("/work/%s/chunks/%d", work, n), nil, octets, 2*time.Minute,
		plan.MaxChunk)
	return b, err
}

// SendOriginals stores what a run found.
func (a *Agent) SendOriginals(ctx context.Context, work string, n int, chunk []byte) error {
	_, _, err := a.call(ctx, http.MethodPut, fmt.Sprintf("/work/%s/originals/%d", work, n), chunk, octets,
		2*time.Minute, maxAnswer)
	return err
}

// RunDone ends a run on this host.
func (a *Agent) RunDone(ctx context.Context, work string, d wire.RunDone) error {
	_, err := a.json(ctx, http.MethodPost, "/work/"+work+"/run", d, nil)
	return err
}

// Watches waits until the list of what to watch differs from the known one; nil if it does not for a while.
func (a *Agent) Watches(ctx context.Context, ask wire.WatchAsk) (*wire.WatchList, error) {
	var out wire.WatchList
	status, err := a.json(ctx, http.MethodPost, "/watches", ask, &out)
	if err != nil || status == http.StatusNoContent {
		return nil, err
	}
	return &out, nil
}

// Heard returns a snapshot that nobody asked for.
func (a *Agent) Heard(ctx context.Context, application string, h wire.Heard) error {
	_, err := a.json(ctx, http.MethodPost, "/watches/"+url.PathEscape(application)+"/snapshot", h, nil)
	return err
}
