//go:build linux

package agent

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"idletally/internal/client"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/host/change"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
	"idletally/internal/wire"
)

// service is what an agent sees of one: it keeps nodes, and gives chunks, true or not.
type service struct {
	t         *testing.T
	mu        sync.Mutex
	nodes     tree.Memory
	asked     int
	bytes     int
	chunks    [][]byte
	ended     []wire.RunDone
	halt      bool
	originals []byte
	snapshots []wire.SnapshotDone
	watches   *wire.WatchList // given once
	current   []wire.CurrentPlace
	hellos    []wire.Hello
	greeting  *wire.Greeting
	states    []wire.WatchState
	heard     []wire.Heard
	refuse    int // so many calls with what was heard
}

// chunk returns the chunk whose number ends a path; none where there is none.
func (s *service) chunk(at string) []byte {
	n, err := strconv.Atoi(path.Base(at))
	if err != nil || n >= len(s.chunks) {
		return nil
	}
	return s.chunks[n]
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, err := io.ReadAll(r.Body)
	if err != nil {
		s.t.Error(err)
	}

	switch {
	case strings.HasSuffix(r.URL.Path, "/nodes/missing"):
		out := make([]byte, len(b)/32)
		for i := range out {
			s.asked++
			if _, ok := s.nodes[tree.Hash(b[i*32:i*32+32])]; !ok {
				out[i] = 1
			}
		}
		_, _ = w.Write(out)

	case strings.HasSuffix(r.URL.Path, "/nodes"):
		s.bytes += len(b)
		z, err := zstd.NewReader(bytes.NewReader(b))
		if err != nil {
			s.t.Error(err)
			return
		}
		defer z.Close()
		refused := false
		for pack := tree.NewPack(z, 1<<30); ; {
			node, err := pack.Next()
			if errors.Is(err, io.EOF) {
				break
			}

			n, err2 := tree.Decode(node)
			if err := errors.Join(err, err2); err != nil {
				s.t.Error(err)
				break
			}

			for _, c := range n.Children() {
				refused = refused || s.nodes[c] == nil // as the real one does
			}

			if !refused {
				s.nodes.Add(n)
			}
		}

		if refused {
			w.WriteHeader(422)
			return
		}

		w.WriteHeader(204)

	case strings.HasSuffix(r.URL.Path, "/hello"):
		var h wire.Hello
		if err := json.Unmarshal(b, &h); err != nil {
			s.t.Error(err)
		}

		s.hellos = append(s.hellos, h)
		if s.greeting == nil {
			w.WriteHeader(204) // as a service did before there were greetings
			return
		}

		_ = json.NewEncoder(w).Encode(s.greeting)

	case strings.HasSuffix(r.URL.Path, "/watches"):
		var ask wire.WatchAsk
		if err := json.Unmarshal(b, &ask); err != nil {
			s.t.Error(err)
		}

		s.states, s.current = append(s.states, ask.State), ask.Current
		if s.watches != nil && ask.Known != s.watches.Version {
			_ = json.NewEncoder(w).Encode(s.watches)
			return
		}

		s.mu.Unlock()
		select {
		case <-r.Context().Done():
		case <-time.After(200 * time.Millisecond):
		}

		s.mu.Lock()
		w.WriteHeader(204)

	case strings.Contains(r.URL.Path, "/watches/"):
		var h wire.Heard
		if err := json.Unmarshal(b, &h); err != nil {
			s.t.Error(err)
		}

		if s.refuse > 0 {
			s.refuse--
			w.WriteHeader(503)
			return
		}

		s.heard = append(s.heard, h)
		w.WriteHeader(204)

	case strings.Contains(r.URL.Path, "/chunks/"):
		_, _ = w.Write(s.chunk(r.URL.Path))
	case strings.Contains(r.URL.Path, "/originals/"):
		s.originals = b
		w.WriteHeader(204)
	case strings.HasSuffix(r.URL.Path, "/progress"):
		_ = json.NewEncoder(w).Encode(wire.WorkAnswer{Halt: s.halt})
	case strings.HasSuffix(r.URL.Path, "/run"):
		var d wire.RunDone
		if err := json.Unmarshal(b, &d); err != nil {
			s.t.Error(err)
		}

		s.ended = append(s.ended, d)
		w.WriteHeader(204)

	case strings.HasSuffix(r.URL.Path, "/snapshot"):
		var d wire.SnapshotDone
		if err := json.Unmarshal(b, &d); err != nil {
			s.t.Error(err)
		}

		s.snapshots = append(s.snapshots, d)
		w.WriteHeader(204)

	default:
		w.WriteHeader(204)
	}
}

