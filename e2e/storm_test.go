//go:build linux

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// stormFor is how long the storm lasts; IDLETALLY_STORM says otherwise, such as 60s.
const stormFor = 8 * time.Second

// worstTexts are baselines that cost as much as they can.
func worstTexts() []string {
	const head = "idletally: 1\napplication: app\nhosts: {names: [a]}\n"
	many := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}

	rep := strings.Repeat
	return []string{
		rep("[", 1<<20), rep("[", 80_000), rep("- ", 140_000), rep("{a: ", 140_000), rep("'a' ", 140_000),
		rep("&a ", 290_000), rep("a ", 1<<19),
		head + "roots: [" + rep("a,", 290_000) + "]",
		many(40_000, "key%d: x\n"),
		head + "variables: {v: " + rep("x", 300_000) + "}\nroots: [/srv]\nrules:\n" +
			many(9000, "- {rule: r%d, paths: /srv/a, owner: \"${v}\"}\n"),
		head + "roots:\n" + many(40_000, "- /srv/%d\n"),
		head + "roots: [/srv]\nforms: {f: {files: 0640, entries: [" + many(30_000, "'user:a%d:r',") +
			"]}}\nrules:\n" + many(9000, "- {rule: r%d, paths: /srv/a, form: f}\n"),
		head + "roots: [/srv]\nrules:\n" + many(10_000, "- {rule: r%d, paths: /srv/**, files: 0640, owner: a}\n"),
		head + "roots: [/srv]\nrules:\n- {rule: r, paths: /srv/a, entries: [" + many(55_000, "'user:a%d:r',") + "]}\n",
	}
}

// worstBodies are JSON that unfolds to as much as it can.
func worstBodies() (out [][]byte) {
	for _, b := range []string{
		strings.Repeat("[", 2<<20-10),
		`{"findings":[` + strings.Repeat("{},", 600_000) + "{}]}",
		`{"a":` + strings.Repeat(`{"a":`, 300_000),
		`"` + strings.Repeat("x", 2<<20-10) + `"`,
	} {
		out = append(out, []byte(b))
	}

	for _, text := range worstTexts() {
		for _, name := range []string{"text", "statement"} {
			b, _ := json.Marshal(map[string]any{
				name:          text,
				"application": "app",
				"name":        text[:min(len(text), 500)],
				"title":       text,
				"roots":       []string{"/srv"},
				"password":    text[:min(len(text), 100_000)],
			})
			out = append(out, b)
		}
	}

	return out
}

// A storm is what people and programs do all at once who wish the service ill.
type storm struct {
	*testing.T
	s          *demo.Stage
	ops        [][2]string // method and path of each operation
	bodies     [][]byte
	calls      atomic.Int64
	lost       atomic.Int64 // connections that ended without an answer
	byStatus   [600]atomic.Int64
	slowest    atomic.Int64
	slowestWas atomic.Value
	lostWas    atomic.Value
}

func (w *storm) call(over context.Context, c *client.Client, token, method, path string, body []byte) {
	ctx, cancel := context.WithTimeout(over, time.Minute)
	defer cancel()

	req, err := http.NewRequestWithContext(ctx, method, w.s.Address+path, bytes.NewReader(body))
	if err != nil {
		return
	}

	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}

	req.Header.Set("Content-Type", "application/json")
	start := time.Now()
	resp, err := c.HTTP.Do(req)
	w.calls.Add(1)
	if err != nil {
		if over.Err() == nil {
			w.lost.Add(1)
			text := err.Error()
			w.lostWas.Store(text[max(0, len(text)-100):])
		}
		return
	}
	defer resp.Body.Close()

	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 8<<20))
	w.byStatus[resp.StatusCode].Add(1)
	if took := time.Since(start).Milliseconds(); took > w.slowest.Load() {
		w.slowest.Store(took)
		w.slowestWas.Store(method + " " + path[:min(len(path), 80)])
	}
}

// anything makes one call of some operation, with the worst that its parameters and its body can be.
func (w *storm) anything(over context.Context, r *rand.Rand, c *client.Client, token string) {
	op := w.ops[r.IntN(len(w.ops))]
	method, path := op[0], op[1]
	long := []string{
		strings.Repeat("x", 9000), strings.Repeat("%2F", 2000), "%00%ff", strings.Repeat("/a", 3000), "1", "ticketing",
		"slip-north", strings.Repeat("%5B", 2000),
	}

	for strings.Contains(path, "{") {
		before, rest, _ := strings.Cut(path, "{")
		_, after, _ := strings.Cut(rest, "}")
		path = before + strings.ReplaceAll(long[r.IntN(len(long))], "/", "%2F") + after
	}

	if r.IntN(2) == 0 {
		x := long[r.IntN(len(long))]
		path += "?q=" + x + "&path=" + x + "&application=ticketing&host=" + long[4+r.IntN(3)] + "&entries=" +
			x + "&mode=" + x + "&limit=1000&most=1000&format=html&after=" + x
	}

	var body []byte
	if method != http.MethodGet && method != http.MethodDelete {
		body = w.bodies[r.IntN(len(w.bodies))]
	}

	w.call(over, c, token, method, path, body)
}

