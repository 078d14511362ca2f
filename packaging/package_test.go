//go:build linux

package main

import (
	"bytes"
	"debug/elf"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"idletally/internal/testkit"
)

var must = testkit.Must

func command(t *testing.T, name string, argv ...string) string {
	t.Helper()
	b, err := exec.Command(name, argv...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, argv, err, b)
	}
	return string(b)
}

// The same source makes the same bytes, with another umask, time zone and place for temporary files; what is
// made can be installed into an empty root folder, works there, and is gone when it is removed.
func TestPackage(t *testing.T) {
	t.Chdir("..")
	t.Setenv("SOURCE_DATE_EPOCH", "1795600000")
	once, twice := t.TempDir(), t.TempDir()
	must(t, run(once, "1.2.3", []string{runtime.GOARCH}))
	t.Setenv("TZ", "Pacific/Chatham")
	t.Setenv("TMPDIR", t.TempDir())
	t.Setenv("LC_ALL", "C.UTF-8")
	was := syscall.Umask(0o077)
	err := run(twice, "1.2.3", []string{runtime.GOARCH})
	syscall.Umask(was)
	must(t, err)
	names, err := os.ReadDir(once)
	must(t, err)
	if len(names) != 4 {
		t.Errorf("made %v", names)
	}

	for _, n := range names {
		a, err := os.ReadFile(filepath.Join(once, n.Name()))
		must(t, err)
		b, err := os.ReadFile(filepath.Join(twice, n.Name()))
		must(t, err)
		if !bytes.Equal(a, b) {
			t.Errorf("%s is another the second time", n.Name())
		}
	}

	made, err := elf.Open(filepath.Join(once, "idletally-linux-"+runtime.GOARCH))
	must(t, err)
	if libs, err := made.ImportedLibraries(); err != nil || len(libs) > 0 || made.Section(".interp") != nil {
		t.Errorf("it needs %v, %v", libs, err)
	}

	must(t, made.Close())
	deb := filepath.Join(once, "idletally_1.2.3_"+runtime.GOARCH+".deb")
	root := t.TempDir()
	for _, d := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "var/log"} {
		must(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}

	must(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	command(t, "dpkg", "--root="+root, "--install", deb)
	program := filepath.Join(root, "usr/bin/idletally")
	if v := command(t, program, "--version"); !strings.Contains(v, "1.2.3") {
		t.Errorf("version: %s", v)
	}

	settings := filepath.Join(root, "etc/idletally/service.yaml")
	if v := command(t, program, "serve", "--check", "--settings", settings); !strings.Contains(v, "log-level") {
		t.Errorf("settings: %s", v)
	}

	for _, page := range []string{"idletally", "idletally-serve", "idletally-agent-run", "idletally-plan-draft"} {
		t.Run(page, func(t *testing.T) {
			text := command(t, "zcat", filepath.Join(root, "usr/share/man/man1", page+".1.gz"))
			if !strings.HasPrefix(text, ".nh") && !strings.Contains(text, ".TH") ||
				!strings.Contains(text, ".SH EXIT STATUS") || !strings.Contains(text, ".SH FILES") ||
				page != "idletally" && !strings.Contains(text, ".SH EXAMPLE") {
				t.Errorf("%s: %.60s", page, text)
			}
		})
	}

	command(t, "bash", "-n", filepath.Join(root, "usr/share/bash-completion/completions/idletally"))
	var bom struct {
		Packages []struct {
			Name string `json:"name"`
		} `json:"packages"`
	}
	command(t, "promtool", "check", "rules", filepath.Join(root, monitoring, "alerts.yaml"))
	for _, name := range []string{"prometheus.yaml", "dashboard.json"} {
		_, err := os.Stat(filepath.Join(root, monitoring, name))
		must(t, err)
	}

	b, err := os.ReadFile(filepath.Join(root, "usr/share/doc/idletally/contents.spdx.json"))
	must(t, err)
	must(t, json.Unmarshal(b, &bom))
	has := map[string]bool{}
	for _, p := range bom.Packages {
		has[p.Name] = true
	}

	for _, want := range []string{"idletally", "go", "github.com/go-chi/chi/v5", "react"} {
		t.Run(want, func(t *testing.T) {
			if !has[want] {
				t.Errorf("the list of contents lacks %s", want)
			}
		})
	}

	unitsIn(t, root)
	must(t, os.WriteFile(settings, []byte("log-level: warn\n"), 0o644))
	command(t, "dpkg", "--root="+root, "--remove", "idletally")
	if b, err := os.ReadFile(settings); err != nil || string(b) != "log-level: warn\n" {
		t.Errorf("settings after it was removed: %q, %v", b, err)
	}

	command(t, "dpkg", "--root="+root, "--purge", "idletally")
	left := command(t, "find", root, "-type", "f", "-not", "-path", root+"/var/*")
	if left != "" {
		t.Errorf("left behind:\n%s", left)
	}
}

// unitsIn has systemd say what it thinks of the units: that they are sound, and how far they are closed.
func unitsIn(t *testing.T, root string) {
	t.Helper()
	must(t, os.MkdirAll(filepath.Join(root, "bin"), 0o755))

	// of any system; not of this empty one
	must(t, os.WriteFile(filepath.Join(root, "bin/kill"), []byte("#!/bin/sh\n"), 0o755))
	defer os.Remove(filepath.Join(root, "bin/kill"))
	for _, x := range []struct {
		unit string
		most string // of systemd's own figure of exposure, 0.0 to 10.0, in tenths
		caps string
	}{
		{"idletally.service", "15", ""},
		{"idletally-look.service", "50", "CAP_DAC_READ_SEARCH"},
		{"idletally-agent.service", "75",
			"CAP_DAC_READ_SEARCH CAP_CHOWN CAP_FOWNER CAP_FSETID CAP_SETFCAP CAP_LEASE CAP_SETUID CAP_SETGID " +
				"CAP_SYS_ADMIN CAP_SYS_PTRACE"},
		{"idletally-agents.service", "25", ""},
	} {
		t.Run(x.unit, func(t *testing.T) {
			file := filepath.Join(root, units, x.unit)
			b, err := os.ReadFile(file)
			must(t, err)
			if !strings.Contains(string(b), "\nCapabilityBoundingSet="+x.caps+"\n") {
				t.Errorf("%s may not do exactly %q", x.unit, x.caps)
			}

			if out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold="+x.most,
				"--root="+root, x.unit).CombinedOutput(); err != nil {
				t.Errorf("%s: %v\n%s", x.unit, err, out)
			}

			// It looks for the units that ours come after, which an empty root has not.
			out, err := exec.Command("systemd-analyze", "verify", "--man=false", "--recursive-errors=no",
				"--root="+root,
				x.unit).CombinedOutput()
			if err != nil {
				t.Errorf("%s: %v\n%s", x.unit, err, out)
			}
		})
	}
}
