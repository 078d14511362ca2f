package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

// read takes a file, or standard input for "-".
func read(c *cobra.Command, file string) (string, error) {
	if file == "-" {
		b, err := io.ReadAll(io.LimitReader(c.InOrStdin(), baseline.MaxBytes+1))
		return string(b), err
	}
	b, err := os.ReadFile(file)
	return string(b), err
}

func baselineCommand(o *options) *cobra.Command {
	return commandGroup("baseline", "Manage baselines: what should be", baselineDerive(o), baselineCheck(o),
		baselineEffect(o), baselineUpload(o), baselinePublish(o), baselineList(o),
		baselineShow(o), baselineCompare(o), baselineExplain(o), baselineSchema(o))
}

// baselineCheck returns the command baseline check.
func baselineCheck(o *options) *cobra.Command {
	var offline bool
	var strict bool
	check := &cobra.Command{
		Use:   "check FILE...",
		Short: "Check baselines; exit code 4 where one has errors",
		Args:  args(1, 10_000, "files, or - for standard input"),
		Long: `Check baselines. Errors name line and column and what would be right. With a session the service
also says which hosts they apply to and what single hosts cannot follow; --local asks no service.`,
		RunE: func(c *cobra.Command, a []string) error {
			var all []checkedFile
			for _, file := range a {
				k, err := o.checkFile(c, file, offline)
				if err != nil {
					if len(a) > 1 {
						err = fmt.Errorf("%s: %w", file, err)
					}
					return err
				}
				all = append(all, checkedFile{file, k})
			}

			return showChecked(o, c, all, strict)
		},
	}

	check.Flags().BoolVar(&strict, "strict", false, "exit with 4 where there are warnings, too")
	check.Flags().BoolVar(&offline, "local", false, "check the text alone, without a service")
	return check
}

// baselineUpload returns the command baseline upload.
func baselineUpload(o *options) *cobra.Command {
	var after int
	upload := &cobra.Command{
		Use:   "upload FILE",
		Short: "Keep a baseline as the next draft edition",
		Args:  args(1, 1, "a file, or - for standard input"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			text, err := read(c, a[0])
			if err != nil {
				return err
			}
			checked, err := api.CheckBaseline(c.Context(), text)
			if err != nil {
				return err
			}
			if !checked.OK {
				return fmt.Errorf("%s has errors, nothing was uploaded:\n%w", a[0], baseline.Errors(checked.Errors))
			}

			var newest *int
			if c.Flags().Changed("after") {
				newest = &after
			}

			e, err := api.UploadBaselineAfter(c.Context(), text, newest)
			if err != nil {
				return err
			}

			return o.showOne(c, e, "application", e.Application, "edition", strconv.Itoa(e.Number), "state", e.State,
				"next", fmt.Sprintf("idletally baseline publish %s %d", e.Application, e.Number))
		}),
	}

	upload.Flags().IntVar(&after, "after", 0,
		"the newest edition when this was written, 0 for none: nothing is kept where somebody else has kept another "+
			"one meanwhile")
	return upload
}

// baselinePublish returns the command baseline publish.
func baselinePublish(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "publish APPLICATION EDITION",
		Short: "Make an edition the one that counts",
		Args:  args(2, 2, "an application and the number of an edition"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			n, err := strconv.Atoi(a[1])
			if err != nil || n < 1 {
				return usageError{fmt.Errorf("edition %q: want a number from 1 on", a[1])}
			}
			e, err := api.Publish(c.Context(), a[0], n)
			if err != nil {
				return err
			}

			return o.showOne(c, e, "application", e.Application, "edition", strconv.Itoa(e.Number), "state", e.State,
				"published by", e.PublishedBy)
		}),
	}
}

// baselineList returns the command baseline list.
func baselineList(o *options) *cobra.Command {
	var editions listing
	list := &cobra.Command{
		Use:   "list APPLICATION",
		Short: "List editions, newest first",
		Args:  args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			t := table{
				head: []string{"EDITION", "STATE", "AUTHOR", "DRAFTED", "PUBLISHED", "BY"},
				none: "No editions of " + a[0] + " yet.",
			}
			return showPages(o, c, editions, "editions", api.EditionPages(a[0]).Page, t,
				func(t *table, e wire.Edition) {
					t.add(strconv.Itoa(e.Number), e.State, e.Author, e.Created, e.Published, e.PublishedBy)
				})
		}),
	}

	listFlags(list, &editions, 200)
	return list
}

// baselineShow returns the command baseline show.
func baselineShow(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "show APPLICATION [EDITION]",
		Short: "Print an edition's text, the published one's by default",
		Args:  args(1, 2, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			n := 0
			if len(a) == 2 {
				var err error
				if n, err = strconv.Atoi(a[1]); err != nil {
					return usageError{fmt.Errorf("edition %q: want a number", a[1])}
				}
			}

			e, err := api.Edition(c.Context(), a[0], n)
			if err != nil {
				return err
			}
			if o.output == "json" {
				return o.show(c, table{value: e})
			}

			_, err = fmt.Fprint(c.OutOrStdout(), printable(e.Text))
			return err
		}),
	}
}

