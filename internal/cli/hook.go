package cli

import (
	"cmp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func hookCommand(o *options) *cobra.Command {
	return commandGroup("hook", "Manage notices to programs and people", hookAdd(o), hookList(o), hookTry(o),
		hookRemove(o))
}

// hookAdd returns the command hook add.
func hookAdd(o *options) *cobra.Command {
	var ask wire.NewHook
	var every time.Duration
	add := &cobra.Command{
		Use:   "add URL",
		Short: "Have a program told of what happens, or people by mail",
		Args:  args(1, 1, "an address"),
		Long: `Have a program told of what happens (https://…), or people by mail (mailto:NAME@HOST): new findings,
plans that wait for a reviewer, runs that ended or stand still. Each notice is a CloudEvent in JSON,
sent by POST and signed; what is not taken (2xx) is sent again, later and later, for half a day. See
docs/guide/9-notices.md for how the signature is checked.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			ask.URL, ask.Every = a[0], int(every/time.Minute)
			h, err := api.AddHook(c.Context(), ask)
			if err != nil {
				return err
			}
			if strings.HasPrefix(h.URL, "mailto:") { // nothing is signed
				return o.showOne(c, h, "hook", h.ID, "to", h.URL, "tells of", strings.Join(h.Kinds, ", "))
			}

			return o.showOne(c, h, "hook", h.ID, "to", h.URL, "tells of", strings.Join(h.Kinds, ", "), "secret",
				h.Secret)
		}),
	}

	add.Flags().StringSliceVar(&ask.Kinds, "kind", wire.UsualKinds,
		"findings, review, run, looks, history; several apart by commas")
	add.Flags().StringVar(&ask.Application, "application", "", "only of this application")
	add.Flags().StringVar(&ask.Effect, "effect", "", "of findings: only where some open, or close")
	add.Flags().DurationVar(&every, "every", 0,
		"mail: gather what is told, such as 24h for a letter a day; 0 is at once")
	add.Flags().StringVar(&ask.Severity, "severity", "minor", "of findings: from minor, serious or grave on")
	return add
}

// hookList returns the command hook list.
func hookList(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List where programs are told of what happens",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Hooks(c.Context())
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"HOOK", "TO", "OF", "TELLS OF", "FROM", "TOLD LAST", "FAULT"},
				value: all,
				none:  "No hook: idletally hook add URL",
			}
			for _, h := range all {
				from := h.Severity
				if h.Effect != "" {
					from += ", " + h.Effect
				}
				t.add(h.ID, h.URL, cmp.Or(h.Application, "all"), strings.Join(h.Kinds, ", "), from, h.Told, h.Fault)
			}

			return o.show(c, t)
		}),
	}
}

// hookTry returns the command hook try.
func hookTry(o *options) *cobra.Command {
	return &cobra.Command{Use: "try HOOK", Short: "Send a test notice", Args: args(1, 1, "a hook's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			h, err := api.TryHook(c.Context(), a[0])
			if err != nil {
				return err
			}

			printf(c, "A notice is on its way to %s: idletally hook list says how that went.", h.URL)
			return nil
		})}
}

// hookRemove returns the command hook remove.
func hookRemove(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "remove HOOK",
		Short: "Delete a hook, and what it was to be told",
		Args:  args(1, 1, "a hook's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.RemoveHook(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "It is told nothing more.")
			return nil
		}),
	}
}
