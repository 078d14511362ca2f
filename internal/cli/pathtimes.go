package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

// pathTimes returns the command path times.
func pathTimes(o *options, w *where) *cobra.Command {
	var older string
	times := &cobra.Command{
		Use:   "times PATH",
		Short: "Show what a path was in the snapshots of a host, and since when it is as it is",
		Args:  args(1, 1, "a path"),
		Long: `Show what a path was in the snapshots of a host: each state once, the newest first, with the times of
the first and the last snapshot that show it so, and how many do. What happened between two of them
is not known but for who did the last thing to it, where the host is watched and its kernel told.

A hundred snapshots are looked at, those of other folders of the host among them.`,
		RunE: func(c *cobra.Command, a []string) error {
			if w.host == "" {
				return usageError{errors.New("say of which host: --host HOST")}
			}
			at, err := w.path(a[0])
			if err != nil {
				return err
			}
			api, err := o.client()
			if err != nil {
				return err
			}
			list, err := api.PathTimes(c.Context(), w.host, at, older)
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"FROM", "TO", "SNAPSHOTS", "KIND", "MODE", "OCTAL", "OWNER", "GROUP", "ENTRIES", "BY"},
				none:  "No snapshot looked at holds it.",
				value: list,
			}
			for _, x := range list.Items {
				t.add(pathTimeRow(x)...)
			}
			if err := o.show(c, t); err != nil || list.Next == "" || o.output != "table" {
				return err
			}
			printf(c, "There are older snapshots: --older %s", list.Next)
			return nil
		},
	}
	times.Flags().StringVar(&older, "older", "", "only snapshots before this one")
	return times
}

func pathTimeRow(x wire.PathTime) []any {
	row := []any{
		forms{when(x.From), x.From}, forms{when(x.To), x.To}, x.Snapshots, x.Kind, "", "", "", "", "", byWhom(x.By),
	}
	switch {
	case x.Gap != "":
		row[3] = x.Gap
	case x.Kind == "":
		row[3] = "not there"
	}
	if v := x.Access; v != nil {
		u := unknownOf(*v)
		row[4], row[5], row[6], row[7] = v.Letters, v.Mode, u("owner", v.Owner), u("group", v.Group)
		row[8] = strings.Join(append(v.Entries, v.Defaults...), " ")
		if len(v.Grants) > 0 {
			row[8] = perm.GrantsText(v.Grants)
		}
	}
	return row
}
