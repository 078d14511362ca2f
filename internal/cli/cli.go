// Package cli is the command line: one file per noun, and one for how answers are shown.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"idletally/internal/client"
)

// Exit codes.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitNotSo       = 4 // looked, and it is not as it should be
)

// errNotSo ends a command that worked and has bad news, which it has shown already.
var errNotSo = errors.New("not as it should be")

type usageError struct{ error }

// Main runs the command line and gives the exit code.
func Main() int {
	begin()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := Root().ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errNotSo):
		return exitNotSo
	}
	fmt.Fprintln(os.Stderr, "idletally:", printable(err.Error()))
	switch {
	case errors.As(err, &usage):
		return exitUsage
	case errors.Is(err, client.ErrUnreachable), client.Status(err) == 503:
		return exitUnreachable
	}
	return exitFailed
}

// Root builds the command tree.
func Root() *cobra.Command {
	o := &options{}
	root := &cobra.Command{
		Use:   "idletally",
		Short: "Keep permissions as they were meant to be",
		Long: `Idle Tally keeps permissions as they were meant to be: declare what the paths of an
application should have, take snapshots of real hosts, see where they have drifted, and change
them by plans that a second person approves. Originals are kept first, so all of it can be put back.

Exit codes: 0 done; 1 failed; 2 used wrongly; 3 the service does not answer; 4 it was looked at
and is not as it should be (baseline with errors, drift with --strict, steps refused).`,
		SilenceUsage: true, SilenceErrors: true, Version: Version,
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w: see %s --help", err, c.CommandPath())}
	})
	root.PersistentFlags().StringVarP(&o.output, "output", "o", "table", "how to show the answer: table, json or csv")
	root.PersistentFlags().StringVar(&o.config, "config", "", "folder of your session (default: your user configuration folder)")
	root.AddCommand(ownCommands(o)...)
	root.AddCommand(agentCommand(o), loginCommand(o), logoutCommand(o), personCommand(o), hostCommand(o),
		applicationCommand(o), baselineCommand(o), snapshotCommand(o), driftCommand(o), waiverCommand(o), planCommand(o), runCommand(o), historyCommand(o), signInCommand(o), tokenCommand(o), scheduleCommand(o), hookCommand(o), policyCommand(o), keysCommand(o), overviewCommand(o), versionCommand(o), searchCommand(o), storageCommand(o), modeCommand(o), entriesCommand(o), pathCommand(o), accountCommand(o), accessCommand(o))
	return root
}

func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usageError{fmt.Errorf("%q is no command of %s: see %s --help", args[0], c.CommandPath(), c.CommandPath())}
		}
		return c.Help()
	}}
	c.AddCommand(verbs...)
	return c
}

// args checks the number of arguments and says what is missing.
func args(min, max int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, a []string) error {
		if len(a) < min || len(a) > max {
			return usageError{fmt.Errorf("want %s: %s", what, c.UseLine())}
		}
		return nil
	}
}
