package cli

import (
	"cmp"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func scheduleCommand(o *options) *cobra.Command {
	return commandGroup("schedule", "Manage scheduled snapshots", scheduleAdd(o), scheduleList(o), scheduleRemove(o))
}

// scheduleAdd returns the command schedule add.
func scheduleAdd(o *options) *cobra.Command {
	var ask wire.NewSchedule
	var spread time.Duration
	add := &cobra.Command{
		Use:   "add APPLICATION CRON",
		Short: "Schedule snapshots of an application",
		Args:  args(2, 2, "an application and times"),
		Long: `Have snapshots of an application taken by themselves, on all of its hosts or on those with a tag.
Times are five fields as crontab(5) has them, minute hour day month weekday, or @hourly, @daily,
@weekly.

With --spread each host has a moment of its own within that much time, always the same one. A
snapshot that is still being taken is not asked for a second time.

  idletally schedule add ticketing "30 2 * * *" --zone Europe/Lisbon --spread 45m`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			ask.Application, ask.Cron, ask.Spread = a[0], a[1], int(spread.Seconds())
			x, err := api.AddSchedule(c.Context(), ask)
			if err != nil {
				return err
			}

			return o.showOne(c, x, "schedule", x.ID, "application", x.Application, "times", x.Cron, "next", x.Next)
		}),
	}

	add.Flags().StringVar(&ask.Tag, "tag", "", "only on hosts with this tag")
	add.Flags().StringVar(&ask.Zone, "zone", "", "time zone of the times, such as Europe/Lisbon (default UTC)")
	add.Flags().DurationVar(&spread, "spread", 0, "spread the hosts over so much time: 45m")
	return add
}

// scheduleList returns the command schedule list.
func scheduleList(o *options) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List schedules", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Schedules(c.Context())
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"SCHEDULE", "APPLICATION", "HOSTS", "TIMES", "SPREAD", "NEXT", "LAST", "BY"},
				value: all,
				none:  "No schedule: idletally schedule add APPLICATION CRON",
			}
			for _, x := range all {
				hosts := "all"
				if x.Tag != "" {
					hosts = "with tag " + x.Tag
				}
				t.add(x.ID, x.Application, hosts, x.Cron+" "+cmp.Or(x.Zone, "UTC"),
					(time.Duration(x.Spread) * time.Second).String(), x.Next, x.Last, x.Author)
			}

			return o.show(c, t)
		})}
}

// scheduleRemove returns the command schedule remove.
func scheduleRemove(o *options) *cobra.Command {
	return &cobra.Command{Use: "remove SCHEDULE", Short: "Delete a schedule", Args: args(1, 1, "a schedule's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.RemoveSchedule(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "It fires no more.")
			return nil
		})}
}
