//go:build linux

package main

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// overhear measures the time from a change on a host to the finding in the database, and on an open page, while so
// many paths are watched: with the real agent, service, database and browser. There is about one change a second.
func overhear(entries, changes int, parent string) error {
	ctx := context.Background()
	root, err := os.MkdirTemp(parent, "idletally-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(root)

	made, err := grow(root, entries)
	if err != nil {
		return err
	}
	dir, db, err := database(ctx, parent)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer db.Stop()

	stage, err := demo.Begin(ctx, filepath.Join(dir, "stage"), "bin/idletally", "", "127.0.0.1:0", db.DSN, os.Stderr)
	if err != nil {
		return err
	}
	defer func() { _ = stage.End() }()

	api, agent, err := skiff(ctx, stage, filepath.Join(dir, "agent"), root)
	if err != nil {
		return err
	}
	defer agent.Stop()

	if err := until(ctx, func() (bool, error) {
		hosts, err := api.Hosts(ctx)
		if err != nil || len(hosts) == 0 || hosts[0].Watch == nil || !hosts[0].Watch.Watching {
			return false, err
		}

		apps, err := api.Applications(ctx)
		return err == nil && len(apps) == 1 && len(apps[0].Hosts) == 1 && apps[0].Hosts[0].Report != nil, err
	}, 5*time.Minute); err != nil {
		return fmt.Errorf("wait for the first snapshot: %w", err)
	}

	time.Sleep(15 * time.Second) // the rest after a long first look
	page, err := browser.New(ctx, stage.Address, 1280, 800, false)
	if err != nil {
		return err
	}
	defer page.Close()

	if err := page.SignIn("admin", demo.Password); err != nil {
		return err
	}
	if err := page.Go("/drift/bench?host=skiff"); err != nil {
		return err
	}

	// When a path is first seen on the page.
	if err := page.Do(chromedp.Evaluate(`window.seen = {}; new MutationObserver(() => {
		for (const m of document.body.innerText.matchAll(/file-\d+\.dat/g)) window.seen[m[0]] ??= Date.now();
	}).observe(document.body, { subtree: true, childList: true, characterData: true }); 0`, nil)); err != nil {
		return err
	}

	conn, err := sql.Open("mysql", db.DSN)
	if err != nil {
		return err
	}
	defer conn.Close()

	var stored, shown []float64
	r := rand.New(rand.NewPCG(1, 2))
	for n := range changes {
		name := fmt.Sprintf("file-%02d.dat", n%40)
		path := filepath.Join(root, fmt.Sprintf("folder-%d/folder-%d/folder-%d", r.IntN(4), r.IntN(4), r.IntN(4)), name)
		if err := page.Do(chromedp.Evaluate(`window.seen = {}; 0`, nil)); err != nil {
			return err
		}
		start := time.Now()
		if err := os.Chmod(path, 0o646); err != nil {
			return err
		}

		var at time.Time
		if err := until(ctx, func() (bool, error) {
			var found int
			err := conn.QueryRowContext(ctx,
				`SELECT COUNT(*) FROM report r JOIN finding f ON f.report = r.id WHERE r.ready AND f.path = ?
					AND r.id = (SELECT MAX(id) FROM report WHERE ready)`,
				path).Scan(&found)
			at = time.Now()
			return found > 0, err
		}, time.Minute); err != nil {
			return fmt.Errorf("wait for the finding: %w", err)
		}

		var seen float64
		if err := until(ctx, func() (bool, error) {
			err := page.Do(chromedp.Evaluate(fmt.Sprintf(`window.seen[%q] ?? 0`, name), &seen))
			return seen > 0, err
		}, time.Minute); err != nil {
			return fmt.Errorf("wait for the page: %w", err)
		}

		stored, shown = append(stored, at.Sub(start).Seconds()*1000),
			append(shown, seen-float64(start.UnixMicro())/1000)
		if err := os.Chmod(path, 0o640); err != nil {
			return err
		}

		time.Sleep(time.Second + time.Duration(r.IntN(500))*time.Millisecond)
	}

	for _, f := range []struct {
		name string
		ms   []float64
	}{{"stored", stored}, {"shown", shown}} {
		slices.Sort(f.ms)
		fmt.Printf("figure watch-%d-%s-median %.0f ms floor 0 ratio 0\n", made+1, f.name, f.ms[len(f.ms)/2])
		fmt.Printf("figure watch-%d-%s-p95 %.0f ms floor 0 ratio 0\n", made+1, f.name, f.ms[len(f.ms)*95/100])
		fmt.Printf("figure watch-%d-%s-most %.0f ms floor 0 ratio 0\n", made+1, f.name, f.ms[len(f.ms)-1])
	}

	resident, err := peak(agent.Pid())
	fmt.Printf("figure watch-%d-agent-resident %.0f MiB floor 0 ratio 0\n", made+1, resident)
	return err
}

// peak returns the most memory that a process had, in MiB.
func peak(pid int) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(b)) {
		var kib float64
		if _, err := fmt.Sscanf(line, "VmHWM: %f kB", &kib); err == nil {
			return kib / 1024, nil
		}
	}
	return 0, fmt.Errorf("process %d does not tell how much memory it had", pid)
}

// skiff enrols this machine as a host, with an agent that watches a root, and publishes a baseline for it.
func skiff(ctx context.Context, stage *demo.Stage, folder, root string) (*client.Client, *demo.Process, error) {
	api, err := stage.As(ctx, "admin")
	if err != nil {
		return nil, nil, err
	}
	inv, err := api.Invite(ctx, wire.NewHost{Name: "skiff"})
	if err != nil {
		return nil, nil, err
	}

	out, err := exec.CommandContext(ctx, "bin/idletally", "agent", "enrol", "--folder", folder, "--service",
		stage.Address, "--authority", stage.Authority(), "--code", inv.Code, "--root", root).CombinedOutput()
	if err != nil {
		return nil, nil, fmt.Errorf("enrol: %w: %s", err, out)
	}

	e, err := api.UploadBaseline(ctx, strings.ReplaceAll(`idletally: 1
application: bench
title: A bench
hosts:
  names: [skiff]
roots:
  - ROOT
rules:
  - rule: everything
    paths: ROOT/**
    why: Nobody else may do anything here.
    owner: root
    group: root
    files: o-rwx
    folders: o-rwx
`, "ROOT", root))

	if err != nil {
		return nil, nil, err
	}
	if _, err := api.Publish(ctx, "bench", e.Number); err != nil {
		return nil, nil, err
	}

	agent, err := demo.Start(exec.Command("bin/idletally", "agent", "run", "--folder", folder, "--log-level", "warn"))
	return api, agent, err
}

func until(ctx context.Context, done func() (bool, error), patience time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		ok, err := done()
		if err != nil || ok {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
}
