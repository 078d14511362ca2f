package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/pen"
	"idletally/internal/wire"
)

func rosterCommand(o *options) *cobra.Command {
	return commandGroup("roster", "Manage the roster: who may have hosts changed, by keys of their own", rosterShow(o),
		rosterDraft(o), rosterCheck(o), rosterPropose(o), rosterSign(o), rosterWithdraw(o), rosterKey(o))
}

func rosterShow(o *options) *cobra.Command {
	var document bool
	c := &cobra.Command{
		Use:   "show",
		Short: "Show the roster: the edition that counts, and what is proposed to follow on it",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			now, err := api.Roster(c.Context())
			if err != nil {
				return err
			}
			if document {
				if now.Edition == nil {
					return errNoRoster
				}
				return writeText(c, now.Edition.Document)
			}
			return showRoster(o, c, now)
		}),
	}

	c.Flags().BoolVar(&document, "document", false, "write the edition's own text, which hosts pin and people sign")
	return c
}

var errNoRoster = errors.New("there is no roster yet: begin with idletally roster draft")

func showRoster(o *options, c *cobra.Command, now wire.RosterNow) error {
	t := table{
		head:  []string{"EDITION", "STATE", "GOOD UNTIL", "PROPOSED BY", "SIGNED BY", "FINGERPRINT"},
		value: now,
		none:  "No roster: hosts take the service's word alone. Begin with: idletally roster draft",
	}
	add := func(e wire.RosterEdition, state string) {
		var who []string
		for _, g := range e.Signed {
			who = append(who, g.Who)
		}
		t.add(strconv.FormatInt(e.Edition, 10), state, e.Until, e.ProposedBy, strings.Join(who, ", "), e.Digest)
	}
	if now.Edition != nil {
		add(*now.Edition, "counts")
	}
	for _, p := range now.Proposals {
		add(p, fmt.Sprintf("%d of %d have signed", p.Have, p.Needed))
	}
	if err := o.show(c, t); err != nil || o.output != "table" || now.Edition == nil {
		return err
	}

	printf(c, "")
	for _, p := range now.Edition.People {
		printf(c, "%s: %s", p.Name, cmp.Or(strings.Join(p.May, "; "), "signs editions of the roster alone"))
		for _, k := range p.Keys {
			printf(c, "  %-12s %-36s %s", k.Name, k.Kind, k.Fingerprint)
		}
	}
	printf(c, "\nhosts: %d act by it, %d by an earlier edition, %d take the service's word alone", now.Hosts.Current,
		now.Hosts.Behind, now.Hosts.Without)
	return nil
}

// rosterWishes are what is asked for of a new edition.
type rosterWishes struct {
	until     string
	threshold int
	recover   int
	recovery  []string
	approvals []string
	site      string
	origins   []string
}

