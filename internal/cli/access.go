package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/access"
	"idletally/internal/wire"
)

// supposeFlags are the flags for what a question may suppose.
func supposeFlags(c *cobra.Command, s *wire.Supposed, ofAccount bool) {
	if ofAccount {
		c.Flags().StringArrayVar(&s.Joining, "joining", nil,
			"suppose that the account belongs to this group too; may be given again")
		c.Flags().StringArrayVar(&s.Privileges, "privilege", nil,
			"suppose that its process has this capability, such as CAP_DAC_READ_SEARCH; may be given again")
	}
	c.Flags().StringVar(&s.Edition, "edition", "",
		"suppose that this edition holds everywhere: APPLICATION/NUMBER, 0 for the published one")
	c.Flags().StringVar(&s.Plan, "plan", "", "suppose that this plan has been run")
}

func judged(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func accessCommand(o *options) *cobra.Command {
	var w where
	decide := decideCommand(o, &w)
	n := obvious(
		commandGroup("access", "Who can do what, and why", decide, proposeCommand(o, &w), restrictCommand(o, &w),
			holdersCommand(o, &w),
			matrixCommand(o, &w), belowCommand(o, &w), probeCommand(o, &w)),
		decide, func(a []string) bool {
			return len(a) > 1 && slices.ContainsFunc(a, func(s string) bool { return strings.Contains(s, "/") })
		})

	n.Long = `Who can do what with a path, counting every folder on the way to it, group memberships, access
entries and their mask, sticky folders, immutable and append-only flags, mounts, and what root may
do.

Operations: read, write, execute, list, enter, create, delete, rename, change (permissions), own
(take ownership).` + whereHelp

	w.flags(n)
	return n
}

func decideCommand(o *options, w *where) *cobra.Command {
	var sup wire.Supposed
	c := &cobra.Command{
		Use:   "decide ACCOUNT [OPERATION] PATH",
		Short: "What an account can do with a path, and what decides it",
		Args:  args(2, 3, "an account, perhaps an operation, and a path"),
		Long: `What an account can do with a path. The account is a name or a number on the host, or everyone for
whoever is nobody in particular. With one operation the way from / is shown, to the folder where it
stops, and the command exits with 4 where the answer is no. Of a folder write is making, removing
and renaming what is in it.`,
		RunE: func(c *cobra.Command, a []string) error {
			q := inOrder(a)
			l, at, op, err := o.question(w, q.path, q.operation)
			if err != nil {
				return err
			}
			j, err := l.Decide(c.Context(), q.account, at, op, sup)
			if err != nil {
				return err
			}
			if op != 0 {
				return o.showOneAnswer(c, j)
			}

			t := table{head: []string{"OPERATION", "", "DECIDED BY", "WHY"}, value: j}
			if len(j.Then) > 0 {
				t.head = []string{"OPERATION", "NOW", "THEN", "WHY, THEN"}
			}

			for i, x := range j.Answers {
				if len(j.Then) > 0 {
					t.add(x.Operation.String(), verdictOf(x), verdictOf(j.Then[i]), because(j.Then[i]))
				} else {
					t.add(x.Operation.String(), verdictOf(x), string(x.Cause), because(x))
				}
			}

			if o.output == "table" {
				printf(c, "%s at %s (%s; %s)", j.Account.Name, j.Path, j.Kind, origin(j.Origin))
				groups(c, j)
			}

			return o.show(c, t)
		},
	}

	supposeFlags(c, &sup, true)
	return c
}

func proposeCommand(o *options, w *where) *cobra.Command {
	text := 0
	c := &cobra.Command{
		Use:   "propose ACCOUNT OPERATION PATH",
		Short: "What it would take that an account can do something, and whom else that lets in",
		Args:  args(3, 3, "an account, an operation and a path"),
		Long: `What it would take that an account can do something with a path: an entry for it or for a group that
it is in, joining a group, bits of the mode, taking away an entry that denies, or ownership; on the
path and on each folder of the way that stops it. The proposal that lets in the fewest others comes
first, and ownership last. Joining a group lets the account in wherever that group is let in: access
below --joining says where.

--text N writes proposal N as idletally plan adjust --file takes it. Nothing is changed.`,
		RunE: func(c *cobra.Command, a []string) error {
			l, at, op, err := o.question(w, a[2], a[1])
			if err != nil {
				return err
			}
			p, err := l.Propose(c.Context(), a[0], at, op)
			switch {
			case err != nil:
				return err
			case text < 0 || text > len(p.Proposals):
				return usageError{fmt.Errorf("--text %d: there are %d proposals", text, len(p.Proposals))}
			case text > 0:
				printf(c, "%s", strings.TrimRight(p.Proposals[text-1].Text, "\n"))
				return nil
			}
			return o.showProposals(c, p)
		},
	}
	c.Flags().IntVar(&text, "text", 0, "write this proposal's changes, and nothing else")
	return c
}

func restrictCommand(o *options, w *where) *cobra.Command {
	var only []string
	text := false
	c := &cobra.Command{
		Use:   "restrict OPERATION PATH",
		Short: "What to take away so that nobody but some accounts can do something, and from whom that takes more",
		Args:  args(2, 2, "an operation and a path"),
		Long: `What has to be taken away so that nobody but the accounts after --only can do something with a path:
bits of the mode, entries or a part of them; on shares whole entries. An account that stays and would
lose it gets an entry of its own. What takes the least from others is said, with who is locked out,
who loses what else, and who can do it all the same: by privileges, by entries from above, or because
they may change permissions there and let themselves in again.

--text writes it as idletally plan adjust --file takes it. Nothing is changed.`,
		RunE: func(c *cobra.Command, a []string) error {
			l, at, op, err := o.question(w, a[1], a[0])
			if err != nil {
				return err
			}
			r, err := l.Restrict(c.Context(), only, at, op)
			if err == nil && text {
				printf(c, "%s", strings.TrimRight(r.Text, "\n"))
				return nil
			}
			if err != nil {
				return err
			}
			return o.showRestriction(c, r)
		},
	}
	c.Flags().StringArrayVar(&only, "only", nil, "an account that is to be able to; may be repeated")
	c.Flags().BoolVar(&text, "text", false, "write the changes, and nothing else")
	return c
}

func (o *options) showRestriction(c *cobra.Command, r wire.Restriction) error {
	if o.output == "table" {
		who := "nobody"
		if len(r.Only) > 0 {
			who = "nobody but " + strings.Join(r.Only, ", ")
		}
		printf(c, "That %s can %s %s: %s", who, r.Operation, r.Path, cmp.Or(r.Says, "nothing has to be taken away"))
	}
	t := table{head: []string{"WHAT BECOMES OF THEM", "WHO"}, none: "It changes nothing for anybody.", value: r}
	for _, x := range []struct {
		what string
		who  wire.Parties
	}{
		{"cannot any more", r.Out}, {"lose something else", r.Less}, {"can all the same", r.Left},
		{"perhaps, by a group that is not told", r.Unsure}, {"can let themselves in again", r.Back},
		{"are to, and cannot", r.Short},
	} {
		if x.who.Count > 0 {
			t.add(x.what, namesText(x.who.Names, x.who.Count))
		}
	}
	return o.show(c, t)
}

// namesText writes the names of some of so many.
func namesText(names []string, count int) string {
	text := strings.Join(names, ", ")
	if more := count - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func (o *options) showProposals(c *cobra.Command, p wire.Proposals) error {
	t := table{head: []string{"", "WHAT", "LETS IN BESIDES", "OPENS", "BY"}, value: p}
	switch {
	case p.Answer.Allowed:
		t.none = "Nothing: it may."
	default:
		t.none = "No change of permissions would do: see why above."
	}
	for i, x := range p.Proposals {
		t.add(i+1, x.Says, besides(x), opens(x), x.Means)
	}
	if o.output == "table" {
		printf(c, "%s, to %s %s: %s", p.Account.Name, p.Answer.Operation.Words(), p.Path, verdictOf(p.Answer))
		printf(c, "%s", because(p.Answer))
	}
	if err := o.show(c, t); err != nil || p.Counted == nil || o.output != "table" {
		return err
	}
	printf(c, "\nWhat they open in all was counted in %s.", origin(*p.Counted))
	return nil
}

// opens says on how many paths a proposal lets the account do the same, where that was counted.
func opens(p wire.Proposal) string {
	if p.Elsewhere == nil {
		return ""
	}
	text := plural(int(*p.Elsewhere), "path")
	if p.Anybody != nil {
		text += fmt.Sprintf(", to everyone %d", *p.Anybody)
	}
	return text
}

// besides says whom else a proposal lets in.
func besides(p wire.Proposal) string {
	who := namesText(p.Others, p.Count)
	switch {
	case p.Everyone:
		return "everyone"
	case p.Means == "join":
		return "the account, wherever the group is let in"
	case who == "":
		return "nobody"
	}
	return who
}

func groups(c *cobra.Command, j wire.Judgement) {
	if len(j.Account.Groups) > 0 {
		printf(c, "groups: %s", strings.Join(j.Account.Groups, ", "))
	}
	for _, n := range j.Account.Notes {
		printf(c, "note: %s", n)
	}
	if j.Suppose != "" {
		printf(c, "then: %s", j.Suppose)
	}
}

// asked is a question's account, operation and path, as far as they were given.
type asked struct{ account, operation, path string }

// inOrder takes the arguments of a question in order: account, operation and path, of which the operation may be left
// out. Another order is accepted if only that one makes sense.
func inOrder(a []string) asked {
	isPath := func(s string) bool { return strings.HasPrefix(s, "/") || strings.HasPrefix(s, ".") }
	isOperation := func(s string) bool { _, err := access.ParseOperation(s); return err == nil }
	if len(a) == 2 {
		if isPath(a[0]) && !isPath(a[1]) {
			return asked{a[1], "", a[0]}
		}
		return asked{a[0], "", a[1]}
	}
	for _, p := range [][3]int{{0, 1, 2}, {0, 2, 1}, {2, 0, 1}, {1, 0, 2}, {2, 1, 0}, {1, 2, 0}} {
		if isOperation(a[p[1]]) && (isPath(a[p[2]]) || a[p[2]] == "") && !isPath(a[p[0]]) {
			return asked{a[p[0]], a[p[1]], a[p[2]]}
		}
	}
	return asked{a[0], a[1], a[2]}
}

// question reads what most of these commands are given.
func (o *options) question(w *where, path, operation string) (looker, string, access.Operation, error) {
	var op access.Operation
	if operation != "" {
		var err error
		if op, err = access.ParseOperation(operation); err != nil {
			return nil, "", 0, usageError{err}
		}
	}

	l, err := w.looker(o)
	if err != nil {
		return nil, "", 0, err
	}

	at := ""
	if path != "" {
		at, err = w.path(path)
	}

	return l, at, op, err
}

const notKnown = "not known"

func verdictOf(x access.Answer) string {
	if x.Unknown {
		return notKnown
	}
	return judged(x.Allowed)
}

// because returns the reason of an answer, or why there is none.
func because(x access.Answer) string {
	if x.Unknown {
		return strings.Join(x.Notes, "; ")
	}
	return x.Reason
}

// showOneAnswer draws the way as far as it leads.
func (o *options) showOneAnswer(c *cobra.Command, j wire.Judgement) error {
	answer := j.Answers[0]
	if len(j.Then) > 0 {
		answer = j.Then[0]
	}

	bad := func() error {
		if !answer.Allowed || answer.Unknown {
			return errNotSo
		}
		return nil
	}

	if o.output != "table" {
		t := table{head: []string{"operation", "allowed", "cause", "at", "reason"}, value: j}
		for _, x := range append(j.Answers, j.Then...) {
			t.add(x.Operation.String(), verdictOf(x), string(x.Cause), x.At.String(), x.Reason)
		}
		return errors.Join(o.show(c, t), bad())
	}

	show := func(title string, x access.Answer) {
		word, can := "No", "cannot"
		if x.Allowed {
			word, can = "Yes", "can"
		}

		if x.Unknown {
			word, can = "Not known", "can perhaps"
		}

		printf(c, "%s%s: %s %s %s %s", title, word, j.Account.Name, can, x.Operation.Words(), j.Path)
		printf(c, "  because %s", x.Reason)
		if x.Entry != "" {
			printf(c, "  entry %s on %s", x.Entry, x.At)
		}

		for _, p := range x.Way {
			mark := "│ "
			switch {
			case !p.Reached:
				mark = "  "
			case !p.Passed:
				mark = "╳ "
			}
			printf(c, "  %s%s%s", mark, p.Path, map[bool]string{true: "  " + p.Reason, false: ""}[p.Reached])
		}

		end := "▼ "
		if n := len(x.Way); n > 0 && !x.Way[n-1].Passed {
			end = "  "
		}

		printf(c, "  %s%s", end, j.Path)
		for _, n := range x.Notes {
			printf(c, "  note: %s", n)
		}
	}

	if len(j.Then) > 0 {
		show("now    ", j.Answers[0])
		printf(c, "supposed: %s", j.Suppose)
		show("then   ", j.Then[0])
	} else {
		show("", j.Answers[0])
	}

	groups(c, wire.Judgement{Account: j.Account})
	return bad()
}

func holdersCommand(o *options, w *where) *cobra.Command {
	var sup wire.Supposed
	c := &cobra.Command{
		Use:   "holders OPERATION PATH",
		Short: "Who can do something with a path",
		Args:  args(2, 2, "an operation and a path"),
		RunE: func(c *cobra.Command, a []string) error {
			q := inOrder(append([]string{""}, a...))
			l, at, op, err := o.question(w, q.path, q.operation)
			if err != nil {
				return err
			}
			h, err := l.Holders(c.Context(), at, op, sup)
			if err != nil {
				return err
			}

			t := table{head: []string{"ACCOUNT", "", "DECIDED BY", "WHY"}, value: h}
			t.add("everyone", verdictOf(h.Everyone), string(h.Everyone.Cause), h.Everyone.Reason)
			for _, list := range []struct {
				of  []wire.Holder
				can string
			}{{h.Allowed, judged(true)}, {h.Unsure, notKnown}, {h.Refused, judged(false)}} {
				for _, x := range list.of {
					name := x.Account
					if !x.Known {
						name += " (no such account)"
					}
					t.add(name, list.can, x.Cause, x.Reason)
				}
			}

			if o.output == "table" {
				if h.Operation == access.Create && op == access.Write {
					printf(c, "To write a folder is to make, remove and rename what is in it: the operation create.")
				}
				printf(c, "Who can %s %s (%s; %s): %d of %d accounts", h.Operation.Words(), h.Path, h.Kind,
					origin(h.Origin), len(h.Allowed), h.Accounts)
				if h.Suppose != "" {
					printf(c, "supposed: %s", h.Suppose)
				}
			}

			return o.show(c, t)
		},
	}

	supposeFlags(c, &sup, false)
	return c
}

func matrixCommand(o *options, w *where) *cobra.Command {
	var sup wire.Supposed
	c := &cobra.Command{
		Use:   "matrix PATH",
		Short: "What the accounts that matter can do with a path",
		Args:  args(1, 1, "a path"),
		Long: `What the accounts that matter can do with a path: its owner, those that entries name, and the
members of groups that it names, service accounts first. Where something is supposed, what changes
is shown as now → then.`,
		RunE: func(c *cobra.Command, a []string) error {
			l, at, _, err := o.question(w, a[0], "")
			if err != nil {
				return err
			}
			m, err := l.Matrix(c.Context(), at, sup)
			if err != nil {
				return err
			}

			t := table{head: []string{"ACCOUNT"}, value: m}
			for _, op := range m.Operations {
				t.head = append(t.head, strings.ToUpper(op.String()))
			}

			t.head = append(t.head, "WHO")
			for _, r := range m.Rows {
				row := []any{r.Account}
				for i, x := range r.Cells {
					cell := verdictOf(x)
					if len(r.Then) > 0 && verdictOf(r.Then[i]) != cell {
						cell += " → " + verdictOf(r.Then[i])
					}
					row = append(row, cell)
				}
				t.add(append(row, r.Part)...)
			}

			if o.output == "table" {
				printf(c, "%s (%s; %s)", m.Path, m.Kind, origin(m.Origin))
				if m.Suppose != "" {
					printf(c, "supposed: %s", m.Suppose)
				}
				if n := m.Accounts - len(m.Rows); n > 0 {
					printf(c, "%d more accounts are not shown.", n)
				}
			}

			return o.show(c, t)
		},
	}

	supposeFlags(c, &sup, false)
	return c
}

func belowCommand(o *options, w *where) *cobra.Command {
	var ask wire.BelowAsk
	var paths bool
	var most int
	c := &cobra.Command{
		Use:   "below ACCOUNT OPERATION [FOLDER]",
		Short: "What an account can do with everything below a folder",
		Args:  args(2, 3, "an account, an operation and a folder"),
		Long: `What an account, or everyone, can do with everything below a folder; in a snapshot all roots where
no folder is given. Paths with equal permissions are one line; --paths lists them one by one. What
no way leads to is not looked at, unless --behind asks for it: what would be open as soon as a way
led there.`,
		RunE: func(c *cobra.Command, a []string) error {
			q := inOrder(append(a, "")[:3])
			folder := q.path
			if folder == "" && w.snapshot == "" {
				return usageError{errors.New("say below which folder; only a snapshot has roots of its own")}
			}
			l, at, op, err := o.question(w, folder, q.operation)
			if err != nil {
				return err
			}

			ask.Account = q.account
			ask.Path = at
			ask.Operation = op
			if paths {
				ask.Limit = min(most, 5000)
			}

			b, err := l.Below(c.Context(), ask)
			if err != nil {
				return err
			}

			return o.showBelow(c, b, paths, ask.Behind)
		},
	}

	c.Flags().BoolVar(&paths, "paths", false, "list the paths one by one")
	c.Flags().BoolVar(&ask.Behind, "behind", false, "as if every folder could be traversed")
	c.Flags().IntVar(&most, "most", 1000, "how many paths at the most, up to 5000")
	c.Flags().StringVar(&ask.After, "after", "", "list the paths after this one")
	supposeFlags(c, &ask.Supposed, true)
	return c
}

func (o *options) showBelow(c *cobra.Command, b wire.Below, paths, behind bool) error {
	supposed := b.Suppose != ""
	state := func(was, is bool) string {
		switch {
		case was && is:
			return "can"
		case is:
			return "gains"
		case was:
			return "loses"
		}
		return "cannot"
	}

	t := table{
		head:  []string{"", "COUNT", "KIND", "MODE", "OCTAL", "OWNER", "GROUP", "", "IN", "EXAMPLE"},
		value: b,
		none:  "Nothing.",
	}
	if paths {
		t.head = []string{"", "KIND", "PATH"}
		for _, p := range b.Items {
			t.add(state(p.Was, p.Is), p.Kind, p.Path)
		}
	} else {
		for _, g := range b.Groups {
			more := ""
			if len(g.Access.Entries)+len(g.Access.Defaults) > 0 {
				more = "+"
			}

			u := unknownOf(g.Access)
			t.add(state(g.Was, g.Is), num(g.Count), g.Kind, g.Access.Letters, g.Access.Mode, u("owner", g.Access.Owner),
				u("group", g.Access.Group), more, g.Folder, g.Example)
		}
	}

	if o.output != "table" {
		return o.show(c, t)
	}

	where := b.Path
	if where == "" {
		where = "all roots"
	}

	can := "can"
	if behind {
		can = "could, if every folder could be traversed,"
	}

	printf(c, "%s %s %s %s paths of %s (%s)", b.Account.Name, can, b.Operation.Words(), num(b.Held), where,
		origin(b.Origin))
	if supposed {
		printf(c, "supposed: %s: then %s; %s gained, %s lost", b.Suppose, num(b.Then), num(b.Gained), num(b.Lost))
	}

	if b.Stopped != "" {
		printf(c, "%s", b.Stopped)
	}

	if err := o.show(c, t); err != nil {
		return err
	}

	printf(c, "%s paths looked at; %s folders no way leads into", num(b.Looked), num(b.Closed))
	if b.Closed > 0 {
		printf(c, "What lies behind those shows with --behind.")
	}

	if b.Unknown > 0 {
		printf(c, "%s paths of which it is not known: the server does not tell who is in a group that their lists name",
			num(b.Unknown))
	}

	if b.Unread > 0 {
		printf(c, "%s folders whose content is not known", num(b.Unread))
	}

	if paths && b.Next != "" {
		printf(c, "There are more: --after '%s'", strings.ReplaceAll(b.Next, "'", `'\''`))
	}

	return nil
}

func probeCommand(o *options, w *where) *cobra.Command {
	return &cobra.Command{
		Use:   "probe ACCOUNT PATH",
		Short: "Have the system itself try as an account, beside the computed answers",
		Args:  args(2, 2, "an account and a path"),
		Long: `Have the host's own kernel try: a child process with the account's ids and groups, and no privilege
left, tries each operation in a way that leaves nothing behind. The answers stand beside the
computed ones; where they differ, that is an error of Idle Tally, and all that is needed to repeat
it is shown. Exits with 4 then.`,
		RunE: func(c *cobra.Command, a []string) error {
			if w.snapshot != "" {
				return usageError{errors.New("a snapshot cannot be tried: give --host")}
			}
			l, at, _, err := o.question(w, a[1], "")
			if err != nil {
				return err
			}
			p, err := l.Probe(c.Context(), a[0], at)
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"OPERATION", "COMPUTED", "TRIED", "", "HOW IT WAS TRIED", "WHY, COMPUTED"},
				value: p,
			}
			for _, r := range p.Rows {
				tried := judged(r.Tried.Allowed)
				agree := "agree"
				how := r.Tried.Call

				switch {
				case r.Tried.Untried != "":
					tried = "not tried"
					agree = ""
					how = r.Tried.Untried
				case r.Differ:
					agree = "DIFFER"
				case r.Computed.Unknown:
					agree = ""
				}

				t.add(r.Operation.String(), verdictOf(r.Computed), tried, agree, how, because(r.Computed))
			}

			if o.output == "table" {
				printf(c, "%s at %s (%s; %s)", p.Account.Name, p.Path, p.Kind, origin(p.Origin))
			}

			if err := o.show(c, t); err != nil {
				return err
			}

			if p.Differ {
				if o.output == "table" {
					tell(c.OutOrStdout(),
						"\nThe answers differ. That is an error of Idle Tally; please report it with this:\n\n%s\n",
						p.Repeat)
				}
				return errNotSo
			}

			return nil
		},
	}
}
