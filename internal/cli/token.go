package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func tokenCommand(o *options) *cobra.Command {
	return commandGroup("token", "Manage tokens, by which programs sign in", tokenAdd(o), tokenList(o), tokenRemove(o))
}

// tokenAdd returns the command token add.
func tokenAdd(o *options) *cobra.Command {
	var ask wire.NewToken
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a token, for a program that does something for you; it is shown once",
		Args:  args(1, 1, "what it is for"),
		Long: `Make a token, for a program that does something for you. It is shown once.

A program that has it in ` + envToken + `, with the service's address in ` + envAddress +
			` and the file with its authority in
` + envAuthority + `, needs no sign-in. It may do what both the token and you may; nobody approves plans, accepts
findings or manages people by a token.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			ask.Name = a[0]
			t, err := api.AddToken(c.Context(), ask)
			if err != nil {
				return err
			}

			return o.showOne(c, t, "token", t.ID, "for", t.Name, "roles", strings.Join(t.Roles, ", "), "good until",
				t.Expires, "secret", t.Secret)
		}),
	}

	add.Flags().StringSliceVar(&ask.Roles, "role", []string{wire.Viewer},
		"viewer, author or operator, or one of the last two for an application alone, such as operator@ticketing; "+
			"several apart by commas")
	add.Flags().IntVar(&ask.Days, "days", 90, "how long it is good, at most 400")
	return add
}

// tokenList returns the command token list.
func tokenList(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List your tokens; of an admin, everybody's",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Tokens(c.Context())
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"TOKEN", "PERSON", "FOR", "ROLES", "GOOD UNTIL", "LAST USED"},
				value: all,
				none:  "No token: idletally token add NAME",
			}
			for _, x := range all {
				t.add(x.ID, x.Person, x.Name, strings.Join(x.Roles, ", "), x.Expires, x.Used)
			}

			return o.show(c, t)
		}),
	}
}

// tokenRemove returns the command token remove.
func tokenRemove(o *options) *cobra.Command {
	return &cobra.Command{Use: "remove TOKEN", Short: "End a token", Args: args(1, 1, "a token's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.RemoveToken(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "Whoever has it is signed out.")
			return nil
		})}
}
