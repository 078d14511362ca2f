package cli

import (
	"fmt"
	"os"
	"strconv"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func runCommand(o *options) *cobra.Command {
	var detach bool
	follow := func(c *cobra.Command, api *client.Client, id string) error {
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
	start := &cobra.Command{Use: "start PLAN", Short: "Run an approved plan and follow it; exit code 4 where steps were refused or skipped", Args: args(1, 1, "a plan"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.StartRun(c.Context(), a[0])
			if err != nil {
				return err
			}
			if detach {
				return showRun(o, c, api, r)
			}
			return follow(c, api, r.ID)
		})}
	start.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	watch := &cobra.Command{Use: "watch RUN", Short: "Follow a run to its end", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error { return follow(c, api, a[0]) })}
	show := &cobra.Command{Use: "show RUN", Short: "Show a run and what was not simply done", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Run(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showRun(o, c, api, r)
		})}
	list := &cobra.Command{Use: "list", Short: "List runs, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			runs, err := api.Runs(c.Context(), 200)
			if err != nil {
				return err
			}
			t := table{head: []string{"RUN", "PLAN", "STATE", "STARTED", "BY", "HOSTS", "TITLE"}, value: runs, none: "No runs yet."}
			for _, r := range runs {
				t.add(r.ID, r.Plan, r.State, when(r.Started), r.StartedBy, strconv.Itoa(len(r.Hosts)), r.Title)
			}
			return o.show(c, t)
		})}
	halt := &cobra.Command{Use: "halt RUN", Short: "Halt a run at the next step boundary", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Halt(c.Context(), a[0])
			if err != nil {
				return err
			}
			return showRun(o, c, api, r)
		})}
	resume := &cobra.Command{Use: "resume RUN", Short: "Go on with a halted or failed run and follow it", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Resume(c.Context(), a[0])
			if err != nil {
				return err
			}
			return follow(c, api, r.ID)
		})}
	var host, paths string
	var most int
	originals := &cobra.Command{Use: "originals RUN", Short: "List what a run found before it changed anything, and how it left it", Args: args(1, 1, "a run"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Run(c.Context(), a[0])
			if err != nil {
				return err
			}
			t := table{head: []string{"HOST", "KIND", "FOUND", "LEFT", "PATH"}, none: "The run changed nothing there."}
			all := []wire.Original{}
			for _, h := range r.Hosts {
				if host != "" && h.Host != host {
					continue
				}
				list, err := api.Originals(c.Context(), r.ID, h.Host, paths, most-len(all))
				if err != nil {
					return err
				}
				all = append(all, list...)
			}
			for _, x := range all {
				t.add(x.Host, x.Kind, x.Original.String(), x.Left.String(), x.Path)
			}
			t.value = all
			return o.show(c, t)
		})}
	originals.Flags().StringVar(&host, "host", "", "only this host")
	originals.Flags().StringVar(&paths, "paths", "", "only paths that this pattern fits")
	originals.Flags().IntVar(&most, "limit", 100_000, "at most so many")
	return noun("run", "Carrying out plans", start, watch, show, list, halt, resume, originals, runExport(o), runImport(o))
}

// stepsBar shows on a terminal how far the steps of something are.
func stepsBar(what string) (show func(done, total int), end func()) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func(int, int) {}, func() {}
	}
	var bar *progressbar.ProgressBar
	show = func(done, total int) {
		if bar == nil && total > 0 {
			bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription(what), progressbar.OptionShowCount(), progressbar.OptionClearOnFinish())
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
	t := table{head: []string{"HOST", "STATE", "STEPS", "DONE", "ALREADY", "SKIPPED", "REFUSED", "CHANGED AGAIN", "MESSAGE"}, value: r}
	bad := false
	for _, h := range r.Hosts {
		t.add(h.Host, h.State, strconv.Itoa(h.Total), strconv.Itoa(h.Done), strconv.Itoa(h.Already), strconv.Itoa(h.Skipped), strconv.Itoa(h.Refused), strconv.Itoa(h.Wrong), h.Message)
		bad = bad || h.Skipped+h.Refused+h.Wrong > 0 || h.State == "failed"
	}
	if o.output == "table" {
		if err := o.showOne(c, r, "run", r.ID, "plan", r.Plan, "title", r.Title, "state", r.State); err != nil {
			return err
		}
		say(c, "")
	}
	if err := o.show(c, t); err != nil {
		return err
	}
	if o.output == "table" && r.State != "running" {
		results, err := api.Results(c.Context(), r.ID, 1000)
		if err != nil {
			return err
		}
		for _, x := range results {
			say(c, "%s on %s: %s: %s", x.Outcome, x.Host, x.Path, x.Reason)
		}
		if r.State == "finished" {
			say(c, "Put it back with: idletally plan restore %s", r.ID)
		}
	}
	if bad {
		return fmt.Errorf("%w", errNotSo)
	}
	return nil
}
