package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/statement"
	"idletally/internal/wire"
)

func requestCommand(o *options) *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List what waits for others to agree: your own, and what you can agree to",
		Args:  args(0, 0, "no argument"),
		Long: `List what waits for others to agree: your own requests, and those that you can agree to.

Where the policy says so (policy set --agree), changes of who may do what wait until other admins
have agreed to exactly these; where an application says so (application reviewers --editions), an
edition of its baseline is published when reviewers have. Whoever made such a call makes it again
then, within three days.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Requests(c.Context())
			if err != nil {
				return err
			}
			t := table{
				head:  []string{"REQUEST", "STATE", "ASKED BY", "WHAT", "AGREED", "UNTIL", "SAYS"},
				value: all,
				none:  "Nothing waits for others to agree.",
			}
			for _, r := range all {
				t.add(r.ID, r.State, r.AskedBy, strings.TrimSpace(r.Operation+" "+r.Application), agreedText(r),
					r.Expires, r.Says)
			}
			return o.show(c, t)
		}),
	}

	return commandGroup("request", "Agree to what others want to change of who may do what", list, requestShow(o),
		requestAgree(o), requestDecline(o))
}

// requestShow returns the command request show.
func requestShow(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "show REQUEST",
		Short: "Show what somebody wants others to agree to, and of an edition what it would do",
		Args:  args(1, 1, "a request"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.Request(c.Context(), a[0])
			if err != nil {
				return err
			}
			if err := o.showRequest(c, r, ""); err != nil || r.Operation != "publish-edition" || o.output != "table" {
				return err
			}

			var of struct{ Number int }
			if err := json.Unmarshal([]byte(r.Says), &of); err != nil {
				return fmt.Errorf("request %s: %w", r.ID, err)
			}
			e, err := api.CompareEditions(c.Context(), r.Application, 0, of.Number)
			if err != nil {
				return err
			}
			printf(c, "\nCompared with the published edition, on the last snapshots:\n")
			return o.showEffect(c, e)
		}),
	}
}

// requestAgree returns the command request agree.
func requestAgree(o *options) *cobra.Command {
	var by signer
	c := &cobra.Command{
		Use:   "agree REQUEST",
		Short: "Agree to what somebody else wants to do",
		Args:  args(1, 1, "a request"),
		Long: `Agree to what somebody else wants to do.

Where the policy says so (policy set --agree-signed), you sign that, by a key of your own that the
roster has: --sign takes one that your ssh-agent has, security keys among them, and --key another.
What you sign is shown first.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			var in wire.Agreement
			if by.given() {
				ask, err := api.RequestStatement(c.Context(), a[0])
				if err == nil {
					in.Signed, err = by.signed(c, ask, ofRequest(a[0]))
				}
				if err != nil {
					return err
				}
			}
			r, err := api.AgreeToRequest(c.Context(), a[0], in)
			if err != nil {
				return err
			}
			next := ""
			if r.State == "agreed" {
				next = r.AskedBy + " does it again"
			}
			return o.showRequest(c, r, next)
		}),
	}
	signFlags(c, &by)
	return c
}

// ofRequest returns how a statement is about something else than that somebody agrees to a request.
func ofRequest(id string) func(statement.Statement) error {
	return func(s statement.Statement) error {
		if s.Says != statement.Agreed || s.Request != id {
			return fmt.Errorf("%q of %q", s.Says, s.Request)
		}
		return nil
	}
}

// requestDecline returns the command request decline.
func requestDecline(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "decline REQUEST",
		Short: "Decline what somebody else wants to do, or take back what you have asked for",
		Args:  args(1, 1, "a request"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			r, err := api.DeclineRequest(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showRequest(c, r, "")
		}),
	}
}

// showRequest shows a request, and what is to be done next.
func (o *options) showRequest(c *cobra.Command, r wire.Request, next string) error {
	sign := ""
	if r.ToSign {
		sign = "who agrees signs it: --sign, or --key FILE"
	}
	if err := o.showOne(c, r, "request", r.ID, "state", r.State, "asked by", r.AskedBy, "what",
		strings.TrimSpace(r.Operation+" "+r.Application), "says", r.Says, "agreed", agreedText(r), "signing", sign,
		"until", when(r.Expires), "next", next); err != nil || o.output != "table" {
		return err
	}
	for _, s := range r.Signed {
		printf(c, "signed by %s, %s, %s", s.Who, cmp.Or(s.Key, "a key that the roster no longer has"), s.Fingerprint)
	}
	return nil
}

func agreedText(r wire.Request) string {
	text := strconv.Itoa(len(r.Agreed)) + " of " + strconv.Itoa(r.Needed)
	if len(r.Agreed) > 0 {
		text += ": " + strings.Join(r.Agreed, ", ")
	}
	return text
}
