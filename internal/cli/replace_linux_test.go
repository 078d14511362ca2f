package cli

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"idletally/internal/service/authority"
)

// Root replaces the keys of a service that runs as another account: what it makes is that account's, and
// nothing else becomes so that the account has put there, by a second name or a link.
func TestReplacedKeysBelongToTheService(t *testing.T) {
	const account = 41001
	data := t.TempDir()
	dir := filepath.Join(data, "keys")
	if _, err := authority.Open(dir, []string{"localhost"}); err != nil {
		t.Fatal(err)
	}

	list, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil {
		t.Fatal(err)
	}

	for _, f := range append(list, dir) {
		if err := os.Chown(f, account, account); err != nil {
			t.Fatal(err)
		}
	}

	secret := filepath.Join(data, "shadow")
	if err := os.WriteFile(secret, []byte("root's own"), 0o600); err != nil {
		t.Fatal(err)
	}

	if err := os.Link(secret, filepath.Join(dir, "orders.old")); err != nil {
		t.Fatal(err)
	}

	if err := os.Symlink(secret, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}

	for _, what := range []string{"authority", "orders"} {
		t.Run(what, func(t *testing.T) {
			if out, err := try(t, "", "keys", "replace", what, "--data", data); err != nil ||
				!strings.Contains(out, "Start the service again") {
				t.Fatalf("%s: %q, %v", what, out, err)
			}
		})
	}

	if _, err := try(t, "", "keys", "replace", "authority", "--data", data); err == nil { // and where it is refused
		t.Error("a third authority")
	}

	owner := func(name string) uint32 {
		st, err := os.Lstat(name)
		if err != nil {
			t.Fatal(err)
		}
		return st.Sys().(*syscall.Stat_t).Uid
	}

	for _, f := range []string{
		"authority.key", "authority.pem", "authority-former.key", "authority-former.pem", "orders.key",
		"succession.json", "secrets.key",
	} {
		t.Run(f, func(t *testing.T) {
			if got := owner(filepath.Join(dir, f)); got != account {
				t.Errorf("%s belongs to %d", f, got)
			}
		})
	}

	if got := owner(secret); got != 0 {
		t.Errorf("root's own file belongs to %d", got)
	}
}
