package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func policyCommand(o *options) *cobra.Command {
	return commandGroup("policy", "Show and set the policy for people and their sessions", policyShow(o), policySet(o),
		policyKeep(o))
}

// policyShow returns the command policy show.
func policyShow(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "show",
		Short: "Show what holds for people and their sessions, and what is to hold",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			p, err := api.Policy(c.Context())
			if err != nil {
				return err
			}
			return o.showPolicy(c, p)
		}),
	}
}

// policySet returns the command policy set.
func policySet(o *options) *cobra.Command {
	var managers bool
	var after time.Duration
	var idle time.Duration
	var second []string
	var days, agree int
	set := &cobra.Command{
		Use:   "set",
		Short: "Change what holds for people and their sessions",
		Args:  args(0, 0, "no argument"),
		Long: `Change what holds for people and their sessions; what is not given stays. What is stricter holds at
once. What allows more holds when a reviewer who is made now would count (--reviewer-after, as it
holds so far): until then every admin can take it back, by "idletally policy keep".`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			now, err := api.Policy(c.Context())
			if err != nil {
				return err
			}

			p := now.Policy
			given := c.Flags().Changed
			if given("managers-approve") {
				p.ManagersApprove = managers
			}

			if given("reviewer-after") {
				p.ReviewerAfter = int(after / time.Hour)
			}

			if given("idle") {
				p.Idle = int(idle / time.Minute)
			}

			if given("enrolment-days") {
				p.EnrolmentDays = days
			}

			if given("agree") {
				p.Agree = agree
			}

			if given("second-factor") {
				p.SecondFactor = second
			}

			if after%time.Hour != 0 || idle%time.Minute != 0 {
				return usageError{errors.New("--reviewer-after is in hours, --idle in minutes")}
			}
			if now, err = api.SetPolicy(c.Context(), p); err != nil {
				return err
			}

			return o.showPolicy(c, now)
		}),
	}

	set.Flags().BoolVar(&managers, "managers-approve", false, "whoever manages people may approve plans, too")
	set.Flags().DurationVar(&after, "reviewer-after", 0,
		"how long approvals of new reviewers, and of those whose sign-in an admin has reset, do not count: such as 24h")
	set.Flags().DurationVar(&idle, "idle", 0, "how long a session lasts that nobody uses: such as 30m")
	set.Flags().IntVar(&days, "enrolment-days", 0,
		"days after which a host has to be enrolled anew, however often its agent renews its certificate; 0 is never")
	set.Flags().IntVar(&agree, "agree", 0,
		"how many other admins have to agree to a change of who may do what: of people, roles, sign-ins, the policy "+
			"and reviewers; 0: none")
	set.Flags().StringSliceVar(&second, "second-factor", nil,
		"roles that need a second factor, apart by commas; \"\" is none")
	return set
}

// policyKeep returns the command policy keep.
func policyKeep(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "keep",
		Short: "Have what holds now go on holding, and take back what was to hold",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			p, err := api.KeepPolicy(c.Context())
			if err != nil {
				return err
			}
			return o.showPolicy(c, p)
		}),
	}
}

func (o *options) showPolicy(c *cobra.Command, p wire.PolicyNow) error {
	t := table{head: []string{"FOR PEOPLE", "NOW"}, value: p}
	columns := []wire.Policy{p.Policy}
	if p.Next != nil {
		t.head = append(t.head, "FROM "+when(*p.From)+", BY "+p.By)
		columns = append(columns, *p.Next)
	}

	row := func(name string, say func(wire.Policy) string) {
		cells := []any{name}
		for _, x := range columns {
			cells = append(cells, say(x))
		}
		t.add(cells...)
	}

	row("who manages people", func(p wire.Policy) string {
		if p.ManagersApprove {
			return "may approve plans"
		}
		return "approves no plans"
	})

	row("new reviewers, and those whose sign-in was reset", func(p wire.Policy) string {
		if p.ReviewerAfter == 0 {
			return "count at once"
		}
		return fmt.Sprintf("count after %d h", p.ReviewerAfter)
	})

	row("a second factor", func(p wire.Policy) string {
		if len(p.SecondFactor) == 0 {
			return "is left to each"
		}
		return "is needed by " + strings.Join(p.SecondFactor, ", ")
	})

	row("who may do what", func(p wire.Policy) string {
		if p.Agree == 0 {
			return "an admin alone changes"
		}
		return fmt.Sprintf("an admin changes when %d others agree", p.Agree)
	})

	row("hosts", func(p wire.Policy) string {
		if p.EnrolmentDays == 0 {
			return "stay enrolled until they are shut out"
		}
		return fmt.Sprintf("are enrolled anew after %d days", p.EnrolmentDays)
	})

	row("sessions that nobody uses", func(p wire.Policy) string { return fmt.Sprintf("end after %d min", p.Idle) })
	return o.show(c, t)
}
