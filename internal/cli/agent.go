//go:build linux

package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/pathname"
	"idletally/internal/host/scan"
)

func agentCommand(o *options) *cobra.Command {
	var folder, level string
	var gentle scan.Gentle
	var listen, lookOnly bool
	run := &cobra.Command{Use: "run", Short: "Work for this host until stopped", Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			log, err := logger(c, level)
			if err != nil {
				return err
			}
			a, err := agent.New(folder, log)
			if err != nil {
				return err
			}
			a.Gentle, a.Deaf, a.LookOnly = &gentle, !listen, a.LookOnly || lookOnly
			debug.SetGCPercent(400) // a scan makes much that dies young, and holds little
			log.Info("agent", "host", a.Host, "service", a.Service, "roots", a.Roots)
			if err := a.Run(c.Context()); !errors.Is(err, context.Canceled) {
				return err
			}
			return nil
		}}
	gentleFlags(run, &gentle)
	run.Flags().BoolVar(&listen, "watch", true, "hear from the kernel what changes, so that drift is known at once (needs CAP_SYS_ADMIN)")
	run.Flags().BoolVar(&lookOnly, "look-only", false, "change nothing on this host, whoever signs what")
	run.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	var service, authorityFile, code string
	var roots []string
	var server agent.FileServer
	var passwordFile string
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this host with a one-time code",
		Long: `Enrol this host: the code that "idletally host invite" gave is traded for a certificate.

The roots are this host's own decision. Outside of them the agent neither looks nor changes
anything, whatever a service asks for.

With --server the agent works for a file server near it instead, through SMB 3. Then roots are shares, or folders in them:
/charts, /charts/harbour. The account has to be allowed to read all permissions there; its password is kept in the agent's own
folder, which nobody but the agent may read.`,
		Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			ca, err := os.ReadFile(authorityFile)
			if err != nil {
				return err
			}
			var raw []string
			for _, r := range roots {
				p, err := pathname.Unescape(r)
				if err != nil {
					return usageError{err}
				}
				raw = append(raw, p)
			}
			var of *agent.FileServer
			if server.Address != "" {
				b, err := os.ReadFile(passwordFile)
				if err != nil {
					return fmt.Errorf("--server-password-file: %w", err)
				}
				if server.Password = strings.TrimRight(string(b), "\r\n"); server.User == "" {
					return usageError{errors.New("--server needs --server-user and --server-password-file")}
				}
				of = &server
			}
			host, err := agent.Enrol(c.Context(), folder, service, ca, code, Version, raw, of)
			if err != nil {
				return err
			}
			say(c, "Enrolled as host %s. Start it with: idletally agent run", host)
			return nil
		}}
	enrol.Flags().StringVar(&service, "service", "", "address of the service: https://HOST:PORT")
	enrol.Flags().StringVar(&authorityFile, "authority", "", "file with the service's authority (PEM)")
	enrol.Flags().StringVar(&code, "code", "", "one-time code")
	enrol.Flags().StringArrayVar(&roots, "root", nil, "folder below which the agent may work; give it once for each")
	enrol.Flags().StringVar(&server.Address, "server", "", "work for this file server instead: HOST:PORT")
	enrol.Flags().StringVar(&server.User, "server-user", "", "account at the file server")
	enrol.Flags().StringVar(&server.Domain, "server-domain", "", "domain of that account")
	enrol.Flags().StringVar(&passwordFile, "server-password-file", "", "file that holds its password")
	enrol.Flags().BoolVar(&server.Plain, "server-plain", false, "the file server need not encrypt what goes over the network")
	for _, f := range []string{"service", "authority", "code", "root"} {
		_ = enrol.MarkFlagRequired(f)
	}
	c := noun("agent", "Work on this host for a service", run, enrol, runsHere(o, &folder), putBackHere(o, &folder))
	c.PersistentFlags().StringVar(&folder, "folder", "/var/lib/idletally-agent", "the agent's own folder")
	return c
}

// gentleFlags let whoever runs a scan keep it out of the way of what the host is for.
func gentleFlags(c *cobra.Command, g *scan.Gentle) {
	c.Flags().BoolVar(&g.Idle, "idle", false, "scan only when nobody else wants processor and disk")
	c.Flags().IntVar(&g.AtMost, "at-most", 0, "look at so many paths a second, at the most; 0 is no limit")
}
