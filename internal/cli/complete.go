package cli

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/lifecycle"
	"idletally/internal/wire"
)

// completing is how long a shell waits for names, and mostNames how many it is given.
const (
	completing = 3 * time.Second
	mostNames  = 200
	mostListed = 5000 // that are looked through for those
)

// names returns what can stand in one place of a command, each perhaps with a tab and a word about it, given what
// stands before.
type names func(ctx context.Context, api *client.Client, before []string) ([]string, error)

// each makes names of a list.
func each[T any](list []T, err error, name func(T) string) ([]string, error) {
	out := make([]string, 0, len(list))
	for _, x := range list {
		out = append(out, name(x))
	}
	return out, err
}

// operations are the operations of access.
func operations() (out []string) {
	for op := access.Read; op.String() != "unknown operation"; op++ {
		out = append(out, op.String()+"\t"+op.Words())
	}
	return out
}

// places says what can stand where a command's usage names a thing, or for a flag of that name.
var places = map[string]names{
	"APPLICATION": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Applications(ctx)
		return each(all, err, func(a wire.Application) string { return a.Name + "\t" + a.Title })
	},
	"HOST": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Hosts(ctx)
		return each(all, err, func(h wire.Host) string { return h.Name + "\t" + strings.Join(h.Tags, ", ") })
	},
	"PLAN": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Plans(ctx, "", mostNames)
		return each(all, err, func(p wire.Plan) string { return p.ID + "\t" + string(p.State) + ": " + p.Title })
	},
	"RUN": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Runs(ctx, mostNames)
		return each(all, err, func(r wire.Run) string { return r.ID + "\t" + string(r.State) + ": " + r.Title })
	},
	"SNAPSHOT": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Snapshots(ctx, "", "", mostNames)
		return each(all, err, func(s wire.Snapshot) string {
			return s.ID + "\t" + s.Application + " on " + s.Host + ", " + whenever(s.Taken)
		})
	},
	"EDITION": func(ctx context.Context, api *client.Client, before []string) ([]string, error) {
		if len(before) == 0 {
			return nil, nil
		}
		all, err := api.Editions(ctx, before[0])
		return each(all, err, func(e wire.Edition) string {
			return strconv.Itoa(e.Number) + "\t" + string(e.State) + ", by " + e.Author
		})
	},
	"RULE": func(ctx context.Context, api *client.Client, before []string) ([]string, error) {
		if len(before) == 0 {
			return nil, nil
		}
		e, err := api.Edition(ctx, before[0], 0)
		if err != nil {
			return nil, err
		}
		doc, err := baseline.Parse([]byte(e.Text))
		if err != nil {
			return nil, err
		}
		return each(doc.Rules, nil, func(r baseline.Rule) string { return r.Name + "\t" + r.Why })
	},
	"GROUP": func(ctx context.Context, api *client.Client, before []string) ([]string, error) {
		if len(before) == 0 {
			return nil, nil
		}
		d, err := api.Drift(ctx, before[0], "")
		out, err := each(d.Groups, err, func(g wire.Group) string {
			return g.ID + "\t" + g.Rule + ", " + g.Kind + " " + g.Aspect + " " + g.Found
		})
		slices.Sort(out)
		return slices.Compact(out), err
	},
	"HOOK": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Hooks(ctx)
		return each(all, err, func(h wire.Hook) string { return h.ID + "\t" + h.URL })
	},
	"SCHEDULE": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Schedules(ctx)
		return each(all, err, func(s wire.Schedule) string { return s.ID + "\t" + s.Application + ", " + s.Cron })
	},
	"TOKEN": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.Tokens(ctx)
		return each(all, err, func(x wire.Token) string { return x.ID + "\t" + x.Name })
	},
	"PERSON": func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		all, err := api.People(ctx)
		return each(all, err, func(p wire.Person) string { return p.Name + "\t" + strings.Join(p.Roles, ", ") })
	},
}

// choices are words that take no service to know.
var choices = map[string][]string{
	"OPERATION": operations(),
	"ROLE":      wire.Roles,
	"OUTPUT":    {"table", "json", "csv"},
	"SEVERITY":  {"minor", "serious", "grave"},
	"EFFECT":    {"opens", "closes"},
	"FORMAT":    {"html", "csv", "junit", "openmetrics"},
	"KIND":      wire.NoticeKinds,
	"STATE":     lifecycle.Words(lifecycle.Hosts),
}

// nounsOf returns the things that NAME stands for, by the noun of a command.
var nounsOf = map[string]string{"host": "HOST", "person": "PERSON"}

