// Package cli is the command line: one file for each noun, and one for how answers are shown.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	_ "idletally/internal/core/schemes" // every kind of permissions is known
	"idletally/internal/wire"
)

// Exit codes.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitNotSo       = 4 // looked, and it is not as it should be
)

// errNotSo ends a command that worked and has bad news, which it has already shown.
var errNotSo = errors.New("not as it should be")

type usageError struct{ error }

// Main runs the command line and returns the exit code.
func Main() int {
	begin()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()

	o := &options{}
	err := rootOf(o).ExecuteContext(ctx)
	gone := o.finish != nil && o.finish()
	if err == nil || gone && errors.Is(err, context.Canceled) {
		return 0
	}
	code := exitCode(err)
	if errors.Is(err, errNotSo) {
		return code
	}

	if o.output == "json" {
		e := json.NewEncoder(os.Stderr)
		e.SetEscapeHTML(false)
		_ = e.Encode(failureOf(err, code)) // nobody is left to tell
		return code
	}

	fmt.Fprintln(os.Stderr, "idletally:", printable(err.Error()))
	return code
}

// exitCode returns what a command ends with.
func exitCode(err error) int {
	var usage usageError
	var p *client.Problem
	switch {
	case errors.Is(err, errNotSo):
		return exitNotSo
	case errors.As(err, &usage), errors.As(err, &p) && p.Code == wire.InvalidInput:
		return exitUsage
	case errors.Is(err, client.ErrUnreachable), client.Status(err) == 503:
		return exitUnreachable
	}
	return exitFailed
}

// A failure is how a command that failed tells programs so: a problem (RFC 9457), the service's own if it had one.
type failure struct {
	Type   string `json:"type"`
	Code   string `json:"code"`
	Title  string `json:"title"`
	Status int    `json:"status,omitempty"` // that the service answered with
	Detail string `json:"detail"`
	Exit   int    `json:"exit"`
}

func failureOf(err error, exit int) failure {
	f := failure{Type: "about:blank", Code: "failed", Title: "The command failed", Detail: err.Error(), Exit: exit}
	var p *client.Problem
	switch {
	case errors.As(err, &p) && p.Code != "":
		f.Type = p.Type
		f.Code = p.Code
		f.Title = p.Title
		f.Status = p.Status
	case exit == exitUsage:
		f.Code, f.Title = "usage", "The command was used wrongly"
	case exit == exitUnreachable:
		f.Code, f.Title = "unreachable", "The service does not answer"
	case errors.Is(err, errSignedOut):
		f.Code, f.Title = "not-signed-in", "Nobody is signed in"
	}

	return f
}

// Root builds the command tree.
func Root() *cobra.Command { return rootOf(&options{}) }

func rootOf(o *options) *cobra.Command {
	root := &cobra.Command{
		Use:   "idletally",
		Short: "Keep permissions as they were meant to be",
		Long: `Idle Tally keeps permissions as they were meant to be: declare what the paths of an
application should have, take snapshots of real hosts, see where they have drifted, and change
them by plans that a second person approves. Originals are kept first, so all of it can be put back.

Exit codes: 0 done; 1 failed; 2 usage error; 3 the service does not answer; 4 drift or errors
were found (baseline with errors, drift with --strict, steps refused, hosts missing).`,
		SilenceUsage: true, SilenceErrors: true, Version: Version,
		Args: func(c *cobra.Command, a []string) error { return unknown(c, a) },
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}

	root.SuggestionsMinimumDistance = 2
	root.SetHelpCommand(helpCommand())
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w: see %s --help", err, c.CommandPath())}
	})
	root.PersistentFlags().StringVarP(&o.output, "output", "o", "table", "how to show the answer: table, json or csv")
	root.PersistentFlags().StringVar(&o.config, "config", "",
		"folder of your session (default: your user configuration folder)")
	root.PersistentFlags().StringVar(&o.profile, "profile", "",
		"which of your sessions at several services to use; login makes it")
	root.PersistentFlags().BoolVar(&o.wide, "wide", false, "leave nothing out of tables, however narrow the terminal")
	root.PersistentFlags().BoolVar(&o.noPager, "no-pager", false,
		"show long answers as they are, not by way of PAGER (less where that is not set)")
	root.PersistentPreRunE = func(c *cobra.Command, _ []string) error {
		if err := o.fromEnvironment(c); err != nil {
			return err
		}
		o.finish = o.page(c)
		return nil
	}

	root.AddCommand(ownCommands(o)...)
	root.AddCommand(agentCommand(o), loginCommand(o), logoutCommand(o), personCommand(o), hostCommand(o),
		applicationCommand(o), baselineCommand(o), snapshotCommand(o), driftCommand(o), waiverCommand(o),
		changeCommand(o), planCommand(o), runCommand(o), historyCommand(o), signInCommand(o), tokenCommand(o),
		scheduleCommand(o), hookCommand(o), policyCommand(o), keysCommand(o), rosterCommand(o), requestCommand(o),
		overviewCommand(o), versionCommand(o), profileCommand(o), searchCommand(o), storageCommand(o), modeCommand(o),
		entriesCommand(o), pathCommand(o), accountCommand(o), accessCommand(o))

	grouped(root)
	exampled(root)
	everyCommand(root, checked)
	everyCommand(root, o.complete)
	return root
}

