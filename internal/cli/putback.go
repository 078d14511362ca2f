package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/baseline"
	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/wire"
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
				head: []string{"RUN", "BEGUN", "STEPS", "DONE", "OTHER", "OPEN", "STATE", "SERVICE HAS IT", "PLAN",
					"SIGNED BY"},
				value: list,
				none:  "No run is kept here.",
			}
			for _, r := range list {
				state := "broken off"
				if r.Ended {
					state = "ended"
				}
				t.add(r.Run, r.Begun, strconv.Itoa(r.Steps), strconv.Itoa(r.Done), strconv.Itoa(r.Other),
					strconv.Itoa(r.Open), state, yesNo(r.Stored), r.Digest[:min(16, len(r.Digest))], r.By)
			}

			return errors.Join(o.show(c, t), errors.Join(faults...))
		},
	}
}

func putBackHere(o *options, folder *string) *cobra.Command {
	var paths []string
	var yes bool
	var by signer
	var reason string
	c := &cobra.Command{
		Use:   "put-back RUN",
		Short: "Put back what a run changed on this host, without any service",
		Args:  args(1, 1, "a run"),
		Long: `Put back what a run changed on this host, from the originals that are kept here. It needs no
service, no plan and no second person: it is for the day on which the service is gone. Where this
host's roster names people who may put back alone, one of them signs it, by --sign or --key, with
--reason; otherwise whoever may become root here decides. What is no longer as the run left it is
skipped. What it finds is kept as well, as a run of its own. Stop the agent before, if it is running.`,
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
				func(p string) bool { return len(patterns) == 0 || len(fits.Match(p)) > 0 },
				func(ask agent.Consent) (roster.Signed, error) { return by.putsBack(c, ask, reason) })
			if err != nil {
				return err
			}

			return showBack(o, c, a[0], b)
		},
	}

	c.Flags().StringArrayVar(&paths, "paths", nil, "only paths that this pattern fits; repeatable")
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	c.Flags().StringVar(&reason, "reason", "", "why, where somebody of the roster signs it")
	signFlags(c, &by)
	return c
}

// showBack tells what became of a put-back, and is an error if not everything is as it was.
func showBack(o *options, c *cobra.Command, run string, b agent.Back) error {
	if o.output == "table" && b.Damage != "" {
		printf(c, "NOT ALL CAN BE PUT BACK: %s.", printable(b.Damage))
	}

	if o.output == "table" {
		printf(c, "%d of %d paths are as they were before run %s; this was run %s.", b.Done, b.Steps, run,
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
}

// putsBack has whoever's key it is sign what this host is to put back.
func (s signer) putsBack(c *cobra.Command, ask agent.Consent, reason string) (signed roster.Signed, err error) {
	var keys []wire.RosterKey
	var names []string
	owners := map[signature.Key]string{}
	for _, p := range ask.People {
		names = append(names, p.Name)
		for _, k := range p.Keys {
			keys = append(keys, wire.RosterKey{Name: k.Name, Text: k.Key.String(), Fingerprint: k.Key.Fingerprint()})
			owners[k.Key] = p.Name
		}
	}
	if !s.given() || reason == "" {
		return signed, usageError{fmt.Errorf("the roster of this host names who puts back here by their signature: "+
			"%s. Give --reason, and --sign or --key FILE", strings.Join(names, ", "))}
	}

	p, name, err := s.pen(c, keys)
	if err != nil {
		return signed, err
	}
	text, err := ask.Statement(owners[p.Key], reason, time.Now())
	if err != nil {
		return signed, err
	}
	return touch(c, p, name, text)
}
