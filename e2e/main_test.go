//go:build linux

// Package e2e tries the whole product through its real commands, its network interface and a
// real browser, on the demo world's real hosts.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// patience is how long anything is waited for that comes by itself: far longer than it takes, since this
// machine may have much else to do. Only what is broken waits so long.
const patience = 6 * time.Minute

// program is the idletally program, built for these tests: passwords cost it next to nothing.
var program string

// released builds the program as it is released, for tests that measure.
var released = sync.OnceValues(func() (string, error) {
	file := filepath.Join(filepath.Dir(program), "released")
	return file, build(file, "idletally/cmd/idletally")
})

func build(file, pkg string, flags ...string) error {
	cmd := exec.Command("go", append(append([]string{"build", "-o", file}, flags...), pkg)...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("build %s: %w\n%s", pkg, err, out)
	}
	return nil
}

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "inside" { // a process of a demo host
		fmt.Fprintln(os.Stderr, demo.Inside(os.Args[2:]))
		os.Exit(1)
	}

	if err := demo.Private(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}

	flag.Parse()
	if given := flag.Lookup("test.parallel"); given.Value.String() == given.DefValue {
		_ = given.Value.Set("4") // each waits for its own service, agents and browser most of the time
	}

	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "idletally-e2e-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)

		program = filepath.Join(dir, "idletally")
		err = build(program, "idletally/cmd/idletally", "-ldflags", "-X idletally/internal/service/auth.onTrial=yes")
		if err == nil {
			err = build(filepath.Join(dir, "saltmarsh"), "idletally/demo/saltmarsh")
		}

		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}

		return m.Run()
	}())
}

// begin starts a demo world of its own for a test. Its agents watch nothing, so that the test says when
// they look.
func begin(t *testing.T, database string) *demo.Stage { return world(t, database, true) }

func world(t *testing.T, database string, deaf bool) *demo.Stage {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}

	log := &logBook{}
	s, err := demo.Begin(t.Context(), folder(t), program, self, "127.0.0.1:0", database, log)
	if s != nil {
		t.Cleanup(func() { ending(t, s, log) })
	}

	if err == nil {
		s.Deaf = deaf
		err = s.Populate(t.Context())
	}

	if err == nil {
		err = s.Declare(t.Context())
	}

	if err != nil {
		t.Fatalf("%v\n%s", err, log.tail())
	}

	return s
}

// bare starts a service without hosts.
func bare(t *testing.T, listen, database string, settings ...string) (*demo.Stage, *logBook) {
	t.Helper()
	return bareOf(t, program, listen, database, settings...)
}

// bareOf starts the service of a program, without hosts.
func bareOf(t *testing.T, program, listen, database string, settings ...string) (*demo.Stage, *logBook) {
	t.Helper()
	log := &logBook{}
	s := demo.Bare(filepath.Join(folder(t), "stage"), program, log)
	s.Settings = settings
	if err := s.Serve(t.Context(), listen, database); err != nil {
		t.Fatalf("%v\n%s", err, log.tail())
	}
	t.Cleanup(func() { ending(t, s, log) })
	return s, log
}

// crewed starts a service without hosts that people know.
func crewed(t *testing.T) (s *demo.Stage, admin *client.Client) {
	t.Helper()
	s, _ = bare(t, "127.0.0.1:0", "")
	admin, err := s.Crew(t.Context())
	must(t, err)
	return s, admin
}

// folder is one that the database's account goes through.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "idletally-stage-")
	if err == nil {
		err = os.Chmod(dir, 0o711)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func ending(t *testing.T, s *demo.Stage, log *logBook) {
	if err := s.End(); err != nil {
		t.Error(err)
	}
	if t.Failed() {
		t.Logf("the log of service and agents ends so:\n%s", log.tail())
	}
}

// linked returns a path that plans change another name, on each of some hosts: whatever was approved, that
// is refused then.
func linked(t *testing.T, s *demo.Stage, hosts ...string) {
	t.Helper()
	for _, h := range hosts {
		err := os.Link(filepath.Join(s.Root(h), "srv/ticketing/logs/sales-005.log"),
			filepath.Join(s.Root(h), "var/late"))
		if err != nil {
			t.Fatal(err)
		}
	}
}

// logBook keeps what the processes log.
type logBook struct{ file *os.File }

func (l *logBook) Write(b []byte) (int, error) {
	if l.file == nil {
		f, err := os.CreateTemp("", "idletally-log-")
		if err != nil {
			return 0, err
		}
		os.Remove(f.Name())
		l.file = f
	}
	return l.file.Write(b)
}

func (l *logBook) tail() string {
	if l.file == nil {
		return ""
	}
	size, _ := l.file.Seek(0, io.SeekEnd)
	b := make([]byte, min(size, 4000))
	n, _ := l.file.ReadAt(b, size-int64(len(b)))
	return string(b[:n])
}

// lastOf waits until the last line of the log that is about something says something. It comes through a pipe, and so
// may come after the answer that it is about; other lines may come between. Where it does not come it returns the last
// one.
func (l *logBook) lastOf(about, text string) (last string) {
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		last = ""
		for line := range strings.Lines(l.tail()) {
			if strings.Contains(line, about) {
				last = line
			}
		}
		if strings.Contains(last, text) {
			return ""
		}
	}
	return last + " "
}

