package cli

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/baseline"
)

func runsHere(o *options, folder *string) *cobra.Command {
	return &cobra.Command{
		Use:   "runs",
		Short: "List the runs whose originals are kept on this host",
		Args:  args(0, 0, "no argument"),
		Long:  "List the runs whose originals are kept on this host. It needs no service.",
		RunE: func(c *cobra.Command, _ []string) error {
			list, faults := agent.LocalRuns(*folder)
			t := table{
				head:  []string{"RUN", "BEGUN", "STEPS", "DONE", "OTHER", "OPEN", "STATE", "SERVICE HAS IT", "PLAN"},
				value: list,
				none:  "No run is kept here.",
			}
			for _, r := range list {
				state := "broken off"
				if r.Ended {
					state = "ended"
				}
				t.add(r.Run, r.Begun, strconv.Itoa(r.Steps), strconv.Itoa(r.Done), strconv.Itoa(r.Other),
					strconv.Itoa(r.Open), state, yesNo(r.Stored), r.Digest[:min(16, len(r.Digest))])
			}

			return errors.Join(o.show(c, t), errors.Join(faults...))
		},
	}
}

func putBackHere(o *options, folder *string) *cobra.Command {
	var paths []string
	var yes bool
	c := &cobra.Command{
		Use:   "put-back RUN",
		Short: "Put back what a run changed on this host, without any service",
		Args:  args(1, 1, "a run"),
		Long: `Put back what a run changed on this host, from the originals that are kept here. It needs no
service, no plan and no second person: it is for the day on which the service is gone, and whoever
may become root here decides. What is no longer as the run left it is skipped. What it finds is kept
as well, as a run of its own. Stop the agent before, if it is running.`,
		RunE: func(c *cobra.Command, a []string) error {
			var patterns []baseline.Pattern
			for _, text := range paths {
				p, err := baseline.ParsePattern(text)
				if err != nil {
					return usageError{err}
				}
				patterns = append(patterns, p)
			}

			if !yes {
				return usageError{fmt.Errorf("this changes the host at once: say --yes")}
			}

			fits := baseline.NewPatterns(patterns)
			b, err := agent.PutBack(c.Context(), *folder, a[0],
				func(p string) bool { return len(patterns) == 0 || len(fits.Match(p)) > 0 }, nil)
			if err != nil {
				return err
			}

			if o.output == "table" && b.Damage != "" {
				printf(c, "NOT ALL CAN BE PUT BACK: %s.", printable(b.Damage))
			}

			if o.output == "table" {
				printf(c, "%d of %d paths are as they were before run %s; this was run %s.", b.Done, b.Steps, a[0],
					b.Run)
			}

			t := table{head: []string{"OUTCOME", "PATH", "WHY"}, value: b}
			for i, r := range b.Results {
				t.add(r.Outcome.String(), b.Paths[i], r.Reason)
			}

			for _, path := range b.Lost {
				t.add("lost", path, "its original cannot be read: it stays as it is")
			}

			if b.Whole() {
				if o.output != "table" {
					return o.show(c, t)
				}
				return nil
			}

			if err := o.show(c, t); err != nil {
				return err
			}

			return fmt.Errorf("%w", errNotSo)
		},
	}

	c.Flags().StringArrayVar(&paths, "paths", nil, "only paths that this pattern fits; repeatable")
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}
