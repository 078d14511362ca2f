//go:build !linux

package cli

import "github.com/spf13/cobra"

// ownKeys are the commands that work on a service's folder, which is on Linux.
func ownKeys() []*cobra.Command { return nil }