func rosterDraft(o *options) *cobra.Command {
	var w rosterWishes
	c := &cobra.Command{
		Use:   "draft",
		Short: "Write the next edition of the roster, for you to edit and propose",
		Args:  args(0, 0, "no argument"),
		Long: `Write the next edition of the roster to standard output. The first one has everybody who has
registered a key and may draft or review plans; a later one is the edition that counts, for you to
change: take a person or a key out, put one in. Keys that people have registered and that it does
not have stand in it as remarks.

Edit it, then "idletally roster check" says what it is, and "idletally roster propose" proposes it.
The first edition counts at once, for hosts that pin it; a later one when enough people of the
edition before have signed it.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			now, err := api.Roster(c.Context())
			if err != nil {
				return err
			}
			keys, err := api.SigningKeys(c.Context())
			if err != nil {
				return err
			}

			var next roster.Roster
			if now.Edition == nil {
				people, err := api.People(c.Context())
				if err != nil {
					return err
				}
				next, err = firstRoster(people, keys, api.Address)
				if err != nil {
					return err
				}
			} else {
				before, err := roster.Parse([]byte(now.Edition.Document))
				if err != nil {
					return err
				}
				next = before.Next()
			}
			if err := w.apply(c, &next); err != nil {
				return err
			}
			return writeDraft(c, next, keys)
		}),
	}

	c.Flags().StringVar(&w.until, "until", "", "until when hosts act by it: YYYY-MM-DD; otherwise a year from now")
	c.Flags().IntVar(&w.threshold, "threshold", 2, "how many people have to sign the edition behind it")
	c.Flags().IntVar(&w.recover, "recover", 0, "how many recovery keys are enough instead; 0: none")
	c.Flags().StringArrayVar(&w.recovery, "recovery-key", nil,
		"a key that is kept offline, for when people have lost theirs: NAME=FILE.pub; once for each")
	c.Flags().StringSliceVar(&w.approvals, "approvals", nil,
		"how many people have to approve plans: APPLICATION=NUMBER, with * for all others")
	c.Flags().StringVar(&w.site, "site", "", "the name that passkeys are made for")
	c.Flags().StringArrayVar(&w.origins, "origin", nil, "from where browsers sign: https://NAME[:PORT]; once for each")
	return c
}

// firstRoster returns a first edition of everybody who has a key and may draft or review.
func firstRoster(people []wire.Person, keys []wire.RosterKey, service string) (roster.Roster, error) {
	r := roster.Roster{
		Edition:   1,
		Approvals: []roster.Approvals{{Application: roster.Everything, People: 1}},
	}
	do := map[string]string{wire.Author: roster.Submit, wire.Reviewer: roster.Approve}
	passkeys := false
	for _, p := range people {
		x := roster.Person{Name: p.Name}
		for _, role := range p.Roles {
			role, application, of := strings.Cut(role, "@")
			if do[role] == "" {
				continue
			}
			if !of {
				application = roster.Everything
			}
			x.Rights = append(x.Rights, roster.Right{
				Do:          do[role],
				Application: application,
				Host:        roster.Everything,
			})
		}
		for _, k := range keys {
			if k.Person != p.Name {
				continue
			}
			key, err := signature.ParseKey(k.Text)
			if err != nil {
				return r, err
			}
			x.Keys = append(x.Keys, roster.NamedKey{Name: keyName(k.Name, x.Keys), Key: key})
			passkeys = passkeys || key.Kind() == signature.WebAuthn
		}
		if len(x.Rights) > 0 && len(x.Keys) > 0 {
			r.People = append(r.People, x)
		}
	}

	if u, err := url.Parse(service); err == nil && passkeys {
		r.Site, r.Origins = u.Hostname(), []string{"https://" + u.Host}
	}
	return r, nil
}

// keyName returns a name as rosters have it, other than those of some keys.
func keyName(name string, others []roster.NamedKey) string {
	name = strings.Map(func(r rune) rune {
		if statement.Name(string(r)) {
			return r
		}
		return '-'
	}, name)
	for slices.ContainsFunc(others, func(k roster.NamedKey) bool { return k.Name == name }) {
		name += "-2"
	}
	return name
}

// apply puts what is asked for into an edition.
func (w rosterWishes) apply(c *cobra.Command, r *roster.Roster) error {
	r.Made = time.Now().UTC().Truncate(time.Second)
	r.Until = r.Made.AddDate(1, 0, 0)
	if w.until != "" {
		day, err := time.ParseInLocation(time.DateOnly, w.until, time.UTC)
		if err != nil {
			return usageError{fmt.Errorf("--until %q: want YYYY-MM-DD", w.until)}
		}
		r.Until = day
	}
	if r.Threshold == 0 || c.Flags().Changed("threshold") {
		r.Threshold = w.threshold
	}
	if c.Flags().Changed("recover") {
		r.Recover = w.recover
	}
	if w.site != "" {
		r.Site = w.site
	}
	if len(w.origins) > 0 {
		r.Origins = w.origins
	}

	for _, x := range w.recovery {
		name, file, ok := strings.Cut(x, "=")
		if !ok {
			return usageError{fmt.Errorf("--recovery-key %q: want NAME=FILE.pub", x)}
		}
		k, err := pen.Public(file)
		if err != nil {
			return err
		}
		r.Recovery = append(r.Recovery, roster.NamedKey{Name: name, Key: k})
	}
	for _, x := range w.approvals {
		application, number, _ := strings.Cut(x, "=")
		n, err := strconv.Atoi(number)
		if err != nil {
			return usageError{fmt.Errorf("--approvals %q: want APPLICATION=NUMBER", x)}
		}
		r.Approvals = slices.DeleteFunc(r.Approvals, func(a roster.Approvals) bool {
			return a.Application == application
		})
		r.Approvals = append(r.Approvals, roster.Approvals{Application: application, People: n})
	}
	r.Sort()
	return nil
}

// writeDraft writes an edition, with the keys that it does not have as remarks. One that is none yet is written, too:
// somebody is to make one of it.
func writeDraft(c *cobra.Command, r roster.Roster, keys []wire.RosterKey) error {
	text, err := r.Draft()
	if err != nil {
		printf(c, "# It is no roster yet: %s.", err)
	}
	if err := writeText(c, text); err != nil {
		return err
	}
	for _, k := range keys {
		key, err := signature.ParseKey(k.Text)
		if err != nil {
			return err
		}
		if p := r.Person(k.Person); p == nil || !p.Has(key) {
			printf(c, "# not in it: person %s, key: %s %s", k.Person, keyName(k.Name, nil), k.Text)
		}
	}
	return nil
}

// writeText writes a text that is kept: what could not be written is an error, and what steers terminals is left out.
func writeText(c *cobra.Command, text string) error {
	_, err := io.WriteString(c.OutOrStdout(), printable(text))
	return err
}

// readRoster reads an edition that somebody has edited, and returns its document.
func readRoster(file string) (r roster.Roster, document []byte, err error) {
	b, err := os.ReadFile(file)
	if err == nil {
		r, err = roster.Edit(b)
	}
	if err == nil {
		document, err = r.Bytes()
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", file, err)
	}
	return r, document, err
}

func rosterCheck(o *options) *cobra.Command {
	var write string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Say what an edition of the roster is, with its fingerprint, without a service",
		Args:  args(1, 1, "a file"),
		RunE: func(c *cobra.Command, a []string) error {
			r, document, err := readRoster(a[0])
			if err != nil {
				return err
			}
			if write != "" {
				if err := os.WriteFile(write, document, 0o644); err != nil {
					return err
				}
			}
			people := []string{}
			for _, p := range r.People {
				people = append(people, fmt.Sprintf("%s (%s)", p.Name, plural(len(p.Keys), "key")))
			}
			return o.showOne(c, map[string]any{
				"edition":     r.Edition,
				"fingerprint": r.Digest(),
				"until":       r.Until,
				"people":      people,
				"threshold":   r.Threshold,
			}, "edition", strconv.FormatInt(r.Edition, 10), "people", strings.Join(people, ", "), "the next one takes",
				strconv.Itoa(r.Threshold)+" people"+recoveryText(r), "good until", r.Until, "fingerprint",
				r.Digest().String())
		},
	}

	c.Flags().StringVar(&write, "write", "", "write it in its one form to this file, as hosts pin it")
	return c
}

func recoveryText(r roster.Roster) string {
	if r.Recover == 0 {
		return ""
	}
	return fmt.Sprintf(", or %d of %d recovery keys", r.Recover, len(r.Recovery))
}

func rosterPropose(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "propose FILE",
		Short: "Propose the next edition of the roster, or make the first one",
		Args:  args(1, 1, "a file"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, document, err := readRoster(a[0])
			if err != nil {
				return err
			}
			now, err := api.ProposeRoster(c.Context(), string(document))
			if err != nil {
				return err
			}
			if err := showRoster(o, c, now); err != nil || o.output != "table" {
				return err
			}
			if r.Edition > 1 {
				printf(c, "\nPeople of edition %d sign it: idletally roster sign %s", r.Edition-1, r.Digest())
				return nil
			}
			printf(c, "\nHosts pin it: idletally agent roster pin FILE --fingerprint %s", r.Digest())
			return nil
		}),
	}
}

func rosterSign(o *options) *cobra.Command {
	var by signer
	c := &cobra.Command{
		Use:   "sign FINGERPRINT",
		Short: "Sign that an edition of the roster is to count",
		Args:  args(1, 1, "the fingerprint of an edition that is proposed"),
		Long: `Sign that an edition of the roster is to count, by a key of yours that the edition before has, or by
a recovery key. What changes is shown first, read from the two documents themselves: that the one to
be signed has this fingerprint is checked here. What is signed names it by that.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := showDifferences(c, api, a[0]); err != nil {
				return err
			}
			ask, err := api.RosterStatement(c.Context(), a[0])
			if err != nil {
				return err
			}
			signed, err := by.signed(c, ask, func(s statement.Statement) error {
				if s.Says != statement.Enacted || s.Digest.String() != a[0] {
					return fmt.Errorf("that you have %s %s", s.Says, s.Digest)
				}
				return nil
			})
			if err != nil {
				return err
			}
			now, err := api.SignRoster(c.Context(), a[0], *signed)
			if err != nil {
				return err
			}
			return showRoster(o, c, now)
		}),
	}
	signFlags(c, &by)
	return c
}

