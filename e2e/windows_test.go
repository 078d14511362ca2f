//go:build linux

package e2e

import (
	"context"
	"encoding/binary"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/tied"
	"idletally/internal/wire"
)

// A wine runs Windows programs on this system (Debian's package wine64). It keeps modes in place of lists.
type wine struct {
	t   *testing.T
	dir string // its C:
	env []string
}

// newWine makes a system of its own, which ends with the test.
func newWine(t *testing.T) *wine {
	t.Helper()
	prefix := filepath.Join(folder(t), "prefix")
	w := &wine{
		t,
		filepath.Join(prefix, "drive_c"),
		append(os.Environ(), "WINEPREFIX="+prefix, "WINEDEBUG=-all", "WINEDLLOVERRIDES=mscoree=;mshtml=", "DISPLAY="),
	}
	t.Cleanup(func() {
		end := exec.Command("/usr/lib/wine/wineserver", "--kill")
		end.Env = w.env
		_ = end.Run() // it fails where there is none any more
	})
	w.run("wineboot", "--init")
	must(t, os.WriteFile(w.at("windows/system32/bcryptprimitives.dll"), randomness(), 0o644))
	return w
}

func (w *wine) command(ctx context.Context, argv ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "/usr/lib/wine/wine64", argv...)
	cmd.Env = w.env
	return cmd
}

func (w *wine) at(name string) string { return filepath.Join(w.dir, filepath.FromSlash(name)) }

// start runs a program until the test ends.
func (w *wine) start(argv ...string) {
	w.t.Helper()
	cmd := w.command(context.WithoutCancel(w.t.Context()), argv...)
	cmd.Stderr = &logBook{}
	p, err := tied.Start(cmd)
	must(w.t, err)
	w.t.Cleanup(func() {
		_ = cmd.Process.Kill() // it has ended, or does
		_ = p.Wait()
	})
}

func (w *wine) run(argv ...string) string {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), patience)
	defer cancel()
	out, err := w.command(ctx, argv...).CombinedOutput()
	if err != nil {
		w.t.Fatalf("%s: %v\n%s", strings.Join(argv, " "), err, out)
	}
	return string(out)
}

// randomness is a library that Go programs ask for random bytes, and that Wine 8 lacks: it names the function
// of another library that gives them (PE format 6.3, a forwarder).
func randomness() []byte {
	const at = 0x1000 // where its only section is
	le := binary.LittleEndian
	names := "bcryptprimitives.dll\x00ProcessPrng\x00advapi32.SystemFunction036\x00"
	const tables = 40 + 4 + 4 + 2
	name := uint32(at + tables)
	function := uint32(at + tables + 21)
	forward := uint32(at + tables + 33)

	var section []byte
	for _, v := range []uint32{0, 0, 0, name, 1, 1, 1, at + 40, at + 44, at + 48, forward, function} {
		section = le.AppendUint32(section, v)
	}

	section = append(le.AppendUint16(section, 0), names...)

	head := append([]byte("MZ"), make([]byte, 58)...)
	head = append(le.AppendUint32(head, 64), "PE\x00\x00"...)
	machine := map[string]uint16{"amd64": 0x8664, "arm64": 0xaa64}[runtime.GOARCH]
	for _, v := range []uint16{machine, 1, 0, 0, 0, 0, 0, 0, 240, 0x2022} { // one section, a library
		head = le.AppendUint16(head, v)
	}

	head = le.AppendUint16(head, 0x20b) // PE32+
	head = append(head, 0, 0)
	for _, v := range []uint32{
		0,
		0x200,
		0,
		0,
		0,
		0x8000_0000,
		1,
		at,
		0x200,
		6,
		0,
		6,
		0,
		0x2000,
		0x200,
		0,
		3 | 0x0140<<16,
		0x10_0000,
		0,
		0x1000,
		0,
		0x10_0000,
		0,
		0x1000,
		0,
		0,
		16,
		at,
		uint32(len(section)),
	} {
		head = le.AppendUint32(head, v)
	}

	head = append(head, make([]byte, 15*8)...)
	head = append(head, ".edata\x00\x00"...)
	for _, v := range []uint32{uint32(len(section)), at, 0x200, 0x200, 0, 0, 0, 0x4000_0040} { // to be read
		head = le.AppendUint32(head, v)
	}

	return append(append(head, make([]byte, 0x200-len(head))...), append(section, make([]byte,
		0x200-len(section))...)...)
}

