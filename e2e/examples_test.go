//go:build linux

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

	"idletally/demo"
	"idletally/internal/cli"
	"idletally/internal/client"
	"idletally/internal/testkit/sshkeys"
	"idletally/internal/wire"
)

// notRun are the commands whose examples are not run with the others, and why.
var notRun = map[string]string{
	"login": "it asks at the terminal; the test signs in itself", "serve": "it goes on; each test starts one",
	"drift watch": "it goes on: TestNothingIsGreenByMistake",
	"agent enrol": "each world enrols its hosts", "agent run": "it goes on; each world has some",
	"agent stdio":   "it goes on: TestRemote",
	"agent request": "TestCarried", "agent join": "TestCarried", "agent carry": "TestCarried",
	"host admit": "TestCarried", "run export": "TestCarried", "run import": "TestCarried",
	"roster sign": "of an edition that follows on another: TestRoster", "roster withdraw": "TestRoster",
	"agent roster": "on a host: TestRoster", "request agree": "TestRequests", "request show": "TestRequests",
	"request decline": "TestRequests",
	"agent prober":    "of a file server: TestShares", "agent status": "on a host: TestWorld",
	"agent runs": "on a host: TestWorld", "agent put-back": "on a host: TestWorld",
	"run halt":     "of a run that goes on: TestAgentKilledInRun",
	"run resume":   "of a run that stands still: TestAgentKilledInRun",
	"backup write": "by the service's own folder: TestBackup", "backup check": "TestBackup",
	"backup restore": "TestBackup",
	"policy set":     "it would ask the people of the test for a second factor: TestPolicy",
	"policy keep":    "TestPolicy", "keys replace": "TestKeys", "keys end": "TestKeys",
	"sign-in confirm": "it asks at the terminal", "sign-in password": "it asks at the terminal",
	"sign-in second-factor": "it asks at the terminal", "sign-in no-second-factor": "it asks at the terminal",
}

