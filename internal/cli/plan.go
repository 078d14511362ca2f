package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/statement"
	"idletally/internal/wire"
)

func planCommand(o *options) *cobra.Command {
	return commandGroup("plan", "Manage change plans, and their review", planDraft(o), planRestore(o), adjustCommand(o),
		planList(o), planShow(o), planSteps(o), planSubmit(o), decide(o, true), decide(o, false), withdrawCommand(o),
		remarkCommand(o), scriptCommand(o), planEvidence(o), planVerify(o))
}

// planDraft returns the command plan draft.
func planDraft(o *options) *cobra.Command {
	var groups []string
	var findings []string
	var all bool
	var title string
	var folder string
	var waves wire.Draft
	draft := &cobra.Command{
		Use:   "draft APPLICATION",
		Short: "Draft a remediation plan from findings",
		Args:  args(1, 1, "an application"),
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

			in.Application = a[0]
			in.All = all
			in.Title = title
			in.Folder = folder
			in.First = waves.First
			in.StopAt = waves.StopAt
			p, err := api.DraftPlan(c.Context(), in)
			if err != nil {
				return err
			}

			return showPlan(o, c, p)
		}),
	}

	draft.Flags().StringSliceVar(&groups, "group", nil, "a group of findings; several apart by commas")
	draft.Flags().StringSliceVar(&findings, "finding", nil, "a single finding, REPORT:NUMBER; several apart by commas")
	draft.Flags().BoolVar(&all, "all", false, "every finding of the newest reports")
	draft.Flags().StringVar(&folder, "folder", "", "of these, only what is in this folder and below")
	draft.Flags().StringVar(&title, "title", "", "what the plan is for")
	waveFlags(draft, &waves)
	return draft
}

// planRestore returns the command plan restore.
func planRestore(o *options) *cobra.Command {
	var title string
	var waves wire.Draft
	var paths []string
	var hosts []string
	var snapshot string
	restore := &cobra.Command{
		Use:   "restore [RUN]",
		Short: "Draft a plan that puts back what a run changed, or makes a host as it was in a snapshot",
		Args:  args(0, 1, "a run, or --snapshot"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if (len(a) == 0) == (snapshot == "") {
				return usageError{
					fmt.Errorf(
						"give either a run, to put back what it changed, or --snapshot, to return to how a " +
							"host was then"),
				}
			}

			in := wire.Draft{
				Snapshot: snapshot,
				Title:    title,
				Paths:    paths,
				Hosts:    hosts,
				First:    waves.First,
				StopAt:   waves.StopAt,
			}

			if len(a) > 0 {
				in.Run = a[0]
			}

			p, err := api.DraftPlan(c.Context(), in)
			if err != nil {
				return err
			}

			return showPlan(o, c, p)
		}),
	}

	restore.Flags().StringVar(&title, "title", "", "what the plan is for")
	waveFlags(restore, &waves)
	restore.Flags().StringVar(&snapshot, "snapshot", "", "return to how the host was in this snapshot")
	restore.Flags().StringArrayVar(&paths, "paths", nil, "only paths that this pattern fits; repeatable")
	restore.Flags().StringSliceVar(&hosts, "host", nil, "of a run, only these hosts; several apart by commas")
	return restore
}

// planList returns the command plan list.
func planList(o *options) *cobra.Command {
	var state string
	var some listing
	list := &cobra.Command{Use: "list", Short: "List plans, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			t := table{
				head: []string{"PLAN", "KIND", "STATE", "APPLICATION", "STEPS", "AUTHOR", "DECIDED BY", "RUN", "TITLE"},
				none: "No plans.",
			}
			return showPages(o, c, some, "plans", api.PlanPages(state).Page, t, func(t *table, p wire.Plan) {
				t.add(p.ID, p.Kind, p.State, p.Application, p.Steps, p.Author, p.DecidedBy, p.Run, p.Title)
			})
		})}

	listFlags(list, &some, 100)
	list.Flags().StringVar(&state, "state", "", "only plans in this state")
	return list
}