// baselineSchema returns the command baseline schema.
func baselineSchema(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the language, for editors",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := c.OutOrStdout().Write(baseline.Schema)
			return err
		},
	}
}

// baselineEffect returns the command baseline effect.
func baselineEffect(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "effect FILE",
		Short: "Say how a baseline would judge the last snapshots, before it is published",
		Args:  args(1, 1, "a file, or - for standard input"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			text, err := read(c, a[0])
			if err != nil {
				return err
			}
			e, err := api.PreviewBaseline(c.Context(), text)
			if err != nil {
				return err
			}

			return o.showEffect(c, e)
		}),
	}
}

// baselineCompare returns the command baseline compare.
func baselineCompare(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "compare APPLICATION EDITION EDITION",
		Short: "Say which paths two editions judge differently",
		Args:  args(3, 3, "an application and the numbers of two editions"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			var n [2]int
			for i := range n {
				var err error
				if n[i], err = strconv.Atoi(a[i+1]); err != nil {
					return usageError{fmt.Errorf("edition %q: want a number, 0 for the published one", a[i+1])}
				}
			}

			e, err := api.CompareEditions(c.Context(), a[0], n[0], n[1])
			if err != nil {
				return err
			}

			return o.showEffect(c, e)
		}),
	}
}

// baselineDerive returns the command baseline derive.
func baselineDerive(o *options) *cobra.Command {
	var in wire.NewDerivation
	derive := &cobra.Command{
		Use:   "derive APPLICATION [HOST...]",
		Short: "Draft a baseline from hosts that are right",
		Args:  args(1, 51, "an application and hosts"),
		Long: `Draft a baseline from what hosts look like: few general rules, and exceptions. Held against the
snapshots that it was derived from, the draft has no findings. Print it, read it, make it yours, and
upload it. A host without a published baseline is looked at first with: idletally snapshot take
APPLICATION HOST --root FOLDER`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			in.Application, in.Hosts = a[0], a[1:]
			if len(in.Hosts)+len(in.Snapshots) == 0 {
				return usageError{errors.New("name hosts that are right, or snapshots of them: --snapshot ID")}
			}
			d, err := api.DeriveBaseline(c.Context(), in)
			if err != nil {
				return err
			}

			if o.output == "table" {
				_, err = fmt.Fprint(c.OutOrStdout(), printable(d.Text))
				return err
			}

			t := table{head: []string{"RULE", "PLACES", "SHARE"}, value: d}
			for _, r := range d.Rules {
				t.add(r.Name, strconv.Itoa(r.Places), strconv.FormatFloat(r.Share, 'f', 4, 64))
			}

			return o.show(c, t)
		}),
	}

	derive.Flags().StringArrayVar(&in.Snapshots, "snapshot", nil,
		"a snapshot that is right, instead of a host's last one; repeatable")
	return derive
}

// baselineExplain returns the command baseline explain.
func baselineExplain(o *options) *cobra.Command {
	var host string
	var edition int
	explain := &cobra.Command{
		Use:   "explain APPLICATION PATH",
		Short: "Say which rule decides which aspect of a path, and which are overruled",
		Args:  args(2, 2, "an application and a path"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if host == "" {
				return usageError{errors.New("say on which host: --host HOST")}
			}
			x, err := api.ExplainPath(c.Context(), a[0], edition, host, a[1])
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"ASPECT", "RULE", "DECLARED", "FOUND", "OVERRULED", "WHY"},
				value: x,
				none:  "No rule speaks of this path.",
			}
			if x.LeaveAlone {
				t.none = "The baseline leaves this path alone."
			}

			for _, e := range x.Aspects {
				t.add(string(e.Aspect), e.Rule, e.Declared, cmp.Or(e.Found, "as declared"),
					strings.Join(e.Overruled, ", "), e.Why)
			}

			if o.output == "table" {
				seen := "as in its last snapshot"
				if !x.Seen {
					seen = "not in its last snapshot: taken for a file"
				}
				printf(c, "%s on %s (%s, %s), by edition %d", a[1], x.Host, x.Kind, seen, x.Edition)
			}

			if err := o.show(c, t); err != nil {
				return err
			}

			if o.output == "table" && len(x.NotFor) > 0 {
				printf(c, "These rules match the path, and their conditions do not: %s", strings.Join(x.NotFor, ", "))
			}

			return nil
		}),
	}

	explain.Flags().StringVar(&host, "host", "", "the host")
	explain.Flags().IntVar(&edition, "edition", 0, "an edition's number (default: the published one)")
	return explain
}

