//go:build linux

package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/wire"
)

// A backup that was written while the service works makes the same service anew, elsewhere, with its keys: agents go on with it. One that
// was changed anywhere is found out.
func TestBackupOfTheService(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	p, err := author.DraftPlan(ctx, wire.Draft{Application: "ticketing", Hosts: []string{"slip-north"}, All: true})
	must(t, err)
	agreed(t, s, p)
	snap := snapshot(t, author, "ticketing", "slip-north")
	stop := make(chan struct{})
	writing := make(chan struct{})
	go func() { // whatever comes meanwhile is in it, or is not
		defer close(writing)
		for {
			select {
			case <-stop:
				return
			default:
				_, _ = author.UploadBaseline(ctx, demo.Baseline("tideboard"))
			}
		}
	}()
	data := filepath.Join(s.Dir, "service")
	file := filepath.Join(s.Dir, "kept")
	c := command{t, s, "nobody"}
	c.want(0, "authority.pem", "backup", "write", "--data", data, file)
	close(stop)
	<-writing
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st, err)
	}
	c.want(1, "no such", "backup", "write", "--data", data, filepath.Join(s.Dir, "kept")+".part/x")
	c.want(0, "rows", "backup", "check", file)
	b, err := os.ReadFile(file)
	must(t, err)
	bad := filepath.Join(s.Dir, "bad")
	whole, _, _ := c.run("", "backup", "check", file)
	harmless := 0
	for at := len(b) / 23; at < len(b); at += len(b) / 23 {
		broken := bytes.Clone(b)
		broken[at] ^= 0xff
		must(t, os.WriteFile(bad, broken, 0o600))
		switch out, errs, code := c.run("", "backup", "check", bad); {
		case code == 1 && strings.Contains(errs, "damaged"):
		case code == 0 && out == whole: // some bits of a compressed file stand for nothing: its content is what it was
			harmless++
		default:
			t.Errorf("byte %d: %d %s%s", at, code, out, errs)
		}
	}
	if harmless > 3 {
		t.Errorf("%d of 22 changes were not found", harmless)
	}
	for _, broken := range [][]byte{b[:len(b)/2], b[:len(b)-1], append(bytes.Clone(b), b...), append(bytes.Clone(b), "more"...), nil} {
		must(t, os.WriteFile(bad, broken, 0o600))
		c.want(1, "damaged", "backup", "check", bad)
		c.want(1, "damaged", "backup", "restore", "--data", filepath.Join(s.Dir, "never"), bad)
	}
	if _, err := os.Stat(filepath.Join(s.Dir, "never")); err == nil {
		t.Error("a damaged backup made something")
	}
	c.want(1, "holds keys already", "backup", "restore", "--data", data, file)

	// The service is lost, and made anew at the same address.
	before, err := author.CheckHistory(ctx)
	must(t, err)
	s.Service.Stop()
	must(t, os.Rename(data, data+".lost"))
	c.want(0, "rows", "backup", "restore", "--data", data, file)
	must(t, s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), ""))
	author = as(t, s, "quartermaster")
	got, err := author.Snapshot(ctx, snap.ID)
	if err != nil || got.Root != snap.Root || got.State != "ready" {
		t.Errorf("%+v, %v", got, err)
	}
	check, err := author.CheckHistory(ctx)
	if err != nil || check.Fault != "" || check.Lines < before.Lines/2 {
		t.Errorf("%+v, %v", check, err)
	}
	if now := snapshot(t, author, "ticketing", "slip-north"); now.Root != snap.Root {
		t.Errorf("a snapshot by the agent that was there: %s, before %s", now.Root, snap.Root)
	}
	if o, err := author.Runs(ctx, 10); err != nil || len(o) != 1 || o[0].State != "finished" {
		t.Errorf("%+v, %v", o, err)
	}
	var out wire.StorageCheck
	for next := ""; ; next = out.Next {
		admin := as(t, s, "admin")
		if out, err = admin.CheckStorage(ctx, next); err != nil {
			t.Fatal(err)
		}
		if out.Next == "" {
			break
		}
	}
	if len(out.Faults) > 0 {
		t.Errorf("%+v", out)
	}
}
