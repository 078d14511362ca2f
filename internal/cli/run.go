package cli

import (
	"fmt"
	"os"
	"strconv"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/wire"
)

func runCommand(o *options) *cobra.Command {
	return commandGroup("run", "Run plans, and follow runs", runStart(o), runWatch(o), runShow(o), runList(o),
		runResults(o), runHalt(o), runResume(o), runOriginals(o),
		runExport(o), runImport(o))
}

// followRun follows a run to its end, and shows its outcome.
func followRun(o *options, c *cobra.Command, api *client.Client, id string) error {
	show, shown := stepsBar("run " + id)
	var last wire.Run
	err := api.Watch(c.Context(), id, func(r wire.Run) {
		last = r
		total, done := 0, 0
		for _, h := range r.Hosts {
			total += h.Total
			done += h.Progress
		}

		show(done, total)
	})

	shown()
	if err != nil {
		return err
	}

	return showRun(o, c, api, last)
}

// runStart returns the command run start.
func runStart(o *options) *cobra.Command {
	var detach bool
	start := &cobra.Command{
		Use:   "start PLAN",
		Short: "Run an approved plan and follow it; exit code 4 where steps were refused or skipped",
		Args:  args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.StartRun(c.Context(), a[0])
			if err != nil {
				return err
			}
			if detach {
				return showRun(o, c, api, r)
			}

			return followRun(o, c, api, r.ID)
		}),
	}

	start.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return start
}

// runWatch returns the command run watch.
func runWatch(o *options) *cobra.Command {
	return &cobra.Command{Use: "watch RUN", Short: "Follow a run to its end", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client,
			a []string) error {
			return followRun(o, c, api, a[0])
		})}
}

// runShow returns the command run show.
func runShow(o *options) *cobra.Command {
	return &cobra.Command{Use: "show RUN", Short: "Show a run and what was not simply done", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Run(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showRun(o, c, api, r)
		})}
}

// runList returns the command run list.
func runList(o *options) *cobra.Command {
	var some listing
	list := &cobra.Command{Use: "list", Short: "List runs, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			t := table{head: []string{"RUN", "PLAN", "STATE", "STARTED", "BY", "HOSTS", "TITLE"}, none: "No runs yet."}
			return showPages(o, c, some, "runs", api.RunPages().Page, t, func(t *table, r wire.Run) {
				t.add(r.ID, r.Plan, r.State, r.Started, r.StartedBy, len(r.Hosts), r.Title)
			})
		})}

	listFlags(list, &some, 100)
	return list
}

// runHalt returns the command run halt.
func runHalt(o *options) *cobra.Command {
	return &cobra.Command{Use: "halt RUN", Short: "Halt a run at the next step boundary", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Halt(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showRun(o, c, api, r)
		})}
}

// runResume returns the command run resume.
func runResume(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "resume RUN",
		Short: "Go on with a halted or failed run and follow it",
		Args:  args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Resume(c.Context(), a[0])
			if err != nil {
				return err
			}
			return followRun(o, c, api, r.ID)
		}),
	}
}

// runOriginals returns the command run originals.
func runOriginals(o *options) *cobra.Command {
	var part listing
	var host string
	var paths string
	originals := &cobra.Command{
		Use:   "originals RUN",
		Short: "List what a run found before it changed anything, and how it left it",
		Args:  args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Run(c.Context(), a[0])
			if err != nil {
				return err
			}

			hosts := []string{}
			for _, h := range r.Hosts {
				if host == "" || h.Host == host {
					hosts = append(hosts, h.Host)
				}
			}

			t := table{head: []string{"HOST", "KIND", "FOUND", "LEFT", "PATH"}, none: "The run changed nothing there."}
			return showPages(o, c, part, "paths",
				chained(hosts, func(host string) pageReader[wire.Original] {
					return api.OriginalPages(r.ID, host, paths).Page
				}),
				t, func(t *table, x wire.Original) {
					t.add(x.Host, x.Kind, x.Original.String(), x.Left.String(), x.Path)
				})
		}),
	}

	originals.Flags().StringVar(&host, "host", "", "only this host")
	originals.Flags().StringVar(&paths, "paths", "", "only paths that this pattern fits")
	listFlags(originals, &part, 1000)
	return originals
}

// runResults returns the command run results.
func runResults(o *options) *cobra.Command {
	var rest listing
	results := &cobra.Command{
		Use:   "results RUN",
		Short: "List the steps of a run that are not simply done, with reasons",
		Args:  args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			t := table{
				head: []string{"HOST", "STEP", "OUTCOME", "PATH", "WHY"},
				none: "All of its steps are simply done.",
			}
			return showPages(o, c, rest, "steps", api.ResultPages(a[0]).Page, t, func(t *table, x wire.RunResult) {
				t.add(x.Host, x.Step, x.Outcome, x.Path, x.Reason)
			})
		}),
	}

	listFlags(results, &rest, 1000)
	return results
}

// shownResults is how many steps that are not simply done are shown with a run.
const shownResults = 100

// stepsBar shows on a terminal how far the steps of something are.
func stepsBar(what string) (show func(done, total int), end func()) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func(int, int) {}, func() {}
	}

	var bar *progressbar.ProgressBar
	show = func(done, total int) {
		if bar == nil && total > 0 {
			bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(os.Stderr),
				progressbar.OptionSetDescription(what), progressbar.OptionShowCount(),
				progressbar.OptionClearOnFinish())
		}
		if bar != nil {
			_ = bar.Set(done)
		}
	}

	return show, func() {
		if bar != nil {
			_ = bar.Finish()
		}
	}
}

func showRun(o *options, c *cobra.Command, api *client.Client, r wire.Run) error {
	t := table{
		head:  []string{"HOST", "STATE", "STEPS", "DONE", "ALREADY", "SKIPPED", "REFUSED", "CHANGED AGAIN", "MESSAGE"},
		value: r,
	}
	bad := false
	for _, h := range r.Hosts {
		t.add(h.Host, h.State, strconv.Itoa(h.Total), strconv.Itoa(h.Done), strconv.Itoa(h.Already),
			strconv.Itoa(h.Skipped), strconv.Itoa(h.Refused), strconv.Itoa(h.Wrong), h.Message)
		bad = bad || h.Skipped+h.Refused+h.Wrong > 0 || h.State == lifecycle.PartFailed
	}

	if o.output == "table" {
		if err := o.showOne(c, r, "run", r.ID, "plan", r.Plan, "title", r.Title, "state", r.State); err != nil {
			return err
		}
		printf(c, "")
	}

	if err := o.show(c, t); err != nil {
		return err
	}

	if o.output == "table" && r.State != lifecycle.RunRunning {
		results, err := api.ResultPages(r.ID).Page(c.Context(), "", shownResults)
		if err != nil {
			return err
		}

		for _, x := range results.Items {
			printf(c, "%s on %s: %s: %s", x.Outcome, x.Host, x.Path, x.Reason)
		}

		if results.Next != "" && results.Total != nil {
			printf(c, "%d more are not simply done: idletally run results %s --all",
				*results.Total-int64(len(results.Items)), r.ID)
		}

		if r.State == lifecycle.RunFinished {
			printf(c, "Put it back with: idletally plan restore %s", r.ID)
		}
	}

	if bad {
		return fmt.Errorf("%w", errNotSo)
	}

	return nil
}
