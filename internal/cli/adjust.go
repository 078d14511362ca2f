package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func adjustCommand(o *options) *cobra.Command {
	var file, title string
	var paths, only, where, set, grant, take []string
	var later bool
	var waves wire.Draft
	c := &cobra.Command{
		Use:   "adjust APPLICATION [HOST...]",
		Short: "Draft a plan of hand-written changes",
		Args:  args(1, 1000, "an application, and hosts"),
		Long: `Draft a plan of hand-written changes: what is to be made of paths, and only where they are like this
now.

A file has as many as are needed, in the words of baselines:

    changes:
      - paths: /srv/ticketing/shared/**
        only: folder
        where: {group: crew}
        set: {group: ticket-clerks, folders: g+rwx}
      - paths: /srv/ticketing/site/**
        set:
          entries: {at-least: ["group:auditors:rX"], without: ["user:temp"]}

One change can be given by options instead. Without hosts it is for all hosts of the published
baseline.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			text, err := changesText(c, file, change{paths, only, where, set, grant, take, later})
			if err != nil {
				return err
			}

			p, err := api.DraftPlan(c.Context(), wire.Draft{
				Application: a[0],
				Hosts:       a[1:],
				Title:       title,
				Changes:     text,
				First:       waves.First,
				StopAt:      waves.StopAt,
			})

			if err != nil {
				return err
			}

			return showPlan(o, c, p)
		}),
	}

	waveFlags(c, &waves)
	f := c.Flags()
	f.StringVar(&file, "file", "", "file with the changes; - is standard input")
	f.StringVar(&title, "title", "", "what the plan is for")
	f.StringArrayVar(&paths, "paths", nil, "pattern of the paths to change; repeatable")
	f.StringSliceVar(&only, "only", nil, "file, folder, link, executable and so on, as in baselines")
	f.StringArrayVar(&where, "where", nil, "only where this is so now, such as owner=purser; repeatable")
	f.StringArrayVar(&set, "set", nil,
		"what is to be so: owner, group, files, folders, entries, defaults, capability, and on shares grants or "+
			"inherits, such as folders=g+rx; repeatable")
	f.StringSliceVar(&grant, "grant", nil, "an entry that is to be there, such as group:auditors:rX")
	f.StringSliceVar(&take, "take", nil, "an account or group that is to have no entry, such as user:temp")
	f.BoolVar(&later, "later", false,
		"with --grant and --take: the default entries of folders, too, for what comes later")
	return c
}

// change is one change as options give it.
type change struct {
	paths, only, where, set, grant, take []string
	later                                bool
}

func changesText(c *cobra.Command, file string, one change) (string, error) {
	given := len(one.paths)+len(one.only)+len(one.where)+len(one.set)+len(one.grant)+len(one.take) > 0
	switch {
	case file != "" && given:
		return "", usageError{fmt.Errorf("give the changes in a file, or one by options, not both")}
	case file != "":
		return read(c, file)
	case len(one.paths) == 0:
		return "", usageError{fmt.Errorf("say what is to change: --file, or --paths with --set, --grant or --take")}
	}
	return one.text()
}

// text writes it in the words of baselines. Values stand as they were given: they are YAML.
func (o change) text() (string, error) {
	var b strings.Builder
	quoted := func(list []string) string {
		out := make([]string, len(list))
		for i, s := range list {
			out[i] = "'" + strings.ReplaceAll(s, "'", "''") + "'"
		}
		return "[" + strings.Join(out, ", ") + "]"
	}

	pairs := func(name string, list []string) error {
		fmt.Fprintf(&b, "    %s:\n", name)
		for _, s := range list {
			key, value, ok := strings.Cut(s, "=")
			if !ok || strings.Contains(s, "\n") {
				return usageError{fmt.Errorf("--%s %q: want KEY=VALUE", name, s)}
			}
			fmt.Fprintf(&b, "      %s: %s\n", key, value)
		}
		return nil
	}

	fmt.Fprintf(&b, "changes:\n  - paths: %s\n", quoted(o.paths))
	if len(o.only) > 0 {
		fmt.Fprintf(&b, "    only: %s\n", quoted(o.only))
	}

	if len(o.where) > 0 {
		if err := pairs("where", o.where); err != nil {
			return "", err
		}
	}

	if err := pairs("set", o.set); err != nil {
		return "", err
	}

	if len(o.grant)+len(o.take) > 0 {
		limits := "{at-least: " + quoted(o.grant) + ", without: " + quoted(o.take) + "}"
		fmt.Fprintf(&b, "      entries: %s\n", limits)
		if o.later {
			fmt.Fprintf(&b, "      defaults: %s\n", limits)
		}
	}

	return b.String(), nil
}
