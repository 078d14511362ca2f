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

// policyFlags are what somebody wants to hold.
type policyFlags struct {
	managers, signed bool
	after, idle      time.Duration
	second           []string
	days, agree      int
}

// on changes what was given of a policy.
func (f policyFlags) on(p *wire.Policy, given func(flag string) bool) error {
	if f.after%time.Hour != 0 || f.idle%time.Minute != 0 {
		return usageError{errors.New("--reviewer-after is in hours, --idle in minutes")}
	}
	for flag, set := range map[string]func(){
		"managers-approve": func() { p.ManagersApprove = f.managers },
		"reviewer-after":   func() { p.ReviewerAfter = int(f.after / time.Hour) },
		"idle":             func() { p.Idle = int(f.idle / time.Minute) },
		"enrolment-days":   func() { p.EnrolmentDays = f.days },
		"agree":            func() { p.Agree = f.agree },
		"agree-signed":     func() { p.AgreeSigned = f.signed },
		"second-factor":    func() { p.SecondFactor = f.second },
	} {
		if given(flag) {
			set()
		}
	}
	return nil
}

// policySet returns the command policy set.
func policySet(o *options) *cobra.Command {
	var f policyFlags
	set := &cobra.Command{
		Use:   "set",
		Short: "Change what holds for people and their sessions",
		Args:  args(0, 0, "no argument"),
		Long: `Change what holds for people and their sessions; what is not given stays. What is stricter holds at
once. What allows more holds when a reviewer who is made now would count (--reviewer-after, as it
holds so far): until then every admin can take it back, by "idletally policy keep".`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			now, err := api.Policy(c.Context())
			if err == nil {
				err = f.on(&now.Policy, c.Flags().Changed)
			}
			if err != nil {
				return err
			}
			if now, err = api.SetPolicy(c.Context(), now.Policy); err != nil {
				return err
			}
			return o.showPolicy(c, now)
		}),
	}

	set.Flags().BoolVar(&f.managers, "managers-approve", false, "whoever manages people may approve plans, too")
	set.Flags().DurationVar(&f.after, "reviewer-after", 0,
		"how long approvals of new reviewers, and of those whose sign-in an admin has reset, do not count: such as 24h")
	set.Flags().DurationVar(&f.idle, "idle", 0, "how long a session lasts that nobody uses: such as 30m")
	set.Flags().IntVar(&f.days, "enrolment-days", 0,
		"days after which a host has to be enrolled anew, however often its agent renews its certificate; 0 is never")
	set.Flags().IntVar(&f.agree, "agree", 0,
		"how many other admins have to agree to a change of who may do what: of people, roles, sign-ins, the policy "+
			"and reviewers; 0: none")
	set.Flags().BoolVar(&f.signed, "agree-signed", false,
		"whoever agrees to a request signs that by a key of their own, which the roster has")
	set.Flags().StringSliceVar(&f.second, "second-factor", nil,
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
		return fmt.Sprintf("an admin changes with the agreement of %d more", p.Agree)
	})

	row("whoever agrees to a request", func(p wire.Policy) string {
		if p.AgreeSigned {
			return "signs it by a key of their own"
		}
		return "signs in"
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
