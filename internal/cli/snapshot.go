package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

func snapshotCommand(o *options) *cobra.Command {
	var wait time.Duration
	take := &cobra.Command{Use: "take APPLICATION [HOST...]", Short: "Have snapshots taken, on all hosts of the application by default", Args: args(1, 1000, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			hosts := a[1:]
			if len(hosts) == 0 {
				apps, err := api.Applications(c.Context())
				if err != nil {
					return err
				}
				for _, app := range apps {
					if app.Name == a[0] {
						for _, h := range app.Hosts {
							hosts = append(hosts, h.Host)
						}
					}
				}
				if len(hosts) == 0 {
					return fmt.Errorf("application %q has no published baseline that applies to a host: see idletally application list", a[0])
				}
			}
			var snaps []wire.Snapshot
			for _, h := range hosts {
				s, err := api.TakeSnapshot(c.Context(), a[0], h)
				if err != nil {
					return err
				}
				snaps = append(snaps, s)
			}
			deadline := time.Now().Add(wait)
			for i := range snaps {
				for snaps[i].State == "waiting" && time.Now().Before(deadline) {
					select {
					case <-c.Context().Done():
						return c.Context().Err()
					case <-time.After(150 * time.Millisecond):
					}
					var err error
					if snaps[i], err = api.Snapshot(c.Context(), snaps[i].ID); err != nil {
						return err
					}
				}
			}
			err := showSnapshots(o, c, snaps)
			for _, s := range snaps {
				if s.State == "failed" {
					err = errors.Join(err, fmt.Errorf("host %s: %s", s.Host, s.Message))
				}
				if s.State == "waiting" && wait > 0 {
					err = errors.Join(err, fmt.Errorf("host %s has not answered within %s: is its agent running? The snapshot is taken when it calls", s.Host, wait))
				}
			}
			return err
		})}
	take.Flags().DurationVar(&wait, "wait", 2*time.Minute, "how long to wait for the agents; 0 does not wait")
	var application, host string
	var most int
	list := &cobra.Command{Use: "list", Short: "List snapshots, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			snaps, err := api.Snapshots(c.Context(), application, host, most)
			if err != nil {
				return err
			}
			return showSnapshots(o, c, snaps)
		})}
	list.Flags().StringVar(&application, "application", "", "only this application")
	list.Flags().StringVar(&host, "host", "", "only this host")
	list.Flags().IntVar(&most, "most", 50, "how many at the most")
	return noun("snapshot", "What hosts looked like", take, list)
}

// unknownOf marks an account or group that the host no longer has.
func unknownOf(v perm.View) func(aspect, name string) string {
	return func(aspect, name string) string {
		if !slices.Contains(v.Unknown, aspect) {
			return name
		}
		return name + " (no such " + map[string]string{"owner": "account", "group": "group"}[aspect] + ")"
	}
}

func showSnapshots(o *options, c *cobra.Command, snaps []wire.Snapshot) error {
	t := table{head: []string{"SNAPSHOT", "APPLICATION", "HOST", "STATE", "PATHS", "GAPS", "TAKEN", "ROOT HASH"}, value: snaps, none: "No snapshots yet: idletally snapshot take APPLICATION"}
	for _, s := range snaps {
		root := s.Root
		if o.output == "table" && len(root) > 16 {
			root = root[:16]
		}
		t.add(s.ID, s.Application, s.Host, s.State, num(s.Paths), num(s.Gaps), whenever(s.Taken), strings.TrimSpace(root))
	}
	return o.show(c, t)
}
