//go:build linux

package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"idletally/demo"
	"idletally/internal/core/lifecycle"
	"idletally/internal/wire"
)

// guide runs commands as people of the demo world, printing each and what it says.
type guide struct {
	s *demo.Stage
}

// run runs a command as a person; allowed exit codes besides 0 are given.
func (g *guide) run(ctx context.Context, person, stdin string, codes []int, argv ...string) (string, error) {
	fmt.Printf("\n%s$ idletally %s\n", person, quote(argv))
	cmd := exec.CommandContext(ctx, g.s.Program, argv...)
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "XDG_CONFIG_HOME="+filepath.Join(g.s.Dir, "people", person))
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	text := out.String()
	shown := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if len(shown) > 40 {
		shown = append(shown[:36], fmt.Sprintf("… and %d lines more", len(shown)-36))
	}

	fmt.Println(strings.Join(shown, "\n"))
	if errs.Len() > 0 {
		fmt.Print(errs.String())
	}

	var exit *exec.ExitError
	if errors.As(err, &exit) {
		for _, c := range codes {
			if exit.ExitCode() == c {
				fmt.Printf("(exit code %d)\n", c)
				return text, nil
			}
		}
	}

	if err != nil {
		return text, fmt.Errorf("idletally %s: %w", strings.Join(argv, " "), err)
	}
	if len(codes) > 0 && codes[0] != 0 {
		return text, fmt.Errorf("idletally %s went well, and should not have", strings.Join(argv, " "))
	}

	return text, nil
}

