package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/archive"
	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/untrusted"
	"idletally/internal/wire"
)

// Commands for hosts without a network: files go there and come back.

func agentRequest(folder *string) *cobra.Command {
	var roots []string
	c := &cobra.Command{
		Use:   "request FILE",
		Short: "Ask a service to let this host in, by a file that somebody carries there",
		Args:  args(1, 1, "a file to write"),
		Long: `Ask a service to let this host in, where nothing leads from one to the other. The key of its
certificate stays in the agent's folder. What "idletally host admit" answers to the file is taken by
"idletally agent join". From then on "idletally agent carry" carries out orders.

The roots are this host's own decision, as with "idletally agent enrol".`,
		RunE: func(c *cobra.Command, a []string) error {
			raw, err := rootsGiven(roots)
			if err != nil {
				return err
			}

			var fingerprint string
			if err := create(a[0], func(w io.Writer) (err error) {
				fingerprint, err = agent.RequestFile(c.Context(), agent.Joining{Folder: *folder, Roots: raw}, Version,
					w)
				return err
			}); err != nil {
				return err
			}

			printf(c,
				"The fingerprint of this request is %s. Tell it whoever admits the host, by another way than "+
					"the file goes.",
				fingerprint)
			printf(c, "Carry %s to where the service is, and there: idletally host admit NAME %s ADMISSION",
				printable(a[0]), printable(a[0]))
			return nil
		},
	}

	c.Flags().StringArrayVar(&roots, "root", nil, "folder below which the agent may work; give it once for each")
	_ = c.MarkFlagRequired("root")
	return c
}

func agentJoin(folder *string) *cobra.Command {
	var fingerprint string
	c := &cobra.Command{
		Use:   "join FILE",
		Short: "Take the admission that was carried back",
		Args:  args(1, 1, "an admission"),
		Long: `Take the admission that was carried back. Whoever carries it could have put another in its place,
with which this host would take its orders from them: so its fingerprint is asked for, as "idletally
host admit" has shown it and somebody has told it by another way.`,
		RunE: func(c *cobra.Command, a []string) error {
			f, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer f.Close()

			got, err := agent.ReadAdmission(f)
			if err != nil {
				return err
			}
			if err := compared(c, "the admission", fingerprint, got.Fingerprint()); err != nil {
				return err
			}
			host, err := agent.JoinByFile(*folder, got)
			if err != nil {
				return err
			}

			printf(c, "This is host %s. Orders are carried out with: idletally agent carry ORDER REPORT",
				printable(host))
			return nil
		},
	}

	c.Flags().StringVar(&fingerprint, "fingerprint", "",
		"the admission's, as it was shown where the host was admitted; otherwise it is asked for")
	return c
}

// compared checks whether somebody has compared a fingerprint with the other side: given is what they say that it is.
func compared(c *cobra.Command, what, given, is string) error {
	if given == "" {
		typed, err := ask(c, fmt.Sprintf("The fingerprint of %s, as it was shown on the other side: ", what))
		if err != nil {
			return usageError{fmt.Errorf("give --fingerprint: that of %s, as it was shown on the other side", what)}
		}
		given = typed
	}
	if !archive.SameFingerprint(given, is) {
		return fmt.Errorf(
			"this is not %s that was made on the other side: its fingerprint is %s. Somebody may have put "+
				"another in its place",
			what, is)
	}
	return nil
}

