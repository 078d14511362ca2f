//go:build linux

package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

func authorityOf(t *testing.T, s *demo.Stage) []byte {
	t.Helper()
	b, err := os.ReadFile(s.Authority())
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// agentClient makes the calls of an enrolled agent, from outside its host.
func agentClient(t *testing.T, s *demo.Stage, folder string) *client.Agent {
	t.Helper()
	set, err := agent.Load(folder)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := tls.X509KeyPair(set.Certificate, set.Key)
	if err != nil {
		t.Fatal(err)
	}
	a, err := client.NewAgent(s.Address, set.Authority, &cert)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// Codes work once; certificates count until the host is enrolled anew; hostile agents get nowhere.
func tryAgents(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	admin := as(t, s, "admin")
	ca := authorityOf(t, s)
	enrol := func(folder, code string, roots ...string) error {
		_, err := agent.Enrol(ctx, agent.Joining{Folder: folder, Service: s.Address, Authority: ca, Roots: roots}, code,
			"test")
		return err
	}
	fails(t, "a wrong code", enrol(t.TempDir(), "aaaaa-bbbbb-ccccc-ddddd", "/srv"), 403,
		"wrong, was used before, or has expired")
	inv, err := admin.Invite(ctx, wire.NewHost{Name: "skiff", Tags: []string{"small"}})
	if err != nil {
		t.Fatal(err)
	}

	if err := enrol(t.TempDir(), inv.Code); err == nil || !strings.Contains(err.Error(), "--root") {
		t.Errorf("enrolling without roots: %v", err)
	}

	if err := enrol(t.TempDir(), inv.Code, "relative"); err == nil || !strings.Contains(err.Error(), "not absolute") {
		t.Errorf("enrolling with a relative root: %v", err)
	}

	first := t.TempDir()
	if err := enrol(first, inv.Code, "/srv"); err != nil {
		t.Fatal(err)
	}

	if st, err := os.Stat(filepath.Join(first, "agent.json")); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("agent's settings: %v, %v", st.Mode(), err)
	}

	fails(t, "the code again", enrol(t.TempDir(), inv.Code, "/srv"), 403, "was used before")
	a := agentClient(t, s, first)
	greetings(t, admin, a)
	silentHello(t, s, first, admin)
	renewals(t, s, first, a)
	inv, err = admin.Invite(ctx, wire.NewHost{Name: "skiff"})
	if err != nil {
		t.Fatal(err)
	}

	if err := enrol(t.TempDir(), inv.Code, "/srv"); err != nil {
		t.Fatal(err)
	}

	fails(t, "a certificate from before", hello(ctx, a), 403, "no longer valid")
	old, err := agent.New(first, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}

	if err := old.Run(ctx); client.Status(err) != 403 {
		t.Errorf("an agent with a certificate from before goes on: %v", err)
	}

	bare, err := client.NewAgent(s.Address, ca, nil)
	if err != nil {
		t.Fatal(err)
	}

	fails(t, "no certificate", hello(ctx, bare), 401, "agents call with the certificate")
	if _, err := agent.New(t.TempDir(), slog.Default()); err == nil || !strings.Contains(err.Error(), "not enrolled") {
		t.Errorf("an agent without settings: %v", err)
	}

	// Hostile uploads, by an agent that is enrolled.
	inv, err = admin.Invite(ctx, wire.NewHost{Name: "skiff"})
	if err != nil {
		t.Fatal(err)
	}

	folder := t.TempDir()
	if err := enrol(folder, inv.Code, "/srv"); err != nil {
		t.Fatal(err)
	}

	a = agentClient(t, s, folder)
	file := tree.Entry{Name: "x", Kind: perm.File, Set: posix.State{Mode: mode.Mode(0o600)}.Set()}
	orphan := tree.Encode(tree.Node{
		Entries: []tree.Entry{{Name: "d", Kind: perm.Folder, Set: file.Set, Child: tree.Sum([]byte("nowhere"))}},
	})
	bad := tree.Encode(tree.Node{Entries: []tree.Entry{file, file}})

	for _, x := range []struct {
		name   string
		body   []byte
		status int
		says   string
	}{
		{"no zstd", []byte("hello"), 400, "pack"},
		{"a pack that ends too early", compress(t, []byte{200, 1, 1}), 400, "too early"},
		{"a node that is none", compress(t, tree.AppendPack(nil, []byte("junk"))), 422, "no node"},
		{"a name twice", compress(t, tree.AppendPack(nil, bad)), 422, "out of order"},
		{"a node without its child", compress(t, tree.AppendPack(nil, orphan)), 422, "was not sent before it"},
		{"a bomb", compress(t, make([]byte, 80<<20)), 400, "pack"},
	} {
		fails(t, x.name, a.SendNodes(ctx, x.body), x.status, x.says)
	}

	_, err = a.Missing(ctx, nil)
	if err != nil {
		t.Errorf("asking for nothing: %v", err)
	}

	fails(t, "another host's work", a.SnapshotDone(ctx, newest(t, s), wire.SnapshotDone{}), 404, "not found")
	_, err = a.Chunk(ctx, "nope", 0)
	fails(t, "a chunk of no work", err, 404, "not found")
}

// interfaceRows are what tryInterface tries.
var interfaceRows = map[string]string{
	"/healthz": "ok", "/readyz": "ready", "/metrics": "sign in first", "/api/openapi.json": "sign in first",
	"/api/openapi-3.0.yaml": "sign in first", "/api/schemas/Host.json": "sign in first",
	"/api/schemas/baseline-1.json": "json-schema.org", "/api/none": "404",
}

// The interface itself: health, metrics, documents, headers, the console's protection.
func tryInterface(t *testing.T, s *demo.Stage) {
	c, err := client.New(s.Address, authorityOf(t, s), "")
	must(t, err)

	openly := func(path string) (string, *http.Response) {
		resp, err := c.HTTP.Get(s.Address + path)
		must(t, err)
		defer resp.Body.Close()

		b, err := io.ReadAll(resp.Body)
		must(t, err)

		return string(b), resp
	}

	for path, want := range interfaceRows {
		t.Run(path, func(t *testing.T) {
			if b, resp := openly(path); !strings.Contains(b, want) {
				t.Errorf("%s: %d %.200s, want %q", path, resp.StatusCode, b, want)
			}
		})
	}

	_, resp := openly("/")
	csp := resp.Header.Get("Content-Security-Policy")
	if !strings.Contains(csp, "default-src 'none'") || strings.Contains(csp, "unsafe") {
		t.Errorf("content security policy %q", csp)
	}

	if b, resp := openly("/api/v1/hosts"); resp.StatusCode != 401 ||
		resp.Header.Get("Content-Type") != "application/problem+json" || !json.Valid([]byte(b)) {
		t.Errorf("without a session: %d %s", resp.StatusCode, b)
	}

	// A cookie alone changes nothing: another site could send it.
	session, err := c.SignIn(t.Context(), wire.SignIn{Name: "quartermaster", Password: demo.Password})
	must(t, err)

	try := func(header string) int {
		req, err := http.NewRequest("POST", s.Address+"/api/v1/snapshots",
			bytes.NewReader([]byte(`{"application":"ticketing","host":"slip-north"}`)))
		must(t, err)

		req.AddCookie(&http.Cookie{Name: "__Host-idletally_session", Value: session.Token})
		req.Header.Set("Content-Type", "application/json")
		if header != "" {
			req.Header.Set(header, "1")
		}

		resp, err := c.HTTP.Do(req)
		must(t, err)

		resp.Body.Close()
		return resp.StatusCode
	}

	if got := try(""); got != 401 {
		t.Errorf("a change by cookie alone: %d, want 401", got)
	}

	if got := try("X-Idletally-Console"); got != 202 {
		t.Errorf("a change by the console: %d, want 202", got)
	}

	c.Token = session.Token
	for path, want := range map[string]string{
		"/metrics":          "idletally_request_seconds_bucket",
		"/api/openapi.json": `"openapi":"3.1.0"`,
	} {
		t.Run(path, func(t *testing.T) {
			if b := get(t, s, c, path); !strings.Contains(string(b), want) {
				t.Errorf("%s: %.200s, want %q", path, b, want)
			}
		})
	}

	for _, x := range []struct {
		name, method, path string
		body               any
		status             int
	}{
		{"unknown field", "POST", "/snapshots",
			map[string]string{"application": "ticketing", "host": "slip-north", "sudo": "yes"}, 422},
		{"missing field", "POST", "/snapshots", map[string]string{"application": "ticketing"}, 422},
		{"limit too large", "GET", "/hosts?limit=100000", nil, 422},
		{"no number", "GET", "/hosts?limit=many", nil, 422},
		{"bad host name", "POST", "/hosts", map[string]string{"name": "Slip North!"}, 422},
		{"a body too large", "POST", "/baselines/check", wire.BaselineText{Text: strings.Repeat("x", 3<<20)}, 413},
		{"bad escape", "GET", "/paths?path=%5Cq&snapshot=" + newest(t, s), nil, 422},
	} {
		t.Run(x.name, func(t *testing.T) {
			if got := client.Status(c.Do(t.Context(), x.method, x.path, x.body, nil)); got != x.status {
				t.Errorf("%s: status %d, want %d", x.name, got, x.status)
			}
		})
	}

	// Lists come in pages.
	var p wire.Page[wire.Host]
	if err := c.Do(t.Context(), "GET", "/hosts?limit=1", nil, &p); err != nil || len(p.Items) != 1 ||
		p.Next != p.Items[0].Name {
		t.Errorf("first page %+v, %v", p, err)
	}

	all, err := client.All[wire.Host](t.Context(), c, "/hosts", map[string][]string{"limit": {"1"}}, 100)
	if err != nil || len(all) != 4 {
		t.Errorf("all pages: %d hosts, %v", len(all), err)
	}

	quiet(t, c)
}

// An agent outside of whose own roots a baseline reaches says so and reads nothing.
func TestOwnRoots(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	text := strings.NewReplacer("application: ticketing", "application: secrets", "/srv/ticketing",
		"/etc").Replace(demo.Baseline("ticketing"))
	e, err := c.UploadBaseline(ctx, text)
	if err != nil {
		t.Fatal(err)
	}

	if _, err := c.Publish(ctx, "secrets", e.Number); err != nil {
		t.Fatal(err)
	}

	_, err = demo.Snapshot(ctx, c, "secrets", "slip-south")
	if err == nil || !strings.Contains(err.Error(), "/etc: this host's own list of roots does not hold it") {
		t.Errorf("a snapshot outside the host's own roots: %v", err)
	}

	// An agent that does not run: the request waits, and is answered when it comes back.
	here := command{t: t, s: s, person: "nobody"}
	own := filepath.Join(s.Root("slip-south"), "var/lib/idletally-agent")
	here.want(0, "it works", "agent", "status", "--folder", own)
	here.want(0, `"well": true`, "agent", "status", "--folder", own, "-o", "json")
	s.Agents["slip-south"].Stop()
	here.want(4, "no agent runs with this folder", "agent", "status", "--folder", own)
	here.want(4, "slip-south  no", "agent", "status", "--each", filepath.Dir(own))
	snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-south"})
	if err != nil || snap.State != "waiting" {
		t.Fatalf("%+v, %v", snap, err)
	}

	cmd := command{t: t, s: s, person: "quartermaster"}
	cmd.login()
	_, errs, code := cmd.run("", "snapshot", "take", "ticketing", "slip-south", "--wait", "300ms")
	if code != 4 || !strings.Contains(errs, "is its agent running?") {
		t.Errorf("waiting for an absent agent: %d %s", code, errs)
	}

	if err := s.StartAgent("slip-south"); err != nil {
		t.Fatal(err)
	}

	quiet(t, c)
	if snap, err = c.Snapshot(ctx, snap.ID); err != nil || snap.State != "ready" {
		t.Errorf("after the agent came back: %+v, %v", snap, err)
	}

	// The service is killed and comes back: sessions and agents go on.
	s.Service.Kill()
	if _, err := c.Hosts(ctx); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("while the service is gone: %v", err)
	}

	if err := s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), ""); err != nil {
		t.Fatal(err)
	}

	if _, err := c.Hosts(ctx); err != nil {
		t.Errorf("the session did not survive: %v", err)
	}

	snapshot(t, c, "ticketing", "slip-south")
}

