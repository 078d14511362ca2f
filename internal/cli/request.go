package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func requestCommand(o *options) *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List what waits for others to agree: your own, and what you can agree to",
		Args:  args(0, 0, "no argument"),
		Long: `List what waits for others to agree: your own requests, and those that you can agree to.

Where the policy says so (policy set --agree), changes of who may do what wait until other admins
have agreed to exactly these; where an application says so (application reviewers --editions), an
edition of its baseline is published when reviewers have. Whoever made such a call makes it again
then, within three days.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Requests(c.Context())
			if err != nil {
				return err
			}
			t := table{
				head:  []string{"REQUEST", "STATE", "ASKED BY", "WHAT", "AGREED", "UNTIL", "SAYS"},
				value: all,
				none:  "Nothing waits for others to agree.",
			}
			for _, r := range all {
				t.add(r.ID, r.State, r.AskedBy, strings.TrimSpace(r.Operation+" "+r.Application), agreedText(r),
					r.Expires, r.Says)
			}
			return o.show(c, t)
		}),
	}

	decide := func(verb, short string, call func(*client.Client, *cobra.Command, string) (wire.Request, error),
	) *cobra.Command {
		return &cobra.Command{Use: verb + " REQUEST", Short: short, Args: args(1, 1, "a request"),
			RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
				r, err := call(api, c, a[0])
				if err != nil {
					return err
				}
				next := ""
				if r.State == "agreed" {
					next = r.AskedBy + " does it again"
				}
				return o.showOne(c, r, "request", r.ID, "state", r.State, "asked by", r.AskedBy, "what", r.Operation,
					"agreed", agreedText(r), "next", next)
			})}
	}
	return commandGroup("request", "Agree to what others want to change of who may do what", list,
		decide("agree", "Agree to what somebody else wants to do",
			func(api *client.Client, c *cobra.Command, id string) (wire.Request, error) {
				return api.DecideRequest(c.Context(), id, true)
			}),
		decide("decline", "Decline what somebody else wants to do, or take back what you have asked for",
			func(api *client.Client, c *cobra.Command, id string) (wire.Request, error) {
				return api.DecideRequest(c.Context(), id, false)
			}))
}

func agreedText(r wire.Request) string {
	text := strconv.Itoa(len(r.Agreed)) + " of " + strconv.Itoa(r.Needed)
	if len(r.Agreed) > 0 {
		text += ": " + strings.Join(r.Agreed, ", ")
	}
	return text
}