// gangway is a host that runs the Windows program in a folder of C:, with a file to look after.
func gangway(t *testing.T, s *demo.Stage, admin *client.Client) *wine {
	t.Helper()
	w := newWine(t)
	build := exec.Command("go", "build", "-o", w.at("idletally.exe"), "idletally/cmd/idletally")
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=windows", "GOARCH="+runtime.GOARCH)
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}

	must(t, os.MkdirAll(w.at("data/logs"), 0o755))
	must(t, os.WriteFile(w.at("data/logs/log.txt"), nil, 0o644))
	must(t, os.WriteFile(w.at("ca.pem"), authorityOf(t, s), 0o644))

	inv, err := admin.Invite(t.Context(), wire.NewHost{Name: "gangway"})
	must(t, err)
	enrol := []string{
		`C:\idletally.exe`, "agent", "enrol", "--folder", `C:\agent`, "--service", s.Address, "--authority",
		`C:\ca.pem`, "--code", inv.Code, "--root", "/C/data",
	}
	if out := w.run(enrol...); !strings.Contains(out, "idletally agent run --folder C:/agent") {
		t.Errorf("enrolled: %s", out)
	}

	w.start(`C:\idletally.exe`, "agent", "run", "--folder", `C:\agent`)
	return w
}

// The Windows program enrols, looks, takes a snapshot, changes and puts back, and what it keeps is nobody else's.
func TestWindows(t *testing.T) {
	t.Parallel()
	s, admin := crewed(t)
	w := gangway(t, s, admin)
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	here := client.Looker{Client: author, Host: "gangway"}
	look := func(path string) wire.Sight {
		t.Helper()
		sight, err := here.Sight(ctx, path)
		must(t, err)
		return sight
	}

	file := look("/C/data/logs/log.txt")
	before := file.Access.Entries
	kept := slices.DeleteFunc(slices.Clone(before), func(e string) bool {
		return strings.HasPrefix(e, "allow everyone")
	})
	if len(kept) != len(before)-1 || len(file.Notes) > 0 {
		t.Fatalf("%+v", file)
	}

	if folder := look("/c/DATA/logs"); folder.Path != "/C/data/logs" {
		t.Errorf("by other letter case: %+v", folder)
	}

	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	c.want(0, "this system is not watched", "host", "list")
	c.want(1, "own list of roots", "path", "show", "/C/windows", "--host", "gangway")

	text := "idletally: 1\napplication: gangway\nhosts: {names: [gangway]}\nroots: [/C/data]\nrules:\n" +
		"  - rule: logs\n    paths: /C/data/logs/*\n    grants: [\"" + strings.Join(kept, `", "`) + "\"]\n"
	e, err := author.UploadBaseline(ctx, text)
	must(t, err)
	_, err = author.Publish(ctx, "gangway", e.Number)
	must(t, err)
	if snap := snapshot(t, author, "gangway", "gangway"); snap.Paths != 3 || snap.Gaps != 0 {
		t.Errorf("%+v", snap)
	}

	p, err := author.DraftPlan(ctx, wire.Draft{Application: "gangway", All: true})
	must(t, err)
	run := agreed(t, s, p)
	if run.State != "finished" || run.Hosts[0].Done != 1 ||
		!slices.Equal(look("/C/data/logs/log.txt").Access.Entries, kept) {
		t.Fatalf("%+v; then %v", run, look("/C/data/logs/log.txt").Access.Entries)
	}

	if p, err = author.DraftPlan(ctx, wire.Draft{Run: run.ID}); err != nil {
		t.Fatal(err)
	}

	back := agreed(t, s, p)
	if back.State != "finished" || back.Hosts[0].Done != 1 ||
		!slices.Equal(look("/C/data/logs/log.txt").Access.Entries, before) {
		t.Errorf("%+v; then %v", back, look("/C/data/logs/log.txt").Access.Entries)
	}

	w.nothingForOthers("agent")
	must(t, os.Chmod(w.at("agent/agent.json"), 0o644))
	if out, err := w.command(ctx, `C:\idletally.exe`, "agent", "run", "--folder",
		`C:\agent`).CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "can read C:/agent/agent.json") {
		t.Errorf("with a key that others can read: %v, %s", err, out)
	}
}

// nothingForOthers reports whether nobody but the account and its group, which is what Wine takes the
// administrators for, gets at anything in a folder.
func (w *wine) nothingForOthers(folder string) {
	w.t.Helper()
	seen := map[string]bool{}
	err := filepath.WalkDir(w.at(folder), func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}

		seen[d.Name()] = true
		st, err := d.Info()
		if err == nil && st.Mode().Perm()&0o007 != 0 {
			w.t.Errorf("%s has mode %04o", path, st.Mode().Perm())
		}

		return err
	})

	if err != nil || !seen["agent.json"] || !seen["journal"] {
		w.t.Errorf("%v, %v", seen, err)
	}
}
