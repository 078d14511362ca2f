//go:build linux

package e2e

import (
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/service/mariadb"
	"idletally/internal/testkit"
	"idletally/internal/testkit/cable"
	"idletally/internal/wire"
)

// behindCable starts a demo world whose agents reach their service over a cable; people come another way.
func behindCable(t *testing.T, database string) (*demo.Stage, *cable.Cable) {
	t.Helper()
	self, err := os.Executable()
	must(t, err)
	log := &logBook{}
	s, err := demo.Begin(t.Context(), folder(t), program, self, "127.0.0.1:0", database, log)
	must(t, err)
	t.Cleanup(func() { ending(t, s, log) })
	near := s.Address
	line, err := cable.New(strings.TrimPrefix(near, "https://"))
	must(t, err)
	t.Cleanup(line.Close)
	s.Deaf, s.Address = true, "https://"+line.Address
	must(t, s.Populate(t.Context()))
	s.Address = near
	must(t, s.Declare(t.Context()))
	return s, line
}

// The way between agents and service is cut for a moment and for longer, in the middle of snapshots and of a
// run: what was begun is ended when it is back, once.
func TestNetworkCut(t *testing.T) {
	t.Parallel()
	s, line := behindCable(t, "")
	c := as(t, s, "quartermaster")

	for n := range testkit.Rounds(8, 20) { // for moments
		snap, err := c.TakeSnapshot(t.Context(), wire.NewSnapshot{
			Application: "ticketing",
			Host:        "slip-north",
			Whole:       true,
		})
		must(t, err)
		time.Sleep(time.Duration(n) * 3 * time.Millisecond)
		line.Cut()
		awaitSnapshot(t, c, snap.ID)
	}

	snap, err := c.TakeSnapshot(t.Context(), wire.NewSnapshot{
		Application: "ticketing",
		Host:        "slip-south",
		Whole:       true,
	})
	must(t, err)
	line.Pull()
	p, err := c.DraftPlan(t.Context(), wire.Draft{Application: "ticketing", Hosts: []string{"slip-north"}, All: true})
	must(t, err)
	approved(t, s, p)
	r, err := c.StartRun(t.Context(), p.ID)
	must(t, err)
	time.Sleep(8 * time.Second)
	if now, err := c.Run(t.Context(), r.ID); err != nil || now.State != "running" {
		t.Errorf("while the way is cut: %+v, %v", now, err)
	}

	line.Plug()
	for range 5 {
		time.Sleep(100 * time.Millisecond)
		line.Cut()
	}

	awaitSnapshot(t, c, snap.ID)
	end := ended(t, c, r.ID)
	if h := end.Hosts[0]; end.State != "finished" || h.Done == 0 {
		t.Errorf("%+v", end)
	}

	if runs, err := c.Runs(t.Context(), 10); err != nil || len(runs) != 1 {
		t.Errorf("%+v, %v", runs, err)
	}
}

func awaitSnapshot(t *testing.T, c *client.Client, id string) {
	t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		s, err := c.Snapshot(t.Context(), id)
		switch {
		case err == nil && s.State == "ready":
			return
		case err == nil && s.State != "waiting":
			t.Fatalf("snapshot %s is %s: %s", id, s.State, s.Message)
		case client.Status(err) == http.StatusUnauthorized:
			t.Fatalf("snapshot %s: %v", id, err)
		}
	}
	t.Fatalf("snapshot %s does not come", id)
}

// A database that stands still, and one whose disk is full: clear answers, the service stays up, and when it
// is over what was acknowledged is there and what was not can be done again.
func TestDatabaseInDistress(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	disk := filepath.Join(dir, "disk")
	must(t, os.Mkdir(disk, 0o755))
	must(t, unix.Mount("tmpfs", disk, "tmpfs", 0, "size=500m,mode=0755"))
	t.Cleanup(func() { must(t, unix.Unmount(disk, unix.MNT_DETACH)) })
	db, err := mariadb.Start(t.Context(), filepath.Join(disk, "db"))
	must(t, err)
	defer func() { db.Stop() }()

	s, _ := bare(t, "127.0.0.1:0", db.DSN)
	admin, err := s.Crew(t.Context())
	must(t, err)
	author := as(t, s, "quartermaster")
	kept := 0
	upload := func(ctx context.Context, mark string) error {
		_, err := author.UploadBaseline(ctx, demo.Baseline("tideboard")+"# "+mark+"\n")
		if err == nil {
			kept++
		}
		return err
	}

	must(t, upload(t.Context(), "before"))

	db.Pause()
	go func() {
		time.Sleep(6 * time.Second)
		db.Go()
	}()
	start := time.Now()
	if err := upload(t.Context(), "while it stands still"); err != nil {
		t.Errorf("it stood still for six seconds: %v", err)
	}

	if took := time.Since(start); took < 4*time.Second || took > 30*time.Second {
		t.Errorf("that took %s", took)
	}

	filler, err := os.Create(filepath.Join(disk, "filler"))
	must(t, err)
	full := func() {
		b := make([]byte, 1<<20)
		for {
			if _, err := filler.Write(b); errors.Is(err, unix.ENOSPC) {
				return
			} else if err != nil {
				t.Fatal(err)
			}
		}
	}

	full()
	large := strings.Repeat("# "+strings.Repeat("x", 1000)+"\n", 900)
	refused := 0

	for n := 0; n < 60 && refused == 0; n++ {
		ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
		if err := upload(ctx, large); err != nil {
			refused++
			if s := client.Status(err); s != 507 && s != 503 {
				t.Errorf("with no room: %d %v", s, err)
			}
		}

		cancel()
		full()
	}

	if refused == 0 {
		t.Error("the disk was never full")
	}

	resp, err := admin.HTTP.Get(s.Address + "/healthz")
	must(t, err)
	resp.Body.Close()
	if resp.StatusCode != 200 {
		t.Errorf("healthz: %d", resp.StatusCode)
	}

	must(t, filler.Close())
	must(t, os.Remove(filler.Name()))
	db.Stop() // it ends by itself where its log has no room, and whoever keeps it starts it again
	db, err = mariadb.Start(t.Context(), filepath.Join(disk, "db"))
	must(t, err)
	if err := awaitAnswer(t, 60*time.Second, func(ctx context.Context) error {
		return upload(ctx, "after")
	}); err != nil {
		t.Fatalf("with room again: %v", err)
	}

	list, err := author.Editions(t.Context(), "tideboard")
	if err != nil || len(list) != kept {
		t.Errorf("%d were acknowledged, %d are there, %v", kept, len(list), err)
	}

	t.Logf("%d kept, %d refused", kept, refused)
}
