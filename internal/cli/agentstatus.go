package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
)

// hostHere is an agent's folder on this machine, and how its agent is doing.
type hostHere struct {
	Folder  string        `json:"folder"`
	Host    string        `json:"host"`
	Service string        `json:"service,omitempty"`
	Roots   []string      `json:"roots"`
	Well    bool          `json:"well"`
	Says    string        `json:"says"`    // in words
	Changes string        `json:"changes"` // by what it does, in words
	Agent   *agent.Status `json:"agent,omitempty"`
}

// heardWithin is how long ago a service may have answered an agent that is well: an agent that waits is answered each
// half minute.
const heardWithin = 3 * time.Minute

func agentStatus(o *options, folder *string) *cobra.Command {
	var each string
	c := &cobra.Command{
		Use:   "status",
		Short: "Say how the agent of this host fares, without asking any service",
		Args:  args(0, 0, "no argument"),
		Long: `Say how the agent of this host fares: whether it runs, when the service answered it last, whether it
hears of changes, what it is at, and how long its certificate is good. The agent itself is asked, by
its folder; no service is. The exit code is 4 where something is wrong.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if each != "" {
				return showHostsHere(c, o, each)
			}

			h, err := lookHere(c.Context(), *folder, time.Now())
			if err == nil {
				err = o.showOne(c, h, h.pairs()...)
			}

			if err == nil && !h.Well {
				err = errNotSo
			}

			return err
		},
	}

	c.Flags().StringVar(&each, "each", "", "of every host enrolled into a subfolder of this one")
	return c
}

// showHostsHere shows those whose folders are in one, a line each.
func showHostsHere(c *cobra.Command, o *options, top string) error {
	names, err := filepath.Glob(filepath.Join(top, "*", agent.SettingsFile))
	if err != nil {
		return err
	}
	if _, err := os.ReadDir(top); err != nil {
		return err
	}

	list := []hostHere{}
	t := table{
		head: []string{"HOST", "WELL", "ANSWERED", "WATCH", "AT WORK", "CERTIFICATE UNTIL", "WHAT IS WRONG"},
		none: "No host is enrolled there.",
	}
	ill := false

	for _, name := range names {
		h, err := lookHere(c.Context(), filepath.Dir(name), time.Now())
		if err != nil {
			h.Says = err.Error()
		}

		list = append(list, h)
		ill = ill || !h.Well
		s := h.Agent
		if s == nil {
			s = &agent.Status{}
		}

		until := any("")
		if h.Agent != nil {
			until = s.Until
		}

		wrong := ""
		if !h.Well {
			wrong = h.Says
		}

		t.add(cmp.Or(h.Host, filepath.Base(h.Folder)), yesNo(h.Well), whenever(s.Answered), yesNo(s.Watching),
			atWork(s.Work), until, wrong)
	}

	t.value = list
	if err := o.show(c, t); err != nil {
		return err
	}
	if ill {
		return errNotSo
	}

	return nil
}

// lookHere asks the agent that works with a folder.
func lookHere(ctx context.Context, folder string, now time.Time) (h hostHere, err error) {
	h.Folder = folder
	s, err := agent.Load(folder)
	if err != nil {
		return h, err
	}

	h.Host = s.Host
	h.Service = s.Service
	h.Changes = changesBy(folder)
	h.Roots = s.Roots

	switch {
	case s.Remote != nil:
		h.Well, h.Says = true,
			"reached over SSH at "+s.Remote.Address+
				": its agent is there, idletally agent status says there how it fares"
		return h, nil
	case s.Service == "":
		h.Well, h.Says = true, "its service is not reached by network: orders are carried here"
		return h, nil
	}

	st, err := agent.StatusOf(ctx, folder)
	if err != nil {
		h.Says = err.Error()
		return h, nil
	}

	h.Agent = &st
	h.Well, h.Says = judge(st, now)
	return h, nil
}

// changesBy says what the host of a folder changes by.
func changesBy(folder string) string {
	here, err := agent.RosterOf(folder)
	switch {
	case err != nil:
		return "nothing: " + err.Error()
	case here == nil:
		return "by its service's word alone: it knows no roster"
	}
	return fmt.Sprintf("only by what people of the roster have signed: edition %d, %s", here.Edition, here.Digest())
}

// judge reports whether an agent is well: in touch with its service lately, and without anything that has been
// failing for long.
func judge(s agent.Status, now time.Time) (well bool, says string) {
	why := ""
	if s.Failing != nil {
		why = s.Failing.Why
	}

	switch {
	case !now.Before(s.Until):
		return false, "its certificate has ended: invite the host anew, and enrol it"
	case s.Answered == nil && (why != "" || now.Sub(s.Since) > heardWithin):
		return false, "the service has not answered it yet" + faulty(why)
	case s.Answered != nil && now.Sub(*s.Answered) > heardWithin:
		return false, fmt.Sprintf("the service has not answered it for %s%s", now.Sub(*s.Answered).Round(time.Second),
			faulty(why))
	case s.Failing != nil && now.Sub(s.Failing.Since) > heardWithin:
		return false, fmt.Sprintf("it has asked for %s in vain for %s%s", s.Failing.What,
			now.Sub(s.Failing.Since).Round(time.Second), faulty(why))
	case s.Failing != nil:
		return true, "it works, though a call failed since" + faulty(why)
	}

	return true, "it works"
}

func (h hostHere) pairs() []any {
	out := []any{"host", h.Host, "state", h.Says, "service", h.Service}
	if s := h.Agent; s != nil {
		out = append(out, "agent", fmt.Sprintf("%s, process %d, since %s", s.Version, s.Process, when(s.Since)),
			"answered last", whenever(s.Answered), "hears of changes", yesNo(s.Watching))
		out = append(out, lines("not watched", s.Notes)...)
		out = append(out, "at work", atWork(s.Work), "certificate until", when(s.Until))
	}
	out = append(out, "changes", h.Changes)
	return append(out, lines("roots", h.Roots)...)
}

func atWork(w *agent.WorkNow) string {
	if w == nil {
		return ""
	}
	text := fmt.Sprintf("%s %s since %s: %s", w.Kind, w.ID, when(w.Since), num(w.Done))
	if w.Total > 0 {
		text += " of " + num(w.Total)
	}
	return text
}
