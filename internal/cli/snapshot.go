package cli

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

func snapshotCommand(o *options) *cobra.Command {
	var wait time.Duration
	var ask wire.NewSnapshots
	take := &cobra.Command{
		Use:   "take APPLICATION [HOST...]",
		Short: "Have snapshots taken, on all hosts of the application by default",
		Args:  args(1, 1000, "an application"),
		Long: `Have snapshots taken, on all hosts of the application by default, and wait for them. Hosts that
could not be asked, did not answer in time or could not be looked at are named in the end, with why;
they keep no other host from being looked at. The exit code is 4 where any is missing.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			ask.Hosts = a[1:]
			if len(ask.Hosts) == 0 && len(ask.Roots) > 0 {
				return usageError{errors.New("name the hosts to look at: no baseline of the application does yet")}
			}
			all, err := api.TakeSnapshots(c.Context(), a[0], ask)
			if err != nil {
				return err
			}
			if err := waitFor(c, api, all, wait); err != nil {
				return err
			}

			return o.taken(c, all, wait)
		}),
	}

	take.Flags().BoolVar(&ask.Whole, "whole", false,
		"read everything again, not only what can have changed since the last time")
	take.Flags().StringArrayVar(&ask.Roots, "root", nil,
		"a folder to look at, while the application has no published baseline that names it; repeatable")
	take.Flags().BoolVar(&ask.Cross, "cross", false, "with --root: go into other file systems that are mounted below")
	take.Flags().DurationVar(&wait, "wait", 2*time.Minute, "how long to wait for the agents; 0 does not wait")
	var application, host string
	var some listing
	list := &cobra.Command{Use: "list", Short: "List snapshots, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			return showPages(o, c, some, "snapshots", api.SnapshotPages(application, host).Page, snapshotTable(),
				addSnapshot)
		})}
	list.Flags().StringVar(&application, "application", "", "only this application")
	list.Flags().StringVar(&host, "host", "", "only this host")
	listFlags(list, &some, 50)
	stop := &cobra.Command{Use: "cancel SNAPSHOT", Short: "Cancel a pending snapshot", Args: args(1, 1, "a snapshot"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			s, err := api.CancelSnapshot(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showOne(c, s, "snapshot", s.ID, "state", s.State, "message", s.Message)
		})}

	return commandGroup("snapshot", "Take, list and compare snapshots",
		append([]*cobra.Command{take, stop, list, changesCommand(o)}, fileCommands(o)...)...)
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

// forWhom says why a snapshot was taken.
func forWhom(s wire.Snapshot) string {
	if s.Heard {
		return "a change that was noticed"
	}
	return s.RequestedBy
}

func snapshotTable() table {
	return table{
		head: []string{"SNAPSHOT", "APPLICATION", "HOST", "STATE", "PATHS", "GAPS", "TAKEN", "FOR", "ROOT HASH"},
		none: "No snapshots yet: idletally snapshot take APPLICATION",
	}
}

func addSnapshot(t *table, s wire.Snapshot) {
	t.add(s.ID, s.Application, s.Host, s.State, s.Paths, s.Gaps, s.Taken, forWhom(s), forms{
		s.Root[:min(16, len(s.Root))],
		s.Root,
	})
}

func showSnapshots(o *options, c *cobra.Command, snaps []wire.Snapshot) error {
	t := snapshotTable()
	t.value = snaps
	for _, s := range snaps {
		addSnapshot(&t, s)
	}
	return o.show(c, t)
}

func changesCommand(o *options) *cobra.Command {
	var paths bool
	var most int
	var after string
	c := &cobra.Command{
		Use:   "changes SNAPSHOT SNAPSHOT",
		Short: "Say what changed from one snapshot to another",
		Args:  args(2, 2, "two snapshots, the earlier one first"),
		Long: `Say what changed from one snapshot to another, of the same host or of two: equal changes are one
line, with who can do more (opens) or less (closes) since. --paths lists the paths one by one.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			limit := 0
			if paths {
				limit = min(most, 5000)
			}

			d, err := api.Changes(c.Context(), a[0], a[1], after, limit)
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"COUNT", "EFFECT", "KIND", "BEFORE", "AFTER", "WHERE"},
				value: d,
				none:  "Nothing changed.",
			}
			if paths {
				t.head = []string{"CHANGE", "PATH"}
				for _, p := range d.Items {
					t.add(p.Change, p.Path)
				}
			} else {
				for _, g := range d.Groups {
					kind := g.AfterKind
					switch {
					case kind == "":
						kind = g.BeforeKind
					case g.BeforeKind != "" && g.BeforeKind != kind:
						kind = g.BeforeKind + " → " + kind
					}

					before, after := sides(g.Before, g.After)
					t.add(strconv.Itoa(g.Count), effect(g.Word), kind, cmp.Or(before, g.BeforeGap, "–"),
						cmp.Or(after, g.AfterGap, "–"), place(g.Count, g.Folder, g.Example))
				}
			}

			if o.output == "table" {
				printf(c, "from %s (%s, %s) to %s (%s, %s): %d changed, %d added, %d gone", d.From.ID, d.From.Host,
					whenever(d.From.Taken), d.To.ID, d.To.Host, whenever(d.To.Taken), d.Changed, d.Added, d.Gone)
			}

			if err := o.show(c, t); err != nil {
				return err
			}

			if o.output == "table" && paths && d.Next != "" {
				printf(c, "There are more: --after '%s'", strings.ReplaceAll(d.Next, "'", `'\''`))
			}

			return nil
		}),
	}

	c.Flags().BoolVar(&paths, "paths", false, "list the paths one by one")
	c.Flags().IntVar(&most, "most", 1000, "how many paths at the most, up to 5000")
	c.Flags().StringVar(&after, "after", "", "list the paths after this one")
	return c
}