func agentCarry(o *options, folder *string) *cobra.Command {
	var lookOnly bool
	c := &cobra.Command{
		Use:   "carry ORDER REPORT",
		Short: "Carry out an order that was carried here, and write the report of it",
		Args:  args(2, 2, "an order and a report to write"),
		Long: `Carry out an order that "idletally run export" wrote, and write the report that is to be carried
back, for "idletally run import".

The order is checked as if it came over the network: it is signed by the service that this host
joined, is for this host, and has not expired. Originals are safe in the agent's folder before
anything is changed; "idletally agent put-back" needs no service. Where it is broken off, the same
command goes on where it was.`,
		RunE: func(c *cobra.Command, a []string) error {
			ag, err := agent.New(*folder, slog.New(slog.DiscardHandler)) // the report tells all
			if err != nil {
				return err
			}

			ag.LookOnly = ag.LookOnly || lookOnly
			order, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer order.Close()

			show, shown := stepsBar("")
			var done wire.RunDone
			if err := create(a[1], func(w io.Writer) (err error) {
				done, err = ag.Carry(c.Context(), order, w, show)
				return err
			}); err != nil {
				shown()
				if errors.Is(err, context.Canceled) {
					return fmt.Errorf("broken off: the same command goes on where it was: %w", err)
				}
				return err
			}

			shown()
			other := map[string]int{}
			for _, r := range done.Results {
				other[r.Outcome.String()]++
			}

			if err := o.showOne(c, done, "state", done.State, "done", strconv.Itoa(done.Done), "already",
				strconv.Itoa(other["already"]), "skipped", strconv.Itoa(other["skipped"]),
				"refused", strconv.Itoa(other["refused"]), "changed again", strconv.Itoa(len(done.Wrong)), "message",
				printable(done.Message), "report", printable(a[1])); err != nil {
				return err
			}
			if done.State != lifecycle.PartFinished || other["skipped"]+other["refused"]+len(done.Wrong) > 0 {
				return fmt.Errorf("%w", errNotSo)
			}

			return nil
		},
	}

	c.Flags().BoolVar(&lookOnly, "look-only", false, "change nothing on this host, whoever signs what")
	return c
}

func hostAdmit(o *options) *cobra.Command {
	var fingerprint string
	c := &cobra.Command{
		Use:   "admit NAME REQUEST ADMISSION",
		Short: "Admit a host without a network, by a request that was carried",
		Args:  args(3, 3, "a host's name, a request, and a file to write"),
		Long: `Admit a host without a network, by a request that was carried. Whoever carries it could have
put another in its place: so its fingerprint is asked for, as "idletally agent request" has shown it
on the host and somebody has told it by another way. The admission has one of its own, which
"idletally agent join" asks for.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			b, err := os.ReadFile(a[1])
			if err != nil {
				return err
			}

			var r archive.Request
			if err := untrusted.JSON(b, 100, &r); err != nil || r.Format != archive.RequestFormat {
				return errors.Join(
					fmt.Errorf("%s is no request: write one on the host with idletally agent request", printable(a[1])),
					err)
			}
			if err := compared(c, "the request", fingerprint, r.Fingerprint()); err != nil {
				return err
			}
			got, err := api.Admit(c.Context(), a[0], wire.Admit{Request: r.Request, Version: r.Version})
			if err != nil {
				return err
			}

			admission := archive.Admission{Format: archive.AdmissionFormat, Enrolled: got}
			if err := create(a[2], func(w io.Writer) error {
				return json.NewEncoder(w).Encode(admission)
			}); err != nil {
				return err
			}

			return o.showOne(c, got, "host", got.Host, "admission", printable(a[2]), "fingerprint",
				admission.Fingerprint(), "on the host", "idletally agent join "+printable(a[2]))
		}),
	}

	c.Flags().StringVar(&fingerprint, "fingerprint", "",
		"the request's, as it was shown on the host; otherwise it is asked for")
	return c
}

func runExport(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "export RUN HOST FILE",
		Short: "Write a run's signed order for a host without a network",
		Args:  args(3, 3, "a run, a host, and a file to write"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := create(a[2], func(w io.Writer) error {
				return api.WriteOrder(c.Context(), a[0], a[1], w)
			}); err != nil {
				return err
			}

			f, err := os.Open(a[2])
			if err != nil {
				return err
			}
			defer f.Close()

			order, err := archive.OpenOrder(f)
			if err != nil {
				return err
			}
			defer order.Close()

			return o.showOne(c, order.OrderHead, "order", printable(a[2]), "run", a[0], "host", order.Host,
				"on the host", "idletally agent carry "+printable(a[2])+" REPORT")
		}),
	}
}

func runImport(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE",
		Short: "Take in a run's report that was carried back",
		Args:  args(1, 1, "a report"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			f, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer f.Close()

			r, err := api.TakeReport(c.Context(), f)
			if err != nil {
				return err
			}

			return showRun(o, c, api, r)
		}),
	}
}
