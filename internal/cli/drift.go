package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/report"
	"idletally/internal/wire"
)

// mark returns an effect's word with its shape: it works without colour.
func mark(word string) string {
	switch word {
	case "opens":
		return "▲ opens"
	case "closes":
		return "▼ closes"
	case "both":
		return "◆ both"
	case "neither":
		return "· neither"
	}
	return ""
}

func driftCommand(o *options) *cobra.Command {
	return commandGroup("drift", "Show where hosts have drifted from their baselines", driftShow(o), driftFindings(o),
		driftWatch(o), driftTrend(o), driftCauses(o), driftReport(o), fileDrift(o))
}

// driftShow returns the command drift show.
func driftShow(o *options) *cobra.Command {
	var host string
	var age maxAge
	var strict bool
	var waived bool
	show := &cobra.Command{
		Use:   "show APPLICATION",
		Short: "Show where hosts have drifted, equal findings as one line",
		Args:  args(1, 1, "an application"),
		Long: `Show where the hosts of an application have drifted. What is said first is what may be said of them
all: that everything is as declared only where each host was looked at, not too long ago, with
success, at everything. A look counts until two looks by schedule are missing, or for 26 hours where
none is scheduled; for hosts that watch, from when the agent last said that nothing changed since.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			d, err := api.DriftWithin(c.Context(), a[0], host, age.Duration)
			if err != nil {
				return err
			}

			if !waived {
				d.Groups = slices.DeleteFunc(d.Groups, func(g wire.Group) bool { return g.Waiver != nil })
			}

			if err := showDrift(o, c, a[0], d); err != nil {
				return err
			}
			if strict && !d.Verdict.Holds {
				return errNotSo
			}

			return nil
		}),
	}

	show.Flags().StringVar(&host, "host", "", "only this host")
	show.Flags().BoolVar(&waived, "waived", false, "show findings that are accepted for a time, too")
	show.Flags().BoolVar(&strict, "strict", false, "exit with 4 unless everything is known to be as declared")
	show.Flags().Var(&age, "max-age",
		"how long a look counts, such as 90m, 26h or 7d; by default as the schedules have it")
	return show
}

// driftFindings returns the command drift findings.
func driftFindings(o *options) *cobra.Command {
	var host string
	var group string
	var list listing
	findings := &cobra.Command{
		Use:   "findings APPLICATION",
		Short: "List findings path by path",
		Args:  args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			d, err := api.Drift(c.Context(), a[0], host)
			if err != nil {
				return err
			}

			groups := map[string]wire.Group{}
			for _, g := range d.Groups {
				groups[g.Report+g.ID] = g
			}

			type row struct {
				wire.Finding
				Host     string `json:"host"`
				Rule     string `json:"rule"`
				Declared string `json:"declared"`
				Found    string `json:"found"`
				Meaning  string `json:"meaning"`
			}

			reports := []string{}
			hosts := map[string]string{}
			total := int64(0)

			for _, r := range d.Reports {
				reports = append(reports, r.ID)
				hosts[r.ID] = r.Host
				total += r.Findings + r.Waived
			}

			if group != "" {
				total = 0
				for _, g := range d.Groups {
					if g.ID == group {
						total += int64(g.Count)
					}
				}
			}

			read := chained(reports, func(report string) pageReader[row] {
				return func(ctx context.Context, after string, limit int) (wire.Page[row], error) {
					page, err := api.FindingPages(report, group).Page(ctx, after, limit)
					out := wire.Page[row]{Next: page.Next}
					for _, f := range page.Items {
						g := groups[f.Report+f.Group]
						out.Items = append(out.Items, row{f, hosts[f.Report], g.Rule, g.Declared, g.Found, g.Meaning})
					}

					return out, err
				}
			})

			t := table{
				head: []string{
					"FINDING", "HOST", "RULE", "ASPECT", "DECLARED", "FOUND", "EFFECT", "SINCE", "BY", "PATH",
				},
				none: "No findings.",
			}

			return showPages(o, c, list, "findings", counting(read, total), t, func(t *table, f row) {
				t.add(f.Report+":"+strconv.Itoa(f.Seq), f.Host, f.Rule, f.Aspect, f.Declared,
					forms{asRead(f.Found, f.Unread), f.Found}, meaning(f.Meaning),
					forms{sinceWhen(f.Since, f.Spells), f.Since}, byWhom(f.By), f.Path)
			})
		}),
	}

	findings.Flags().StringVar(&host, "host", "", "only this host")
	findings.Flags().StringVar(&group, "group", "", "only this group")
	listFlags(findings, &list, 200)
	return findings
}

// driftTrend returns the command drift trend.
func driftTrend(o *options) *cobra.Command {
	var host string
	var days int
	trend := &cobra.Command{
		Use:   "trend APPLICATION",
		Short: "Show how drift went, snapshot by snapshot",
		Args:  args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			all, err := api.Trend(c.Context(), a[0], host, days)
			if err != nil {
				return err
			}

			t := table{
				head: []string{
					"HOST", "AT", "EDITION", "FINDINGS", "OPENS", "CLOSES", "WAIVED", "NEW", "RETURNED", "GONE",
					"UNREAD",
				},
				value: all,
				none:  "No report yet: idletally snapshot take " + a[0],
			}

			number := func(n int64) string { return strconv.FormatInt(n, 10) }
			for _, h := range all {
				for _, p := range h.Points {
					t.add(h.Host, p.At, strconv.Itoa(p.Edition), number(p.Findings), number(p.Opens), number(p.Closes),
						number(p.Waived), number(p.Fresh), number(p.Returned), number(p.Gone), number(p.Unread))
				}
			}

			return o.show(c, t)
		}),
	}

	trend.Flags().StringVar(&host, "host", "", "only this host")
	trend.Flags().IntVar(&days, "days", 90, "how many days back")
	return trend
}

// driftCauses returns the command drift causes.
func driftCauses(o *options) *cobra.Command {
	var host string
	var days int
	var several listing
	causes := &cobra.Command{
		Use:   "causes APPLICATION",
		Short: "Say where new paths keep coming out wrong, and the likely cause",
		Args:  args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			pages := api.CausePages(a[0], host, days)
			if o.output != "table" {
				t := table{
					head: []string{
						"HOST", "PATHS", "TIMES", "LAST", "ASPECT", "DECLARED", "FOUND", "FOLDER", "CAUSE", "INSTEAD",
					},
				}
				return showPages(o, c, several, "causes", pages.Page, t, func(t *table, x wire.Cause) {
					t.add(x.Host, strconv.Itoa(x.Paths), strconv.Itoa(x.Times), x.LastSeen, x.Kind+" "+x.Aspect,
						x.Declared, x.Found, x.Folder, x.Why, x.Instead)
				})
			}

			n := 0
			err := eachOf(c, several, "causes", pages.Page, func(x wire.Cause) {
				n++
				if n > 1 {
					printf(c, "")
				}

				what := plural(x.Paths, "new "+x.Kind)
				if x.Again {
					what = plural(x.Paths, x.Kind) + " wrong again"
				}

				printf(c, "%s: %s in %s", x.Host, what, x.Folder)
				printf(c, "    %s %s instead of %s, such as %s; seen %s, last %s", x.Aspect, x.Found, x.Declared,
					x.Example, plural(x.Times, "time"), when(x.LastSeen))
				printf(c, "    likely cause: %s", x.Why)
				printf(c, "    instead: %s", x.Instead)
			})

			if err == nil && n == 0 {
				printf(c, "No new paths came out wrong.")
			}

			return err
		}),
	}

	listFlags(causes, &several, 200)
	causes.Flags().StringVar(&host, "host", "", "only this host")
	causes.Flags().IntVar(&days, "days", 90, "how many days back")
	return causes
}

// driftReport returns the command drift report.
func driftReport(o *options) *cobra.Command {
	var host string
	var age maxAge
	var format string
	var fail bool
	written := &cobra.Command{
		Use:   "report APPLICATION",
		Short: "Write the drift of an application for others to read",
		Args:  args(1, 1, "an application"),
		Long: `Write the drift of an application for others to read: html, a page in one file that prints well;
csv, a line for each group; junit, for pipelines, a case for each rule on each host; openmetrics,
figures for monitoring. With --fail it exits with 4 unless everything is known to be as declared:
each host was looked at, lately, with success, at everything. Programs use drift show --output json.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if _, err := report.Find(format); err != nil {
				return usageError{err}
			}
			w, err := api.Report(c.Context(), a[0], host, format, age.Duration)
			if err != nil {
				return err
			}
			if _, err := c.OutOrStdout().Write(w.Body); err != nil || !fail || w.Holds {
				return err
			}

			return errNotSo
		}),
	}

	written.Flags().StringVar(&format, "format", "html", "html, csv, junit or openmetrics")
	written.Flags().StringVar(&host, "host", "", "only this host")
	written.Flags().BoolVar(&fail, "fail", false, "exit with 4 unless everything is known to be as declared")
	written.Flags().Var(&age, "max-age",
		"how long a look counts, such as 90m, 26h or 7d; by default as the schedules have it")
	return written
}

