//go:build linux

package e2e

import (
	"bytes"
	"encoding/base64"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/wire"
)

// A backup that was written while the service works makes the same service anew, elsewhere, with its keys:
// agents go on with it. One that was changed anywhere is found out.
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

	made, err := author.AddToken(ctx, wire.NewToken{Name: "tide gauge", Roles: []string{"viewer"}, Days: 9})
	must(t, err)
	data := filepath.Join(s.Dir, "service")
	file := filepath.Join(s.Dir, "kept")
	c := command{t: t, s: s, person: "nobody"}
	c.want(0, "authority.pem", "backup", "write", "--data", data, file)
	close(stop)
	<-writing

	// Of the same service, and of no other.
	key, err := author.CheckHistory(ctx)
	must(t, err)
	own := base64.StdEncoding.EncodeToString(key.Key)
	c.want(0, own, "backup", "check", file)
	c.want(0, own, "backup", "check", file, "--key", own)
	c.want(1, "signed by another key", "backup", "check", file, "--key",
		base64.StdEncoding.EncodeToString(make([]byte, 32)))
	c.want(1, "signed by another key", "backup", "restore", "--data", filepath.Join(s.Dir, "never"), file, "--key",
		base64.StdEncoding.EncodeToString(make([]byte, 32)))
	c.want(2, "--key", "backup", "check", file, "--key", "x")
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

	for _, broken := range [][]byte{
		b[:len(b)/2],
		b[:len(b)-1],
		append(bytes.Clone(b), b...),
		append(bytes.Clone(b), "more"...),
		nil,
	} {
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
	out, errs, code := c.run("", "backup", "restore", "--data", data, file, "--key", own)

	for _, says := range []string{
		"sessions ended",
		made.ID + "  quartermaster, for tide gauge: viewer",
		"remove those that you had removed: admin, bosun, harbourmaster",
		"shut those out that you had shut out: slip-",
	} {
		if code != 0 || !strings.Contains(out, says) {
			t.Errorf("%d, no %q in %s%s", code, says, out, errs)
		}
	}

	must(t, s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), ""))
	_, err = author.Me(ctx)
	fails(t, "a session from before", err, http.StatusUnauthorized, "sign in first")
	author.Token = made.Secret
	_, err = author.Me(ctx)
	fails(t, "a token from before", err, http.StatusUnauthorized, "sign in first")
	author = as(t, s, "quartermaster")
	if list, err := author.History(ctx, pastOf("restored"), 10); err != nil || len(list) != 1 ||
		list[0].Who != "the service" {
		t.Errorf("%+v, %v", list, err)
	}

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

	var stored wire.StorageCheck
	for next := ""; ; next = stored.Next {
		admin := as(t, s, "admin")
		if stored, err = admin.CheckStorage(ctx, next); err != nil {
			t.Fatal(err)
		}
		if stored.Next == "" {
			break
		}
	}

	if len(stored.Faults) > 0 {
		t.Errorf("%+v", stored)
	}
}
