package cli

import (
	"errors"
	"strconv"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
)

func agentRoster(o *options, folder *string) *cobra.Command {
	return commandGroup("roster", "Pin and show the roster that this host acts by", agentRosterPin(o, folder),
		agentRosterShow(o, folder))
}

func agentRosterPin(o *options, folder *string) *cobra.Command {
	var fingerprint string
	c := &cobra.Command{
		Use:   "pin FILE",
		Short: "Have this host change nothing but what people of a roster have signed, whatever its service says",
		Args:  args(1, 1, "the roster's document"),
		Long: `Have this host change nothing from now on but what people of a roster have signed, whatever its
service says. The file is what "idletally roster show --document" writes; its fingerprint has to be
the one that you were given by another way than the service. The agent must not be running.

From then on the host follows to later editions by itself, along what people of the editions before
have signed, and takes no other roster. What was signed by now counts for nothing here.`,
		RunE: func(c *cobra.Command, a []string) error {
			want, err := digestOf(fingerprint)
			if err != nil {
				return err
			}
			_, document, err := readRoster(a[0])
			if err != nil {
				return err
			}
			r, err := agent.PinRoster(*folder, document, want)
			if err != nil {
				return err
			}
			return showRosterHere(o, c, agent.RosterHere{Roster: r})
		},
	}

	c.Flags().StringVar(&fingerprint, "fingerprint", "", "of the edition, as people who are in it say it")
	_ = c.MarkFlagRequired("fingerprint")
	return c
}

func agentRosterShow(o *options, folder *string) *cobra.Command {
	return &cobra.Command{
		Use:   "show",
		Short: "Show the roster that this host acts by",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			here, err := agent.RosterOf(*folder)
			if err != nil {
				return err
			}
			if here == nil {
				printf(c, "This host knows no roster: it changes what its service alone says.")
				return nil
			}
			return showRosterHere(o, c, *here)
		},
	}
}

func showRosterHere(o *options, c *cobra.Command, here agent.RosterHere) error {
	shown := struct {
		Edition     int64  `json:"edition"`
		Fingerprint string `json:"fingerprint"`
		Until       string `json:"until"`
		Plans       int    `json:"plans"`
	}{here.Edition, here.Digest().String(), when(here.Until), here.Plans}
	return o.showOne(c, shown, "changes", "only what people of the roster have signed", "edition",
		strconv.FormatInt(here.Edition, 10), "fingerprint", shown.Fingerprint, "good until", here.Until,
		"plans carried out", strconv.Itoa(here.Plans))
}

// pinned has a host act by a roster as soon as it is enrolled.
type pinned struct{ file, fingerprint string }

func pinFlags(c *cobra.Command, p *pinned) {
	c.Flags().StringVar(&p.file, "roster", "",
		"change nothing but what people of this roster have signed: the file of its document")
	c.Flags().StringVar(&p.fingerprint, "roster-fingerprint", "",
		"the roster's fingerprint, as people who are in it say it")
	c.MarkFlagsRequiredTogether("roster", "roster-fingerprint")
}

// check reads the roster before anything else is done, and returns what pins it. SSH is where the host is reached over
// SSH, if it is.
func (p pinned) check(ssh string) (pin func(folder string) error, err error) {
	if p.file == "" {
		return func(string) error { return nil }, nil
	}
	if ssh != "" {
		return nil, usageError{errors.New("a host that is reached over SSH pins its roster itself: idletally agent " +
			"roster pin, there")}
	}
	want, err := digestOf(p.fingerprint)
	if err != nil {
		return nil, err
	}
	_, document, err := readRoster(p.file)
	if err != nil {
		return nil, err
	}
	return func(folder string) error {
		_, err := agent.PinRoster(folder, document, want)
		return err
	}, nil
}
