package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/plan"
	"idletally/internal/core/statement"
	"idletally/internal/wire"
)

// A deciding is how somebody decides on a plan.
type deciding struct {
	approve bool
	alone   string // why it cannot wait for somebody else
	digest  string
	remark  string
	given   []string // words on grave cautions, as CAUTION=TEXT
	by      signer
}

func decide(o *options, approve bool) *cobra.Command {
	d := deciding{approve: approve}
	verb, what, long := "decline", "Decline another person's plan", ""
	if approve {
		verb, what, long = "approve", "Approve another person's plan", `Approve another person's plan.

Where hosts of the plan act by a roster, you sign that you approve it, by a key of your own that the
roster has: --sign takes one that your ssh-agent has, security keys among them, and --key another.
What you sign is shown first.

Whom the roster lets act alone says --alone and the reason: a plan, also one of your own, that nobody
else has looked at is then approved, and may be started for an hour. The history says so, and so do
the notices that reviewers get. Each host looks into the roster by itself.`
	}

	c := &cobra.Command{Use: verb + " PLAN", Short: what, Long: long, Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := d.decide(c, api, a[0])
			if err != nil {
				return err
			}

			next := ""
			switch {
			case p.State == lifecycle.PlanInReview:
				next = fmt.Sprintf("%d of %d have approved: another reviewer", p.Standing(), p.Needed)
			case approve:
				next = "an operator: idletally run start " + p.ID
			}

			return o.showOne(c, p, "plan", p.ID, "state", p.State, "decided by", decidedBy(p), "remark", p.Remark,
				"digest", p.Digest, "good until", expiry(p), "next", next)
		})}

	c.Flags().StringVar(&d.digest, "digest", "", "the digest of what you looked at, as idletally plan show gives it")
	c.Flags().StringVar(&d.remark, "remark", "", "what you want to say")
	if approve {
		signFlags(c, &d.by)
		c.Flags().StringArrayVar(&d.given, "word", nil,
			"of a grave caution why it is meant all the same: CAUTION=TEXT; once for each")
		c.Flags().StringVar(&d.alone, "alone", "",
			"approve it without anybody else, as the roster lets you, for this reason")
		c.MarkFlagsMutuallyExclusive("alone", "remark")
	}

	_ = c.MarkFlagRequired("digest")
	return c
}

// decide has the service decide, and returns the plan as it is then.
func (d deciding) decide(c *cobra.Command, api *client.Client, id string) (p wire.Plan, err error) {
	words := map[string]string{}
	for _, w := range d.given {
		caution, word, ok := strings.Cut(w, "=")
		if !ok {
			return p, usageError{fmt.Errorf("--word %q: want CAUTION=WHY IT IS MEANT", w)}
		}
		words[caution] = word
	}

	in := wire.Decision{Digest: d.digest, Remark: d.remark, Words: words}
	ask := wire.WantedStatement{Says: statement.Approved, Words: words}
	if d.alone != "" {
		in.Remark = d.alone
		ask.Says, ask.Reason = statement.Alone, d.alone
	}
	if d.by.given() {
		text, err := api.Statement(c.Context(), id, ask)
		if err == nil {
			in.Signed, err = d.by.signed(c, text, ofPlan(ask, id, d.digest))
		}
		if err != nil {
			return p, err
		}
	}
	if d.alone != "" {
		return api.ApproveAlone(c.Context(), id, in)
	}
	return api.Decide(c.Context(), id, d.approve, in)
}

// decidedBy says who decided on a plan.
func decidedBy(p wire.Plan) string {
	if p.Alone {
		return p.DecidedBy + ", alone"
	}
	return p.DecidedBy
}

func withdrawCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "withdraw PLAN",
		Short: "Take your own plan out of review, or your own approval back, before it runs",
		Args:  args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			p, err := api.Withdraw(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showOne(c, p, "plan", p.ID, "state", p.State)
		}),
	}
}

func remarkCommand(o *options) *cobra.Command {
	var r wire.NewRemark
	c := &cobra.Command{
		Use:   "remark PLAN TEXT",
		Short: "Say something of a plan, or of one of its steps",
		Args:  args(2, 2, "a plan and a text"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r.Body = a[1]
			p, err := api.Remark(c.Context(), a[0], r)
			if err != nil {
				return err
			}

			return showRemarks(o, c, p)
		}),
	}

	c.Flags().StringVar(&r.Host, "host", "", "of a step: its host")
	c.Flags().StringVar(&r.Path, "path", "", "of a step: its path")
	return c
}