// complete lets a shell complete a command's arguments: names from the service, and files where files are meant.
func (o *options) complete(c *cobra.Command) {
	noun := ""
	if c.Parent() != nil {
		noun = c.Parent().Name()
	}

	var takes []string
	for _, word := range strings.Fields(c.Use)[1:] {
		word = strings.Trim(word, "[].")
		if word == "NAME" {
			word = nounsOf[noun]
		}
		takes = append(takes, word)
	}

	if c.ValidArgsFunction == nil && !c.HasSubCommands() {
		c.ValidArgsFunction = func(
			c *cobra.Command, before []string, begun string,
		) ([]string, cobra.ShellCompDirective) {
			if len(takes) == 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			word := takes[min(len(before), len(takes)-1)]
			if len(before) >= len(takes) && !strings.Contains(c.Use, "...") {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}

			return o.named(c, word, before, begun)
		}
	}

	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		word := strings.ToUpper(f.Name)
		if places[word] == nil && choices[word] == nil && word != "PROFILE" || f.Value.Type() == "bool" {
			return
		}
		if _, given := c.GetFlagCompletionFunc(f.Name); given {
			return
		}

		_ = c.RegisterFlagCompletionFunc(f.Name,
			func(c *cobra.Command, before []string, begun string) ([]string, cobra.ShellCompDirective) {
				return o.named(c, word, before, begun)
			})
	})
}

// named returns what can stand for a word of a command's usage. Where that is unknown a shell may offer its files.
func (o *options) named(
	c *cobra.Command, word string, before []string, begun string,
) ([]string, cobra.ShellCompDirective) {
	if words := choices[word]; words != nil {
		return offered(words, begun), cobra.ShellCompDirectiveNoFileComp
	}

	find, ok := places[word]
	rest := cobra.ShellCompDirectiveNoFileComp
	host, snapshot := flag(c, "host"), flag(c, "snapshot")
	if word == "PROFILE" {
		dir, err := o.folder()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}

		all, _ := profilesIn(dir) // what cannot be read is not offered
		return all, cobra.ShellCompDirectiveNoFileComp
	}

	if word == "ACCOUNT" {
		find, ok = accountsOf(host, snapshot), true
	}

	if (word == "PATH" || word == "FOLDER") && (host != "" || snapshot != "") {
		find = pathsOf(host, snapshot, begun)
		ok = true
		rest = cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	}

	if !ok {
		if slices.Contains([]string{
			"FILE", "PATH", "FOLDER", "ORDER", "REPORT", "REQUEST", "ADMISSION", "SNAPSHOT-FILE", "BASELINE-FILE",
			"PATHS",
		},
			word) {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}

	ctx, cancel := context.WithTimeout(context.WithoutCancel(contextOf(c)), completing)
	defer cancel()

	api, err := o.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	out, err := find(ctx, api, before)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}

	return offered(out, begun), rest
}

// offered returns those names that continue what was typed and that a shell may be given: hosts and other people made
// them up, and the shell writes what it completes into a command line. Names that would have to be quoted, or are
// options, are left out, and the words about a name are one line of text.
func offered(all []string, begun string) []string {
	var out []string
	for _, x := range all {
		name, about, has := strings.Cut(x, "\t")
		if !strings.HasPrefix(name, begun) || quoted(name) != name || strings.HasPrefix(name, "-") ||
			len(out) == mostNames {
			continue
		}
		if has {
			name += "\t" + strings.Join(strings.Fields(printable(about)), " ")
		}
		out = append(out, name)
	}
	return out
}

// accountsOf returns the accounts of a host, or of a snapshot; those of this machine the shell knows itself.
func accountsOf(host, snapshot string) names {
	return func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		if host == "" && snapshot == "" {
			return nil, nil
		}
		return api.Accounts(ctx, host, snapshot)
	}
}

// pathsOf returns what lies in the folder that is typed so far, folders with a slash to continue after.
func pathsOf(host, snapshot, begun string) names {
	return func(ctx context.Context, api *client.Client, _ []string) ([]string, error) {
		folder := begun[:strings.LastIndexByte(begun, '/')+1]
		if folder == "" {
			return []string{"/"}, nil
		}
		at := client.Looker{Client: api, Host: host, Snapshot: snapshot}
		list, err := at.List(ctx, "/"+strings.Trim(folder, "/"), "", "", mostListed)
		return each(list.Items, err, func(p wire.Path) string {
			if p.Kind == "folder" {
				return folder + p.Name + "/"
			}
			return folder + p.Name
		})
	}
}

func flag(c *cobra.Command, name string) string {
	if f := c.Flag(name); f != nil {
		return f.Value.String()
	}
	return ""
}

func contextOf(c *cobra.Command) context.Context {
	if ctx := c.Context(); ctx != nil {
		return ctx
	}
	return context.Background()
}
