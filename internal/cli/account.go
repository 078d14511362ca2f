package cli

import (
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
	"idletally/internal/host/identity"
	"idletally/internal/inquiry"
	"idletally/internal/wire"
)

func accountCommand(o *options) *cobra.Command {
	var w where
	show := &cobra.Command{
		Use:   "show [ACCOUNT]",
		Short: "Say who you are here, or who an account is, with its groups",
		Args:  args(0, 1, "at most one account"),
		Long: `Say who you are here, or who an account (a name or a number) is, and which groups it belongs to:
also those that the name-service switch knows beyond the local files. For yourself it also says
where the groups you work with now differ from those you are a member of: a new membership counts
from the next login on.` + whereHelp,
		RunE: func(c *cobra.Command, a []string) error {
			var v wire.Account
			if len(a) == 0 && w.local() {
				_, err := thisMachine()
				if err != nil {
					return err
				}
				if v, err = whoAmI(c); err != nil {
					return err
				}
			} else {
				if len(a) == 0 {
					return usageError{args(1, 1, "an account")(c, a)}
				}
				l, err := w.looker(o)
				if err != nil {
					return err
				}
				if v, err = l.Account(c.Context(), a[0]); err != nil {
					return err
				}
			}

			pairs := []any{"account", v.Name, "number", v.ID, "groups", strings.Join(v.Groups, ", ")}
			for _, n := range v.Notes {
				pairs = append(pairs, "note", n)
			}

			return o.showOne(c, v, pairs...)
		},
	}

	n := commandGroup("account", "Show accounts and their groups", show)
	w.flags(n)
	return n
}

func whoAmI(c *cobra.Command) (wire.Account, error) {
	me := strconv.Itoa(os.Geteuid())
	dir, err := identity.Read(c.Context(), me)
	if err != nil {
		return wire.Account{}, err
	}
	v, err := inquiry.AccountOf(dir, me)
	if err != nil {
		return v, err
	}
	now, err := os.Getgroups()
	if err != nil {
		return v, err
	}
	v.Notes = append(v.Notes, stale(dir, v.Groups, append(now, os.Getegid()))...)
	return v, nil
}

// stale says where the groups of a process differ from the memberships.
func stale(d *perm.Directory, member []string, now []int) (notes []string) {
	var have []string
	for _, g := range now {
		name := d.Name(unixid.GID(uint32(g)))
		have = append(have, name)
		if !slices.Contains(member, name) {
			notes = append(notes,
				"you work with group "+name+" now, and are no member of it any more: it counts until you log out")
		}
	}

	for _, g := range member {
		if !slices.Contains(have, g) {
			notes = append(notes, "you are a member of "+g+", but it does not count yet: log in anew")
		}
	}

	slices.Sort(notes)
	return slices.Compact(notes)
}
