package cli

import (
	"encoding/base64"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
)

func keysCommand(o *options) *cobra.Command {
	show := &cobra.Command{
		Use:   "show",
		Short: "Show by which keys hosts are to know the service, and which do not yet",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			k, err := api.Keys(c.Context())
			if err != nil {
				return err
			}

			if o.output == "table" {
				for i, a := range k.Authorities {
					what := "authority"
					if i > 0 {
						what = "former authority"
					}
					printf(c, "%-17s %s, from %s until %s", what, a.Fingerprint, a.From.Local().Format(time.DateOnly),
						a.Until.Local().Format(time.DateOnly))
				}

				printf(c, "%-17s %s", "order key", base64.StdEncoding.EncodeToString(k.OrderKey))
				for _, r := range k.Replaced {
					printf(c, "%-17s %s, replaced %s", "former order key", base64.StdEncoding.EncodeToString(r.Key),
						r.At.Local().Format(time.DateTime))
				}

				printf(c, "")
			}

			t := table{
				head:  []string{"HOST", "BEHIND WITH", "LAST SEEN"},
				value: k,
				none:  "Every enrolled host knows the service by these.",
			}
			for _, h := range k.Behind {
				var with []string
				if h.Authority {
					with = append(with, "authority")
				}

				if h.OrderKey {
					with = append(with, "order key")
				}

				seen := whenever(h.LastSeen)
				if h.Carried {
					seen = "carried"
				}

				t.add(h.Host, strings.Join(with, ", "), seen)
			}

			if err := o.show(c, t); err != nil || !k.More || o.output != "table" {
				return err
			}

			printf(c, "and others")
			return nil
		}),
	}

	return commandGroup("keys", "Show and replace the keys that hosts know the service by",
		append([]*cobra.Command{show}, ownKeys()...)...)
}
