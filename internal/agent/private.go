package agent

import (
	"fmt"
	"path/filepath"

	"idletally/internal/private"
)

// alone checks that an agent's folder, and the keys in it, are nobody else's: whoever can write there decides what
// the host is told to do, and whoever can read there can pose as the host.
func alone(folder string) error {
	for _, x := range []struct {
		name   string
		secret bool
	}{{"", false}, {SettingsFile, true}, {keyFile, true}, {joiningFile, true}} {
		if err := private.Check(filepath.Join(folder, x.name), x.secret); err != nil {
			return fmt.Errorf("agent's folder: %w", err)
		}
	}
	return nil
}

// prepare makes an agent's folder, and checks that it is nobody else's: somebody may have made it a moment before.
func prepare(folder string) error {
	if err := private.MkdirAll(folder); err != nil {
		return fmt.Errorf("agent's folder: %w", err)
	}
	return alone(folder)
}
