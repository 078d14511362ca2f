//go:build linux

package ssh

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// shell is a server that runs what it is asked to.
func shell(t *testing.T) *Host {
	t.Helper()
	a := pretender(t, func(_ *ssh.ServerConn, ch ssh.Channel, line string) {
		cmd := exec.Command("sh", "-c", line)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = ch, ch, ch.Stderr()
		code := uint32(0)
		if err := cmd.Run(); err != nil {
			code = 1
		}
		end(ch, code)
	})
	h, err := Dial(t.Context(), a)
	must(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

// A program is put, and run, only where nobody else can put another in its place: neither it, nor any folder
// above it, is somebody else's or for others to write, and what is run is what was looked at.
func TestOnlyOwnProgramsRun(t *testing.T) {
	t.Parallel()
	h := shell(t)
	const other = 41001

	for what, c := range map[string]struct {
		change func(top, program string) error
		refuse string // "" where it runs
	}{
		"as it was put": {func(string, string) error { return nil }, ""},
		"the program is another's": {func(_, program string) error { return os.Chown(program, other, other) },
			"somebody else"},
		"others write the program": {func(_, program string) error { return os.Chmod(program, 0o775) },
			"somebody else"},
		"its folder is for everybody": {func(_, program string) error { return os.Chmod(filepath.Dir(program), 0o777) },
			"somebody else"},
		"its folder is another's": {
			func(_, program string) error { return os.Chown(filepath.Dir(program), other, other) },
			"somebody else",
		},
		"the folder above is another's": {
			func(top, _ string) error { return os.Chown(filepath.Join(top, "agent"), other, other) },
			"somebody else",
		},
		"the folder above is a group's": {
			func(top, _ string) error { return os.Chmod(filepath.Join(top, "agent"), 0o775) },
			"somebody else",
		},
		"the uppermost folder is another": {func(top, _ string) error { return os.Chown(top, other, other) },
			"somebody else"},
		"another program lies there": {func(_, program string) error {
			b, err := os.ReadFile("/bin/false")
			if err == nil {
				err = os.WriteFile(program, b, 0o700)
			}
			return err
		}, "not the program"},
		"a link to the same": {func(_, program string) error {
			err := os.Rename(program, program+".real")
			if err == nil {
				err = os.Symlink(program+".real", program)
			}
			return err
		}, "somebody else"},
		"a link on the way, to what is another's": {func(top, program string) error {
			dir := filepath.Dir(program)
			err := os.Rename(dir, filepath.Join(top, "elsewhere"))
			if err == nil {
				err = os.Symlink(filepath.Join(top, "elsewhere"), dir)
			}

			if err == nil {
				err = os.Chmod(filepath.Join(top, "elsewhere"), 0o777)
			}

			return err
		}, "somebody else"},
	} {
		t.Run(what, func(t *testing.T) {
			top, err := os.MkdirTemp("", "put-")
			must(t, err)
			t.Cleanup(func() { os.RemoveAll(top) })
			program := filepath.Join(top, "agent", "program", "idletally")
			if copied, err := h.Put("/bin/true", program); err != nil || !copied {
				t.Fatalf("%s: put: %t, %v", what, copied, err)
			}

			must(t, c.change(top, program))
			r, err := h.StartCopied("/bin/true", program, nil, "agent", "stdio")
			must(t, err)
			must(t, r.Close()) // its input has ended
			_, _ = io.Copy(io.Discard, r)
			if err := r.Wait(); c.refuse == "" && err != nil ||
				c.refuse != "" && (err == nil || !strings.Contains(err.Error(), c.refuse)) {
				t.Errorf("%s: %v, want %q", what, err, c.refuse)
			}

			if err := h.CheckProgram(program); c.refuse == "somebody else" && err == nil || c.refuse == "" &&
				err != nil {
				t.Errorf("%s: checked: %v", what, err)
			}

			if strings.Contains(what, "folder") || strings.Contains(what, "uppermost") {
				must(t, os.Remove(program))
				if _, err := h.Put("/bin/true", program); err == nil ||
					!strings.Contains(err.Error(), "somebody else") {
					t.Errorf("%s: put again: %v", what, err)
				}
			}
		})
	}
}

// Nobody is told to let an account run a shell as root without a password.
func TestNoAdviceForShells(t *testing.T) {
	t.Parallel()
	a := pretender(t, func(_ *ssh.ServerConn, ch ssh.Channel, _ string) {
		_, _ = io.WriteString(ch.Stderr(), "sudo: a password is required\n")
		end(ch, 1)
	})
	a.Sudo = true
	h, err := Dial(t.Context(), a)
	must(t, err)
	defer h.Close()

	if _, err := h.Put("/bin/true", "/nowhere/idletally"); err == nil || strings.Contains(err.Error(), "NOPASSWD") ||
		!strings.Contains(err.Error(), "--ssh-program") {
		t.Error(err)
	}

	for _, words := range [][]string{{"uname", "-s"}, {"sh", "-c", "true"}} {
		if _, err := h.Run(nil, words...); err == nil || strings.Contains(err.Error(), "NOPASSWD") {
			t.Errorf("%v: %v", words, err)
		}
	}
}