// silentHello says hello as agents did before there were greetings: nothing. They are answered as they were.
func silentHello(t *testing.T, s *demo.Stage, folder string, admin *client.Client) {
	t.Helper()
	set, err := agent.Load(folder)
	must(t, err)
	cert, err := tls.X509KeyPair(set.Certificate, set.Key)
	must(t, err)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(set.Authority)
	web := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, Certificates: []tls.Certificate{cert}}},
	}
	defer web.CloseIdleConnections()

	resp, err := web.Post(s.Address+"/agent/v1/hello", "", nil)
	must(t, err)
	resp.Body.Close()
	all, err := admin.Hosts(t.Context())
	must(t, err)
	h := all[slices.IndexFunc(all, func(h wire.Host) bool { return h.Name == "skiff" })]
	if resp.StatusCode != http.StatusNoContent || h.Version != "an earlier one" || h.Unfit != "" {
		t.Errorf("%d, %+v", resp.StatusCode, h)
	}
}

func hello(ctx context.Context, a *client.Agent) error {
	_, err := a.Hello(ctx, wire.Hello{Version: "test", Protocol: wire.Protocol, Oldest: wire.OldestProtocol})
	return err
}

// What runs on a host now is what its agent said when it started last, and one that cannot work with the
// service is told so until it can.
func greetings(t *testing.T, admin *client.Client, a *client.Agent) {
	t.Helper()
	ctx := t.Context()
	skiff := func() wire.Host {
		t.Helper()
		all, err := admin.Hosts(ctx)
		must(t, err)
		return all[slices.IndexFunc(all, func(h wire.Host) bool { return h.Name == "skiff" })]
	}

	is := func(version, unfit string) {
		t.Helper()
		if h := skiff(); h.Version != version || !strings.Contains(h.Unfit, unfit) || (unfit == "") != (h.Unfit == "") {
			t.Errorf("%+v, want version %q, unfit %q", h, version, unfit)
		}
	}

	is("test", "")
	g, err := a.Hello(ctx, wire.Hello{
		Version:  "2.0.0\nx",
		Protocol: wire.Protocol,
		Oldest:   wire.OldestProtocol,
		System:   "Linux 6.1.0 x86_64",
		Up:       7200,
		Runs:     60,
	})

	if err != nil || g.Protocol != wire.Protocol || g.Oldest != wire.OldestProtocol || g.Version == "" {
		t.Errorf("%+v, %v", g, err)
	}

	is(`2.0.0\x0ax`, "")
	h := skiff()
	ago := func(at *time.Time) time.Duration { return time.Since(*at) }
	if h.System != "Linux 6.1.0 x86_64" || ago(h.Up) < 2*time.Hour || ago(h.Up) > 3*time.Hour ||
		ago(h.Runs) < time.Minute || ago(h.Runs) > time.Hour {
		t.Errorf("%+v", h)
	}

	for _, x := range []struct {
		hello wire.Hello
		says  string
	}{
		{wire.Hello{Version: "9.0", Protocol: wire.Protocol + 2, Oldest: wire.Protocol + 1},
			"bring this program up to date"},
		{wire.Hello{Version: "0.1", Protocol: wire.OldestProtocol - 1, Oldest: 0},
			"bring the agent of skiff up to date"},
	} {
		_, err := a.Hello(ctx, x.hello)
		fails(t, "an agent of another protocol", err, 409, x.says)
		_, err = a.Work(ctx)
		fails(t, "its work", err, 409, x.says)
		is(x.hello.Version, "speaks protocol")
	}

	must(t, hello(ctx, a))
	is("test", "")
}

