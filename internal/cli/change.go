package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/core/wish"
	"idletally/internal/wire"
)

// A changing is a change as the options of a command give it.
type changing struct {
	wish.Wish
	application string
	hosts       []string
	mode        string
	where       []string
	grant, take []string
	depth       string
	nul, draft  bool
	title       string
	composed    bool // at a terminal, question by question
}

func changeCommand(o *options) *cobra.Command {
	var w changing
	c := &cobra.Command{
		Use:   "change [PATH...]",
		Short: "Show what a change of paths would come to, and draft a plan of it",
		Args:  args(0, wish.MaxPaths, "paths"),
		Long: `Show what a change of paths would come to: how many change, before and after, who could do more and
who less, what to be wary of and what would be left. With --draft it becomes a plan, for others to
review; nothing changes before.

Without paths, or with - for one, they are read from standard input: one a line, or apart by NUL
bytes with --nul, as find -print0 writes them. At a terminal, and with paths alone, it asks what is
to become of them.

Hosts were seen as their newest snapshots say. Without --host it is for all hosts of the published
baseline.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := w.read(c, a); err != nil {
				return err
			}
			seen, err := api.Foresee(c.Context(), wire.Foresee{
				Application: w.application,
				Hosts:       w.hosts,
				Wishes:      []wish.Wish{w.Wish},
			})
			if err != nil {
				return err
			}
			if !w.draft || o.output == "table" {
				if err := showForeseen(o, c, seen); err != nil {
					return err
				}
			}

			switch {
			case seen.Steps == 0:
				return nil
			case !w.draft && w.composed:
				if w.draft, err = agreedTo(c, "Draft a plan of it? [y/N] "); err != nil || !w.draft {
					return err
				}
			case !w.draft:
				tell(c.ErrOrStderr(), "nothing is drafted: say --draft\n")
				return nil
			}
			p, err := api.DraftPlan(c.Context(), wire.Draft{
				Application: w.application,
				Hosts:       w.hosts,
				Title:       w.title,
				Changes:     seen.Text,
			})
			if err != nil {
				return err
			}
			return o.showOne(c, p, "plan", p.ID, "title", p.Title, "state", string(p.State), "steps",
				strconv.Itoa(p.Steps), "digest", p.Digest, "next", "idletally plan submit "+p.ID)
		}),
	}
	w.flags(c)
	return c
}

func (w *changing) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&w.application, "application", "", "that the paths are of")
	f.StringSliceVar(&w.hosts, "host", nil, "only on this host; repeatable")
	f.BoolVar(&w.nul, "nul", false, "paths on standard input are apart by NUL bytes")
	f.StringVar(&w.depth, "depth", string(wish.Itself),
		"itself, the paths alone; all, a folder with all below it; content, only what is below it")
	f.StringSliceVar(&w.Only, "only", nil, "file, folder, link, executable and so on, as in baselines")
	f.StringSliceVar(&w.where, "where", nil,
		"only where this is so now: owner, group, files or folders, such as owner=purser; repeatable")
	f.StringVar(&w.Form, "form", "", "a starting point, such as private-key, drop, group-work or web-content")
	f.StringSliceVar(&w.For, "for", nil, "for whom the form is")
	f.StringVar(&w.Set.Owner, "owner", "", "who is to own them")
	f.StringVar(&w.Set.Group, "group", "", "the group that is to own them")
	f.StringVar(&w.mode, "mode", "", "the mode of files and folders: 0640, or g+rX,o=")
	f.StringVar(&w.Set.Files, "files", "", "the mode of files")
	f.StringVar(&w.Set.Folders, "folders", "", "the mode of folders")
	f.StringArrayVar(&w.grant, "grant", nil,
		"an entry that is to be there, such as group:auditors:rX, or on a share allow auditors: read; repeatable")
	f.StringArrayVar(&w.take, "take", nil,
		"who is to have no entry, such as user:temp, or on a share temp; repeatable")
	f.BoolVar(&w.Entries.None, "no-other-entries", false, "with --grant: those and no others; alone: none at all")
	f.BoolVar(&w.Later, "later", false, "the default entries of folders, too, for what comes later")
	f.StringVar(&w.Inherits, "inherits", "",
		"on a share: from above; stopped, keeping what came down; or stopped and emptied")
	f.BoolVar(&w.draft, "draft", false, "draft a plan of it")
	f.StringVar(&w.title, "title", "", "what the plan is for")
	_ = c.MarkFlagRequired("application")
}

// read puts what the options say into the wish.
func (w *changing) read(c *cobra.Command, paths []string) (err error) {
	if w.Paths, err = w.named(c, paths); err != nil {
		return err
	}
	w.Depth = wish.Depth(w.depth)
	for _, s := range w.where {
		if err := w.condition(s); err != nil {
			return err
		}
	}

	given := func(names ...string) bool { return slices.ContainsFunc(names, c.Flags().Changed) }
	if !given("form", "owner", "group", "mode", "files", "folders", "grant", "take", "no-other-entries", "inherits") {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return usageError{errors.New("say what is to change: --owner, --group, --mode, --grant, --take, --form " +
				"or --inherits")}
		}
		w.composed = true
		if err := w.askFor(c); err != nil {
			return err
		}
	}
	return w.settle()
}

// named returns the escaped paths that are named as arguments, which are written as everywhere else, or on standard
// input, where other programs write names as they are.
func (w *changing) named(c *cobra.Command, arguments []string) ([]string, error) {
	if len(arguments) > 0 && !slices.Equal(arguments, []string{"-"}) {
		for _, p := range arguments {
			if _, err := pathname.Unescape(p); err != nil {
				return nil, usageError{err}
			}
		}
		return arguments, nil
	}
	if term.IsTerminal(int(os.Stdin.Fd())) {
		return nil, usageError{errors.New("give the paths, or write them to standard input")}
	}
	raw, err := pathsFrom(c.InOrStdin(), w.nul)
	return pathname.EscapeAll(raw), err
}

// settle puts modes and entries where they belong.
func (w *changing) settle() error {
	if w.mode != "" && w.Set.Files+w.Set.Folders != "" {
		return usageError{errors.New("give either --mode, or --files and --folders")}
	}
	if w.mode != "" {
		w.Set.Files, w.Set.Folders = w.mode, w.mode
	}
	share := w.Inherits != ""
	for _, g := range w.grant {
		share = share || strings.HasPrefix(g, "allow ") || strings.HasPrefix(g, "deny ")
	}
	for _, who := range w.take {
		share = share || !strings.Contains(who, ":")
	}
	into := &w.Entries
	if share {
		w.Grants.None, w.Entries.None, into = w.Entries.None, false, &w.Grants
	}
	into.Give, into.Without = w.grant, w.take
	return nil
}

func (w *changing) condition(text string) error {
	key, value, ok := strings.Cut(text, "=")
	at := map[string]*string{
		"owner":   &w.Where.Owner,
		"group":   &w.Where.Group,
		"files":   &w.Where.Files,
		"folders": &w.Where.Folders,
	}[key]
	if !ok || at == nil {
		return usageError{fmt.Errorf("--where %q: want owner, group, files or folders, = and a value", text)}
	}
	*at = value
	return nil
}

// askFor asks at a terminal what is to become of the paths. An empty answer leaves things as they are.
func (w *changing) askFor(c *cobra.Command) error {
	tell(c.ErrOrStderr(), "What is to become of %s? An empty answer leaves it as it is.\n",
		printable(strings.Join(w.Paths, ", ")))
	for _, q := range []struct {
		text string
		take func(string)
	}{
		{"Owner: ", func(s string) { w.Set.Owner = s }},
		{"Group: ", func(s string) { w.Set.Group = s }},
		{"Mode, such as 0640 or g+rX,o=: ", func(s string) { w.mode = s }},
		{"An entry that is to be there, such as group:auditors:rX: ", func(s string) { w.grant = append(w.grant, s) }},
		{"Who is to have no entry, such as user:temp: ", func(s string) { w.take = append(w.take, s) }},
		{"How far: itself, all, content [itself]: ", func(s string) { w.Depth = wish.Depth(s) }},
	} {
		answer, err := ask(c, q.text)
		if err != nil {
			return err
		}
		if answer != "" {
			q.take(answer)
		}
	}
	return nil
}

// agreedTo asks at a terminal whether to go on.
func agreedTo(c *cobra.Command, question string) (bool, error) {
	answer, err := ask(c, question)
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes"), err
}

// pathsFrom reads paths, one a line or apart by NUL bytes.
func pathsFrom(r io.Reader, nul bool) (paths []string, err error) {
	end := byte('\n')
	if nul {
		end = 0
	}
	in := bufio.NewScanner(r)
	in.Buffer(nil, 256<<10)
	in.Split(func(data []byte, last bool) (int, []byte, error) {
		if i := bytes.IndexByte(data, end); i >= 0 {
			return i + 1, data[:i], nil
		}
		if last && len(data) > 0 {
			return len(data), data, nil
		}
		return 0, nil, nil
	})
	for in.Scan() {
		if in.Text() == "" {
			continue
		}
		if paths = append(paths, in.Text()); len(paths) > wish.MaxPaths {
			return nil, usageError{fmt.Errorf("there are more than %d paths: name their folder, with --depth",
				wish.MaxPaths)}
		}
	}
	if len(paths) == 0 && in.Err() == nil {
		return nil, usageError{errors.New("no path stands on standard input")}
	}
	return paths, in.Err()
}

// showForeseen shows what a change would come to.
func showForeseen(o *options, c *cobra.Command, f wire.Foreseen) error {
	t := table{head: []string{"HOST", "COUNT", "KIND", "BEFORE", "AFTER", "EFFECT", "WHERE"}, value: f}
	for _, g := range f.Groups {
		t.add(g.Host, strconv.Itoa(g.Count), g.Kind, g.Before.String(), g.After.String(), effect(g.Word),
			place(g.Count, g.Folder, g.Example))
	}
	if o.output != "table" {
		return o.show(c, t)
	}

	printf(c, "%s would change", plural(f.Steps, "path"))
	host := ""
	for _, g := range f.Groups {
		if g.Host != host {
			host = g.Host
			printf(c, "\n%s", host)
		}
		showChange(c, g)
	}
	if f.MoreGroups > 0 {
		printf(c, "\nand %s", plural(f.MoreGroups, "more kind")+" of change")
	}
	showAffected(c, "could do more", f.Gains, f.MoreGains)
	showAffected(c, "could do less", f.Losses, f.MoreLosses)
	showCautions(c, f.Cautions)

	printf(c, "")
	for _, h := range f.Hosts {
		against := "no baseline is published"
		if h.Edition > 0 {
			against = fmt.Sprintf("by edition %d %d of them would be mended, %d would be drift", h.Edition, h.Mended,
				h.Undeclared)
		}
		printf(c, "%s: %s, as seen %s; %s", h.Host, plural(h.Steps, "path"), whenever(h.Taken), against)
	}
	for _, l := range f.Left {
		printf(c, "left alone: %s: %s", strings.TrimSpace(l.Host+" "+l.Path), l.Why)
	}
	if f.MoreLeft > 0 {
		printf(c, "left alone: %d more", f.MoreLeft)
	}
	return nil
}

// showAffected shows who could do more, or less.
func showAffected(c *cobra.Command, what string, list []wire.Affected, more int) {
	if len(list) > 0 {
		printf(c, "\n%s", what)
	}
	for _, a := range list {
		who := a.Who
		if a.Group {
			who = "group " + who
		}
		printf(c, "  %-24s  %s, with %s", who, strings.Join(a.Rights, ", "), plural(a.Paths, "path"))
	}
	if more > 0 {
		printf(c, "  and %d more", more)
	}
}