// inGroups are the nouns in the order of work.
var inGroups = []struct {
	title string
	nouns []string
}{
	{"Begin here:", []string{"login", "logout", "profile", "sign-in", "overview", "search", "doctor", "version"}},
	{"Look, on this machine, on hosts and in snapshots:", []string{"path", "access", "account", "mode", "entries"}},
	{"Declare and compare:", []string{"application", "baseline", "snapshot", "schedule", "drift", "waiver"}},
	{"Change and put back:", []string{"change", "plan", "run"}},
	{"Hosts and their agents:", []string{"host", "agent"}},
	{"Run the service:",
		[]string{"serve", "backup", "storage", "person", "token", "policy", "keys", "roster", "request", "hook",
			"history", "openapi"}},
}

// grouped shows the commands of the program in the order of work.
func grouped(root *cobra.Command) {
	cobra.EnableCommandSorting = false
	var order []*cobra.Command
	for _, g := range inGroups {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, noun := range g.nouns {
			for _, c := range root.Commands() {
				if c.Name() == noun {
					c.GroupID = g.title
					order = append(order, c)
				}
			}
		}
	}

	root.SetHelpCommandGroupID(inGroups[0].title)
	root.SetCompletionCommandGroupID(inGroups[0].title)
	root.RemoveCommand(order...)
	root.AddCommand(order...)
}

// everyCommand calls a function with a command and all below it.
func everyCommand(c *cobra.Command, do func(*cobra.Command)) {
	do(c)
	for _, sub := range c.Commands() {
		everyCommand(sub, do)
	}
}

// checked makes missing or conflicting flags an error of usage, as all others are.
func checked(c *cobra.Command) {
	own := c.Args
	c.Args = func(c *cobra.Command, a []string) error {
		if err := errors.Join(c.ValidateRequiredFlags(), c.ValidateFlagGroups()); err != nil {
			return usageError{fmt.Errorf("%w: see %s --help", err, c.CommandPath())}
		}
		if own == nil {
			return nil
		}
		return own(c, a)
	}
}

func commandGroup(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(c *cobra.Command, args []string) error {
		if err := unknown(c, args); err != nil {
			return err
		}
		return c.Help()
	}}
	c.SuggestionsMinimumDistance = 2
	c.AddCommand(verbs...)
	return c
}

// obvious lets a noun take the arguments of one of its commands directly, where that can be meant.
func obvious(c, verb *cobra.Command, meant func(args []string) bool) *cobra.Command {
	c.DisableFlagParsing = true // they are the command's
	c.RunE = func(c *cobra.Command, a []string) error {
		if len(a) == 0 || a[0] == "-h" || a[0] == "--help" {
			return c.Help()
		}
		if err := verb.ParseFlags(a); err != nil {
			return usageError{fmt.Errorf("%w: see %s --help", err, verb.CommandPath())}
		}

		given := verb.Flags().Args()
		if !meant(given) {
			if err := unknown(c, given); err != nil {
				return err
			}
			return c.Help()
		}

		if err := verb.ValidateArgs(given); err != nil {
			return err
		}

		verb.SetContext(c.Context())
		return verb.RunE(verb, given)
	}

	return c
}

// unknown refuses what is no subcommand of a command, and names what was probably meant.
func unknown(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	meant := ""
	if s := c.SuggestionsFor(args[0]); len(s) > 0 {
		meant = ": did you mean " + strings.Join(s, " or ") + "?"
	}
	return usageError{
		fmt.Errorf("%q is no command of %s%s See %s --help", args[0], c.CommandPath(), cmp.Or(meant, "."),
			c.CommandPath()),
	}
}

// helpCommand shows the help of another command, and refuses names that are none.
func helpCommand() *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND]", Short: "Show the help of a command",
		RunE: func(c *cobra.Command, a []string) error {
			at, rest, err := c.Root().Find(a)
			if err != nil || at == nil {
				return usageError{fmt.Errorf("help: %q is no command: see idletally --help", strings.Join(a, " "))}
			}
			if err := unknown(at, rest); err != nil {
				return err
			}
			return at.Help()
		}}
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