// planShow returns the command plan show.
func planShow(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "show PLAN",
		Short: "Show a plan: equal steps as one, before → after, and the effect",
		Args:  args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Plan(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showPlan(o, c, p)
		}),
	}
}

// planSteps returns the command plan steps.
func planSteps(o *options) *cobra.Command {
	var part listing
	var host string
	steps := &cobra.Command{Use: "steps PLAN", Short: "List a plan's steps path by path", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Plan(c.Context(), a[0])
			if err != nil {
				return err
			}

			hosts := []string{}
			counts := map[string]int{}
			total := int64(0)

			for _, h := range p.Hosts {
				if host == "" || h.Host == host {
					hosts = append(hosts, h.Host)
					counts[h.Host] = h.Steps
					total += int64(h.Steps)
				}
			}

			// The steps of a host come in parts of one size, except the last: after is the number of the next part,
			// and of the steps before it.
			read := chained(hosts, func(host string) pageReader[wire.Step] {
				return func(ctx context.Context, after string, _ int) (wire.Page[wire.Step], error) {
					n, got := 0, 0
					if _, err := fmt.Sscanf(after, "%d.%d", &n, &got); after != "" && err != nil {
						return wire.Page[wire.Step]{}, usageError{
							fmt.Errorf("--after %s: want what a list named that was cut", after),
						}
					}

					list, err := api.Steps(ctx, p.ID, host, n)
					page := wire.Page[wire.Step]{Items: list}
					got += len(list)
					if err == nil && len(list) > 0 && got < counts[host] {
						page.Next = fmt.Sprintf("%d.%d", n+1, got)
					}

					return page, err
				}
			})

			t := table{head: []string{"HOST", "STEP", "KIND", "BEFORE", "AFTER", "PATH"}}
			return showPages(o, c, part, "steps", counting(read, total), t, func(t *table, s wire.Step) {
				t.add(s.Host, s.Step, s.Kind, s.Before.String(), s.After.String(), s.Path)
			})
		})}

	listFlags(steps, &part, 1000)
	steps.Flags().StringVar(&host, "host", "", "only this host")
	return steps
}

