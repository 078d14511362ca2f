//go:build linux

package cli

import (
	"context"
	"errors"
	"os"
	"runtime/debug"

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
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this host with a one-time code",
		Long: `Enrol this host: the code that "idletally host invite" gave is traded for a certificate.

The roots are this host's own decision. Outside of them the agent neither looks nor changes
anything, whatever a service asks for.`,
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
			host, err := agent.Enrol(c.Context(), folder, service, ca, code, Version, raw)
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
