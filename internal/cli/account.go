//go:build linux

package cli

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/perm"
	"idletally/internal/host/identity"
)

// shownAccount is an account of this machine.
type shownAccount struct {
	Name   string   `json:"name"`
	ID     uint32   `json:"id"`
	Known  bool     `json:"known"`
	Groups []string `json:"groups"`
	Notes  []string `json:"notes,omitempty"`
}

func accountCommand(o *options) *cobra.Command {
	show := &cobra.Command{Use: "show [ACCOUNT]", Short: "Say who you are here, or who an account is, with its groups; needs no service", Args: args(0, 1, "at most one account"),
		Long: `Say who you are here, or who an account (a name or a number) is, and which groups it belongs to: also those
that the name-service switch knows beyond the local files. For yourself it also says where the groups you work
with now differ from those you are a member of: a new membership counts from the next login on.`,
		RunE: func(c *cobra.Command, a []string) error {
			dir, err := identity.Read(c.Context())
			if err != nil {
				return err
			}
			who := strconv.Itoa(os.Geteuid())
			if len(a) == 1 {
				who = a[0]
			}
			v, err := describeAccount(dir, who)
			if err != nil {
				return err
			}
			if len(a) == 0 {
				now, err := os.Getgroups()
				if err != nil {
					return err
				}
				v.Notes = append(v.Notes, stale(dir, v, append(now, os.Getegid()))...)
			}
			pairs := []string{"account", v.Name, "number", strconv.FormatUint(uint64(v.ID), 10), "groups", strings.Join(v.Groups, ", ")}
			for _, n := range v.Notes {
				pairs = append(pairs, "note", n)
			}
			return o.showOne(c, v, pairs...)
		}}
	return noun("account", "Accounts of this machine, without any service", show)
}

func describeAccount(d *perm.Directory, who string) (shownAccount, error) {
	id, ok := d.User(who)
	if !ok {
		n, err := strconv.ParseUint(who, 10, 32)
		if err != nil {
			return shownAccount{}, fmt.Errorf("there is no account %q on this machine", who)
		}
		id = perm.UID(uint32(n))
	}
	n, _ := id.ID()
	v := shownAccount{Name: d.Name(id), ID: n, Groups: []string{}}
	acc := d.Account(id)
	if acc == nil {
		v.Notes = append(v.Notes, "no account has this number: files that it owns belong to nobody who can sign in")
		return v, nil
	}
	v.Known = true
	for _, g := range acc.Groups {
		v.Groups = append(v.Groups, d.Name(g))
	}
	if acc.Service {
		v.Notes = append(v.Notes, "nobody signs in with this account: its login program refuses")
	}
	return v, nil
}

// stale says where the groups of a process differ from the memberships.
func stale(d *perm.Directory, v shownAccount, now []int) (notes []string) {
	var have []string
	for _, g := range now {
		name := d.Name(perm.GID(uint32(g)))
		have = append(have, name)
		if !slices.Contains(v.Groups, name) {
			notes = append(notes, "you work with group "+name+" now, and are no member of it any more: it counts until you log out")
		}
	}
	for _, g := range v.Groups {
		if !slices.Contains(have, g) {
			notes = append(notes, "you are a member of "+g+", but it does not count yet: log in anew")
		}
	}
	slices.Sort(notes)
	return slices.Compact(notes)
}
