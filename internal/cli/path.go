package cli

import (
	"context"
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

// refusal is a path that could not be looked at, and why.
type refusal struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// pages is how many entries are asked for at once.
const pages = 2000

// walker lists folders, and those below them.
type walker struct {
	looker
	account string
	deep    bool
	most    int
	paths   []wire.Path
	refused []refusal
	stopped string
	hidden  int
}

var errEnough = errors.New("enough paths")

// folder continues past what is refused: leaving it out silently would be worse.
func (w *walker) folder(ctx context.Context, path string) error {
	for after := ""; ; {
		l, err := w.List(ctx, path, w.account, after, pages)
		if err != nil {
			return err
		}

		if w.stopped == "" {
			w.stopped = l.Stopped
		}

		for _, p := range l.Items {
			if len(w.paths) == w.most {
				return errEnough
			}

			if p.Hidden { // the listing is as the account sees it
				w.hidden++
				continue
			}

			w.paths = append(w.paths, p)
			if p.Gap != "" && (w.deep || p.Access == nil) { // what is in a folder was not asked for
				w.refused = append(w.refused, refusal{p.Path, p.Gap})
			}

			if !w.deep || p.Kind != perm.Folder.String() || p.Gap != "" {
				continue
			}

			if p.Top && path != "" {
				w.refused = append(w.refused, refusal{p.Path, "another file system is mounted here: list it by itself"})
				continue
			}

			raw, err := pathname.Unescape(p.Path)
			if err == nil {
				err = w.folder(ctx, raw)
			}

			switch {
			case errors.Is(err, errEnough), ctx.Err() != nil:
				return err
			case err != nil:
				w.refused = append(w.refused, refusal{p.Path, err.Error()})
			}
		}

		after = l.Next
		if after == "" {
			return nil
		}
	}
}

func pathCommand(o *options) *cobra.Command {
	w := &where{} // shared: the flags that say where to look are the group's
	show := pathShow(o, w)
	n := obvious(commandGroup("path", "Look at paths", pathList(o, w), show, pathNew(o, w), pathTimes(o, w)), show,
		func(a []string) bool {
			return len(a) == 1 && (strings.ContainsAny(a[0], "/") || a[0] == "." || a[0] == "..")
		})
	w.flags(n)
	return n
}

// pathList returns the command path list.
func pathList(o *options, w *where) *cobra.Command {
	var deep, entries, whole bool
	var account string
	var most int
	list := &cobra.Command{
		Use:   "list [PATH]",
		Short: "List a folder: here, on a host now, or in a snapshot",
		Args:  args(0, 1, "at most one path"),
		Long: `List a folder: what each path is, its mode as letters and octal, owner and group, a + where there
are access entries beyond the mode, size in bytes and time of the last change (a snapshot keeps
neither). It goes on past what cannot be read, tells it at the end, and exits with 4 then.

With --for it says what that account can do with each entry, and marks names that it sees and cannot
open. Of a share that hides what somebody cannot read it lists what that account sees there. In a
snapshot the roots are listed where no path is given.` + whereHelp,
		RunE: func(c *cobra.Command, a []string) error {
			l, err := w.looker(o)
			if err != nil {
				return err
			}

			at := ""
			if len(a) == 1 || w.snapshot == "" {
				if at, err = w.path(append(a, ".")[0]); err != nil {
					return err
				}
			}

			if whole {
				most = math.MaxInt
			}

			walk := &walker{looker: l, account: account, deep: deep, most: most}
			if err := walk.folder(c.Context(), at); err != nil && !errors.Is(err, errEnough) {
				return err
			}

			return o.showListing(c, walk, at == "" || deep, entries)
		},
	}

	list.Flags().BoolVar(&deep, "below", false,
		"everything below the folder too; other file systems are listed and not entered")
	list.Flags().BoolVarP(&entries, "entries", "e", false, "show access entries too")
	list.Flags().StringVar(&account, "for", "", "say what this account can do with each entry")
	list.Flags().IntVar(&most, "most", 100_000, "how many paths at the most")
	list.Flags().BoolVar(&whole, "all", false, "all of them, however many; they are held in memory")
	return list
}

// pathShow returns the command path show.
func pathShow(o *options, w *where) *cobra.Command {
	return &cobra.Command{
		Use:   "show PATH",
		Short: "Explain one path: here, on a host now, or in a snapshot",
		Args:  args(1, 1, "a path"),
		Long: "Explain one path: what it is, its mode in words, every entry with what of it counts and where it " +
			"comes from, and\nthe folders that lead to it." +
			whereHelp,
		RunE: func(c *cobra.Command, a []string) error {
			l, err := w.looker(o)
			if err != nil {
				return err
			}
			at, err := w.path(a[0])
			if err != nil {
				return err
			}
			s, err := l.Sight(c.Context(), at)
			if err != nil {
				return err
			}

			return o.showSight(c, s)
		},
	}
}

// pathNew returns the command path new.
func pathNew(o *options, w *where) *cobra.Command {
	var maker, umask string
	fresh := &cobra.Command{
		Use:   "new FOLDER",
		Short: "Say what new files and folders get in a folder",
		Args:  args(1, 1, "a folder"),
		Long: `Say what an account's new files and folders get in a folder: from the umask of the process, the
folder's set-group-ID bit, and its default entries; and whether the account can make anything there
at all.` + whereHelp,
		RunE: func(c *cobra.Command, a []string) error {
			if maker == "" {
				return usageError{errors.New("say who makes them: --by ACCOUNT")}
			}
			l, err := w.looker(o)
			if err != nil {
				return err
			}
			at, err := w.path(a[0])
			if err != nil {
				return err
			}
			f, err := l.New(c.Context(), at, maker, umask)
			if err != nil {
				return err
			}

			if o.output == "table" {
				printf(c, "Made by %s in %s under umask %s (%s)", f.Account.Name, f.Path, f.Umask, origin(f.Origin))
				if f.Refused != "" {
					printf(c, "%s cannot make anything there: %s", f.Account.Name, f.Refused)
				}
			}

			return o.showMade(c, f.Made, f)
		},
	}

	fresh.Flags().StringVar(&maker, "by", "", "the account that makes them")
	fresh.Flags().StringVar(&umask, "umask", "0022", "umask of its process")
	return fresh
}

func (o *options) showListing(c *cobra.Command, w *walker, whole, entries bool) error {
	t := table{head: []string{"KIND", "MODE", "OCTAL", "OWNER", "GROUP", ""}, none: "The folder is empty."}

	// A snapshot keeps neither size nor time: they change by themselves.
	timed := slices.ContainsFunc(w.paths, func(p wire.Path) bool { return p.Modified != nil })
	switch {
	case w.account != "":
		t.head = append(t.head, "MAY", "NAME")
	case timed:
		t.head = append(t.head, "SIZE", "MODIFIED", "NAME")
	default:
		t.head = append(t.head, "NAME")
	}

	if w.paths == nil {
		w.paths = []wire.Path{}
	}

	t.value = map[string]any{
		"paths":   w.paths,
		"more":    len(w.paths) >= w.most,
		"refused": w.refused,
		"stopped": w.stopped,
		"hidden":  w.hidden,
	}

	for _, p := range w.paths {
		name := p.Name
		if whole {
			name = p.Path
		}

		plain := name
		if p.Target != "" {
			name += " → " + p.Target
		}

		if p.Gap != "" {
			name += "  (" + p.Gap + ")"
		}

		row := []any{p.Kind, "", "", "", "", ""}
		if v := p.Access; v != nil {
			u := unknownOf(*v)
			row = []any{p.Kind, v.Letters, v.Mode, u("owner", v.Owner), u("group", v.Group), ""}
			if len(v.Entries)+len(v.Defaults) > 0 {
				row[5] = "+"
			}

			for _, f := range v.Flags {
				name += "  (" + f + ")"
			}
		}

		if w.account != "" {
			may := strings.Join(p.May, " ")
			if len(p.Unknown) > 0 {
				may = strings.TrimSpace(may + " (not known: " + strings.Join(p.Unknown, " ") + ")")
			}

			if p.Unopened {
				may = strings.TrimSpace(may + " (sees the name, opens nothing)")
			}

			t.add(append(row, may, forms{name, plain})...)
		} else if !timed {
			t.add(append(row, forms{name, plain})...)
		} else {
			var size, modified any
			if p.Kind == perm.File.String() && p.Modified != nil {
				size = p.Size
			}

			if p.Modified != nil {
				modified = *p.Modified
			}

			t.add(append(row, size, modified, forms{name, plain})...)
		}

		if p.Access != nil && entries && o.output == "table" {
			blank := make([]any, len(t.head)-1)
			for _, e := range p.Access.Entries {
				t.add(append(blank[:len(blank):len(blank)], "    "+e)...)
			}
			for _, e := range p.Access.Defaults {
				t.add(append(blank[:len(blank):len(blank)], "    default:"+e)...)
			}
		}
	}

	if err := o.show(c, t); err != nil {
		return err
	}

	if o.output == "table" {
		if w.stopped != "" {
			printf(c, "%s does not see this listing: %s", w.account, w.stopped)
		}

		if w.hidden > 0 {
			are := "are"
			if w.hidden == 1 {
				are = "is"
			}
			printf(c, "%d more %s there that the share hides from %s: without --for they are listed.", w.hidden, are,
				w.account)
		}

		for _, r := range w.refused {
			printf(c, "could not be read: %s: %s", r.Path, r.Reason)
		}

		if len(w.paths) >= w.most {
			printf(c, "There may be more than %d paths: --all shows them.", w.most)
		}
	}

	if len(w.refused) > 0 {
		return errNotSo
	}

	return nil
}

func (o *options) showSight(c *cobra.Command, s wire.Sight) error {
	pairs := []any{"path", s.Path, "kind", s.Kind, "target", s.Target, "asked", origin(s.Origin)}
	if s.Access != nil {
		u := unknownOf(*s.Access)
		pairs = append(pairs, "owner", u("owner", s.Access.Owner), "group", u("group", s.Access.Group), "mode",
			strings.TrimSpace(s.Access.Mode+" "+s.Access.Letters), "inherits", s.Access.Inheritance, "flags",
			strings.Join(s.Access.Flags, ", "))
	}

	if s.Modified != nil {
		pairs = append(pairs, "modified", *s.Modified)
		if s.Kind == perm.File.String() {
			pairs = append(pairs, "size", strconv.FormatInt(s.Size, 10)+" bytes")
		}
	}

	pairs = append(pairs, "mount", strings.Join(s.Withheld, ", "), "content", s.Gap)
	pairs = append(pairs, lines("share lets", s.Share)...)
	pairs = append(pairs, lines("in words", s.Words)...)
	var access, defaults []string

	for _, e := range s.Entries {
		text := e.Text
		if e.Effective != e.Rights && s.Access != nil && s.Access.Inheritance == "" {
			text += "  of which the mask leaves " + e.Effective
		}

		if e.Unknown {
			text += "  (no such account or group any more)"
		}

		text += "  — " + e.Origin
		if e.Default {
			defaults = append(defaults, text)
		} else {
			access = append(access, text)
		}
	}

	pairs = append(append(pairs, lines("entries", access)...), lines("defaults", defaults)...)
	var way []string
	for _, p := range s.Way {
		line := p.Path
		if p.Access != nil {
			line = strings.TrimSpace(p.Access.Letters + " " + p.Access.Owner + ":" + p.Access.Group + " " + p.Path)
			if p.Access.FromAbove() {
				line = p.Access.Owner + " " + p.Path + "  (entries: " + p.Access.Inheritance + ")"
			}
			if len(p.Access.Entries) > 0 {
				line += " +"
			}
		}

		if len(p.Withheld) > 0 {
			line += "  (" + strings.Join(p.Withheld, ", ") + ")"
		}

		way = append(way, line)
	}

	pairs = append(append(pairs, lines("way", way)...), lines("note", s.Notes)...)
	return o.showOne(c, s, pairs...)
}

// origin says where an answer comes from.
func origin(w wire.Origin) string {
	switch {
	case w.Snapshot != "" && w.At != nil:
		return "snapshot " + w.Snapshot + " of " + w.Host + ", taken " + when(*w.At)
	case w.At != nil:
		return w.Host + ", just now"
	}
	return "this machine"
}
