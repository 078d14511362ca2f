//go:build linux

package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/demo"
)

// terminal opens a terminal (pts(4)): what is typed on the one side is read on the other.
func terminal(t *testing.T) (typed, read *os.File) {
	t.Helper()
	typed, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	must(t, err)
	t.Cleanup(func() { typed.Close() })
	must(t, unix.IoctlSetPointerInt(int(typed.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(typed.Fd()), unix.TIOCGPTN)
	must(t, err)
	read, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	must(t, err)
	t.Cleanup(func() { read.Close() })
	return typed, read
}

// typing runs a command at a terminal, and types lines into it.
func (c command) typing(lines []string, argv ...string) (said string, code int) {
	c.t.Helper()
	typed, read := terminal(c.t)
	ctx, cancel := context.WithTimeout(c.t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, argv...)
	cmd.Env = c.env()
	cmd.Stdin = read
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	_, err := typed.WriteString(strings.Join(lines, "\n") + "\n")
	must(c.t, err)
	_ = cmd.Run() // its exit code says how it went
	return out.String(), cmd.ProcessState.ExitCode()
}

// At a terminal a change is composed question by question, and drafted if somebody says so.
func changeAtTerminal(t *testing.T, s *demo.Stage) {
	t.Helper()
	on := command{t: t, s: s, person: "quartermaster"}
	const log = "/srv/ticketing/logs/sales-003.log"
	argv := []string{"change", log, "--application", "ticketing", "--host", "slip-north"}
	for _, c := range []struct {
		name    string
		answers []string // owner, group, mode, an entry, who has none, how far; and whether to draft
		want    string
	}{
		{"drafted", []string{"", "", "o-w", "", "", "", "y"}, "state   draft"},
		{"not drafted", []string{"", "", "o-w", "", "", "itself", ""}, "Draft a plan of it?"},
		{"an entry", []string{"", "", "", "user:clerk-west:r", "", "", "n"}, "1 path would change"},
		{"nothing at all", []string{"", "", "", "", "", "", ""}, "nothing is said of what is to become of"},
	} {
		t.Run(c.name, func(t *testing.T) {
			on.t = t
			said, _ := on.typing(c.answers, argv...)
			drafted := strings.Contains(said, "idletally plan submit")
			if !strings.Contains(said, c.want) || (c.name == "drafted") != drafted {
				t.Errorf("%s", said)
			}
		})
	}
}
