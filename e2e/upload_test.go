//go:build linux

package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/client"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// Agent and service are killed at random moments of taking, sending and keeping snapshots, two hundred
// times: whatever is listed afterwards is whole, and the next snapshot is what is there.
func TestKilledInUpload(t *testing.T) {
	t.Parallel()
	db, _ := database(t)
	defer db.Stop()

	s := world(t, db.DSN, false)
	ctx := t.Context()
	r := seeded.Rand(t)
	c := as(t, s, "quartermaster")
	top := filepath.Join(s.Root("slip-south"), "srv/ticketing/releases/growing")
	again := func(what string, f func(ctx context.Context) error) {
		t.Helper()
		// Work that was given by a service, or to an agent, that died in giving it comes free after 45 seconds.
		if err := awaitAnswer(t, patience, f); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}

	kills := testkit.Rounds(40, 200)
	services := 0
	for i := range kills {
		for d := range 6 { // something new to send
			at := filepath.Join(top, fmt.Sprint(i%9), fmt.Sprint(d))
			if err := os.MkdirAll(at, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("%d-%d", i, r.IntN(1000))), nil,
				os.FileMode(0o600+r.IntN(64))); err != nil {
				t.Fatal(err)
			}
		}

		again("ask for a snapshot", func(ctx context.Context) error {
			_, err := c.TakeSnapshot(ctx, wire.NewSnapshot{
				Application: "ticketing",
				Host:        "slip-south",
				Whole:       r.IntN(5) == 0,
			})
			return err
		})

		time.Sleep(time.Duration(r.IntN(90_000)) * time.Microsecond)
		if r.IntN(8) > 0 {
			s.Agents["slip-south"].Kill()
			if err := s.StartAgent("slip-south"); err != nil {
				t.Fatal(err)
			}
			continue
		}

		services++
		s.Service.Kill()
		if err := s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), db.DSN); err != nil {
			t.Fatal(err)
		}
	}

	if services < kills/40 {
		t.Errorf("the service was killed only %d times", services)
	}

	again("everything settles", func(ctx context.Context) error {
		snaps, err := c.Snapshots(ctx, "ticketing", "slip-south", 1000)
		for _, x := range snaps {
			if x.State == "waiting" {
				return fmt.Errorf("%w: snapshot %s waits", client.ErrUnreachable, x.ID)
			}
		}
		return err
	})

	snaps, err := c.Snapshots(ctx, "ticketing", "slip-south", 1000)
	if err != nil {
		t.Fatal(err)
	}

	ready := 0
	for _, x := range snaps {
		if x.State == "ready" {
			ready++
		}
	}

	t.Logf("%d snapshots are there, the service was killed %d times, the agent %d times", ready, services,
		kills-services)
	if ready < kills/2 {
		t.Errorf("only %d snapshots are there", ready)
	}

	admin := as(t, s, "admin")
	n := 0
	for next := ""; ; {
		part, err := admin.CheckStorage(ctx, next)
		if err != nil || len(part.Faults) > 0 {
			t.Fatalf("%v, %v", part.Faults, err)
		}

		n += part.Nodes
		next = part.Next
		if next == "" {
			break
		}
	}

	if n < kills {
		t.Errorf("only %d folders are stored", n)
	}

	last := snapshot(t, c, "ticketing", "slip-south")
	whole, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-south", Whole: true})
	if err != nil {
		t.Fatal(err)
	}

	quiet(t, c)
	if whole, err = c.Snapshot(ctx, whole.ID); err != nil || whole.Root != last.Root || whole.State != "ready" {
		t.Errorf("a whole snapshot is %s, the one before %s, %v", whole.Root, last.Root, err)
	}
}