// showDifferences shows what an edition changes that somebody is to sign. The service is not believed: the document has
// to have the fingerprint.
func showDifferences(c *cobra.Command, api *client.Client, fingerprint string) error {
	now, err := api.Roster(c.Context())
	if err != nil {
		return err
	}
	i := slices.IndexFunc(now.Proposals, func(e wire.RosterEdition) bool { return e.Digest == fingerprint })
	if now.Edition == nil || i < 0 {
		return nil // the service says why there is nothing to sign
	}
	before, err := roster.Parse([]byte(now.Edition.Document))
	if err != nil {
		return err
	}
	after, err := roster.Parse([]byte(now.Proposals[i].Document))
	if err != nil {
		return err
	}
	if after.Digest().String() != fingerprint {
		return errors.New("the service shows another edition than the one of this fingerprint: do not sign it")
	}

	gone, come := roster.Differences(before, after)
	for _, l := range gone {
		tell(c.ErrOrStderr(), "no longer  %s\n", l)
	}
	for _, l := range come {
		tell(c.ErrOrStderr(), "new        %s\n", l)
	}
	tell(c.ErrOrStderr(), "\n")
	return nil
}

func rosterWithdraw(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "withdraw FINGERPRINT",
		Short: "Withdraw an edition of the roster that does not count",
		Args:  args(1, 1, "the fingerprint of an edition that is proposed"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.WithdrawRoster(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "It is withdrawn.")
			return nil
		}),
	}
}

