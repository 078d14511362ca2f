package cli

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/archive"
	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/tree"
)

func planEvidence(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "evidence PLAN FILE",
		Short: "Download what a plan changes and who signed it, as one file that anybody can verify",
		Args:  args(2, 2, "a plan, and a file to write"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := create(a[1], func(w io.Writer) error {
				return api.Evidence(c.Context(), a[0], w)
			}); err != nil {
				return err
			}
			printf(c, "Whoever has the roster verifies it: idletally plan verify %s --roster FILE", printable(a[1]))
			return nil
		}),
	}
}

// A proof is what evidence shows.
type proof struct {
	Plan        string      `json:"plan"`
	Application string      `json:"application"`
	Digest      tree.Hash   `json:"digest"`
	Run         string      `json:"run,omitempty"`
	Edition     int64       `json:"edition"` // of the roster, by which they signed
	Hosts       []proofHost `json:"hosts"`
	Proved      bool        `json:"proved"` // on each host
}

type proofHost struct {
	Host      string     `json:"host"`
	Steps     int        `json:"steps"`
	Submitter string     `json:"submitter,omitempty"`
	Approvers []string   `json:"approvers"`
	Signed    *time.Time `json:"signed,omitempty"` // the last of them
	// The submitter alone: with any plan, or only to what the host itself had found, which evidence does not have.
	Alone   bool           `json:"alone,omitempty"`
	PutBack bool           `json:"put_back,omitempty"`
	Not     string         `json:"not,omitempty"`   // why it is not proved
	Ordered string         `json:"ordered"`         // whether the order is for this plan
	State   lifecycle.Part `json:"state,omitempty"` // as the host says
	Done    int            `json:"done"`
}

func planVerify(o *options) *cobra.Command {
	var rosterFile, fingerprint string
	var steps bool
	c := &cobra.Command{
		Use:   "verify FILE",
		Short: "Verify evidence of a plan without a service: that people of the roster had signed just this",
		Args:  args(1, 1, "a file of evidence"),
		Long: `Verify evidence that "idletally plan evidence" wrote: that its steps are those that the plan's digest
stands for, and that people of the roster had signed that digest: somebody who submitted it, and as
many others who approved it as the roster asks for; or one whom it lets act alone. Nothing is asked
of any service.

What you trust is an edition of the roster that you have by another way: its file (--roster), or its
fingerprint. The evidence has to lead on from it. docs/formats.md says how to do the same without
this program.

It exits with 4 where the evidence is sound, and does not prove that for every host.`,
		RunE: func(c *cobra.Command, a []string) error {
			trusted, err := trustedRoster(rosterFile, fingerprint)
			if err != nil {
				return err
			}
			f, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer f.Close()

			var p proof
			t := table{head: []string{"HOST", "KIND", "BEFORE", "AFTER", "PATH"}, none: "No steps."}
			err = archive.ReadEvidence(f, func(h archive.EvidenceHead, m plan.Manifest) error {
				p = proved(h, m, trusted)
				return nil
			}, func(host string, list []plan.Step) error {
				for _, s := range list {
					if steps {
						t.add(host, s.Kind.String(), perm.Describe(s.Kind, s.Before, nil).String(),
							perm.Describe(s.Kind, s.After, nil).String(), pathname.Escape(s.Path))
					}
				}
				return nil
			})
			if err != nil {
				return fmt.Errorf("%s: %w", a[0], err)
			}
			return showProof(o, c, p, t, steps)
		},
	}

	c.Flags().StringVar(&rosterFile, "roster", "", "the edition of the roster that you trust: its document")
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "or its fingerprint")
	c.Flags().BoolVar(&steps, "steps", false, "list the steps, from the bytes that were signed")
	c.MarkFlagsOneRequired("roster", "fingerprint")
	c.MarkFlagsMutuallyExclusive("roster", "fingerprint")
	return c
}

// trustedRoster returns the fingerprint of the edition that somebody trusts.
func trustedRoster(file, fingerprint string) (tree.Hash, error) {
	if file == "" {
		return digestOf(fingerprint)
	}
	r, _, err := readRoster(file)
	return r.Digest(), err
}

