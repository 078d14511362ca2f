package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"idletally/internal/agent"
)

// passwordIn reads the password in the file that a flag names.
func passwordIn(flag, file string) (string, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("--%s: %w", flag, err)
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

func agentCommand(o *options) *cobra.Command {
	var folder string
	c := commandGroup("agent", "Run and enrol the agent of this host", agentRun(&folder), agentEnrol(&folder),
		agentStdio(&folder), agentRequest(&folder), agentJoin(&folder), agentCarry(o, &folder), agentProber(&folder),
		agentStatus(o, &folder), agentRoster(o, &folder), runsHere(o, &folder), putBackHere(o, &folder))
	c.PersistentFlags().StringVar(&folder, "folder", "/var/lib/idletally-agent", "the agent's own folder")
	return c
}

// workFlags adds the flags that say how an agent works, wherever it does.
func workFlags(c *cobra.Command, level *string) (apply func(*agent.Agent)) {
	var listen, lookOnly bool
	own := runFlags(c)
	c.Flags().BoolVar(&listen, "watch", true,
		"hear from the kernel what changes, so that drift is known at once (needs CAP_SYS_ADMIN)")
	c.Flags().BoolVar(&lookOnly, "look-only", false, "change nothing on this host, whoever signs what")
	c.Flags().StringVar(level, "log-level", "info", "debug, info, warn or error")
	return func(a *agent.Agent) {
		own(a)
		a.Version = Version
		a.Deaf = !listen
		a.LookOnly = a.LookOnly || lookOnly
	}
}

// memory is the amount, in bytes, from which on an agent collects garbage more often rather than take more. A scan of
// the worst tree holds less.
const memory = 300 << 20

// work runs an agent until the context ends.
func work(ctx context.Context, a *agent.Agent) error {
	debug.SetGCPercent(400) // a scan makes much that dies young, and holds little
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	a.Log.Info("agent", "version", a.Version, "host", a.Host, "service", a.Service, "roots", a.Roots)
	return stopped(a.Run(ctx))
}

// stopped is the outcome of something that was told to stop.
func stopped(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

func agentRun(folder *string) *cobra.Command {
	var level, each string
	var apply func(*agent.Agent)
	c := &cobra.Command{
		Use:   "run",
		Short: "Work for this host, or the one that was enrolled here, until stopped",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			log, _, err := logger(c, level)
			if err != nil {
				return err
			}

			one := func(folder string) error {
				s, err := agent.Load(folder)
				if err != nil {
					return err
				}
				if s.Remote != nil {
					return stopped(s.Serve(c.Context(), folder, handedOn(c), log))
				}
				a, err := agent.New(folder, log)
				if err != nil {
					return err
				}

				apply(a)
				return work(c.Context(), a)
			}

			if each == "" {
				return one(*folder)
			}

			return forEach(c.Context(), each, log, one)
		},
	}

	apply = workFlags(c, &level)
	c.Flags().StringVar(&each, "each", "",
		"work for every host enrolled into a subfolder of this one; new ones are picked up")
	return c
}

// forEach runs the agents of all folders in one, until the context ends. One that ends does not affect the others; it
// is started again after a while.
func forEach(ctx context.Context, top string, log *slog.Logger, one func(folder string) error) error {
	const look, again = 5 * time.Second, time.Minute
	enrolled := func(folder string) bool {
		_, err := os.Stat(filepath.Join(folder, agent.SettingsFile))
		return err == nil
	}
	known := map[string]bool{}
	var all sync.WaitGroup
	defer all.Wait()

	for {
		list, err := os.ReadDir(top)
		if err != nil {
			return err
		}

		for _, e := range list {
			folder := filepath.Join(top, e.Name())
			if known[folder] || !enrolled(folder) {
				continue
			}

			known[folder] = true
			all.Go(func() {
				for ; ctx.Err() == nil; _ = pause(ctx, again) { // which the loop sees
					if !enrolled(folder) {
						continue // it was taken away
					}
					if err := one(folder); err != nil && ctx.Err() == nil {
						log.Error("agent ended", "folder", folder, "error", err)
					}
				}
			})
		}

		if pause(ctx, look) != nil {
			return nil
		}
	}
}

// pause waits for a duration, or until the context ends.
func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
	return ctx.Err()
}