func showRemarks(o *options, c *cobra.Command, p wire.Plan) error {
	t := table{head: []string{"AT", "WHO", "OF", "REMARK"}, value: p.Remarks}
	for _, r := range p.Remarks {
		t.add(r.At, r.Author, strings.TrimSpace(r.Host+" "+r.Path), r.Body)
	}
	return o.show(c, t)
}

// showCautions prints what the checker warns of.
func showCautions(c *cobra.Command, list []plan.Caution) {
	if len(list) > 0 {
		printf(c, "\ncautions")
	}

	for _, x := range list {
		weight := "caution"
		if x.Grave {
			weight = "GRAVE " + x.ID
		}

		printf(c, "  %-18s  %s: %s  %s", weight, x.Kind, x.Host,
			wire.Place(x.Count, x.Folder.String(), x.Example.String()))
		times := ""
		if x.Count > 1 {
			times = fmt.Sprintf(" (%d paths)", x.Count)
		}

		printf(c, "  %-18s  %s%s", "", x.Text, times)
		printf(c, "  %-18s  instead: %s", "", x.Instead)
	}
}

// showReview prints what the checker warns of, who approved, and what was said.
func showReview(c *cobra.Command, p wire.Plan) {
	showCautions(c, p.Cautions)
	for _, a := range p.Approvals {
		void := ""
		if a.Void != "" {
			void = " (does not count: " + a.Void + ")"
		}

		printf(c, "approved by %s, %s%s %s", a.Reviewer, when(a.At), void, a.Remark)
		for id, w := range a.Words {
			printf(c, "  of caution %s: %s", id, w)
		}
	}

	if p.State == lifecycle.PlanInReview && p.Needed > 1 {
		printf(c, "%d of %d reviewers have approved", p.Standing(), p.Needed)
	}

	for _, g := range p.Signed {
		printf(c, "signed: %s by %s, %s, with the key %s %s", g.Says, g.Who, when(g.At), g.Key, g.Fingerprint)
	}

	for _, r := range p.Remarks {
		printf(c, "%s, %s: %s%s", r.Author, when(r.At), strings.TrimSpace(r.Host+" "+r.Path+" "), r.Body)
	}
}

func reviewRuleCommand(o *options) *cobra.Command {
	var editions int
	c := &cobra.Command{
		Use:   "reviewers APPLICATION NUMBER",
		Short: "Say how many people have to approve an application's plans",
		Args:  args(2, 2, "an application and a number"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			n, err := strconv.Atoi(a[1])
			if err != nil {
				return usageError{fmt.Errorf("%q is no number", a[1])}
			}
			rule := wire.ReviewRule{Reviewers: n}
			if c.Flags().Changed("editions") {
				rule.Editions = &editions
			}
			if err := api.SetReviewRule(c.Context(), a[0], rule); err != nil {
				return err
			}

			printf(c, "Plans of %s need %d reviewers from now on.", a[0], n)
			if rule.Editions != nil {
				printf(c, "%d reviewers have to agree before an edition of its baseline is published.", editions)
			}
			return nil
		}),
	}

	c.Flags().IntVar(&editions, "editions", 0,
		"how many reviewers have to agree before an edition of its baseline is published; 0: none")
	return c
}

func scriptCommand(o *options) *cobra.Command {
	var host string
	c := &cobra.Command{
		Use:   "script PLAN",
		Short: "Write a plan as a shell script that uses the system's own utilities only",
		Args:  args(1, 1, "a plan"),
		Long: `Write a plan's steps on one host as a shell script, for change records and for hosts that nothing of
ours may touch:

    idletally plan script PLAN --host slip-north > plan.sh
    sh plan.sh do /root/originals          on the host, as root
    sh plan.sh undo /root/originals        puts it back

It keeps the originals first, leaves alone what is no longer as reviewed, and exits with 4 where
something was left. Nobody signs it, and it goes by names: prefer the agent where there is one.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			return api.Script(c.Context(), a[0], host, c.OutOrStdout())
		}),
	}

	c.Flags().StringVar(&host, "host", "", "the host")
	_ = c.MarkFlagRequired("host")
	return c
}
