package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// soon waits until something is so.
func soon(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("after 20 seconds: not %s", what)
		}
	}
}

// finding returns a path's finding in the newest report; nil where it has none.
func finding(t *testing.T, api *client.Client, path string) *wire.Finding {
	t.Helper()
	d, err := api.Drift(context.Background(), "ticketing", "slip-north")
	if err != nil || len(d.Reports) != 1 {
		t.Fatalf("%+v, %v", d.Reports, err)
	}
	list, err := api.Findings(context.Background(), d.Reports[0].ID, "", 5000)
	if client.Status(err) == 404 { // there is a newer one by now
		return finding(t, api, path)
	}
	must(t, err)
	if i := slices.IndexFunc(list, func(f wire.Finding) bool { return f.Path == path }); i >= 0 {
		return &list[i]
	}
	return nil
}

// What happens on a host is known at once, with who did it, and shows on the page that is open; whatever
// becomes of agent and service meanwhile, nothing is missed.
func TestWatch(t *testing.T) {
	t.Parallel()
	s := world(t, "", false)
	api := as(t, s, "quartermaster")
	watched := func() *wire.WatchState {
		t.Helper()
		hosts, err := api.Hosts(t.Context())
		must(t, err)
		return hosts[0].Watch
	}

	soon(t, "watching", func() bool { w := watched(); return w != nil && w.Watching })
	const path = "/srv/ticketing/releases/2026-02/lib/part-07"
	file := filepath.Join(s.Root("slip-north"), path)
	if _, err := os.Stat(file); err != nil {
		t.Fatal(err)
	}

	b := open(t, s, 1280, 800, false)
	must(t, b.SignIn("lookout", demo.Password))
	must(t, b.Go("/drift/ticketing?host=slip-north"))

	// By a process that stays for a moment, in the name of somebody who had logged in.
	job := exec.Command("sh", "-c", "echo 2002 >/proc/self/loginuid; chmod 0646 '"+file+"'; sleep 0.3")
	must(t, job.Run())
	must(t, b.See("part-07"))
	axe(t, b, "drift that was heard of")
	soon(t, "a finding", func() bool { return finding(t, api, path) != nil })
	f := finding(t, api, path)
	if f.By == nil || f.By.What != "changed" || f.By.PID == 0 || time.Since(f.By.At) > time.Minute {
		t.Errorf("%+v", f.By)
	} else if f.By.Command != "" && (f.By.Account != "root" || f.By.Login != "clerk-east") {
		t.Errorf("%+v", f.By)
	}

	if f.By != nil { // and of its group it is told by whom, whatever else is in that
		d, err := api.Drift(t.Context(), "ticketing", "slip-north")
		must(t, err)
		i := slices.IndexFunc(d.Groups, func(g wire.Group) bool { return g.ID == f.Group })
		if i < 0 || !slices.Contains(d.Groups[i].Doers, wire.DriftOrigin{What: f.By.Whom(), Findings: 1}) {
			t.Errorf("%+v, not by %s", d.Groups, f.By.Whom())
		}
	}

	times, err := api.PathTimes(t.Context(), "slip-north", path, "")
	must(t, err)
	if len(times.Items) != 2 || times.Items[0].By == nil || f.By == nil || times.Items[0].By.PID != f.By.PID {
		t.Errorf("what it was: %+v", times)
	}

	snaps, err := api.Snapshots(t.Context(), "ticketing", "slip-north", 1)
	must(t, err)
	if len(snaps) != 1 || !snaps[0].Heard || snaps[0].RequestedBy != "" {
		t.Errorf("%+v", snaps)
	}

	must(t, os.Chmod(file, 0o640))
	soon(t, "mended", func() bool { return finding(t, api, path) == nil })
	must(t, b.Do(chromedp.WaitNotPresent(`//code[contains(., "part-07")]`, chromedp.BySearch)))

	// While the agent is not there, and while the service is not.
	s.Agents["slip-north"].Kill()
	must(t, os.Chmod(file, 0o604))
	must(t, s.StartAgent("slip-north"))
	soon(t, "found after the agent was killed", func() bool { return finding(t, api, path) != nil })
	s.Service.Kill()
	must(t, os.Chmod(file, 0o640))
	must(t, s.Serve(t.Context(), strings.TrimPrefix(s.Address, "https://"), ""))
	soon(t, "mended after the service was killed", func() bool { return finding(t, api, path) == nil })

	// What was not there when the watch began; and a file system that is mounted meanwhile.
	fresh := filepath.Join(filepath.Dir(file), "made later")
	must(t, os.MkdirAll(filepath.Join(fresh, "below"), 0o777))
	must(t, os.WriteFile(filepath.Join(fresh, "below/f"), nil, 0o640))
	must(t, os.Chmod(filepath.Join(fresh, "below/f"), 0o666))
	soon(t, "found in a new folder", func() bool {
		return finding(t, api, "/srv/ticketing/releases/2026-02/lib/made later/below/f") != nil
	})

	// An agent that may not listen says so, and snapshots go on.
	s.Agents["slip-north"].Stop()
	s.Deaf = true
	must(t, s.StartAgent("slip-north"))
	soon(t, "deaf", func() bool { w := watched(); return w != nil && !w.Watching && len(w.Notes) == 1 })
	must(t, os.Chmod(file, 0o606))
	snapshot(t, api, "ticketing", "slip-north")
	if finding(t, api, path) == nil {
		t.Error("a snapshot that was asked for does not find it")
	}

	c := command{t: t, s: s, person: "lookout"}
	c.login()
	c.want(0, "no: the agent was started with --watch=false", "host", "list")
	must(t, b.Go("/settings"))
	must(t, b.See("the agent was started with --watch=false"))

	for _, f := range b.Faults() {
		if !strings.Contains(f, "happenings") && !strings.Contains(f, "ERR_CONNECTION_") &&
			!strings.Contains(f, "ERR_EMPTY_RESPONSE") {
			// the service was killed, perhaps in an answer
			t.Errorf("the browser complains: %s", f)
		}
	}
}
