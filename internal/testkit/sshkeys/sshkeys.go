// Package sshkeys makes SSH keys, and agents that have them, by the system's own programs.
package sshkeys

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"idletally/internal/testkit"
)

// New makes a key of a kind in a file, which it returns; the public half lies in FILE.pub.
func New(t testing.TB, file, kind, passphrase string) string {
	t.Helper()
	run(t, exec.Command("ssh-keygen", "-q", "-t", kind, "-N", passphrase, "-C", "purser", "-f", file))
	return file
}

// Agent starts an ssh-agent that has some keys, and returns where it listens. It ends with the test.
func Agent(t testing.TB, files ...string) (socket string) {
	t.Helper()
	socket = filepath.Join(t.TempDir(), "agent")
	c := exec.Command("ssh-agent", "-D", "-a", socket)
	out, err := c.StdoutPipe()
	testkit.Must(t, err)
	testkit.Must(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })

	_, err = bufio.NewReader(out).ReadString('\n') // it listens when it says so
	testkit.Must(t, err)
	for _, f := range files {
		Ask(t, socket, "-q", f)
	}
	return socket
}

// Ask has ssh-add ask an agent for something.
func Ask(t testing.TB, socket string, argv ...string) {
	t.Helper()
	c := exec.Command("ssh-add", argv...)
	c.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	run(t, c)
}

func run(t testing.TB, c *exec.Cmd) {
	t.Helper()
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", c.Args[0], err, out)
	}
}