// byWhom is a cell that says who touched a path, as far as the kernel told. Which of several made it as it is cannot
// be known.
func byWhom(a *wire.Act) any {
	if a == nil {
		return nil
	}
	at := a.At.Local().Format(time.TimeOnly)
	if len(a.Others) > 0 {
		return forms{
			fmt.Sprintf("among those who touched it: %s; %s, %s", strings.Join(a.Others, "; "), a.Who(), at),
			strings.Join(append(a.Others, a.Who()), "; "),
		}
	}
	return forms{fmt.Sprintf("touched by %s, %s", a.Who(), at), a.Who()}
}

// sinceWhen says since when a finding is there, and how often it came back.
func sinceWhen(since *time.Time, spells int) string {
	switch {
	case since == nil:
		return ""
	case spells > 1:
		return fmt.Sprintf("%s (%s time)", when(*since), ordinal(spells))
	}
	return when(*since)
}

func ordinal(n int) string {
	if n%100/10 != 1 {
		switch n % 10 {
		case 1:
			return strconv.Itoa(n) + "st"
		case 2:
			return strconv.Itoa(n) + "nd"
		case 3:
			return strconv.Itoa(n) + "rd"
		}
	}
	return strconv.Itoa(n) + "th"
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// counted says how many findings a group has, and how many of them could not be looked at this time.
func counted(g wire.Group) string {
	if g.Unread == 0 {
		return strconv.Itoa(g.Count)
	}
	return fmt.Sprintf("%d (%d as last read)", g.Count, g.Unread)
}

// asRead says of something found whether it was found this time.
func asRead(found string, unread bool) string {
	if unread {
		return found + " (as last read)"
	}
	return found
}

// refs resolves group ids and finding references against the newest reports.
func refs(d client.Drift, groups, findings []string) (wire.Draft, error) {
	var out wire.Draft
	for _, want := range groups {
		hit := false
		for _, g := range d.Groups {
			if g.ID == want {
				out.Groups = append(out.Groups, wire.GroupRef{Report: g.Report, Group: g.ID})
				hit = true
			}
		}
		if !hit {
			return out, fmt.Errorf("no group %q in the newest reports: see idletally drift show", want)
		}
	}

	for _, f := range findings {
		report, seq, _ := strings.Cut(f, ":")
		n, err := strconv.Atoi(seq)
		if err != nil {
			return out, usageError{fmt.Errorf("finding %q: want REPORT:NUMBER as idletally drift findings shows it", f)}
		}

		out.Findings = append(out.Findings, wire.Ref{Report: report, Seq: n})
	}

	return out, nil
}
