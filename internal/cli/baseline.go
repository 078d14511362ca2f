package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/baseline"
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
	var offline bool
	check := &cobra.Command{Use: "check FILE", Short: "Check a baseline; exit code 4 where it has errors", Args: args(1, 1, "a file, or - for standard input"),
		Long: `Check a baseline. Errors name line and column and what would be right. With a session the
service also says which hosts it applies to and what single hosts cannot follow; --local asks no service.`,
		RunE: func(c *cobra.Command, a []string) error {
			text, err := read(c, a[0])
			if err != nil {
				return err
			}
			checked := wire.Checked{Hosts: []string{}, Problems: []wire.HostProblem{}}
			doc, err := baseline.Parse([]byte(text))
			var faults baseline.Errors
			switch {
			case offline && errors.As(err, &faults):
				checked.Errors = faults
			case offline && err != nil:
				return err
			case offline:
				checked.OK, checked.Application, checked.Rules = true, doc.Application, len(doc.Rules)
			default:
				api, err := o.client()
				if err != nil {
					return fmt.Errorf("%w, or check with --local", err)
				}
				if checked, err = api.CheckBaseline(c.Context(), text); err != nil {
					return err
				}
			}
			return showChecked(o, c, a[0], checked)
		}}
	check.Flags().BoolVar(&offline, "local", false, "check the text alone, without a service")
	upload := &cobra.Command{Use: "upload FILE", Short: "Keep a baseline as the next draft edition", Args: args(1, 1, "a file, or - for standard input"),
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
			e, err := api.UploadBaseline(c.Context(), text)
			if err != nil {
				return err
			}
			return o.showOne(c, e, "application", e.Application, "edition", strconv.Itoa(e.Number), "state", e.State,
				"next", fmt.Sprintf("idletally baseline publish %s %d", e.Application, e.Number))
		})}
	publish := &cobra.Command{Use: "publish APPLICATION EDITION", Short: "Make an edition the one that counts", Args: args(2, 2, "an application and the number of an edition"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			n, err := strconv.Atoi(a[1])
			if err != nil || n < 1 {
				return usageError{fmt.Errorf("edition %q: want a number from 1 on", a[1])}
			}
			e, err := api.Publish(c.Context(), a[0], n)
			if err != nil {
				return err
			}
			return o.showOne(c, e, "application", e.Application, "edition", strconv.Itoa(e.Number), "state", e.State, "published by", e.PublishedBy)
		})}
	list := &cobra.Command{Use: "list APPLICATION", Short: "List editions, newest first", Args: args(1, 1, "an application"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			editions, err := api.Editions(c.Context(), a[0])
			if err != nil {
				return err
			}
			t := table{head: []string{"EDITION", "STATE", "AUTHOR", "DRAFTED", "PUBLISHED", "BY"}, value: editions, none: "No editions of " + a[0] + " yet."}
			for _, e := range editions {
				t.add(strconv.Itoa(e.Number), e.State, e.Author, when(e.Created), whenever(e.Published), e.PublishedBy)
			}
			return o.show(c, t)
		})}
	show := &cobra.Command{Use: "show APPLICATION [EDITION]", Short: "Print an edition's text, the published one's by default", Args: args(1, 2, "an application"),
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
		})}
	schema := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of the language, for editors", Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := c.OutOrStdout().Write(baseline.Schema)
			return err
		}}
	return noun("baseline", "What should be", check, upload, publish, list, show, schema)
}

func showChecked(o *options, c *cobra.Command, file string, k wire.Checked) error {
	t := table{head: []string{"FILE", "LINE", "COLUMN", "HOST", "MESSAGE"}, value: k}
	for _, e := range k.Errors {
		t.add(file, strconv.Itoa(e.Line), strconv.Itoa(e.Column), "", e.Message)
	}
	for _, p := range k.Problems {
		t.add(file, strconv.Itoa(p.Line), strconv.Itoa(p.Column), p.Host, p.Message)
	}
	if o.output != "table" {
		if err := o.show(c, t); err != nil {
			return err
		}
	} else {
		for _, r := range t.rows {
			host := ""
			if r[3] != "" {
				host = "host " + r[3] + ": "
			}
			say(c, "%s:%s:%s: %s%s", r[0], r[1], r[2], host, r[4])
		}
		if k.OK {
			hosts := "applies to no host yet"
			if len(k.Hosts) > 0 {
				hosts = "applies to " + strings.Join(k.Hosts, ", ")
			}
			say(c, "%s is a sound baseline of %s: %d rules; %s.", file, k.Application, k.Rules, hosts)
		}
	}
	if !k.OK {
		return errNotSo
	}
	return nil
}