// A snapshot that is not there yet can be cancelled, by whoever may ask for one; its agent leaves it alone.
func tryCancelling(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	s.Agents["slip-south"].Kill()
	snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-south"})
	if err != nil || snap.State != "waiting" {
		t.Fatalf("%+v, %v", snap, err)
	}

	if snap, err = c.Snapshot(ctx, snap.ID); err != nil || snap.Expected < 3000 {
		t.Errorf("%+v, %v", snap, err)
	}

	_, err = as(t, s, "lookout").CancelSnapshot(ctx, snap.ID)
	fails(t, "a viewer cancels", err, 403, "needs the role operator")
	cmd := command{t: t, s: s, person: "quartermaster"}
	cmd.login()
	out, errs, code := cmd.run("", "snapshot", "cancel", snap.ID)
	if code != 0 || !strings.Contains(out, "cancelled by quartermaster") {
		t.Errorf("%d %s%s", code, out, errs)
	}

	_, err = c.CancelSnapshot(ctx, snap.ID)
	fails(t, "cancel again", err, 409, "taken already or is not there")
	if err := s.StartAgent("slip-south"); err != nil {
		t.Fatal(err)
	}

	snapshot(t, c, "ticketing", "slip-south") // the agent is at work, and has passed the other one by
	if snap, err = c.Snapshot(ctx, snap.ID); err != nil || snap.State != "failed" || snap.Paths != 0 {
		t.Errorf("%+v, %v", snap, err)
	}
}