func quote(argv []string) string {
	out := make([]string, len(argv))
	for i, a := range argv {
		out[i] = a
		if a == "" || strings.ContainsAny(a, " '\"$") {
			out[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

// ask runs a command with JSON output, without showing it.
func ask[T any](ctx context.Context, g *guide, person string, argv ...string) (out T, err error) {
	cmd := exec.CommandContext(ctx, g.s.Program, append(argv, "--output", "json")...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+filepath.Join(g.s.Dir, "people", person))
	b, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 4 {
		err = nil
	}
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	return out, err
}

// list is ask for commands that list.
func list[T any](ctx context.Context, g *guide, person string, argv ...string) ([]T, error) {
	p, err := ask[wire.Page[T]](ctx, g, person, argv...)
	return p.Items, err
}

// tour tells the whole story, and ends well only if the restored trees equal the original ones.
func tour(ctx context.Context, s *demo.Stage) error {
	g := &guide{s}
	step := func(person string, argv ...string) error {
		_, err := g.run(ctx, person, "", nil, argv...)
		return err
	}
	if err := g.signIn(ctx); err != nil {
		return err
	}

	heading("Declare")
	bad := filepath.Join(s.Dir, "mistaken.yaml")
	good := filepath.Join(s.Dir, "ticketing.yaml")
	text := demo.Baseline("ticketing")
	wrong := strings.Replace(strings.Replace(text, "folders: 2750", "folder: 2750", 1), "files: 0600", "files: 0800", 1)

	for file, body := range map[string]string{bad: wrong, good: text} {
		if err := os.WriteFile(file, []byte(body), 0o600); err != nil {
			return err
		}
	}

	if _, err := g.run(ctx, "quartermaster", "", []int{4}, "baseline", "check", bad); err != nil {
		return err
	}

	for _, argv := range [][]string{
		{"baseline", "check", good},
		{"baseline", "upload", good},
		{"baseline", "publish", "ticketing", "1"},
	} {
		if err := step("quartermaster", argv...); err != nil {
			return err
		}
	}

	heading("Look")
	if err := step("quartermaster", "snapshot", "take", "ticketing"); err != nil {
		return err
	}
	before, err := roots(ctx, g)
	if err != nil {
		return err
	}
	if err := step("quartermaster", "path", "list", "--snapshot", before["slip-north"].ID, "/srv/ticketing",
		"--entries"); err != nil {
		return err
	}

	heading("Compare")
	if err := step("quartermaster", "drift", "show", "ticketing"); err != nil {
		return err
	}
	if _, err := g.run(ctx, "quartermaster", "", []int{4}, "drift", "show", "ticketing", "--host", "slip-south",
		"--strict", "--output", "csv"); err != nil {
		return err
	}

	heading("Plan, review, run")
	if err := step("quartermaster", "plan", "draft", "ticketing", "--all", "--title",
		"Put ticketing in order"); err != nil {
		return err
	}

	run, err := g.agreedRun(ctx, "approved and run")
	if err != nil {
		return err
	}
	if err := g.settled(ctx); err != nil {
		return err
	}
	if err := step("quartermaster", "drift", "show", "ticketing"); err != nil {
		return err
	}

	if err := g.keys(ctx, run); err != nil {
		return err
	}

	heading("Put back")
	if err := step("quartermaster", "plan", "restore", run); err != nil {
		return err
	}
	if _, err := g.agreedRun(ctx, "put back"); err != nil {
		return err
	}
	if err := step("quartermaster", "snapshot", "take", "ticketing"); err != nil {
		return err
	}
	if err := step("harbourmaster", "history", "--most", "12"); err != nil {
		return err
	}
	after, err := roots(ctx, g)
	if err != nil {
		return err
	}

	heading("Is everything as it was?")
	for host := range demo.Hosts {
		b, a := before[host].Root, after[host].Root
		fmt.Printf("%s  before %s\n%s  after  %s\n", host, b, host, a)
		if a != b {
			return fmt.Errorf("host %s is not as it was before", host)
		}
	}

	fmt.Println("\nEvery path has the permissions it had before the tour. That is the tour.")
	return nil
}

// agreedRun takes the newest plan through review, shows that nobody approves their own, and runs it.
func (g *guide) agreedRun(ctx context.Context, what string) (run string, err error) {
	plans, err := list[wire.Plan](ctx, g, "quartermaster", "plan", "list", "--state", "draft")
	if err != nil || len(plans) == 0 {
		return "", fmt.Errorf("the draft to be %s is not there: %w", what, err)
	}
	p := plans[0]
	if _, err := g.run(ctx, "quartermaster", "", nil, "plan", "submit", p.ID, "--key",
		g.s.KeyFile("quartermaster")); err != nil {
		return "", err
	}
	if _, err := g.run(ctx, "quartermaster", "", []int{1}, "plan", "approve", p.ID, "--digest", p.Digest); err != nil {
		return "", err
	}
	whole, err := ask[wire.Plan](ctx, g, "harbourmaster", "plan", "show", p.ID)
	if err != nil {
		return "", err
	}

	argv := []string{"plan", "approve", p.ID, "--digest", p.Digest, "--remark", "Looked at every group.", "--key",
		g.s.KeyFile("harbourmaster")}
	for _, c := range whole.Cautions {
		if c.Grave {
			argv = append(argv, "--word", c.ID+"=It was so before, and goes back to that.")
		}
	}

	if _, err := g.run(ctx, "harbourmaster", "", nil, argv...); err != nil {
		return "", err
	}
	if _, err := g.run(ctx, "quartermaster", "", []int{0, 4}, "run", "start", p.ID); err != nil {
		return "", err
	}
	runs, err := list[wire.Run](ctx, g, "quartermaster", "run", "list")
	if err != nil || len(runs) == 0 {
		return "", fmt.Errorf("the run is not there: %w", err)
	}

	return runs[0].ID, nil
}

// heading begins a part of the tour.
func heading(text string) { fmt.Printf("\n── %s\n", text) }

// signIn signs the people in, and shows by whose keys hosts change something.
func (g *guide) signIn(ctx context.Context) error {
	heading("People sign in")
	for _, p := range []string{"quartermaster", "harbourmaster"} {
		if _, err := g.run(ctx, p, demo.Password+"\n", nil, "login", g.s.Address, "--authority", g.s.Authority(),
			"--name", p, "--password-stdin"); err != nil {
			return err
		}
	}
	if _, err := g.run(ctx, "quartermaster", "", nil, "host", "list"); err != nil {
		return err
	}

	heading("Whose keys hosts ask for")
	_, err := g.run(ctx, "harbourmaster", "", nil, "roster", "show")
	return err
}

// keys shows what people's own keys are for: what was signed is proved, and what was not is refused.
func (g *guide) keys(ctx context.Context, run string) error {
	heading("What an auditor sees, with the roster alone")
	if err := g.evidence(ctx, run); err != nil {
		return err
	}
	heading("Somebody has stolen the service, with all of its keys")
	return g.forged()
}

// evidence shows what is kept of a run's plan, and verifies it.
func (g *guide) evidence(ctx context.Context, run string) error {
	r, err := ask[wire.Run](ctx, g, "quartermaster", "run", "show", run)
	if err != nil {
		return err
	}
	file := filepath.Join(g.s.Dir, "plan.evidence")
	if _, err := g.run(ctx, "harbourmaster", "", nil, "plan", "evidence", r.Plan, file); err != nil {
		return err
	}
	_, err = g.run(ctx, "auditor", "", nil, "plan", "verify", file, "--roster", g.s.RosterFile())
	return err
}

// forged shows that a host refuses an order that is signed by the service's own key, and by nobody else.
func (g *guide) forged() error {
	const host = "slip-north"
	f, err := g.s.Forge(host, nil)
	if err != nil {
		return err
	}
	fmt.Printf("An order to open %s on %s to everybody, by the service's own key, as if two people had agreed:\n",
		f.Path, host)
	fmt.Printf("\n%s# idletally agent carry forged.order report\n", host)
	said, err := g.s.Carry(host, f.File)
	fmt.Println(said)
	if err == nil || !strings.Contains(said, "refused by the roster") {
		return fmt.Errorf("host %s carried out what nobody had signed: %w", host, err)
	}
	return nil
}

// settled waits for the snapshots that follow a run.
func (g *guide) settled(ctx context.Context) error {
	for ctx.Err() == nil {
		snaps, err := list[wire.Snapshot](ctx, g, "quartermaster", "snapshot", "list", "--application", "ticketing")
		if err != nil {
			return err
		}
		waiting := false
		for _, s := range snaps {
			waiting = waiting || s.State == lifecycle.SnapshotWaiting
		}
		if !waiting {
			return nil
		}
	}
	return ctx.Err()
}

// roots returns the newest snapshot of each host.
func roots(ctx context.Context, g *guide) (map[string]wire.Snapshot, error) {
	if err := g.settled(ctx); err != nil {
		return nil, err
	}
	snaps, err := list[wire.Snapshot](ctx, g, "quartermaster", "snapshot", "list", "--application", "ticketing")
	out := map[string]wire.Snapshot{}
	for i := len(snaps) - 1; i >= 0; i-- { // the newest come first
		out[snaps[i].Host] = snaps[i]
	}
	return out, err
}
