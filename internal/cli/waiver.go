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

func waiverCommand(o *options) *cobra.Command {
	return commandGroup("waiver", "Manage waivers: findings accepted for a time", waiverAdd(o), waiverList(o),
		waiverWithdraw(o))
}

// waiverAdd returns the command waiver add.
func waiverAdd(o *options) *cobra.Command {
	var w wire.NewWaiver
	var until string
	add := &cobra.Command{
		Use:   "add APPLICATION [PATHS]",
		Short: "Accept findings until a date, with a reason",
		Args:  args(1, 2, "an application and a path or pattern"),
		Long: `Accept findings until a date, with a reason. They are those on a path or pattern (as in baselines),
and of these only those of a rule, an aspect, a host or a value found where these are given; or
those of a group, as drift show names it. Accepted findings are shown apart, count no more, and come
back by themselves when the date has come.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			var err error
			w.Application = a[0]
			if w.Ends, err = time.ParseInLocation(time.DateOnly, until, time.Local); err != nil {
				return usageError{fmt.Errorf("--until %q: want a date such as 2027-01-31", until)}
			}
			if (len(a) == 2) == (w.Group != "") {
				return usageError{errors.New("say which findings: PATHS, or --group GROUP")}
			}

			if len(a) == 2 {
				w.Paths = a[1]
			}

			got, err := api.Waive(c.Context(), w)
			if err != nil {
				return err
			}

			return o.showOne(c, got, "waiver", got.ID, "paths", got.Paths, "of", narrowed(got), "reason", got.Reason,
				"until", forms{got.Ends.Local().Format(time.DateOnly), got.Ends}, "by", got.Author)
		}),
	}

	add.Flags().StringVar(&w.Reason, "reason", "", "why they are accepted")
	add.Flags().StringVar(&until, "until", "", "the date on which they count again, a year from now at the latest")
	add.Flags().StringVar(&w.Host, "host", "", "only on this host")
	add.Flags().StringVar(&w.Rule, "rule", "", "only findings of this rule")
	add.Flags().StringVar(&w.Kind, "kind", "", "only of files, of folders and so on")
	add.Flags().StringVar(&w.Aspect, "aspect", "", "only of this aspect")
	add.Flags().StringVar(&w.Found, "found", "", "only where this was found")
	add.Flags().StringVar(&w.Group, "group", "", "the findings of this group")
	return add
}

// waiverList returns the command waiver list.
func waiverList(o *options) *cobra.Command {
	var ended bool
	var waivers listing
	list := &cobra.Command{
		Use:   "list APPLICATION",
		Short: "List waivers, soonest to end first",
		Args:  args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			t := table{
				head: []string{"WAIVER", "UNTIL", "STATE", "PATHS", "OF", "BY", "REASON"},
				none: "Nothing is waived.",
			}
			return showPages(o, c, waivers, "waivers", api.WaiverPages(a[0], ended).Page, t,
				func(t *table, x wire.Waiver) {
					state := "counts"
					switch {
					case x.Withdrawn != nil:
						state = "withdrawn by " + x.WithdrawnBy
					case !x.Counts:
						state = "ended"
					case time.Until(x.Ends) < 14*24*time.Hour:
						state = fmt.Sprintf("ends in %d days", int(time.Until(x.Ends).Hours()/24))
					}

					t.add(x.ID, forms{x.Ends.Local().Format(time.DateOnly), x.Ends}, state, x.Paths, narrowed(x),
						x.Author, x.Reason)
				})
		}),
	}

	list.Flags().BoolVar(&ended, "ended", false, "those that ended or were withdrawn, too, those that end last first")
	listFlags(list, &waivers, 200)
	return list
}

// waiverWithdraw returns the command waiver withdraw.
func waiverWithdraw(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "withdraw WAIVER",
		Short: "End a waiver before its time",
		Args:  args(1, 1, "a waiver"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			got, err := api.WithdrawWaiver(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showOne(c, got, "waiver", got.ID, "paths", got.Paths, "withdrawn by", got.WithdrawnBy)
		}),
	}
}

// narrowed says which findings on its paths a waiver is about.
func narrowed(w wire.Waiver) string {
	var out []string
	for _, x := range [][2]string{
		{"host", w.Host},
		{"rule", w.Rule},
		{"", w.Kind},
		{"", w.Aspect},
		{"found", w.Found},
	} {
		if x[1] != "" {
			out = append(out, strings.TrimSpace(x[0]+" "+x[1]))
		}
	}

	if len(out) == 0 {
		return "every finding"
	}

	return strings.Join(out, ", ")
}