func awaitAnswer(t *testing.T, limit time.Duration, f func(context.Context) error) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	var err error
	for ctx.Err() == nil {
		if err = f(ctx); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.Join(err, ctx.Err())
}

// An agent gets another certificate before its own ends; the one before counts on, since an answer may be
// lost, but not the one before that. An operator shuts all of them out.
func renewals(t *testing.T, s *demo.Stage, folder string, first *client.Agent) {
	t.Helper()
	ctx := t.Context()
	run, err := agent.New(folder, slog.New(slog.DiscardHandler))
	must(t, err)
	before, err := os.ReadFile(filepath.Join(folder, "agent.json"))
	must(t, err)
	must(t, run.Renew(ctx))
	after, err := os.ReadFile(filepath.Join(folder, "agent.json"))
	if err != nil || string(after) == string(before) {
		t.Fatalf("nothing was kept: %v", err)
	}

	second := agentClient(t, s, folder)
	for what, c := range map[string]*client.Agent{"the first": first, "the second": second} {
		t.Run(what, func(t *testing.T) {
			if err := hello(ctx, c); err != nil {
				t.Errorf("%s certificate: %v", what, err)
			}
		})
	}

	must(t, run.Renew(ctx)) // with the second
	third := agentClient(t, s, folder)
	must(t, hello(ctx, third))
	must(t, hello(ctx, second))
	fails(t, "the certificate before the last", hello(ctx, first), 403, "no longer valid")
	_, err = as(t, s, "lookout").ShutOut(ctx, "skiff")
	fails(t, "shutting out by a viewer", err, 403, "needs the role operator")
	h, err := as(t, s, "bosun").ShutOut(ctx, "skiff")
	if err != nil || h.Enrolled {
		t.Errorf("%+v, %v", h, err)
	}

	for _, c := range []*client.Agent{second, third} {
		fails(t, "a certificate that was shut out", hello(ctx, c), 403, "no longer valid")
	}

	fails(t, "renewing one that was shut out", run.Renew(ctx), 403, "no longer valid")
	_, err = as(t, s, "bosun").ShutOut(ctx, "skiff")
	fails(t, "once more", err, 409, "no certificate that counts")
}
