package cli

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/chain"
	"idletally/internal/wire"
)

func historyCommand(o *options) *cobra.Command {
	var list listing
	var past client.HistoryQuery
	var from, to string
	c := &cobra.Command{Use: "history", Short: "Show who did what, newest first", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) (err error) {
			for text, at := range map[*string]*time.Time{&from: &past.From, &to: &past.To} {
				if *text == "" {
					continue
				}
				if *at, err = time.ParseInLocation(time.DateOnly, *text, time.Local); err != nil {
					return usageError{fmt.Errorf("%q is no day: want %s", *text, time.DateOnly)}
				}
			}

			t := table{
				head: []string{"AT", "WHO", "TOKEN", "WHAT", "SUBJECT", "DETAIL"},
				none: "Nothing of that kind happened.",
			}
			return showPages(o, c, list, "lines", api.HistoryPages(past).Page, t, func(t *table, h wire.History) {
				t.add(forms{h.At.Local().Format(time.DateTime), h.At}, h.Who, h.Token, h.What, h.Subject, h.Detail)
			})
		})}

	listFlags(c, &list, 50)
	c.Flags().StringVar(&past.Who, "who", "", "what this person did, or an agent: \"agent HOST\"")
	c.Flags().StringVar(&past.What, "what", "", "what begins so: plan, run, sign-in, …")
	c.Flags().StringVar(&past.Subject, "subject", "", "what was done to this plan, run, host, application or person")
	c.Flags().StringVar(&from, "from", "", "from this day on: "+time.DateOnly)
	c.Flags().StringVar(&to, "to", "", "before this day")
	c.AddCommand(historyVerbs(o)...)
	return c
}

// historyVerbs verify the history, at the service or from a file.
func historyVerbs(o *options) []*cobra.Command {
	return []*cobra.Command{historyVerify(o), historyExport(o)}
}

// historyVerify returns the command history verify.
func historyVerify(o *options) *cobra.Command {
	var key string
	var head string
	verify := &cobra.Command{
		Use:   "verify [FILE]",
		Short: "Verify that nothing of the history was changed, taken out or put in",
		Args:  args(0, 1, "at most a file"),
		Long: `Verify that nothing of the history was changed, taken out or put in: at the service, or, without any
service, in a file that "idletally history export" wrote. It exits with 4 where the history is not
as it was written.

Whoever writes into the database and has the service's keys can write a whole history anew. So note
its head elsewhere now and then, and give it with --head later: a history that does not go through
it any more is another one.`,
		RunE: func(c *cobra.Command, a []string) error {
			if len(a) == 0 && head == "" {
				api, err := o.client()
				if err != nil {
					return err
				}
				r, err := api.CheckHistory(c.Context())
				if err != nil {
					return err
				}

				if r.Fault != "" {
					printf(c, "%s", r.Fault)
					return errNotSo
				}

				return o.showOne(c, r, "lines", num(r.Lines), "head", r.Head, "signed by",
					base64.StdEncoding.EncodeToString(r.Key))
			}

			from, err := historyFrom(c, o, a)
			if err != nil {
				return err
			}
			defer from.Close()

			h, n, err := verifyHistory(from, key, head)
			if errors.Is(err, chain.ErrBroken) {
				printf(c, "%v", err)
				return errNotSo
			}

			if err != nil {
				return err
			}

			return o.showOne(c, map[string]any{"lines": n, "head": h.Hash}, "lines", num(n), "head", h.Hash.String())
		},
	}

	verify.Flags().StringVar(&key, "key", "",
		"the service's public key (base64), as \"history verify\" has told it before; of a file, its own otherwise")
	verify.Flags().StringVar(&head, "head", "", "a head that was noted before: the history has to go through it")
	return verify
}

// historyExport returns the command history export.
func historyExport(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "export FILE",
		Short: "Write the whole history, to be verified elsewhere",
		Args:  args(1, 1, "a file"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			return create(a[0], func(w io.Writer) error { return api.ExportHistory(c.Context(), w) })
		}),
	}
}

func historyFrom(c *cobra.Command, o *options, a []string) (io.ReadCloser, error) {
	if len(a) == 1 {
		return os.Open(a[0])
	}
	api, err := o.client()
	if err != nil {
		return nil, err
	}
	r, w := io.Pipe()
	go func() { _ = w.CloseWithError(api.ExportHistory(c.Context(), w)) }()
	return r, nil
}

// maxHistoryLine is more than a line can have: its detail is bounded.
const maxHistoryLine = 1 << 20

// verifyHistory goes by an exported history.
func verifyHistory(r io.Reader, key, through string) (h chain.Head, n int64, err error) {
	var w chain.Walker
	passed := through == ""
	sc := bufio.NewScanner(r)
	sc.Buffer(nil, maxHistoryLine)

	for sc.Scan() {
		if h.Seq != 0 {
			return h, 0, fmt.Errorf("%w: something follows on its head", chain.ErrBroken)
		}

		if !bytes.HasPrefix(sc.Bytes(), []byte(`{"head":`)) {
			var l chain.Line
			if err := json.Unmarshal(sc.Bytes(), &l); err != nil {
				return h, 0, fmt.Errorf("%w: behind line %d: %w", chain.ErrBroken, w.Seq, err)
			}
			if err := w.Next(l); err != nil {
				return h, 0, err
			}

			passed = passed || l.Hash.String() == through
			continue
		}

		var end chain.End
		if err := json.Unmarshal(sc.Bytes(), &end); err != nil {
			return h, 0, fmt.Errorf("%w: its head: %w", chain.ErrBroken, err)
		}

		if key != "" {
			if end.Key, err = base64.StdEncoding.DecodeString(key); err != nil {
				return h, 0, usageError{fmt.Errorf("--key: %w", err)}
			}
		}

		if len(end.Key) != ed25519.PublicKeySize {
			return h, 0, fmt.Errorf("%w: it names no key", chain.ErrBroken)
		}
		if err := w.End(end.Head, end.Key); err != nil {
			return h, 0, err
		}

		h = end.Head
	}

	switch {
	case sc.Err() != nil:
		return h, 0, sc.Err()
	case h.Seq == 0:
		return h, 0, fmt.Errorf("%w: it has no head", chain.ErrBroken)
	case !passed:
		return h, 0, fmt.Errorf("%w: it does not go through the head that was noted", chain.ErrBroken)
	}

	return h, w.Seq, nil
}
