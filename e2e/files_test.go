//go:build linux

package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/demo"
)

// A snapshot goes to a file and comes back; one is taken without any service, and held against a
// baseline on the spot.
func tryFiles(t *testing.T, s *demo.Stage) {
	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	text := in("ticketing.yaml")
	if err := os.WriteFile(text, []byte(demo.Baseline("ticketing")), 0o600); err != nil {
		t.Fatal(err)
	}

	api := as(t, s, "quartermaster")
	stored := snapshot(t, api, "ticketing", "slip-north")
	if err := os.WriteFile(in("half"), []byte("idletally snapshot 1\nxx"), 0o600); err != nil {
		t.Fatal(err)
	}

	for _, x := range []struct {
		argv []string
		code int
		says string
	}{
		{[]string{"snapshot", "export", stored.ID, in("north")}, 0, stored.Root},
		{[]string{"snapshot", "verify", in("north")}, 0, stored.Root},
		{[]string{"snapshot", "verify", in("half")}, 1, "no sound snapshot file"},
		{[]string{"snapshot", "verify", text}, 1, "does not begin with"},
		{[]string{"snapshot", "import", in("north"), "--application", "elsewhere"}, 0, "ready"},
		{[]string{"snapshot", "import", in("half")}, 1, "no sound snapshot file"},
		{[]string{"snapshot", "import", in("north"), "--host", "dinghy"}, 1, "not found"},
		{[]string{"snapshot", "export", "0000000000000000", in("none")}, 1, "not found"},
		{[]string{"snapshot", "save", in("here")}, 2, "--root FOLDER"},
		{[]string{"snapshot", "save", in("here"), "--root", "/nowhere"}, 4, "not read: /nowhere"},
		{[]string{"snapshot", "save", in("here"), "--root", dir, "--root", filepath.Join(dir, "x")}, 2,
			"lies in " + dir},
		{[]string{"snapshot", "save", in("here"), "--root", dir, "--root", dir}, 0, "root hash"},
		{[]string{"snapshot", "save", in("here"), "--root", dir, "--host", "a\nb"}, 2,
			"--host a\\x0ab cannot be a name"},
		{[]string{"snapshot", "save", in("here"), "--root", dir, "--application", "../x"}, 2,
			"--application ../x cannot be a name"},
		{
			[]string{
				"snapshot", "save", in("here"), "--root", filepath.Join(s.Root("slip-north"), "srv/ticketing"),
				"--host", "slip-north",
			},
			0, "3226",
		},
		{[]string{"snapshot", "import", in("here"), "--application", "ticketing"}, 1, "the file does not hold it"},
		{[]string{"snapshot", "import", in("here")}, 2, "--application NAME"},
		// its root is another one: nobody looked there
		{[]string{"drift", "file", in("here"), text}, 0, "1 path could not be read"},
	} {
		c.want(x.code, x.says, x.argv...)
	}

	// The fingerprint is of all that the file says, and another file is refused.
	shown, _, _ := c.run("", "snapshot", "verify", in("north"), "--output", "json")
	var file struct{ Fingerprint string }
	must(t, json.Unmarshal([]byte(shown), &file))

	for _, argv := range [][]string{
		{"snapshot", "verify", in("north")},
		{"snapshot", "import", in("north"), "--application", "elsewhere"},
		{"drift", "file", in("north"), text},
	} {
		c.want(0, "", append(argv, "--fingerprint", strings.ToUpper(file.Fingerprint))...)
		c.want(1, "its fingerprint is "+file.Fingerprint, append(argv, "--fingerprint",
			"0000-"+file.Fingerprint[5:])...)
	}

	whole, err := os.Open(in("north"))
	must(t, err)
	defer whole.Close()

	_, err = api.ImportSnapshot(t.Context(), "elsewhere", "slip-north", "0000-"+file.Fingerprint[5:], whole)
	fails(t, "another file than was meant", err, 422, "its fingerprint is "+file.Fingerprint)

	if _, err := os.Stat(in("none")); err == nil {
		t.Error("a file was left of what could not be exported")
	}

	// The file says what the service says.
	d, err := api.Drift(t.Context(), "ticketing", "slip-north")
	if err != nil {
		t.Fatal(err)
	}

	out, errs, code := c.run("", "drift", "file", in("north"), text, "--tag", "ticketing", "--strict", "--output",
		"csv")
	if code != 4 || strings.Count(out, "\n") != len(d.Groups)+1 || errs != "" {
		t.Errorf("%d: %d lines, want %d groups\n%s%s", code, strings.Count(out, "\n"), len(d.Groups), out, errs)
	}

	for _, g := range d.Groups {
		if !strings.Contains(out, g.ID+",slip-north,") {
			t.Errorf("group %s is not in\n%s", g.ID, out)
		}
	}

	// What is stored is whole, and tidying up takes nothing that is needed.
	admin := command{t: t, s: s, person: "admin"}
	admin.login()
	for _, x := range []struct {
		c    command
		argv []string
		code int
		says string
	}{
		{c, []string{"storage", "show"}, 0, "snapshots"}, {c, []string{"storage", "check"}, 1, "needs the role admin"},
		{c, []string{"storage", "tidy"}, 1, "needs the role admin"},
		{admin, []string{"storage", "check"}, 0, "are whole"},
		{admin, []string{"storage", "tidy"}, 0, "folders needed"},
		{admin, []string{"storage", "check"}, 0, "are whole"},
	} {
		x.c.want(x.code, x.says, x.argv...)
	}

	_, err = as(t, s, "harbourmaster").ImportSnapshot(t.Context(), "ticketing", "slip-north", "",
		strings.NewReader("x"))
	fails(t, "a reviewer imports", err, 403, "needs the role operator")
	_, err = api.ImportSnapshot(t.Context(), "ticketing", "slip-north", "", strings.NewReader("x"))
	fails(t, "rubbish is imported", err, 422, "no sound snapshot file")
}