func as(t *testing.T, s *demo.Stage, name string) *client.Client {
	t.Helper()
	c, err := s.As(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// command runs the real program as a person with a session of their own.
type command struct {
	t      *testing.T
	s      *demo.Stage
	person string
	more   string // of the environment
}

// with has one thing more in the environment.
func (c command) with(more string) command {
	c.more = more
	return c
}

func (c command) env() []string {
	env := append(os.Environ(), "XDG_CONFIG_HOME="+filepath.Join(c.s.Dir, "people", c.person))
	if c.more != "" {
		env = append(env, c.more)
	}
	return env
}

func (c command) run(stdin string, argv ...string) (stdout, stderr string, code int) {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(c.t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, argv...)
	cmd.Env = c.env()
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		c.t.Fatalf("idletally %s: %v", strings.Join(argv, " "), err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// want runs a command that is to end with a code and to say something.
func (c command) want(code int, says string, argv ...string) {
	c.t.Helper()
	if out, errs, got := c.run("", argv...); got != code || !strings.Contains(out+errs, says) {
		c.t.Errorf("%v: exit code %d, want %d and %q\n%s%s", argv, got, code, says, out, errs)
	}
}

func (c command) login() {
	c.t.Helper()
	_, errs, code := c.run(demo.Password+"\n", "login", c.s.Address, "--authority", c.s.Authority(), "--name", c.person,
		"--password-stdin")
	if code != 0 {
		c.t.Fatalf("login as %s: %s", c.person, errs)
	}
}

// words returns something said of each grave caution.
func words(p wire.Plan) map[string]string {
	out := map[string]string{}
	for _, c := range p.Cautions {
		if c.Grave {
			out[c.ID] = "This is meant, in a test."
		}
	}
	return out
}

// approved takes a draft through review.
func approved(t *testing.T, s *demo.Stage, p wire.Plan) {
	t.Helper()
	if _, err := as(t, s, "quartermaster").Submit(t.Context(), p.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := as(t, s, "harbourmaster").Decide(t.Context(), p.ID, true, wire.Decision{
		Digest: p.Digest,
		Words:  words(p),
	}); err != nil {
		t.Fatal(err)
	}
}

// agreed takes a draft through review and runs it to its end.
func agreed(t *testing.T, s *demo.Stage, p wire.Plan) wire.Run {
	t.Helper()
	author := as(t, s, "quartermaster")
	approved(t, s, p)
	r, err := author.StartRun(t.Context(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	return ended(t, author, r.ID)
}

func ended(t *testing.T, c *client.Client, run string) (last wire.Run) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	for ctx.Err() == nil {
		if err := c.Watch(ctx, run, func(r wire.Run) { last = r }); err != nil {
			time.Sleep(100 * time.Millisecond) // a service that restarts
			continue
		}
		if last.State != "running" {
			return last
		}
	}
	t.Fatalf("run %s did not end: %+v", run, last)
	return last
}

// quiet waits until no snapshot is waited for, so that the next one shows what is there now.
func quiet(t *testing.T, c *client.Client) {
	t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		snaps, err := c.Snapshots(t.Context(), "", "", 20)
		if err != nil {
			t.Fatal(err)
		}
		waiting := false
		for _, s := range snaps {
			waiting = waiting || s.State == "waiting"
		}
		if !waiting {
			return
		}
	}
	t.Fatal("snapshots are still waited for")
}

func snapshot(t *testing.T, c *client.Client, application, host string) wire.Snapshot {
	t.Helper()
	snap, err := demo.Snapshot(t.Context(), c, application, host)
	if err != nil {
		t.Fatal(err)
	}
	return snap
}

// post sends a body to an operation of the API as it is, as somebody or, without a token, as nobody, with
// some headers (name, value, …).
func post(
	t *testing.T, s *demo.Stage, c *client.Client, path, body string, header ...string,
) (status int, answer string, h http.Header) {
	t.Helper()
	return postTo(t, s, c, "/api/v1"+path, body, header...)
}

// postTo sends a body to any path.
func postTo(
	t *testing.T, s *demo.Stage, c *client.Client, path, body string, header ...string,
) (status int, answer string, h http.Header) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.Address+path, strings.NewReader(body))
	must(t, err)
	req.Header.Set("Content-Type", "application/json")
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}

	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}

	resp, err := c.HTTP.Do(req)
	must(t, err)
	defer resp.Body.Close()

	b, err := io.ReadAll(resp.Body)
	must(t, err)
	return resp.StatusCode, string(b), resp.Header
}

// fails checks that an error has a status and says something.
func fails(t *testing.T, what string, err error, status int, says string) {
	t.Helper()
	if client.Status(err) != status || err == nil || !strings.Contains(err.Error(), says) {
		t.Errorf("%s: %v (status %d), want status %d and %q", what, err, client.Status(err), status, says)
	}
}

// pastOf asks the history for what begins with a word.
func pastOf(what string) client.HistoryQuery { return client.HistoryQuery{What: what} }