// planSubmit returns the command plan submit.
func planSubmit(o *options) *cobra.Command {
	var by signer
	submit := &cobra.Command{Use: "submit PLAN", Short: "Put a draft in review", Args: args(1, 1, "a plan"),
		Long: `Put a draft in review.

Where hosts of the plan act by a roster, you sign that you submit it, by a key of your own that the
roster has: --sign takes one that your ssh-agent has, security keys among them, and --key another.
What you sign is shown first.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Plan(c.Context(), a[0])
			if err != nil {
				return err
			}
			if len(p.ToSign) > 0 && !by.given() {
				return errToSign(p.ToSign)
			}

			var in wire.Submission
			if by.given() {
				want := wire.WantedStatement{Says: statement.Submitted}
				ask, err := api.Statement(c.Context(), p.ID, want)
				if err == nil {
					in.Signed, err = by.signed(c, ask, ofPlan(want, p.ID, p.Digest))
				}
				if err != nil {
					return err
				}
			}
			if p, err = api.SubmitSigned(c.Context(), p.ID, in); err != nil {
				return err
			}
			next := "another person: idletally plan approve " + p.ID + " --digest " + p.Digest
			if len(p.ToSign) > 0 {
				next += " --sign"
			}
			return o.showOne(c, p, "plan", p.ID, "state", p.State, "digest", p.Digest, "next", next)
		})}
	signFlags(submit, &by)
	return submit
}

func expiry(p wire.Plan) string {
	if p.Expires == nil {
		return ""
	}
	return when(*p.Expires)
}

func showPlan(o *options, c *cobra.Command, p wire.Plan) error {
	if o.output == "json" {
		return o.show(c, table{value: p})
	}

	t := table{head: []string{"HOST", "COUNT", "KIND", "BEFORE", "AFTER", "EFFECT", "WHERE"}, value: p}
	for _, g := range p.Groups {
		t.add(g.Host, strconv.Itoa(g.Count), g.Kind, g.Before.String(), g.After.String(), effect(g.Word),
			place(g.Count, g.Folder, g.Example))
	}

	if o.output == "csv" {
		return o.show(c, t)
	}

	err := o.showOne(c, p, "plan", p.ID, "title", p.Title, "kind", p.Kind, "state", p.State, "author", p.Author,
		"decided by", decidedBy(p),
		"people sign for", strings.Join(p.ToSign, ", "),
		"remark", p.Remark, "steps", strconv.Itoa(p.Steps), "waves", wavesText(p), "digest", p.Digest, "good until",
		expiry(p), "run", p.Run)
	if err != nil {
		return err
	}

	host := ""
	for _, g := range p.Groups {
		if g.Host != host {
			host = g.Host
			printf(c, "\n%s", host)
		}
		showChange(c, g)
	}

	for _, l := range p.Left {
		printf(c, "left alone: %s: %s", strings.TrimSpace(l.Host+" "+l.Path), l.Why)
	}

	showReview(c, p)
	return nil
}

// waveFlags say in which order hosts run.
func waveFlags(c *cobra.Command, d *wire.Draft) {
	c.Flags().IntVar(&d.First, "first", 1, "how many hosts run first; the rest run when these have ended well")
	c.Flags().IntVar(&d.StopAt, "stop-at", 10,
		"the rest do not run where more than so many percent of the first hosts' steps are not done")
}

func wavesText(p wire.Plan) string {
	if p.First == 0 {
		return ""
	}
	var names []string
	for _, h := range p.Hosts[:min(p.First, len(p.Hosts))] {
		names = append(names, h.Host)
	}
	return fmt.Sprintf("first %s; then the other %d, if at most %d percent of these steps are left undone",
		strings.Join(names, ", "), len(p.Hosts)-len(names), p.StopAt)
}

// showChange shows equal steps: what, where, each changed aspect before → after, and the effect.
func showChange(c *cobra.Command, g wire.PlanGroup) {
	what := "1 " + g.Kind
	if g.Count > 1 {
		what = fmt.Sprintf("%d × %s", g.Count, g.Kind)
	}

	printf(c, "  %-9s  %-12s  %s", mark(g.Word), what, wire.Place(g.Count, g.Folder, g.Example))
	before, after := g.Before, g.After
	listed := len(before.Grants)+len(after.Grants) > 0
	type line struct{ name, before, after string }
	rows := []line{{"owner", before.Owner, after.Owner}, {"inherits", before.Inheritance, after.Inheritance}}
	if !before.FromAbove() { // there a group decides nothing, and there is no mode
		rows = append(rows, line{"group", before.Group, after.Group},
			line{"mode", before.Mode + " " + before.Letters, after.Mode + " " + after.Letters})
	}
	if !listed {
		rows = append(rows, line{"entries", orNone(before.Entries), orNone(after.Entries)},
			line{"defaults", orNone(before.Defaults), orNone(after.Defaults)})
	}
	for _, r := range rows {
		if r.before != r.after {
			row(c, r.name, r.before, r.after)
		}
	}
	if listed {
		showEntries(c, before.Entries, after.Entries)
	}

	printf(c, "             %s", g.Meaning)
}

// row shows how one aspect changes.
func row(c *cobra.Command, name, before, after string) {
	printf(c, "             %-9s %-44s → %s", name, before, after)
}

// showEntries shows which entries of an access list go, and which come, one in each line.
func showEntries(c *cobra.Command, before, after []string) {
	only := func(list, other []string) (out []string) {
		for _, e := range list {
			if !slices.Contains(other, e) {
				out = append(out, e)
			}
		}
		return out
	}

	const none = "none of these"
	leave, come := only(before, after), only(after, before)
	for i := range max(len(leave), len(come)) {
		name, was, is := "", "", ""
		if i == 0 {
			name, was, is = "entries", none, none
		}
		if i < len(leave) {
			was = leave[i]
		}
		if i < len(come) {
			is = come[i]
		}
		row(c, name, was, is)
	}

	if stay := len(after) - len(come); stay > 0 && len(leave)+len(come) > 0 {
		printf(c, "             %-9s and %d that stay", "", stay)
	}
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, " ")
}
