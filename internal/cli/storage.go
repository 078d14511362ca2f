package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func storageCommand(o *options) *cobra.Command {
	return commandGroup("storage", "Show, verify and tidy what the service stores", storageShow(o), storageCheck(o),
		storageTidy(o))
}

// storageShow returns the command storage show.
func storageShow(o *options) *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Show how much is stored", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			s, err := api.Storage(c.Context())
			if err != nil {
				return err
			}
			return o.showOne(c, s, "snapshots", num(s.Snapshots), "reports", num(s.Reports), "folders", num(s.Nodes),
				"KiB", num(s.Bytes/1024))
		})}
}

// storageCheck returns the command storage check.
func storageCheck(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Verify everything that is stored; exit code 4 where something is damaged",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all := wire.StorageCheck{Faults: []wire.Left{}}
			for {
				part, err := api.CheckStorage(c.Context(), all.Next)
				if err != nil {
					return err
				}

				all.Nodes += part.Nodes
				all.Snapshots += part.Snapshots
				all.Faults = append(all.Faults, part.Faults...)
				all.Next = part.Next
				if all.Next == "" {
					break
				}
			}

			if o.output == "table" && len(all.Faults) == 0 {
				printf(c, "%s snapshots and %s folders are whole.", strconv.Itoa(all.Snapshots),
					strconv.Itoa(all.Nodes))
				return nil
			}

			t := table{head: []string{"WHAT", "WHY"}, value: all}
			for _, f := range all.Faults {
				t.add(f.Path, f.Why)
			}

			if err := o.show(c, t); err != nil {
				return err
			}

			if len(all.Faults) > 0 {
				tell(c.ErrOrStderr(),
					"%d faults: put the database back from its backup, or take new snapshots of these hosts.\n",
					len(all.Faults))
				return errNotSo
			}

			return nil
		}),
	}
}

// storageTidy returns the command storage tidy.
func storageTidy(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "tidy",
		Short: "Delete now what is not to be kept; the service does it by itself now and then",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			t, err := api.TidyStorage(c.Context())
			if err != nil {
				return err
			}
			return o.showOne(c, t, "snapshots removed", strconv.Itoa(t.Snapshots), "folders removed", num(t.Nodes),
				"folders needed", num(t.Live))
		}),
	}
}