func world(t *testing.T) (*service, *Agent, ed25519.PrivateKey, string) {
	t.Helper()
	s := &service{t: t, nodes: tree.Memory{}}
	srv := httptest.NewTLSServer(s)
	t.Cleanup(srv.Close)
	ca := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})
	api, err := client.NewAgent(srv.URL, ca, nil)
	if err != nil {
		t.Fatal(err)
	}

	pub, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}

	root := t.TempDir()
	a := &Agent{
		Folder:   t.TempDir(),
		Log:      slog.New(slog.DiscardHandler),
		Settings: Settings{Host: "skiff", OrderKey: pub},
		api:      api,
		roots:    []string{root},
	}

	a.host = hostOf(a)
	a.cert.Store(&tls.Certificate{
		Leaf: &x509.Certificate{NotBefore: time.Now(), NotAfter: time.Now().AddDate(0, 3, 0)},
	})
	return s, a, key, root
}

// What the service has is not sent: where it has the forest, nothing else is asked about.
func TestSendsOnlyWhatIsMissing(t *testing.T) {
	s, a, _, root := world(t)
	for _, d := range []string{"a/b/c", "a/d", "e/f"} {
		t.Run(d, func(t *testing.T) {
			for i := range 50 {
				p := filepath.Join(root, d, "s", string(rune('a'+i%26))+strings.Repeat("x", i/26))
				if err := os.MkdirAll(p, 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(p, "file"), nil, os.FileMode(0o600+i)); err != nil {
					t.Fatal(err)
				}
			}
		})
	}

	send := func() (nodes, asked int) {
		t.Helper()
		s.mu.Lock()
		before := len(s.nodes)
		s.asked = 0
		s.mu.Unlock()
		spool, err := spool.New(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		defer spool.Close()

		h, _, err := scan.Scan(t.Context(), []string{root}, scan.Options{}, spool)
		if err != nil {
			t.Fatal(err)
		}

		if _, err := a.send(t.Context(), spool, h); err != nil {
			t.Fatal(err)
		}

		if s.nodes[h] == nil {
			t.Fatal("the root did not arrive")
		}

		return len(s.nodes) - before, s.asked
	}

	if n, _ := send(); n < 20 {
		t.Errorf("first: %d nodes", n)
	}

	if n, asked := send(); n != 0 || asked != 1 {
		t.Errorf("again: %d nodes sent, %d asked about", n, asked)
	}

	if err := os.Chmod(filepath.Join(root, "a/b/c/s/a/file"), 0o777); err != nil {
		t.Fatal(err)
	}

	if n, _ := send(); n != 7 { // forest, root, a, b, c, s, a
		t.Errorf("after a change: %d nodes sent", n)
	}
}

// What is known from the last scan saves reading; where the service has lost what it had, all is read and sent again.
func TestLooksAgain(t *testing.T) {
	s, a, _, root := world(t)
	for i := range 20 {
		if err := os.MkdirAll(filepath.Join(root, fmt.Sprint(i), "deep"), 0o755); err != nil {
			t.Fatal(err)
		}
	}

	take := func(whole bool) wire.SnapshotDone {
		t.Helper()
		var done atomic.Int64
		if err := a.snapshot(t.Context(),
			&wire.Work{ID: "w", Kind: wire.WorkSnapshot, Roots: []string{root}, Whole: whole}, &done); err != nil {
			t.Fatal(err)
		}

		d := s.snapshots[len(s.snapshots)-1]
		n := 0
		if err := tree.Walk(t.Context(), s.nodes, d.Forest, func(string, tree.Entry) error {
			n++
			return nil
		}); err != nil ||
			int64(n) != d.Paths || d.Failed != "" {
			t.Fatalf("%d of %d paths are with the service, %v, %s", n, d.Paths, err, d.Failed)
		}

		return d
	}

	first := take(false)
	past, err := filepath.Glob(filepath.Join(a.Folder, "past", "*"))
	if err != nil || len(past) != 1 {
		t.Fatalf("%v, %v", past, err)
	}

	old, err := os.ReadFile(past[0])
	if err != nil {
		t.Fatal(err)
	}

	if again := take(false); again.Forest != first.Forest {
		t.Error("the same tree, another hash")
	}

	if err := os.Chmod(filepath.Join(root, "7", "deep"), 0o700); err != nil {
		t.Fatal(err)
	}

	if changed := take(false); changed.Forest == first.Forest {
		t.Error("a change was not seen")
	}

	s.nodes = tree.Memory{}
	take(false) // it walks what the service has
	if now, err := os.ReadFile(past[0]); err != nil || string(now) == string(old) {
		t.Errorf("nothing new is known, %v", err)
	}

	take(true)

	// What nobody has asked about for a month is forgotten.
	long := time.Now().AddDate(0, -2, 0)
	other := filepath.Join(a.Folder, "past", "other")
	if err := errors.Join(os.WriteFile(other, nil, 0o600), os.Chtimes(other, long, long)); err != nil {
		t.Fatal(err)
	}

	take(false)
	if _, err := os.Stat(other); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("an old past stays: %v", err)
	}
}

