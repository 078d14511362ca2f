package cli

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

// driftWatch follows how an application stands.
func driftWatch(o *options) *cobra.Command {
	var host string
	var age maxAge
	c := &cobra.Command{
		Use:   "watch APPLICATION",
		Short: "Follow how the hosts of an application stand, a line for each change",
		Args:  args(1, 1, "an application"),
		Long: `Follow how the hosts of an application stand: first as it is, then a line whenever that changes on a
host, until stopped. With -o json each line is an object for itself. Hosts that are watched are
heard of within a second of a change there.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if o.output == "csv" {
				return usageError{errors.New("--output csv: what goes on has no end: take table or json")}
			}

			f := &following{o: o, c: c, application: a[0], known: map[string]string{}}
			look := func(ctx context.Context) error {
				d, err := api.DriftWithin(ctx, a[0], host, age.Duration)
				if err != nil {
					return err
				}
				return f.tell(d)
			}

			if err := look(c.Context()); err != nil {
				return err
			}

			return f.follow(api, look)
		}),
	}

	c.Flags().StringVar(&host, "host", "", "only this host")
	c.Flags().Var(&age, "max-age",
		"how long a look counts, such as 90m, 26h or 7d; by default as the schedules have it")
	return c
}

// following is what was told of an application so far.
type following struct {
	o           *options
	c           *cobra.Command
	application string
	known       map[string]string // by host
}

// agesEvery is how often hosts are checked for snapshots that have become too old, which no event announces.
const agesEvery = time.Minute

func (f *following) follow(api *client.Client, look func(context.Context) error) error {
	ctx, cancel := context.WithCancel(f.c.Context())
	defer cancel()

	woken := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- api.Follow(ctx, func(h wire.Happening) error {
			if h.Kind == "begin" || h.Application == f.application {
				select {
				case woken <- struct{}{}:
				default: // it will look
				}
			}
			return nil
		})
	}()

	for {
		select {
		case err := <-ended:
			if errors.Is(err, context.Canceled) { // whoever follows has seen enough
				return nil
			}
			return err
		case <-woken:
		case <-time.After(agesEvery):
		}
		if err := look(ctx); err != nil && !errors.Is(err, client.ErrUnreachable) && ctx.Err() == nil {
			return err
		}
	}
}

// tell prints what of a drift was not printed yet.
func (f *following) tell(d client.Drift) error {
	w := f.c.OutOrStdout()
	if len(d.Hosts) == 0 {
		d.Hosts = []wire.HostVerdict{{Host: "-", State: d.Verdict.State, Says: d.Verdict.Says}}
	}

	for _, h := range d.Hosts {
		now := h.Says
		for _, r := range d.Reports {
			if r.Host == h.Host {
				now += r.ID // of another look that says the same, too
			}
		}

		if f.known[h.Host] == now {
			continue
		}

		f.known[h.Host] = now
		if f.o.output == "json" {
			if err := json.NewEncoder(w).Encode(h); err != nil {
				return err
			}
			continue
		}

		printf(f.c, "%s  %s: %s", time.Now().Local().Format(time.TimeOnly), h.Host, h.Says)
	}

	return nil
}