// The service goes on answering others, within a bound of memory, whatever is sent to each of its operations
// by nobody in particular, by a viewer, an author, an operator and an agent all at once.
func TestStorm(t *testing.T) {
	t.Parallel()
	const memory = 1 << 30
	program, err := released()
	must(t, err)
	s, _ := bareOf(t, program, "127.0.0.1:0", "", "GOMEMLIMIT=800MiB")
	admin, err := s.Crew(t.Context())
	must(t, err)
	must(t, unix.Prlimit(s.Service.Pid(), unix.RLIMIT_DATA, &unix.Rlimit{Cur: memory, Max: memory}, nil))
	agent, err := demo.Join(t.Context(), s.Address, authorityOf(t, s), admin, wire.NewHost{
		Name: "slip-north",
		Tags: []string{"ticketing"},
	})
	must(t, err)
	must(t, hello(t.Context(), agent))
	_, err = as(t, s, "quartermaster").UploadBaseline(t.Context(), demo.Baseline("ticketing"))
	must(t, err)

	long := stormFor
	if said := os.Getenv("IDLETALLY_STORM"); said != "" {
		long, err = time.ParseDuration(said)
		must(t, err)
	}

	// All that it takes is there before it begins: on a busy machine signing in takes longer than the storm.
	people := map[string]*client.Client{"": {HTTP: admin.HTTP}}
	for _, name := range []string{"lookout", "quartermaster", "bosun"} {
		one, err := s.As(t.Context(), name)
		must(t, err)
		people[name] = one
	}

	zeros := compress(t, make([]byte, 60<<20))
	counts := compress(t,
		tree.AppendPack(nil, append([]byte{'D', 1, 0xf0, 0xff, 0xff, 3}, make([]byte, tree.MaxNode-8)...)))
	w := &storm{T: t, s: s, bodies: worstBodies(), ops: operationsOf(t, s, admin)}
	r := seeded.Rand(t)

	over, cancel := context.WithTimeout(t.Context(), long)
	defer cancel()

	var all sync.WaitGroup
	for _, name := range []string{"", "lookout", "quartermaster", "bosun"} {
		c := people[name]
		token := c.Token
		for range 4 {
			own := rand.New(rand.NewPCG(r.Uint64(), 1))
			all.Go(func() {
				for over.Err() == nil {
					w.anything(over, own, c, token)
					if name == "" {
						w.call(over, c, "made up "+strconv.Itoa(own.IntN(1000)),
							strings.Repeat("X", own.IntN(50_000)+1),
							"/api/v1/hosts", nil)
						w.call(over, c, "", "POST", "/api/v1/sign-in",
							fmt.Appendf(nil, `{"name":"admin%d","password":%q}`, own.IntN(9),
								strings.Repeat("p", own.IntN(100_000))))
						w.call(over, c, "", "POST", "/agent/v1/enrol",
							fmt.Appendf(nil, `{"code":"%d","request":"AAAA"}`, own.IntN(1000)))
						w.call(over, c, "", "GET", "/metrics", nil)
					}
				}
			})
		}
	}

	for range 4 {
		all.Go(func() {
			for over.Err() == nil {
				_ = agent.SendNodes(over, zeros)
				_ = agent.SendNodes(over, counts)
				_ = agent.RunDone(over, "nosuchwork000000", wire.RunDone{Message: strings.Repeat("x", 30<<20)})
				_, _ = agent.Missing(over, make([]tree.Hash, 60_000))
			}
		})
	}

	// Somebody else goes about their work.
	var took []time.Duration
	peak := int64(0)
	for len(took) == 0 || over.Err() == nil {
		start := time.Now()
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		_, err := admin.Me(ctx)
		if err == nil {
			_, err = admin.Hosts(ctx)
		}

		cancel()
		if err != nil {
			t.Errorf("somebody else's call after %s: %v", time.Since(start), err)
			break
		}

		took = append(took, time.Since(start)/2)
		peak = max(peak, s.Service.Resident())
		time.Sleep(50 * time.Millisecond)
	}

	all.Wait()
	select {
	case <-s.Service.Done():
		t.Fatal("the service has ended")
	default:
	}

	if len(took) == 0 { // which was said
		return
	}

	slices.Sort(took)
	at := func(share float64) time.Duration { return took[int(share*float64(len(took)-1))] }
	said := ""

	for code := range w.byStatus {
		if n := w.byStatus[code].Load(); n > 0 {
			said += fmt.Sprintf(" %d×%d", n, code)
		}
	}

	t.Logf(
		"%d calls in %s:%s; %d without an answer (%v); the slowest took %d ms (%v); others' calls: p50 %s, p99 %s, "+
			"most %s of %d; %d MiB at the most",
		w.calls.Load(), long, said, w.lost.Load(), w.lostWas.Load(), w.slowest.Load(), w.slowestWas.Load(), at(0.5),
		at(0.99), at(1), len(took), peak>>20)
	if n := w.byStatus[500].Load(); n > 0 {
		t.Errorf("%d calls failed inside", n)
	}

	if peak > memory {
		t.Errorf("the service takes %d MiB", peak>>20)
	}

	if _, err := admin.Me(t.Context()); err != nil {
		t.Errorf("after the storm: %v", err)
	}
}

// operationsOf lists the operations that the service's own document names.
func operationsOf(t *testing.T, s *demo.Stage, c *client.Client) (out [][2]string) {
	t.Helper()
	var doc struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	must(t, json.Unmarshal(document(t, s, c), &doc))

	for path, methods := range doc.Paths {
		for method := range methods {
			if path != "/api/v1/happenings" { // it stays open
				out = append(out, [2]string{strings.ToUpper(method), path})
			}
		}
	}

	slices.SortFunc(out, func(a, b [2]string) int { return strings.Compare(a[0]+a[1], b[0]+b[1]) })
	if len(out) < 90 {
		t.Fatalf("only %d operations", len(out))
	}

	return out
}