// handedOn returns the given flags about how to work, for the agent of a remote host.
func handedOn(c *cobra.Command) (flags []string) {
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if f.Changed && f.Name != "each" {
			flags = append(flags, "--"+f.Name+"="+f.Value.String())
		}
	})
	return flags
}

func agentStdio(folder *string) *cobra.Command {
	var level string
	var enrol bool
	var roots []string
	var apply func(*agent.Agent)
	c := &cobra.Command{
		Use:   "stdio",
		Short: "Work for this host by way of a program at standard input and output",
		Args:  args(0, 0, "no argument"),
		Long: `Work for this host by way of whoever stands at standard input and output: "idletally agent run" of
another machine, which has come over SSH. It brings this agent's calls to the service, and sees
nothing of them; they are the agent's own, by the certificate in its folder.

This is the one command that such an account needs. Where it has to be root for that, this line for
sudoers lets it:

  keeper ALL=(root) NOPASSWD: /usr/bin/idletally agent stdio --folder /var/lib/idletally-agent

With --enrol it joins the service that the other one names, unless it has joined one already. The
roots are said with --root, in the command that is allowed: they are this host's own decision, and
the other one may ask for no others. It takes two minutes at the most.

  keeper ALL=(root) NOPASSWD: /usr/bin/idletally agent stdio --folder /var/lib/idletally-agent --enrol --root /srv/app`,
		RunE: func(c *cobra.Command, _ []string) error {
			log, _, err := logger(c, level)
			if err != nil {
				return err
			}

			if enrol {
				raw, err := rootsGiven(roots)
				if err != nil {
					return err
				}
				return agent.EnrolStdio(c.Context(), *folder, Version, raw)
			}

			a, err := agent.New(*folder, log)
			if err != nil {
				return err
			}

			apply(a)
			ctx, err := a.Through(c.Context())
			if err != nil {
				return err
			}

			return work(ctx, a)
		},
	}

	apply = workFlags(c, &level)
	c.Flags().BoolVar(&enrol, "enrol", false, "join the service that the other one names")
	c.Flags().StringArrayVar(&roots, "root", nil,
		"with --enrol: folder below which the agent may work; give it once for each")
	return c
}

func agentProber(folder *string) *cobra.Command {
	var proberFile string
	var noMore bool
	prober := &cobra.Command{
		Use:   "prober ACCOUNT",
		Short: "Let the agent of a file server try as an account",
		Args:  args(1, 1, "an account of the file server"),
		Long: `Let the agent of a file server try as an account, for "idletally access probe". On a share nobody
can try as somebody else without that account's password: it is sealed in the agent's folder, and
goes to nobody but the file server.`,
		RunE: func(c *cobra.Command, a []string) error {
			if (proberFile == "") != noMore {
				return usageError{errors.New("give --password-file, or --no-more")}
			}

			var password string
			if !noMore {
				var err error
				if password, err = passwordIn("password-file", proberFile); err != nil {
					return err
				}
				if password == "" {
					return usageError{fmt.Errorf("%s is empty", proberFile)}
				}
			}

			if err := agent.Prober(c.Context(), *folder, a[0], password); err != nil {
				return err
			}

			if noMore {
				printf(c, "%s is no prober any more.", a[0])
			} else {
				printf(c, "%s is a prober now.", a[0])
			}

			return nil
		},
	}

	prober.Flags().StringVar(&proberFile, "password-file", "", "file that holds the account's password")
	prober.Flags().BoolVar(&noMore, "no-more", false, "forget the account's password")
	return prober
}
