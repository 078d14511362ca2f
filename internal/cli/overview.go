package cli

import (
	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/verdict"
)

func overviewCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "overview",
		Short: "Show what needs somebody now, and how everything stands",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			v, err := api.Overview(c.Context())
			if err != nil {
				return err
			}

			needs := table{
				head:  []string{"NEEDS", "WHAT", "DETAIL", "AT"},
				value: v,
				none:  "Nothing waits for anybody.",
			}
			for _, n := range v.Needs {
				title, at := n.Title, ""
				if n.Count > 0 {
					title = num(n.Count) + " in " + title
				}

				if n.At != nil {
					at = when(*n.At)
				}

				needs.add(n.Kind, title, n.Detail, at)
			}

			if err := o.show(c, needs); err != nil || o.output != "table" {
				return err
			}

			t := table{
				head: []string{
					"APPLICATION", "HOSTS", "AS DECLARED", "FINDINGS", "OPEN", "CLOSE", "GRAVE", "ACCEPTED", "STATE",
				},
			}
			for _, a := range v.Applications {
				t.add(a.Name, num(int64(a.Hosts)), num(int64(a.Verdict.In[string(verdict.Declared)])), num(a.Findings),
					num(a.Opens), num(a.Closes), num(a.Grave), num(a.Waived), a.Verdict.Says)
			}

			printf(c, "")
			return o.show(c, t)
		}),
	}
}