// Whoever may read less sees less, and is told what; who may read everything need be nothing more.
func TestSaveWithoutRoot(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "idletally-save-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)

	for name, mode := range map[string]os.FileMode{"open": 0o755, "shut": 0o700} {
		t.Run(name, func(t *testing.T) {
			at := filepath.Join(dir, "tree", name)
			if err := errors.Join(os.MkdirAll(at, 0o755), os.WriteFile(filepath.Join(at, "file"), nil, 0o600),
				os.Chmod(at, mode)); err != nil {
				t.Fatal(err)
			}
		})
	}

	copied := filepath.Join(dir, "idletally") // where the test's own copy lies, others may not come
	b, err := os.ReadFile(program)
	if err == nil {
		err = os.WriteFile(copied, b, 0o755)
	}

	if err == nil {
		err = os.Mkdir(filepath.Join(dir, "out"), 0o777)
	}

	if err == nil {
		err = errors.Join(os.Chmod(filepath.Join(dir, "out"), 0o777), os.Chmod(dir, 0o755))
	}

	if err != nil {
		t.Fatal(err)
	}

	for _, c := range []struct {
		caps []uintptr
		says []string
	}{
		{nil, []string{"not read: " + dir + "/tree/shut: permission denied", "paths        4", "gaps         1"}},
		{[]uintptr{unix.CAP_DAC_READ_SEARCH}, []string{"paths        5", "gaps         0"}},
	} {
		t.Run(fmt.Sprint(c.caps), func(t *testing.T) {
			cmd := exec.Command(copied, "snapshot", "save", filepath.Join(dir, "out", "file"), "--root",
				filepath.Join(dir, "tree"))
			cmd.Dir = "/"
			cmd.SysProcAttr = &syscall.SysProcAttr{
				Credential:  &syscall.Credential{Uid: 65534, Gid: 65534},
				AmbientCaps: c.caps,
			}
			out, err := cmd.CombinedOutput()
			if err != nil {
				t.Errorf("%v: %v", c.caps, err)
			}

			for _, w := range c.says {
				if !strings.Contains(string(out), w) {
					t.Errorf("capabilities %v: %q is not in\n%s", c.caps, w, out)
				}
			}
		})
	}
}
