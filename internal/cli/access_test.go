//go:build linux

package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/host/probe"
	"idletally/internal/wire"
)

// A probe's child is this program once more.
func TestMain(m *testing.M) {
	probe.Main()
	os.Exit(m.Run())
}

// quay is a folder that everybody reaches, with a closed one, a file for all and a private one.
func quay(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, err := range []error{
		os.Chmod(filepath.Dir(dir), 0o755), os.Chmod(dir, 0o755),
		os.Mkdir(filepath.Join(dir, "closed"), 0o700), os.WriteFile(filepath.Join(dir, "closed", "deep"), nil, 0o666),
		os.WriteFile(filepath.Join(dir, "open"), nil, 0o644), os.WriteFile(filepath.Join(dir, "own"), nil, 0o600),
		os.Chmod(filepath.Join(dir, "closed", "deep"), 0o666), os.Chown(filepath.Join(dir, "own"), 4711, 4712),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestAccessHere(t *testing.T) {
	dir := quay(t)
	at := func(s string) string { return filepath.Join(dir, s) }
	for _, x := range []struct {
		argv []string
		no   bool // exit code 4
		want []string
	}{
		{[]string{"access", "decide", "everyone", at("open"), "read"}, false,
			[]string{"Yes: everyone can read", "▼ " + at("open"), "the path, for others, has r"}},
		{[]string{"access", "decide", "4242", at("closed/deep"), "write"}, true,
			[]string{"No: 4242 cannot write", "╳ " + at("closed"), "the way stops at", "no account has this number"}},
		{[]string{"access", "decide", "4711", at("own")}, false, []string{"write      yes  owner", "execute    no"}},
		{[]string{"access", "decide", "4242", at("own"), "read", "--joining", "4712"}, true,
			[]string{"now    No", "then   No", "supposed: the account joins"}},
		{[]string{"access", "holders", "write", at("own")}, false,
			[]string{"4711 (no such account)", "everyone", "root"}},
		{[]string{"access", "matrix", at("own")}, false, []string{"4711", "everyone", "READ", "CHANGE"}},
		{[]string{"access", "below", "everyone", "write", dir}, false,
			[]string{"can write 0 paths", "Nothing.", "1 folders no way leads into"}},
		{[]string{"access", "below", "everyone", "write", dir, "--behind", "--paths"}, false,
			[]string{"could, if every folder could be traversed", at("closed/deep")}},
		{[]string{"access", "probe", "4711", at("own")}, false,
			[]string{"read       yes       yes        agree", "delete     no        no         agree"}},
		{[]string{"path", "new", dir, "--by", "4242", "--umask", "027"}, false,
			[]string{"Made by 4242", "4242 cannot make anything there", "file    0640", "folder  0750"}},
		{[]string{"mode", "show", "0640", "--limits", "o-rwx"}, false, []string{"limits       kept"}},
		{[]string{"mode", "show", "0644", "--limits", "o-rwx"}, true, []string{"others must not have read", "0640"}},
		{[]string{"path", "list", dir, "--for", "4242"}, false,
			[]string{"(sees the name, opens nothing)  closed", "read"}},
	} {
		t.Run(fmt.Sprint(x.argv), func(t *testing.T) {
			out, err := try(t, "", x.argv...)
			if errors.Is(err, errNotSo) != x.no || err != nil && !x.no {
				t.Errorf("%v: %v\n%s", x.argv, err, out)
			}
			for _, w := range x.want {
				if !strings.Contains(out, w) {
					t.Errorf("%v: %q is not in\n%s", x.argv, w, out)
				}
			}
		})
	}

	for want, argv := range map[string][]string{
		"say who makes them":                      {"path", "new", dir},
		"want one of read":                        {"access", "decide", "everyone", dir, "sink"},
		`no account "nemo"`:                       {"access", "decide", "nemo", dir},
		`no group "nobodies"`:                     {"access", "decide", "everyone", dir, "--joining", "nobodies"},
		"not both":                                {"access", "matrix", dir, "--host", "a", "--snapshot", "b"},
		"below which folder":                      {"access", "below", "everyone", "read"},
		"edition or a plan is with the service":   {"access", "matrix", dir, "--edition", "ticketing/1"},
		"a snapshot cannot be tried":              {"access", "probe", "root", dir, "--snapshot", "x"},
		"it is not there, or has just vanished":   {"access", "matrix", at("none")},
		"a probe is made as one account":          {"access", "probe", "everyone", dir},
		"you are not signed in: idletally login ": {"access", "matrix", dir, "--host", "slip-north"},
	} {
		t.Run(want, func(t *testing.T) {
			if out, err := try(t, "", argv...); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%v: %v, want %q in it\n%s", argv, err, want, out)
			}
		})
	}

	out, err := try(t, "", "access", "decide", "everyone", at("open"), "--output", "json")
	var j wire.Judgement
	if err != nil || json.Unmarshal([]byte(out), &j) != nil || len(j.Answers) != 7 || len(j.Answers[0].Way) < 2 {
		t.Errorf("%s, %v", out, err)
	}
}

func TestEntriesCommand(t *testing.T) {
	out, err := try(t, "", "entries", "show", "u::rw,u:web:rwx,g::r,m::rx,o::-")
	for _, w := range []string{
		"0650 rw-r-x---", "u::rw-,u:web:rwx,g::r--,m::r-x,o::---", "user:web:rwx  #effective:r-x", "is the mask",
	} {
		t.Run(w, func(t *testing.T) {
			if err != nil || !strings.Contains(out, w) {
				t.Errorf("%q is not in %v\n%s", w, err, out)
			}
		})
	}

	out, err = try(t, "", "entries", "show", "u::rw,g::r,o::-", "--chmod", "0755", "--output", "csv")
	if err != nil || out != "entry,rights,effective\nuser::rwx,rwx,rwx\ngroup::r-x,r-x,r-x\nother::r-x,r-x,r-x\n" {
		t.Errorf("%q, %v", out, err)
	}

	_, err = try(t, "", "entries", "show", "u::rw,g:r")
	if err == nil || !strings.Contains(err.Error(), "a colon after the name") {
		t.Errorf("%v", err)
	}
}
