//go:build linux

package cli

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// A flag counts before the environment, the environment before the file, and what is wrong is refused with its place.
func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "serve.yaml")
	write := func(text string, mode os.FileMode) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(file, mode); err != nil {
			t.Fatal(err)
		}
	}

	call := func(env map[string]string, a ...string) (string, error) {
		for k, v := range env {
			t.Setenv(k, v)
		}
		defer func() {
			for k := range env {
				os.Unsetenv(k)
			}
		}()

		c := Root()
		var out bytes.Buffer
		c.SetOut(&out)
		c.SetErr(&out)
		c.SetArgs(append([]string{"serve", "--check", "--settings", file}, a...))
		err := c.ExecuteContext(t.Context())
		return out.String(), err
	}

	write("listen: 127.0.0.1:7001\nkeep-all: 7\nname: [tally.example, 192.0.2.7]\nlog-level: warn\n", 0o644)
	out, err := call(map[string]string{"IDLETALLY_LISTEN": "127.0.0.1:7002", "IDLETALLY_KEEP_ALL": "8"}, "--keep-all",
		"9")
	if err != nil {
		t.Fatal(err)
	}

	for _, want := range [][]string{
		{"listen", "127.0.0.1:7002", "IDLETALLY_LISTEN"},
		{"keep-all", "9", "flag"},
		{"name", "[tally.example,192.0.2.7]", file},
		{"log-level", "warn", file},
		{"keep-daily", "180", "default"},
	} {
		found := false
		for line := range strings.Lines(out) {
			found = found || strings.Join(strings.Fields(line), " ") == strings.Join(want, " ")
		}
		if !found {
			t.Errorf("want %v in\n%s", want, out)
		}
	}

	for _, c := range []struct {
		text, says string
		mode       os.FileMode
		env        map[string]string
	}{
		{"lissten: x\n", `"lissten" is no setting: acme, acme-authority`, 0o600, nil},
		{"settings: x\n", `"settings" is no setting`, 0o600, nil},
		{"keep-all: soon\n", "keep-all", 0o600, nil},
		{"keep-all: -1\n", "want 0 or more", 0o600, nil},
		{"listen: [a, b]\n", "listen: want one value", 0o600, nil},
		{"listen: {a: b}\n", "listen: want text", 0o600, nil},
		{"listen: a\nlisten: b\n", "listen", 0o600, nil},
		{"- a\n", file, 0o600, nil},
		{"listen: nowhere\n", "--listen", 0o600, nil},
		{"log-level: loud\n", "loud", 0o600, nil},
		{"data: /x\n", "chmod go-w", 0o622, nil},
		{"database: me:hush@tcp(127.0.0.1:1)/x\n", "chmod o-r", 0o644, nil},
		{"database: me:hush@tcp(127.0.0.1:1)/x\n", "127.0.0.1:1)/x does not answer", 0o640, nil},
		{"oidc-secret: hush\n", "chmod o-r", 0o644, nil},
		{"mail-password: hush\n", "chmod o-r", 0o644, nil},
		{"mail-password: hush\nmail-server: x\n", "--mail-server", 0o600, nil},
		{"oidc-issuer: http://x\n", "--oidc-issuer", 0o600, nil},
		{"oidc-issuer: https://x\noidc-client: y\noidc-secret: hush\n", "--public", 0o600, nil},
		{"database: hush\n", "database address", 0o640, nil},
		{strings.Repeat("#", maxSettings+1), "more than", 0o600, nil},
		{"", "IDLETALLY_KEEP_WEEKLY", 0o600, map[string]string{"IDLETALLY_KEEP_WEEKLY": "x"}},
	} {
		t.Run(c.text, func(t *testing.T) {
			write(c.text, c.mode)
			out, err := call(c.env)
			if err == nil || !strings.Contains(err.Error(), c.says) || strings.Contains(out+err.Error(), "hush") {
				t.Errorf("%.60q: %v\n%s", c.text, err, out)
			}
		})
	}

	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}

	if _, err := call(nil); err == nil {
		t.Error("settings that are not there count as none")
	}
}

// At SIGHUP something is done again, and not after its end.
func TestAgain(t *testing.T) {
	did := make(chan bool, 10)
	enough := again(t.Context(), slog.New(slog.DiscardHandler), func() error { did <- true; return nil })
	for range 2 {
		if err := unix.Kill(os.Getpid(), unix.SIGHUP); err != nil {
			t.Fatal(err)
		}
		select {
		case <-did:
		case <-time.After(10 * time.Second):
			t.Fatal("nothing was done")
		}
	}
	enough()
}
