package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
)

func begin() {}

// ownCommands are none: the service runs on Linux.
func ownCommands(*options) []*cobra.Command { return nil }

// fileCommands are none: files are made and read on Linux.
func fileCommands(*options) []*cobra.Command { return nil }

func runFlags(*cobra.Command) (apply func(*agent.Agent)) { return func(*agent.Agent) {} }

func thisMachine() (looker, error) {
	return nil, usageError{errors.New("of this system the service is asked: give --host or --snapshot")}
}