// showEffect shows what is judged differently, host by host.
func (o *options) showEffect(c *cobra.Command, e wire.EditionEffect) error {
	t := table{
		head:  []string{"HOST", "COUNT", "", "ASPECT", "FOUND", "DECLARED", "THEN", "RULE", "EFFECT", "WHERE"},
		value: e,
		none:  "No path is judged differently.",
	}
	for _, h := range e.Hosts {
		if o.output == "table" {
			printf(c, "%s: %d findings now, %d then: %d new, %d gone, %d with another declaration", h.Host, h.Before,
				h.After, h.New, h.Gone, h.Changed)
		}
		for _, s := range h.Shifts {
			what := map[[2]bool]string{{true, false}: "gone", {false, true}: "new", {true, true}: "changed"}[[2]bool{
				s.Was != "",
				s.Is != "",
			}]
			t.add(h.Host, strconv.Itoa(s.Count), what, s.Kind+" "+s.Aspect, s.Found, cmp.Or(s.Was, "–"),
				cmp.Or(s.Is, "–"), cmp.Or(s.NewRule, s.OldRule), effect(s.Word), place(s.Count, s.Folder, s.Example))
		}
	}

	if err := o.show(c, t); err != nil {
		return err
	}

	if o.output == "table" && len(e.Unseen) > 0 {
		printf(c, "No snapshot yet, so nothing can be said of: %s", strings.Join(e.Unseen, ", "))
	}
	if o.output == "table" && len(e.Including) > 0 {
		printf(c, "Included by the baselines of %s: these change with it.", strings.Join(e.Including, ", "))
	}

	return nil
}

// A checkedFile is what there is to say of a file.
type checkedFile struct {
	File string `json:"file"`
	wire.Checked
}

// checkFile checks a baseline, by the service or, offline, by its text alone.
func (o *options) checkFile(c *cobra.Command, file string, offline bool) (checked wire.Checked, err error) {
	text, err := read(c, file)
	if err != nil {
		return checked, err
	}

	if !offline {
		api, err := o.client()
		if err != nil {
			return checked, fmt.Errorf("%w, or check with --local", err)
		}
		return api.CheckBaseline(c.Context(), text)
	}

	checked = wire.Checked{Hosts: []string{}, Problems: []wire.HostProblem{}}
	doc, err := baseline.Parse([]byte(text))
	var faults baseline.Errors

	switch {
	case errors.As(err, &faults):
		checked.Errors = faults
		return checked, nil
	case err != nil:
		return checked, err
	}

	checked.OK = true
	checked.Application = doc.Application
	checked.Rules = len(doc.Rules)
	m, _ := baseline.Compile(doc, (&perm.Directory{}).Index())
	checked.Warnings, err = baseline.Warn(baseline.Facts{Matcher: m})
	return checked, err
}

func showChecked(o *options, c *cobra.Command, all []checkedFile, strict bool) error {
	t := table{head: []string{"FILE", "LINE", "COLUMN", "HOST", "MESSAGE"}, value: all}
	if len(all) == 1 {
		t.value = all[0].Checked
	}

	sound := true
	for _, k := range all {
		sound = sound && k.OK && !(strict && len(k.Warnings) > 0)
		for _, e := range k.Errors {
			t.add(k.File, e.Line, e.Column, "", e.Message)
		}

		for _, p := range k.Problems {
			t.add(k.File, p.Line, p.Column, p.Host, p.Message)
		}

		for _, w := range k.Warnings {
			t.add(k.File, w.Line, w.Column, strings.Join(w.Hosts, " "),
				"warning: "+w.Message+"; write instead: "+w.Instead)
		}

		if o.output == "table" {
			sayChecked(c, k)
		}
	}

	if o.output != "table" {
		if err := o.show(c, t); err != nil {
			return err
		}
	}

	if !sound {
		return errNotSo
	}

	return nil
}

// sayChecked prints it as compilers do, a line each.
func sayChecked(c *cobra.Command, k checkedFile) {
	for _, e := range k.Errors {
		printf(c, "%s:%d:%d: %s", k.File, e.Line, e.Column, e.Message)
	}

	for _, p := range k.Problems {
		host := ""
		if p.Host != "" {
			host = "host " + p.Host + ": "
		}
		printf(c, "%s:%d:%d: %s%s", k.File, p.Line, p.Column, host, p.Message)
	}

	for _, w := range k.Warnings {
		printf(c, "%s:%d:%d: warning: rule %s: %s", k.File, w.Line, w.Column, w.Rule, w.Message)
		if w.Example != "" {
			printf(c, "    such as %s", w.Example)
		}
		printf(c, "    write instead: %s", w.Instead)
	}

	if k.OK {
		hosts := "applies to no host yet"
		if len(k.Hosts) > 0 {
			hosts = "applies to " + strings.Join(k.Hosts, ", ")
		}
		printf(c, "%s is a sound baseline of %s: %d rules; %s.", k.File, k.Application, k.Rules, hosts)
	}
}
