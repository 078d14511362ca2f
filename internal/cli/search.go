package cli

import (
	"github.com/spf13/cobra"

	"idletally/internal/client"
)

func searchCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "search TEXT",
		Short: "Find hosts, applications, rules, accounts, plans and paths",
		Args:  args(1, 1, "a part of a name, or a path"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			found, err := api.Search(c.Context(), a[0])
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"KIND", "NAME", "OF", "DETAIL"},
				value: found,
				none:  "Nothing has that in its name.",
			}
			for _, h := range found.Items {
				of := h.Application
				if of == "" || h.Kind == "account" {
					of = h.Host
				}

				name := h.Name
				if h.Kind == "plan" {
					name += " (" + h.Subject + ")"
				}

				t.add(h.Kind, name, of, meaning(h.Detail))
			}

			if err := o.show(c, t); err != nil || len(found.More) == 0 || o.output == "json" {
				return err
			}

			to := c.OutOrStdout()
			if o.output == "csv" {
				to = c.ErrOrStderr()
			}

			tell(to, "There may be more of these kinds: %s. A longer part of the name finds them.\n",
				joinWords(found.More))
			return nil
		}),
	}
}
