package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

func planCommand(o *options) *cobra.Command {
	var groups, findings []string
	var all bool
	var title, state string
	draft := &cobra.Command{Use: "draft APPLICATION", Short: "Draft a remediation plan from findings", Args: args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if !all && len(groups)+len(findings) == 0 {
				return usageError{fmt.Errorf("choose what to mend: --group, --finding, or --all")}
			}
			d, err := api.Drift(c.Context(), a[0], "")
			if err != nil {
				return err
			}
			in, err := refs(d, groups, findings)
			if err != nil {
				return err
			}
			in.Application, in.All, in.Title = a[0], all, title
			p, err := api.DraftPlan(c.Context(), in)
			if err != nil {
				return err
			}
			return showPlan(o, c, p)
		})}
	draft.Flags().StringSliceVar(&groups, "group", nil, "a group of findings; several apart by commas")
	draft.Flags().StringSliceVar(&findings, "finding", nil, "a single finding, REPORT:NUMBER; several apart by commas")
	draft.Flags().BoolVar(&all, "all", false, "every finding of the newest reports")
	draft.Flags().StringVar(&title, "title", "", "what the plan is for")
	restore := &cobra.Command{Use: "restore RUN", Short: "Draft a plan that puts back what a run changed", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.DraftPlan(c.Context(), wire.Draft{Run: a[0], Title: title})
			if err != nil {
				return err
			}
			return showPlan(o, c, p)
		})}
	restore.Flags().StringVar(&title, "title", "", "what the plan is for")
	list := &cobra.Command{Use: "list", Short: "List plans, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			plans, err := api.Plans(c.Context(), state, 200)
			if err != nil {
				return err
			}
			t := table{head: []string{"PLAN", "KIND", "STATE", "APPLICATION", "STEPS", "AUTHOR", "DECIDED BY", "RUN", "TITLE"}, value: plans, none: "No plans."}
			for _, p := range plans {
				t.add(p.ID, p.Kind, p.State, p.Application, strconv.Itoa(p.Steps), p.Author, p.DecidedBy, p.Run, p.Title)
			}
			return o.show(c, t)
		})}
	list.Flags().StringVar(&state, "state", "", "only plans in this state")
	show := &cobra.Command{Use: "show PLAN", Short: "Show a plan: equal steps as one, before → after, and the effect", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Plan(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showPlan(o, c, p)
		})}
	var host string
	steps := &cobra.Command{Use: "steps PLAN", Short: "List a plan's steps path by path", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Plan(c.Context(), a[0])
			if err != nil {
				return err
			}
			t := table{head: []string{"HOST", "STEP", "KIND", "BEFORE", "AFTER", "PATH"}}
			var all []wire.Step
			for _, h := range p.Hosts {
				if host != "" && h.Host != host {
					continue
				}
				for n, got := 0, 0; got < h.Steps; n++ {
					list, err := api.Steps(c.Context(), p.ID, h.Host, n)
					if err != nil {
						return err
					}
					got += len(list)
					all = append(all, list...)
				}
			}
			for _, s := range all {
				t.add(s.Host, strconv.Itoa(s.Step), s.Kind, brief(s.Before), brief(s.After), s.Path)
			}
			t.value = all
			return o.show(c, t)
		})}
	steps.Flags().StringVar(&host, "host", "", "only this host")
	submit := &cobra.Command{Use: "submit PLAN", Short: "Put a draft in review", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Submit(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showOne(c, p, "plan", p.ID, "state", p.State, "digest", p.Digest, "next", "another person: idletally plan approve "+p.ID+" --digest "+p.Digest)
		})}
	return noun("plan", "What is to be changed, and who agreed", draft, restore, list, show, steps, submit, decide(o, true), decide(o, false))
}

func decide(o *options, approve bool) *cobra.Command {
	var digest, remark string
	verb, what := "decline", "Decline"
	if approve {
		verb, what = "approve", "Approve"
	}
	c := &cobra.Command{Use: verb + " PLAN", Short: what + " another person's plan", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Decide(c.Context(), a[0], approve, wire.Decision{Digest: digest, Remark: remark})
			if err != nil {
				return err
			}
			next := ""
			if approve {
				next = "an operator: idletally run start " + p.ID
			}
			return o.showOne(c, p, "plan", p.ID, "state", p.State, "decided by", p.DecidedBy, "remark", p.Remark, "digest", p.Digest, "good until", expiry(p), "next", next)
		})}
	c.Flags().StringVar(&digest, "digest", "", "the digest of what you looked at, as idletally plan show gives it")
	c.Flags().StringVar(&remark, "remark", "", "what you want to say")
	_ = c.MarkFlagRequired("digest")
	return c
}

func expiry(p wire.Plan) string {
	if p.Expires == nil {
		return ""
	}
	return when(*p.Expires)
}

// brief is a state in one cell.
func brief(v perm.View) string {
	s := v.Owner + ":" + v.Group + " " + v.Mode
	if len(v.Entries) > 0 {
		s += " [" + strings.Join(v.Entries, " ") + "]"
	}
	if len(v.Defaults) > 0 {
		s += " default[" + strings.Join(v.Defaults, " ") + "]"
	}
	return s
}

func showPlan(o *options, c *cobra.Command, p wire.Plan) error {
	if o.output == "json" {
		return o.show(c, table{value: p})
	}
	t := table{head: []string{"HOST", "COUNT", "KIND", "BEFORE", "AFTER", "EFFECT", "WHERE"}, value: p}
	for _, g := range p.Groups {
		t.add(g.Host, strconv.Itoa(g.Count), g.Kind, brief(g.Before), brief(g.After), mark(g.Word), wire.Place(g.Count, g.Folder, g.Example))
	}
	if o.output == "csv" {
		return o.show(c, t)
	}
	if err := o.showOne(c, p, "plan", p.ID, "title", p.Title, "kind", p.Kind, "state", p.State, "author", p.Author, "decided by", p.DecidedBy,
		"remark", p.Remark, "steps", strconv.Itoa(p.Steps), "digest", p.Digest, "good until", expiry(p), "run", p.Run); err != nil {
		return err
	}
	host := ""
	for _, g := range p.Groups {
		if g.Host != host {
			host = g.Host
			say(c, "\n%s", host)
		}
		showChange(c, g)
	}
	for _, l := range p.Left {
		say(c, "left alone: %s: %s", l.Path, l.Why)
	}
	return nil
}

// showChange shows equal steps: what, where, each changed aspect before → after, and the effect.
func showChange(c *cobra.Command, g wire.PlanGroup) {
	what := "1 " + g.Kind
	if g.Count > 1 {
		what = fmt.Sprintf("%d × %s", g.Count, g.Kind)
	}
	say(c, "  %-9s  %-12s  %s", mark(g.Word), what, wire.Place(g.Count, g.Folder, g.Example))
	for _, a := range []struct{ name, before, after string }{
		{"owner", g.Before.Owner, g.After.Owner},
		{"group", g.Before.Group, g.After.Group},
		{"mode", g.Before.Mode + " " + g.Before.Letters, g.After.Mode + " " + g.After.Letters},
		{"entries", orNone(g.Before.Entries), orNone(g.After.Entries)},
		{"defaults", orNone(g.Before.Defaults), orNone(g.After.Defaults)},
	} {
		if a.before != a.after {
			say(c, "             %-9s %-44s → %s", a.name, a.before, a.after)
		}
	}
	say(c, "             %s", g.Meaning)
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, " ")
}