// sides writes two states so that only what differs between them shows.
func sides(a, b *perm.View) (string, string) {
	if a == nil || b == nil {
		return whole(a), whole(b)
	}

	var x, y []string
	differ := func(p, q string) {
		if p != q {
			x, y = append(x, cmp.Or(p, "none")), append(y, cmp.Or(q, "none"))
		}
	}
	differ(a.Owner, b.Owner)
	differ(":"+a.Group, ":"+b.Group)
	differ(a.Mode, b.Mode)
	differ(strings.Join(a.Entries, ","), strings.Join(b.Entries, ","))
	differ(strings.Join(prefixed("default:", a.Defaults), ","), strings.Join(prefixed("default:", b.Defaults), ","))
	differ(strings.Join(a.Flags, ","), strings.Join(b.Flags, ","))
	if len(x) == 0 {
		return "capability", "another capability"
	}

	return strings.Join(x, " "), strings.Join(y, " ")
}

func whole(v *perm.View) string {
	if v == nil {
		return ""
	}
	return strings.TrimSpace(v.Mode + " " + v.Owner + ":" + v.Group + " " + strings.Join(v.Entries, ","))
}

func prefixed(p string, list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = p + s
	}
	return out
}

// waitFor asks for the snapshots until they are there, or the time is over.
func waitFor(c *cobra.Command, api *client.Client, all []wire.AskedSnapshot, wait time.Duration) error {
	deadline := time.Now().Add(wait)
	progress := &takeProgress{all: len(all)}
	defer progress.end()

	for i := range all {
		for all[i].Snapshot != nil && all[i].Snapshot.State == lifecycle.SnapshotWaiting &&
			time.Now().Before(deadline) {
			select {
			case <-c.Context().Done():
				return c.Context().Err()
			case <-time.After(150 * time.Millisecond):
			}

			s, err := api.Snapshot(c.Context(), all[i].Snapshot.ID)
			if err != nil {
				return err
			}

			all[i].Snapshot = &s
			progress.show(i, s)
		}
	}

	return nil
}

// taken shows the outcome of asking, and fails if a host is missing.
func (o *options) taken(c *cobra.Command, all []wire.AskedSnapshot, wait time.Duration) error {
	var snaps []wire.Snapshot
	missing := 0
	for i, x := range all {
		s := x.Snapshot
		if s != nil {
			snaps = append(snaps, *s)
		}

		switch {
		case s == nil:
		case s.Message != "" && s.State != lifecycle.SnapshotWaiting:
			all[i].Problem = s.Message
		case s.State != lifecycle.SnapshotWaiting, wait == 0:
			continue
		case s.Taken != nil:
			all[i].Problem = fmt.Sprintf(
				"it has given its snapshot %s, which the service is still comparing after %s: ask again with "+
					"idletally snapshot list",
				s.ID, wait)
		default:
			all[i].Problem = fmt.Sprintf(
				"it has not answered within %s: is its agent running? The snapshot is taken when it calls", wait)
		}

		missing++
	}

	if len(snaps) == 0 { // nobody could be asked
		var err error
		for _, x := range all {
			err = errors.Join(err, fmt.Errorf("host %s: %s", x.Host, x.Problem))
		}
		return err
	}

	var err error
	if o.output == "table" {
		err = showSnapshots(o, c, snaps)
	} else {
		t := table{head: []string{"HOST", "SNAPSHOT", "STATE", "PROBLEM"}, value: all}
		for _, x := range all {
			id, state := "", ""
			if x.Snapshot != nil {
				id, state = x.Snapshot.ID, string(x.Snapshot.State)
			}
			t.add(x.Host, id, state, x.Problem)
		}
		err = o.show(c, t)
	}

	if err != nil || missing == 0 {
		return err
	}

	for _, x := range all {
		if x.Problem != "" {
			tell(c.ErrOrStderr(), "host %s: %s\n", x.Host, x.Problem)
		}
	}

	is := "are"
	if missing == 1 {
		is = "is"
	}

	tell(c.ErrOrStderr(), "%d of %s %s missing.\n", missing, plural(len(all), "host"), is)
	return errNotSo
}

// takeProgress shows on a terminal how far a snapshot is: out of as many paths as the last one had, if there was one,
// and otherwise how many there are so far; and which host it is.
type takeProgress struct {
	all int // hosts
	bar *progressbar.ProgressBar
	of  string
}

func (p *takeProgress) show(i int, s wire.Snapshot) {
	if s.State != lifecycle.SnapshotWaiting || s.Seen == 0 || !term.IsTerminal(int(os.Stderr.Fd())) {
		return
	}

	if p.of != s.ID {
		p.end()
		p.of = s.ID
		total := max(s.Expected, s.Seen)
		if s.Expected == 0 {
			total = -1 // nobody knows
		}

		p.bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(os.Stderr),
			progressbar.OptionSetDescription(fmt.Sprintf("%d of %d: %s on %s", i+1, p.all, s.Application, s.Host)),
			progressbar.OptionShowCount(),
			progressbar.OptionSetPredictTime(s.Expected > 0), progressbar.OptionClearOnFinish())
	}

	if s.Expected > 0 && s.Seen > p.bar.GetMax64() { // there are more than last time
		p.bar.ChangeMax64(s.Seen)
	}

	_ = p.bar.Set64(s.Seen)
}

func (p *takeProgress) end() {
	if p.bar != nil {
		_ = p.bar.Clear()
		p.bar = nil
	}
}
