package cli

import (
	"errors"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func personCommand(o *options) *cobra.Command {
	return commandGroup("person", "Manage people who use Idle Tally", personAdd(o), personList(o), personRoles(o),
		personReset(o), personRemove(o))
}

// personAdd returns the command person add.
func personAdd(o *options) *cobra.Command {
	var roles []string
	var provider bool
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a person; prints a one-time password",
		Args:  args(1, 1, "a name"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.AddPerson(c.Context(), wire.NewPerson{Name: a[0], Roles: roles, Provider: provider})
			if err != nil {
				return err
			}
			if provider {
				return o.showOne(c, p, "person", p.Name, "roles", strings.Join(roles, ", "), "signs in",
					"by the provider, under this name")
			}

			return o.showOne(c, p, "person", p.Name, "roles", strings.Join(roles, ", "), "one-time password",
				p.Password)
		}),
	}

	add.Flags().StringSliceVar(&roles, "role", []string{wire.Viewer},
		"viewer, author, reviewer, operator, admin, or one for an application alone, such as author@ticketing; "+
			"several apart by commas")
	add.Flags().BoolVar(&provider, "provider", false,
		"they sign in by the provider (OpenID Connect), under this name there, and have no password here")
	return add
}

// personList returns the command person list.
func personList(o *options) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List people", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			people, err := api.People(c.Context())
			if err != nil {
				return err
			}

			t := table{head: []string{"NAME", "ROLES"}, value: people}
			for _, p := range people {
				t.add(p.Name, strings.Join(p.Roles, ", "))
			}

			return o.show(c, t)
		})}
}

// personRoles returns the command person roles.
func personRoles(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "roles NAME ROLE...",
		Short: "Say what a person may do, everywhere or for single applications",
		Args:  args(2, 101, "a name and roles"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.SetRoles(c.Context(), a[0], a[1:])
			if err != nil {
				return err
			}
			return o.showOne(c, p, "person", p.Name, "roles", strings.Join(p.Roles, ", "))
		}),
	}
}

// personReset returns the command person reset.
func personReset(o *options) *cobra.Command {
	var second bool
	var sessions bool
	reset := &cobra.Command{
		Use: "reset NAME",
		Short: "Give a person a one-time password, which ends their sessions; or remove a second factor that " +
			"they have lost",
		Args: args(1, 1, "a name"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			switch {
			case second && sessions:
				return usageError{errors.New("--second-factor ends the sessions, too: give one of both")}
			case second:
				if err := api.RemoveSecondOf(c.Context(), a[0]); err != nil {
					return err
				}
				printf(c, "%s signs in by password alone, and has to do so anew.", a[0])
				return nil
			case sessions:
				if err := api.EndSessionsOf(c.Context(), a[0]); err != nil {
					return err
				}
				printf(c, "%s is signed out everywhere.", a[0])
				return nil
			}

			p, err := api.ResetPassword(c.Context(), a[0])
			if err != nil {
				return err
			}

			if p.Passkeys > 0 {
				tell(c.ErrOrStderr(),
					"Passkeys of %s that go on counting: %d. Whoever had the password may have added some: "+
						"idletally person reset %[1]s --second-factor\n",
					p.Name, p.Passkeys)
			}

			return o.showOne(c, p, "person", p.Name, "one-time password", p.Password)
		}),
	}

	reset.Flags().BoolVar(&second, "second-factor", false, "remove the second factor instead")
	reset.Flags().BoolVar(&sessions, "sessions", false, "end their sessions instead, and leave the password")
	return reset
}

// personRemove returns the command person remove.
func personRemove(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a person; what they did stays in the history",
		Args:  args(1, 1, "a name"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.RemovePerson(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "%s is removed, with all sessions.", a[0])
			return nil
		}),
	}
}

func hostCommand(o *options) *cobra.Command {
	return commandGroup("host", "Manage hosts", hostInvite(o), hostAdmit(o), hostTag(o), hostShutOut(o), hostList(o))
}

// hostInvite returns the command host invite.
func hostInvite(o *options) *cobra.Command {
	var tags []string
	invite := &cobra.Command{
		Use:   "invite NAME",
		Short: "Add a host; prints a one-time enrolment code",
		Args:  args(1, 1, "a host name"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			inv, err := api.Invite(c.Context(), wire.NewHost{Name: a[0], Tags: tags})
			if err != nil {
				return err
			}
			s, err := o.load()
			if err != nil {
				return err
			}

			return o.showOne(c, inv, "host", inv.Host, "code", inv.Code, "good until", inv.Expires,
				"on the host",
				"idletally agent enrol --service "+s.Address+" --authority authority.pem --code "+inv.Code+
					" --root FOLDER")
		}),
	}

	invite.Flags().StringSliceVar(&tags, "tag", nil, "tags that baselines can name; several apart by commas")
	return invite
}

