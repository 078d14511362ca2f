package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"idletally/internal/core/pathname"
)

// private says whether an agent's folder, and the keys in it, are nobody else's: who can write there decides what the host is
// told to do, and who can read there can be the host.
func private(folder string) error {
	for _, x := range []struct {
		name   string
		others os.FileMode
		can    string
	}{{"", 0o022, "written to"}, {SettingsFile, 0o077, "read"}, {keyFile, 0o077, "read"}, {joiningFile, 0o077, "read"}} {
		at := filepath.Join(folder, x.name)
		st, err := os.Lstat(at)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("agent's folder: %w", err)
		}
		owner := int(st.Sys().(*syscall.Stat_t).Uid)
		switch {
		case st.Mode()&os.ModeSymlink != 0:
			return fmt.Errorf("%s is a link: what is kept there has to lie there itself", pathname.Escape(at))
		case owner != 0 && owner != os.Geteuid():
			return fmt.Errorf("%s belongs to account %d, who could have this host told anything: give it to the account that the agent runs as", pathname.Escape(at), owner)
		case st.Mode().Perm()&x.others != 0:
			return fmt.Errorf("%s has mode %04o, so that it can be %s by others: chmod go= %[1]s", pathname.Escape(at), st.Mode().Perm(), x.can)
		}
	}
	return nil
}