// The examples that the help shows are run on the demo world, in their order, with ids that are there: each
// does what it is to.
func TestExamples(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	at := t.TempDir()
	for _, who := range []string{"quartermaster", "admin", "harbourmaster"} {
		command{t: t, s: s, person: who}.login()
	}

	if _, errs, code := (command{t: t, s: s, person: "quartermaster"}).run(demo.Password+"\n", "login", s.Address,
		"--authority", s.Authority(), "--name", "quartermaster", "--profile", "staging",
		"--password-stdin"); code != 0 {
		t.Fatal(errs)
	}

	for _, app := range []string{"ticketing", "tideboard"} {
		must(t, os.WriteFile(filepath.Join(at, app+".yaml"), []byte(demo.Baseline(app)), 0o644))
	}

	for who, file := range map[string]string{"quartermaster": "laptop", "harbourmaster": "other"} {
		sshkeys.New(t, filepath.Join(at, file), "ed25519", "")
		if who == "harbourmaster" { // the other one is added by an example
			command{t: t, s: s, person: who}.want(0, "SHA256", "roster", "key", "add", "laptop",
				filepath.Join(at, file+".pub"))
		}
	}

	ids := ids{t: t, s: s, api: as(t, s, "quartermaster"), admin: as(t, s, "admin")}
	snapshot(t, ids.api, "ticketing", "slip-north")

	run := func(who, line string) (string, int) {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", line)
		cmd.Dir = at
		cmd.Env = append(command{t: t, s: s, person: who}.env(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}

	n := 0
	for _, line := range cli.Examples {
		words := strings.Fields(line)
		if notRun[words[1]] != "" || len(words) > 2 && notRun[words[1]+" "+words[2]] != "" {
			continue
		}

		n++
		real := ids.in(line)
		out, code := run("quartermaster", real)
		if strings.Contains(out, "needs the role admin") || strings.Contains(out, "token: not found") {
			out, code = run("admin", real)
		}

		if strings.Contains(out, "your own plan") || strings.Contains(out, "own plan") {
			out, code = run("harbourmaster", real)
		}

		fine := []int{0, 4} // 4 is bad news, of which the demo world has much
		if words[1] == "doctor" || strings.HasPrefix(line, "idletally hook try") {
			fine = append(fine, 1) // nobody listens there
		}

		if !slices.Contains(fine, code) {
			t.Errorf("%s\n%s\nexit code %d: %s", line, real, code, out)
		}
	}

	if n < 85 {
		t.Errorf("%d examples were run", n)
	}
}

// ids stands real ids in the place of those that examples have.
type ids struct {
	t          *testing.T
	s          *demo.Stage
	api, admin *client.Client
}

// plan makes a plan of one finding's group that waits for a review, and gives its id and digest.
func (x ids) plan(by *client.Client) (id, digest string) {
	x.t.Helper()
	p, err := by.DraftPlan(x.t.Context(), wire.Draft{Application: "tideboard", All: true})
	must(x.t, err)
	p, err = by.Submit(x.t.Context(), p.ID)
	must(x.t, err)
	return p.ID, p.Digest
}

func (x ids) in(line string) string {
	x.t.Helper()
	ctx := x.t.Context()
	first := func(id string, err error) string {
		x.t.Helper()
		must(x.t, err)
		return id
	}
	change := func(from, to string) { line = strings.ReplaceAll(line, from, to) }
	change("2026-12-24", time.Now().AddDate(0, 0, 20).Format(time.DateOnly))

	switch {
	case strings.Contains(line, "06h2jge24h0f2xps"):
		snaps, err := x.api.Snapshots(ctx, "ticketing", "slip-north", 10)
		must(x.t, err)
		change("06h2jj2fbg2jcdze", snaps[0].ID)
		change("06h2jge24h0f2xps", snaps[1].ID)
	case strings.Contains(line, "06h2jk7tfezssm2x"):
		x.s.Agents["slip-south"].Stop()
		snap, err := x.api.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-south"})
		must(x.t, err)
		change("06h2jk7tfezssm2x", snap.ID)
	case strings.Contains(line, "06h2jkb0srv0dx1c"):
		must(x.t, x.s.StartAgent("slip-south"))
		all, err := x.api.Schedules(ctx)
		change("06h2jkb0srv0dx1c", first(all[0].ID, err))
	case strings.Contains(line, "06h1453wa1p4zdvg"):
		all, err := x.api.Waivers(ctx, "ticketing", false)
		change("06h1453wa1p4zdvg", first(all[0].ID, err))
	case strings.HasPrefix(line, "idletally plan withdraw"), strings.HasPrefix(line, "idletally plan decline"):
		id, digest := x.plan(x.api)
		change("06h2jge4srbeb592", id)
		change("d8594125e1a5f521be6447972315333fe0820b1e4e50a49d4cb365c59309f871", digest)
	case strings.Contains(line, "06h2jge4srbeb592"):
		plans, err := x.api.Plans(ctx, "", 100)
		must(x.t, err)
		i := slices.IndexFunc(plans, func(p wire.Plan) bool { return p.Title == "Close the logs" })
		change("06h2jge4srbeb592", plans[i].ID)
		change("d8594125e1a5f521be6447972315333fe0820b1e4e50a49d4cb365c59309f871", plans[i].Digest)

	case strings.Contains(line, "06h2jggeyr7c77cg"):
		runs, err := x.api.Runs(ctx, 1)
		change("06h2jggeyr7c77cg", first(runs[0].ID, err))
	case strings.Contains(line, "06h2jkq3hx9xj4te"):
		all, err := x.api.SigningKeys(ctx)
		must(x.t, err)
		i := slices.IndexFunc(all, func(k wire.RosterKey) bool { return k.Person == "quartermaster" })
		change("06h2jkq3hx9xj4te", all[i].ID)
	case strings.Contains(line, "06h2jkc9x2mtm04y"):
		all, err := x.api.Tokens(ctx)
		change("06h2jkc9x2mtm04y", first(all[0].ID, err))
	case strings.Contains(line, "06h1a5kz3wv4n0ay"):
		all, err := x.admin.Hooks(ctx)
		change("06h1a5kz3wv4n0ay", first(all[0].ID, err))
	}

	return line
}
