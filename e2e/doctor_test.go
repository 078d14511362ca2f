//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"idletally/demo"
	"idletally/internal/wire"
)

// The doctor finds what was made wrong, at the service, on the host and in the folder, and says what to do.
func TestDoctor(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	c := command{t: t, s: s, person: "admin"}
	c.login()
	data := filepath.Join(s.Dir, "service")
	folder := filepath.Join(s.Root("slip-north"), "var/lib/idletally-agent")
	all := func(more ...string) []string {
		return append([]string{"doctor", "--data", data, "--folder", folder}, more...)
	}
	c.want(0, "the private database answers", all()...)
	c.want(0, `"state": "well"`, all("--output", "json")...)
	must(t, os.Chmod(folder, 0o755))
	must(t, os.Chmod(filepath.Join(data, "keys", "orders.key"), 0o644))
	c.want(1, "chmod 0700 "+folder, all()...)
	c.want(1, "chmod 0600 "+filepath.Join(data, "keys", "orders.key"), all()...)
	c.want(1, "2 of ", all()...)
	must(t, os.Chmod(folder, 0o700))
	must(t, os.Chmod(filepath.Join(data, "keys", "orders.key"), 0o600))

	// Agents of another version than the service's are named, and those that cannot work with it.
	skiff, err := demo.Join(t.Context(), s.Address, authorityOf(t, s), as(t, s, "admin"), wire.NewHost{Name: "skiff"})
	must(t, err)
	_, err = skiff.Hello(t.Context(), wire.Hello{Version: "0.9", Protocol: wire.Protocol, Oldest: wire.OldestProtocol})
	must(t, err)
	c.want(1, "1 agents run another version than the service, dev: skiff (0.9)", all()...)
	_, err = skiff.Hello(t.Context(), wire.Hello{Version: "99", Protocol: wire.Protocol + 9, Oldest: wire.Protocol + 9})
	fails(t, "an agent that is too new", err, 409, "bring this program up to date")
	c.want(1, "1 agents cannot work with this service: skiff", all()...)
	s.Service.Stop()
	c.want(1, "does not answer", all()...)
	nobody := command{t: t, s: s, person: "nobody-in-particular"}
	nobody.want(0, "you are not signed in", "doctor", "--data", filepath.Join(s.Dir, "nothing"), "--folder",
		filepath.Join(s.Dir, "nothing"))
}