// hostTag returns the command host tag.
func hostTag(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "tag NAME [TAG...]",
		Short: "Say which tags a host has: baselines choose their hosts by them",
		Args:  args(1, 31, "a host and its tags"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			h, err := api.SetTags(c.Context(), a[0], a[1:])
			if err != nil {
				return err
			}
			return o.showOne(c, h, "host", h.Name, "tags", strings.Join(h.Tags, ", "))
		}),
	}
}

// hostShutOut returns the command host shut-out.
func hostShutOut(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "shut-out NAME",
		Short: "Revoke the certificate of a host's agent",
		Args:  args(1, 1, "a host"),
		Long: "Revoke every certificate of a host's agent, such as when its key was stolen. What is known of the " +
			"host stays; it comes\nback by being enrolled again.",
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if _, err := api.ShutOut(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "The agent of %s is shut out: enrol it anew with idletally host invite %s", a[0], a[0])
			return nil
		}),
	}
}

// hostList returns the command host list.
func hostList(o *options) *cobra.Command {
	var some listing
	var only struct{ tag, version, state string }
	list := &cobra.Command{Use: "list", Short: "List hosts", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			t := table{
				head: []string{"HOST", "TAGS", "AGENT", "CHANGES BY", "SYSTEM", "WATCH", "LAST SEEN"},
				none: "No such hosts: idletally host invite NAME adds one",
			}
			return showPages(o, c, some, "hosts", api.HostPages(only.tag, only.version, only.state).Page, t,
				func(t *table, h wire.Host) {
					state := "not enrolled"
					if h.Enrolled {
						state = h.Version
					}

					if h.Carried {
						state += ", by files"
					}

					if h.Unfit != "" {
						state += ", cannot work: " + h.Unfit
					}

					if h.Twice != nil {
						state += ", held by two: somebody has its key"
					}

					t.add(h.Name, strings.Join(h.Tags, ", "), state, changedBy(h), h.System, watching(h.Watch),
						h.LastSeen)
				})
		})}

	listFlags(list, &some, 1000)
	list.Flags().StringVar(&only.tag, "tag", "", "only hosts with this tag")
	list.Flags().StringVar(&only.version, "agent-version", "", "only hosts whose agents are of this version")
	list.Flags().StringVar(&only.state, "state", "",
		"only hosts that are invited (no agent yet), carried (nothing leads there), calling, or silent (not heard "+
			"of for ten minutes)")
	return list
}

// watching reports whether changes on a host are noticed at once.
func watching(w *wire.WatchState) string {
	switch {
	case w == nil:
		return ""
	case w.Watching && len(w.Notes) == 0:
		return "yes"
	case w.Watching:
		return "in part: " + strings.Join(w.Notes, "; ")
	}
	return strings.TrimSuffix("no: "+strings.Join(w.Notes, "; "), ": ")
}

func applicationCommand(o *options) *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List applications with their state on each host",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			apps, err := api.Applications(c.Context())
			if err != nil {
				return err
			}

			t := table{
				head: []string{
					"APPLICATION", "EDITION", "HOST", "PATHS", "FINDINGS", "OPENS", "CLOSES", "LOOKED AT", "STATE",
				},
				value: apps,
				none:  "No applications yet: idletally baseline upload FILE",
			}

			for _, a := range apps {
				edition := "none published"
				if a.Published > 0 {
					edition = strconv.Itoa(a.Published)
				}

				if len(a.Hosts) == 0 {
					state := ""
					if a.Verdict != nil {
						state = a.Verdict.Says
					}
					t.add(a.Name, edition, "", "", "", "", "", "", state)
				}

				for _, h := range a.Hosts {
					if r := h.Report; r != nil {
						t.add(a.Name, edition, h.Host, num(r.Paths), num(r.Findings), num(r.Opens), num(r.Closes),
							h.Looked, h.Says)
					} else {
						t.add(a.Name, edition, h.Host, "", "", "", "", "never", h.Says)
					}
				}
			}

			return o.show(c, t)
		}),
	}

	return commandGroup("application", "List applications, and say who reviews them", list, reviewRuleCommand(o))
}

func num(n int64) string { return strconv.FormatInt(n, 10) }

// changedBy says what a host changes by: what people of a roster have signed, or what its service alone says.
func changedBy(h wire.Host) string {
	switch {
	case !h.Enrolled:
		return ""
	case h.Roster == 0:
		return "the service"
	}
	return "roster " + strconv.FormatInt(h.Roster, 10)
}