func rosterKey(o *options) *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List the keys that people have registered to sign by, their passkeys among them",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.SigningKeys(c.Context())
			if err != nil {
				return err
			}
			t := table{
				head:  []string{"KEY", "PERSON", "NAME", "KIND", "IN THE ROSTER", "LAST USED", "FINGERPRINT"},
				value: all,
				none:  "No key: idletally roster key add NAME FILE.pub",
			}
			for _, k := range all {
				t.add(k.ID, k.Person, k.Name, k.Kind, yesNo(k.Counts), whenever(k.Used), k.Fingerprint)
			}
			return o.show(c, t)
		}),
	}

	add := &cobra.Command{
		Use:   "add NAME FILE.pub",
		Short: "Register an SSH key of yours to sign by: its public half",
		Args:  args(2, 2, "a name for the key, and the file of its public half"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			key, err := pen.Public(a[1])
			if err != nil {
				return err
			}
			k, err := api.AddSigningKey(c.Context(), wire.NewSigningKey{Name: a[0], Key: key.String()})
			if err != nil {
				return err
			}
			return o.showOne(c, k, "key", k.ID, "name", k.Name, "fingerprint", k.Fingerprint, "next",
				"it counts when an edition of the roster has it: idletally roster draft")
		}),
	}

	remove := &cobra.Command{
		Use:   "remove KEY",
		Short: "End an SSH key of yours",
		Args:  args(1, 1, "a key's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := api.RemoveSigningKey(c.Context(), a[0]); err != nil {
				return err
			}
			printf(c, "It is not registered any more. Hosts accept it until an edition of the roster without it "+
				"counts: idletally roster draft")
			return nil
		}),
	}
	return commandGroup("key", "Register keys to sign by", list, add, remove)
}

// digestOf reads a fingerprint as people give it.
func digestOf(text string) (h tree.Hash, err error) {
	if err := h.UnmarshalText([]byte(strings.TrimSpace(text))); err != nil {
		return h, usageError{fmt.Errorf("--fingerprint: %w", err)}
	}
	return h, nil
}
