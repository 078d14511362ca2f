package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

func showMode(o *options, c *cobra.Command, v wire.Mode, file, folder bool) error {
	pairs := []any{"octal", v.Octal, "letters", v.Letters, "symbolic", v.Symbolic}
	pairs = append(pairs, lines("arithmetic", v.Arithmetic)...)
	if file {
		pairs = append(pairs, lines("on a file", v.File)...)
	}

	if folder {
		pairs = append(pairs, lines("on a folder", v.Folder)...)
	}

	if v.Kept {
		pairs = append(pairs, "limits", "kept")
	}

	pairs = append(append(pairs, lines("breaks", v.Broken)...), "mended", v.Mended)
	if err := o.showOne(c, v, pairs...); err != nil {
		return err
	}
	if len(v.Broken) > 0 {
		return errNotSo
	}

	return nil
}

func modeCommand(o *options) *cobra.Command {
	show := modeShow(o)
	group := commandGroup("mode", "Explain and convert modes, without any service", show, modeChange(o), modeNew(o))
	return obvious(group, show, func(a []string) bool {
		return len(a) == 1 &&
			(strings.ContainsAny(a[0], "=+,") || a[0] != "" && strings.Trim(a[0], "0123456789") == "" ||
				len(a[0]) >= 9 && strings.Trim(a[0], "-dlrwxsStT") == "")
	})
}

// modeShow returns the command mode show.
func modeShow(o *options) *cobra.Command {
	var limits string
	show := &cobra.Command{
		Use:   "show MODE",
		Short: "Explain a mode: octal digits, nine or ten letters, or u=rwx,g=rx,o=",
		Args:  args(1, 1, "a mode"),
		Long: `Explain a mode and write it in every way. With --limits it also says what of them the mode does not
keep, and the nearest mode that does; it exits with 4 then. Limits are a symbolic mode of + (must
have) and - (must not have).`,
		RunE: func(c *cobra.Command, a []string) error {
			v, err := inquiry.Mode(inquiry.ModeAsk{Mode: a[0], Limits: limits})
			if err != nil {
				return usageError{err}
			}
			return showMode(o, c, v, true, true)
		},
	}

	show.Flags().StringVar(&limits, "limits", "", "what the mode must and must not have, such as g+r,o-w")
	return show
}

// modeChange returns the command mode change.
func modeChange(o *options) *cobra.Command {
	ask := inquiry.ModeAsk{}
	change := &cobra.Command{
		Use:   "change MODE CHANGE",
		Short: "Say what a symbolic change makes of a mode",
		Args:  args(2, 2, "a mode and a change such as g+w,o="),
		RunE: func(c *cobra.Command, a []string) error {
			ask.Mode, ask.Change = a[0], a[1]
			if ask.Change == "" {
				return usageError{errors.New("the change is empty: want one such as g+w,o=")}
			}
			v, err := inquiry.Mode(ask)
			if err != nil {
				return usageError{err}
			}

			return showMode(o, c, v, !ask.Folder, ask.Folder)
		},
	}

	change.Flags().BoolVar(&ask.Folder, "folder", false, "it is the mode of a folder")
	change.Flags().StringVar(&ask.Umask, "umask", "0022",
		"umask of who makes the change; it counts where a clause names nobody")
	return change
}

// modeNew returns the command mode new.
func modeNew(o *options) *cobra.Command {
	var in, umask, defaults string
	fresh := &cobra.Command{Use: "new", Short: "Say what new files and folders get", Args: args(0, 0, "no argument"),
		Long: `Say what new files and folders get: from the umask of the process and the set-group-ID bit of the
folder, and, where the folder has default entries, from those: the umask has no part in it then.`,
		RunE: func(c *cobra.Command, _ []string) error {
			made, err := inquiry.New(in, defaults, umask)
			if err != nil {
				return usageError{err}
			}
			return o.showMade(c, made, made)
		}}

	fresh.Flags().StringVar(&umask, "umask", "0022", "umask of the process")
	fresh.Flags().StringVar(&in, "in", "0755", "mode of the folder they are made in")
	fresh.Flags().StringVar(&defaults, "defaults", "",
		"default entries of that folder: user::rwx,group::r-x,other::---")
	return fresh
}

// showMade shows what new paths get; value is the whole answer, for programs.
func (o *options) showMade(c *cobra.Command, made []wire.New, value any) error {
	t := table{head: []string{"NEW", "OCTAL", "LETTERS", "OWNER", "GROUP", "ENTRIES"}, value: value}
	for _, n := range made {
		t.add(n.Kind, n.Mode, n.Letters, n.Owner, n.Group, strings.Join(n.Entries, " "))
	}
	if err := o.show(c, t); err != nil || o.output != "table" {
		return err
	}
	for _, n := range made {
		for _, x := range n.Notes {
			printf(c, "%s: %s", n.Kind, x)
		}
	}
	return nil
}

func entriesCommand(o *options) *cobra.Command {
	var chmod string
	show := &cobra.Command{
		Use:   "show [ENTRIES]",
		Short: "Explain an access list in POSIX.1e text form, short or long",
		Args:  args(0, 1, "an access list, or none to read it from the input"),
		Long: `Explain an access list: both text forms, what the mask leaves of each entry, and the mode that a
listing shows for it. With --chmod it says what a change of mode makes of the list.`,
		RunE: func(c *cobra.Command, a []string) error {
			text := ""
			if len(a) == 1 {
				text = a[0]
			} else {
				b, err := readAtMost(os.Stdin, 1<<20)
				if err != nil {
					return err
				}
				text = string(b)
			}

			v, err := inquiry.Entries(text, chmod)
			if err != nil {
				return usageError{err}
			}

			if o.output == "csv" {
				t := table{head: []string{"entry", "rights", "effective"}}
				for _, l := range v.Lines {
					t.add(l.Text, l.Rights, l.Effective)
				}

				for _, l := range v.Defaults {
					t.add("default:"+l.Text, l.Rights, l.Effective)
				}

				return o.show(c, t)
			}

			pairs := []any{"mode", strings.TrimSpace(v.Mode + " " + v.Letters), "short", v.Short}
			long := strings.Split(strings.TrimSpace(strings.ReplaceAll(v.Long, "\t", "  ")), "\n")
			pairs = append(pairs, lines("long", long)...)
			for _, n := range v.Notes {
				pairs = append(pairs, "note", n)
			}

			return o.showOne(c, v, pairs...)
		},
	}

	show.Flags().StringVar(&chmod, "chmod", "", "say what changing the path's mode to this makes of the list")
	return obvious(commandGroup("entries", "Explain access lists, without any service", show), show,
		func(a []string) bool {
			return len(a) == 1 && strings.Contains(a[0], ":")
		})
}
