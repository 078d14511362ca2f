package cli

import (
	"github.com/spf13/cobra"

	"idletally/internal/client"
)

func searchCommand(o *options) *cobra.Command {
	return &cobra.Command{Use: "search TEXT", Short: "Find hosts, applications, rules, accounts, plans and paths", Args: args(1, 1, "a part of a name, or a path"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			hits, err := api.Search(c.Context(), a[0])
			if err != nil {
				return err
			}
			t := table{head: []string{"KIND", "NAME", "OF", "DETAIL"}, value: hits, none: "Nothing has that in its name."}
			for _, h := range hits {
				of := h.Application
				if of == "" || h.Kind == "account" {
					of = h.Host
				}
				name := h.Name
				if h.Kind == "plan" {
					name += " (" + h.Subject + ")"
				}
				if o.output == "table" {
					name, h.Detail = short(name), short(h.Detail)
				}
				t.add(h.Kind, name, of, h.Detail)
			}
			return o.show(c, t)
		})}
}

// short cuts a text that would push a table out of the terminal.
func short(s string) string {
	const most = 70
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
