package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"idletally/internal/handover"
	"idletally/internal/service/authority"
)

// ownKeys are the commands that work on a service's folder: the keys are files, and no call reaches them.
func ownKeys() []*cobra.Command {
	return []*cobra.Command{keysReplace(), keysEnd()}
}

// keysReplace returns the command keys replace.
func keysReplace() *cobra.Command {
	var data string
	var names []string
	of := func() string { return filepath.Join(data, "keys") }
	replace := &cobra.Command{
		Use:   "replace authority|orders",
		Short: "Replace the authority, or the key that signs orders",
		Args:  args(1, 1, "authority, or orders"),
		Long: `Replace the authority, or the key that signs orders, on the service's machine. Stop all instances
first and start them with the same folder again; agents follow by themselves, within an hour or when
they come next, and "idletally keys show" names those that have not.

authority: both count until "idletally keys end". Who trusts one of them can call the service. The
new one counts for the same names, or for those that --name gives; until the former one has ended
the service can have no others than both count for.

orders: the former key signs that the new one follows, and is gone then. A host that was away
follows when it comes. What was signed for carrying, and not carried out, has to be written anew; so
have backups: an older one brings the former keys back.

This is for keys that nobody else has. Whoever has copied one can go on with it as long as a host
does not know better: enrol hosts anew then.`,
		RunE: func(c *cobra.Command, a []string) error {
			var err error
			switch a[0] {
			case "authority":
				err = authority.ReplaceAuthority(of(), names)
			case "orders":
				if len(names) > 0 {
					return usageError{errors.New("--name is for an authority")}
				}
				err = authority.ReplaceOrders(of())
			default:
				return usageError{fmt.Errorf("%q is neither authority nor orders", a[0])}
			}

			return done(c, of(), err)
		},
	}

	replace.Flags().StringSliceVar(&names, "name", nil,
		"a name or address that the new authority is to count for; those of the former one otherwise")
	replace.Flags().StringVar(&data, "data", "/var/lib/idletally", "the service's own folder")
	return replace
}

// keysEnd returns the command keys end.
func keysEnd() *cobra.Command {
	var data string
	var now bool
	of := func() string { return filepath.Join(data, "keys") }
	end := &cobra.Command{
		Use:   "end",
		Short: "End the former authority: hosts that know it alone have to be enrolled anew",
		Args:  args(0, 0, "no argument"),
		RunE:  func(c *cobra.Command, _ []string) error { return done(c, of(), authority.EndFormer(of(), now)) },
	}

	end.Flags().BoolVar(&now, "now", false, "do not wait until the certificates that it signed have ended")
	end.Flags().StringVar(&data, "data", "/var/lib/idletally", "the service's own folder")
	return end
}

// done makes the files that root has made belong to the owner of their folder, and says what to do next.
func done(c *cobra.Command, dir string, err error) error {
	st, e := os.Stat(dir)
	if e != nil {
		return errors.Join(err, e)
	}
	owner := st.Sys().(*syscall.Stat_t)
	if os.Geteuid() == 0 && owner.Uid != 0 {
		err = errors.Join(err, handover.Give(dir, 0, int(owner.Uid), int(owner.Gid)))
	}
	if err != nil {
		return err
	}
	printf(c, "Start the service again, each of its instances with this folder: %s", dir)
	return nil
}