// proved returns what evidence shows to whoever trusts an edition of the roster.
func proved(h archive.EvidenceHead, m plan.Manifest, trusted tree.Hash) proof {
	p := proof{
		Plan:        m.ID,
		Application: m.Application,
		Digest:      plan.Digest(h.Manifest),
		Run:         h.Run,
		Hosts:       []proofHost{},
		Proved:      true,
	}
	order := roster.Order{
		Plan:        m.ID,
		Application: m.Application,
		Digest:      p.Digest,
		PutsBack:    m.Kind == plan.Restore,
	}
	for _, part := range m.Hosts {
		order.Hosts = append(order.Hosts, part.Host)
	}
	ran := map[string]archive.EvidenceHost{}
	for _, x := range h.Hosts {
		ran[x.Host] = x
	}

	for _, part := range m.Hosts {
		order.Host = part.Host
		x := proofHost{Host: part.Host, Steps: part.Steps, Approvers: []string{}}
		r, people, err := h.Roster.Proved(trusted, order)
		if err != nil {
			x.Not, p.Proved = err.Error(), false
		} else {
			p.Edition = r.Edition
			x.Submitter, x.Signed = people.Submitter, &people.Newest
			x.Approvers = append(x.Approvers, people.Approvers...)
			x.Alone, x.PutBack = people.Alone(), people.OwnOriginals
		}
		run := ran[part.Host]
		x.State, x.Done, x.Ordered = run.State, run.Done, ordered(h, run)
		p.Hosts = append(p.Hosts, x)
	}
	return p
}

// ordered says whether what a host was ordered is this plan, by the service's own signature.
func ordered(h archive.EvidenceHead, x archive.EvidenceHost) string {
	var o plan.Order
	switch {
	case len(x.Order) == 0:
		return "no order"
	case len(h.OrderKey) != ed25519.PublicKeySize || json.Unmarshal(x.Order, &o) != nil:
		return "an order that cannot be read"
	}
	at := o.Expires.Add(-time.Second) // it may have expired since
	if _, _, err := plan.Verify(h.OrderKey, x.Order, x.Signature, h.Manifest, x.Host, at); err != nil {
		return "not this plan: " + err.Error()
	}
	return "this plan"
}

// approved says who approved it, or by what right one person acted alone.
func (h proofHost) approved() string {
	switch {
	case h.PutBack:
		return "nobody: the roster lets them put back alone"
	case h.Alone:
		return "nobody: the roster lets them act alone"
	}
	return strings.Join(h.Approvers, ", ")
}

func showProof(o *options, c *cobra.Command, p proof, steps table, list bool) error {
	if o.output == "table" {
		proves := "yes: people of the roster had signed just this"
		if slices.ContainsFunc(p.Hosts, func(h proofHost) bool { return h.Alone }) {
			proves = "yes: somebody whom the roster lets act alone had signed just this"
		}
		if !p.Proved {
			proves = "NO, not for every host"
		}
		if err := o.showOne(c, p, "plan", p.Plan, "application", p.Application, "digest", p.Digest.String(), "run",
			p.Run, "edition of the roster", fmt.Sprint(p.Edition), "proved", proves); err != nil {
			return err
		}
		printf(c, "")
	}

	t := table{
		head: []string{"HOST", "STEPS", "SUBMITTED", "APPROVED", "SIGNED BY", "ORDERED", "STATE", "DONE",
			"NOT PROVED"},
		value: p,
	}
	for _, h := range p.Hosts {
		t.add(h.Host, h.Steps, h.Submitter, h.approved(), whenever(h.Signed), h.Ordered,
			string(h.State), h.Done, h.Not)
	}
	if err := o.show(c, t); err != nil {
		return err
	}
	if list && o.output == "table" {
		printf(c, "")
		if err := o.show(c, steps); err != nil {
			return err
		}
	}
	if !p.Proved {
		return errNotSo
	}
	return nil
}