// A snapshot that nobody wants any more ends soon, and is no failure.
func TestCancelledSnapshot(t *testing.T) {
	s, a, _, root := world(t)
	for i := range 50 {
		if err := os.Mkdir(filepath.Join(root, fmt.Sprint(i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}

	a.Gentle = &scan.Throttle{AtMost: 1}
	go func() {
		time.Sleep(300 * time.Millisecond)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.halt = true
	}()

	start := time.Now()
	if err := a.do(t.Context(), &wire.Work{ID: "w", Kind: wire.WorkSnapshot, Roots: []string{root}}); err != nil ||
		time.Since(start) > 20*time.Second || len(s.snapshots) != 0 {
		t.Errorf("%v after %s, %d sent", err, time.Since(start), len(s.snapshots))
	}

	if err := a.do(t.Context(), &wire.Work{ID: "w", Kind: wire.WorkSnapshot, Roots: []string{root}}); err != nil ||
		len(s.snapshots) != 0 {
		t.Errorf("one that was cancelled before it began: %v, %d sent", err, len(s.snapshots))
	}
}

// Whatever is wrong with an order, nothing is changed and the service is told.
func TestOrdersAreChecked(t *testing.T) {
	s, a, key, root := world(t)
	p := filepath.Join(root, "file")
	must(t, os.WriteFile(p, nil, 0o600))

	state := func(m mode.Mode) perm.Set { return posix.State{Mode: m}.Set() }
	chunk := plan.EncodeChunk([]plan.Step{{Path: p, Kind: perm.File, Before: state(0o600), After: state(0o666)}})
	s.chunks = [][]byte{chunk}
	manifest := plan.Manifest{
		Format: 1,
		ID:     "p",
		Kind:   plan.Adjustment,
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{root}, Steps: 1, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}

	good := plan.Order{
		Run:        "0123456789abcdef",
		Digest:     plan.Digest(manifest.Bytes()),
		Host:       "skiff",
		Author:     "a",
		ApprovedBy: []string{"b"},
		Expires:    time.Now().Add(time.Hour),
	}

	_, stranger, _ := ed25519.GenerateKey(nil)
	other := plan.EncodeChunk([]plan.Step{{Path: p, Kind: perm.File, Before: state(0o600), After: state(0o777)}})
	for _, x := range []struct {
		name   string
		change func(o *plan.Order)
		key    ed25519.PrivateKey
		chunk  []byte
		says   string
	}{
		{"a stranger's", func(*plan.Order) {}, stranger, chunk, "signature"},
		{"another host's", func(o *plan.Order) { o.Host = "barge" }, key, chunk, "it is for host"},
		{"an old one", func(o *plan.Order) { o.Expires = time.Now().Add(-time.Second) }, key, chunk, "expired"},
		{"one's own", func(o *plan.Order) { o.ApprovedBy = []string{"b", "a"} }, key, chunk, "different people"},
		{"a path for a name", func(o *plan.Order) { o.Run = "../../../../etc/x" }, key, chunk, "impossible name"},
		{"other steps", func(*plan.Order) {}, key, other, "not the one that was approved"},
	} {
		t.Run(x.name, func(t *testing.T) {
			o := good
			x.change(&o)
			order, sig := o.Sign(x.key)
			s.chunks = [][]byte{x.chunk}
			s.ended = nil
			if err := a.do(t.Context(), &wire.Work{
				ID:        "w",
				Kind:      wire.WorkRun,
				Order:     order,
				Signature: sig,
				Manifest:  manifest.Bytes(),
			}); err != nil {
				t.Fatal(err)
			}

			if len(s.ended) != 1 || s.ended[0].State != "failed" || !strings.Contains(s.ended[0].Message, x.says) {
				t.Errorf("%s: %+v, want %q", x.name, s.ended, x.says)
			}

			if st, err := os.Stat(p); err != nil || st.Mode().Perm() != 0o600 {
				t.Fatalf("%s: the file was changed to %v", x.name, st.Mode())
			}
		})
	}

	// Outside the host's own roots each step is refused, whoever signed it.
	order, sig := good.Sign(key)
	s.chunks, s.ended = [][]byte{chunk}, nil
	own := a.roots
	a.roots = []string{"/somewhere/else"}
	if err := a.do(t.Context(), &wire.Work{
		ID:        "w",
		Kind:      wire.WorkRun,
		Order:     order,
		Signature: sig,
		Manifest:  manifest.Bytes(),
	}); err != nil {
		t.Fatal(err)
	}

	if d := s.ended[0]; d.State != "finished" || d.Done != 0 || len(d.Results) != 1 ||
		!strings.Contains(d.Results[0].Reason, "own list of roots") {
		t.Errorf("outside the own roots: %+v", d)
	}

	a.roots = own

	// A host that only looks changes nothing.
	a.LookOnly, s.ended = true, nil
	if err := a.do(t.Context(), &wire.Work{
		ID:        "w",
		Kind:      wire.WorkRun,
		Order:     order,
		Signature: sig,
		Manifest:  manifest.Bytes(),
	}); err != nil {
		t.Fatal(err)
	}

	if d := s.ended[0]; d.State != "failed" || !strings.Contains(d.Message, "only looks") {
		t.Errorf("on a host that only looks: %+v", d)
	}

	a.LookOnly = false

	// A good order, halted before it began, and then let go on.
	good.Run = "0123456789abcdeg"
	order, sig = good.Sign(key)
	work := &wire.Work{ID: "w", Kind: wire.WorkRun, Order: order, Signature: sig, Manifest: manifest.Bytes()}
	s.halt, s.ended = true, nil
	if err := a.do(t.Context(), work); err != nil || s.ended[0].State != "halted" {
		t.Errorf("halted: %+v, %v", s.ended, err)
	}

	s.halt, s.ended = false, nil
	if err := a.do(t.Context(), work); err != nil || s.ended[0].State != "finished" || s.ended[0].Done != 1 {
		t.Errorf("good: %+v, %v", s.ended, err)
	}

	if st, err := os.Stat(p); err != nil || st.Mode().Perm() != 0o666 {
		t.Errorf("the good order did nothing: %v", st.Mode())
	}

	// The same order again does nothing more: the journal knows it has ended.
	must(t, os.Chmod(p, 0o600))

	s.ended = nil
	if err := a.do(t.Context(), work); err != nil || s.ended[0].State != "finished" {
		t.Errorf("again: %+v, %v", s.ended, err)
	}

	if st, _ := os.Stat(p); st.Mode().Perm() != 0o600 {
		t.Error("a replayed order was carried out again")
	}

	if err := a.do(t.Context(), &wire.Work{ID: "w", Kind: "dance"}); err == nil ||
		!strings.Contains(err.Error(), "unknown kind") {
		t.Errorf("unknown work: %v", err)
	}
}

// What a halted run has changed, and what it has narrowed, can be put back: its originals are stored too, with the
// state that the paths are in.
func TestOriginalsOfAHaltedRun(t *testing.T) {
	s, a, _, root := world(t)
	folder := filepath.Join(root, "folder")
	closed, opened := posix.State{Mode: 0o750}.Set(), posix.State{Mode: 0o705}.Set()
	if err := os.Mkdir(folder, 0o750); err != nil {
		t.Fatal(err)
	}

	steps := []plan.Step{{Path: folder, Kind: perm.Folder, Before: closed, After: opened}}
	for i := range 600 {
		p := filepath.Join(folder, fmt.Sprintf("f%04d", i))
		if err := os.WriteFile(p, nil, 0o600); err != nil {
			t.Fatal(err)
		}

		if err := os.Chmod(p, 0o604); err != nil {
			t.Fatal(err)
		}

		steps = append(steps, plan.Step{
			Path:   p,
			Kind:   perm.File,
			Before: posix.State{Mode: 0o604}.Set(),
			After:  posix.State{Mode: 0o640}.Set(),
		})
	}

	chunk := plan.EncodeChunk(steps)
	chunks := &stored{
		folder: t.TempDir(),
		part:   plan.HostPart{Roots: []string{root}, Chunks: []tree.Hash{plan.Digest(chunk)}},
	}
	if err := os.WriteFile(chunks.file(0), chunk, 0o600); err != nil {
		t.Fatal(err)
	}

	j, err := change.OpenJournal(filepath.Join(chunks.folder, "journal"), change.Head{Run: "r", Steps: len(steps)})
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()

	asked := 0
	r := &change.Runner{
		Journal: j,
		Roots:   a.roots,
		Allowed: a.roots,
		Chunks:  chunks,
		Batch:   256,
		Halt:    func() bool { asked++; return asked > 2 },
	}

	if err := r.Run(t.Context()); !errors.Is(err, change.ErrHalted) {
		t.Fatal(err)
	}

	left, err := r.Settle(t.Context())
	if err != nil {
		t.Fatal(err)
	}

	if err := sendOriginals(t.Context(), a.api, "w", j, chunks, left); err != nil {
		t.Fatal(err)
	}

	got, err := plan.DecodeChunk(s.originals)
	if err != nil || len(got) != 512 {
		t.Fatalf("%d originals, %v", len(got), err)
	}

	for i, o := range got {
		var st unix.Stat_t
		if err := unix.Stat(o.Path, &st); err != nil {
			t.Fatal(err)
		}

		now := posix.State{Mode: mode.Mode(st.Mode & 0o7777)}.Set()
		if o.After != now || o.Before != steps[i].Before || i > 0 && now != steps[i].After {
			t.Fatalf("%s: stored as %x, is %x", o.Path, o.After.Bytes(), now.Bytes())
		}
	}

	if got[0].After == closed || got[0].After == opened {
		t.Errorf("the folder was to be left narrowed: %x", got[0].After.Bytes())
	}
}

// An agent whose service is away waits and ends when told to.
func TestRunEndsWithItsContext(t *testing.T) {
	_, a, _, _ := world(t)
	a.api, _ = client.NewAgent("https://127.0.0.1:1",
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate(t)}), nil)
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	select {
	case err := <-done:
		if err == nil {
			t.Error("the agent ended without a reason")
		}
	case <-time.After(10 * time.Second):
		t.Error("the agent does not end")
	}
}

func certificate(t *testing.T) []byte {
	srv := httptest.NewTLSServer(http.NotFoundHandler())
	defer srv.Close()
	return srv.Certificate().Raw
}

// A folder that others can write to, or keys that others can read, are refused before anything is done with them.
func TestFolderIsPrivate(t *testing.T) {
	for what, c := range map[string]struct {
		change func(folder string) error
		says   string
	}{
		"as it should be": {func(string) error { return nil }, ""},
		"a folder for a group": {func(folder string) error { return os.Chmod(folder, 0o770) },
			"written to by others"},
		"a folder for everybody": {func(folder string) error { return os.Chmod(folder, 0o707) },
			"written to by others"},
		"another's folder": {func(folder string) error { return os.Chown(folder, 41001, 0) },
			"belongs to account 41001"},
		"settings for others": {
			func(folder string) error { return os.Chmod(filepath.Join(folder, SettingsFile), 0o640) },
			"read by others",
		},
		"another's settings": {
			func(folder string) error { return os.Chown(filepath.Join(folder, SettingsFile), 41001, 0) },
			"belongs to account 41001",
		},
		"a link to settings": {func(folder string) error {
			at := filepath.Join(folder, SettingsFile)
			return errors.Join(os.Rename(at, at+".real"), os.Symlink(at+".real", at))
		}, "is a link"},
		"a seal's key for others": {
			func(folder string) error { return os.WriteFile(filepath.Join(folder, keyFile), nil, 0o644) },
			"read by others",
		},
	} {
		t.Run(what, func(t *testing.T) {
			folder := filepath.Join(t.TempDir(), "agent")
			must(t, os.Mkdir(folder, 0o700))
			s := Settings{Host: "skiff"}
			must(t, s.save(folder))
			must(t, c.change(folder))
			_, loaded := Load(folder)
			_, enrolled := (&Joining{Folder: folder, Roots: []string{"/srv"}}).Request(t.Context())

			for _, err := range []error{loaded, enrolled, prepare(folder)} {
				if c.says == "" && err != nil || c.says != "" &&
					(err == nil || !strings.Contains(err.Error(), c.says)) {
					t.Errorf("%s: %v, want %q", what, err, c.says)
				}
			}
		})
	}
}

// The roots are meant by other letter case: of a file server the shares, which it finds so, and of a Windows
// system all names.
func TestSpelled(t *testing.T) {
	for _, c := range []struct{ asked, server, own string }{
		{"/Charts/North/a", "/charts/North/a", "/charts/north/a"},
		{"/charts/north", "/charts/north", "/charts/north"},
		{"/CHARTS", "/charts", "/charts"},
		{"/", "/", "/"},
		{"/c/DATA/B", "/C/DATA/B", "/C/Data/B"},
		{"/charts2/north", "/charts2/north", "/charts2/north"},
		{"/Charts/south", "/charts/south", "/Charts/south"},
	} {
		t.Run(c.asked, func(t *testing.T) {
			a := &Agent{roots: []string{"/charts/north", "/C/Data"}}
			if got := (&descriptors{a: a}).spelled(c.asked); got != c.own {
				t.Errorf("%s is %s on a system of its own, want %s", c.asked, got, c.own)
			}

			a.Server = &FileServer{}
			if got := (&descriptors{a: a}).spelled(c.asked); got != c.server {
				t.Errorf("%s is %s on a file server, want %s", c.asked, got, c.server)
			}
		})
	}
}

// An order counts once for one enrolment: not for another one, and not again when what tells of its run is gone.
func TestOrdersCountOnce(t *testing.T) {
	s, a, key, root := world(t)
	p := filepath.Join(root, "file")
	must(t, os.WriteFile(p, nil, 0o600))
	state := func(m mode.Mode) perm.Set { return posix.State{Mode: m}.Set() }
	chunk := plan.EncodeChunk([]plan.Step{{Path: p, Kind: perm.File, Before: state(0o600), After: state(0o666)}})
	manifest := plan.Manifest{
		Format: 1,
		ID:     "p",
		Kind:   plan.Adjustment,
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{root}, Steps: 1, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}

	do := func(enrolment string) wire.RunDone {
		t.Helper()
		o := plan.Order{
			Enrolment:  enrolment,
			Run:        "0123456789abcdef",
			Digest:     plan.Digest(manifest.Bytes()),
			Host:       "skiff",
			Author:     "a",
			ApprovedBy: []string{"b"},
			Expires:    time.Now().Add(time.Hour),
		}

		order, sig := o.Sign(key)
		s.chunks, s.ended = [][]byte{chunk}, nil
		must(t,
			a.do(t.Context(), &wire.Work{
				ID:        "w",
				Kind:      wire.WorkRun,
				Order:     order,
				Signature: sig,
				Manifest:  manifest.Bytes(),
			}))

		return s.ended[0]
	}

	mode := func() os.FileMode {
		st, err := os.Stat(p)
		must(t, err)
		return st.Mode().Perm()
	}
	a.Enrolment = "this one"
	for _, other := range []string{"", "the one before"} {
		t.Run(other, func(t *testing.T) {
			if d := do(other); d.State != "failed" || !strings.Contains(d.Message, "another enrolment") ||
				mode() != 0o600 {
				t.Errorf("of enrolment %q: %+v", other, d)
			}
		})
	}

	if d := do("this one"); d.State != "finished" || d.Done != 1 || mode() != 0o666 {
		t.Fatalf("%+v", d)
	}

	must(t, os.Chmod(p, 0o600))
	if d := do("this one"); d.State != "finished" || mode() != 0o600 { // its journal says that it is over
		t.Errorf("again: %+v", d)
	}

	must(t, os.RemoveAll(filepath.Join(a.Folder, "runs")))
	if d := do("this one"); d.State != "failed" || !strings.Contains(d.Message, "begun here before") ||
		mode() != 0o600 {
		t.Errorf("with its runs wiped: %+v", d)
	}

	must(t, os.WriteFile(filepath.Join(a.Folder, ordersFile), []byte("{"), 0o600))
	if d := do("this one"); d.State != "failed" || mode() != 0o600 {
		t.Errorf("with a list that cannot be read: %+v", d)
	}
}

// An agent says what runs on its host, and works with no service that does not speak its protocol.
func TestHello(t *testing.T) {
	s, a, _, _ := world(t)
	a.Version = "1.2.3"
	for _, c := range []struct {
		greeting *wire.Greeting
		says     string
	}{
		{nil, ""},
		{&wire.Greeting{Version: "1", Protocol: wire.Protocol, Oldest: wire.OldestProtocol}, ""},
		{&wire.Greeting{Version: "9", Protocol: wire.Protocol + 3, Oldest: wire.Protocol + 1},
			"bring this program up to date"},
		{&wire.Greeting{Version: "0.1", Protocol: wire.OldestProtocol - 1}, "bring the service up to date"},
	} {
		t.Run(c.says, func(t *testing.T) {
			s.greeting = c.greeting
			err := a.hello(t.Context())
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%+v: %v", c.greeting, err)
			}
		})
	}

	h := s.hellos[0]
	if h.Version != "1.2.3" || h.Protocol != wire.Protocol || h.Oldest != wire.OldestProtocol ||
		!strings.HasPrefix(h.System, "Linux ") || h.Up <= 0 || h.Runs < 0 || h.Runs > 3600 {
		t.Errorf("%+v", h)
	}
}
