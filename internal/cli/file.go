//go:build linux

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/archive"
	"idletally/internal/client"
	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/tree"
	"idletally/internal/host/identity"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
	"idletally/internal/wire"
)

// fileCommands are those for snapshots as files.
func fileCommands(o *options) []*cobra.Command {
	return []*cobra.Command{snapshotSave(o), snapshotExport(o), snapshotImport(o), snapshotVerify(o)}
}

// snapshotSave returns the command snapshot save.
func snapshotSave(o *options) *cobra.Command {
	var roots []string
	var host string
	var application string
	var cross bool
	var gentle scan.Throttle
	save := &cobra.Command{
		Use: "save FILE",
		Short: "Take a snapshot of this machine into a file, without any service; exit code 4 where a root " +
			"could not be read",
		Args: args(1, 1, "a file to write"),
		RunE: func(c *cobra.Command, a []string) error {
			if len(roots) == 0 {
				return usageError{errors.New("say which folders: --root FOLDER")}
			}

			if host == "" {
				var err error
				if host, err = os.Hostname(); err != nil {
					return err
				}
			}

			for _, x := range []struct{ flag, name string }{{"--host", host}, {"--application", application}} {
				if !baseline.Name.MatchString(x.name) && (x.name != "" || x.flag == "--host") {
					return usageError{
						fmt.Errorf(
							"%s %s cannot be a name: it is the one that the service knows it by, of small letters, "+
								"digits, dots, dashes and underscores",
							x.flag, pathname.Escape(x.name)),
					}
				}
			}

			head, unread, err := saveHere(c.Context(), a[0], archive.Head{Host: host, Application: application}, roots,
				scan.Options{Cross: cross, Throttle: &gentle})
			if err != nil {
				return err
			}

			for _, d := range head.Denied[:min(len(head.Denied), 20)] {
				tell(c.ErrOrStderr(), "not read: %s: %s\n", d.Path, d.Reason)
			}

			if err := o.showFile(c, a[0], head); err != nil || unread == 0 {
				return err
			}

			return errNotSo
		},
	}

	save.Flags().StringArrayVar(&roots, "root", nil, "a folder; repeatable")
	save.Flags().StringVar(&host, "host", "", "the host's name in the file (default: what this machine is called)")
	save.Flags().StringVar(&application, "application", "", "the application that it is of")
	gentleFlags(save, &gentle)
	save.Flags().BoolVar(&cross, "cross", false, "go into other file systems that are mounted below")
	return save
}

// snapshotVerify returns the command snapshot verify.
func snapshotVerify(o *options) *cobra.Command {
	var fingerprint string
	check := &cobra.Command{
		Use:   "verify FILE",
		Short: "Say whether a snapshot file is whole and sound",
		Args:  args(1, 1, "a snapshot file"),
		RunE: func(c *cobra.Command, a []string) error {
			head, spool, err := readFile(a[0])
			if err != nil {
				return err
			}
			defer spool.Close()
			if err := head.Meant(fingerprint); err != nil {
				return err
			}

			return o.showFile(c, a[0], head)
		},
	}

	fingerprintFlag(check, &fingerprint)
	return check
}

// snapshotExport returns the command snapshot export.
func snapshotExport(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "export SNAPSHOT FILE",
		Short: "Write a stored snapshot to a file that holds all of it",
		Args:  args(2, 2, "a snapshot and a file to write"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if err := create(a[1], func(w io.Writer) error {
				return api.ExportSnapshot(c.Context(), a[0], w)
			}); err != nil {
				return err
			}

			head, spool, err := readFile(a[1])
			if err != nil {
				return err
			}
			defer spool.Close()
			return o.showFile(c, a[1], head)
		}),
	}
}

// snapshotImport returns the command snapshot import.
func snapshotImport(o *options) *cobra.Command {
	var host string
	var application string
	var fingerprint string
	take := &cobra.Command{Use: "import FILE", Short: "Take a snapshot file in", Args: args(1, 1, "a snapshot file"),
		Long: `Take a snapshot file in, as the snapshot of a host that the service knows. It counts from the time
at which it was taken; where it is the host's newest it is held against the published baseline.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			head, spool, err := readFile(a[0])
			if err != nil {
				return err
			}
			spool.Close()
			if err := head.Meant(fingerprint); err != nil {
				return err
			}

			if host == "" {
				host = head.Host
			}

			if application == "" {
				application = head.Application
			}

			if application == "" {
				return usageError{errors.New("the file does not say of which application it is: --application NAME")}
			}
			f, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer f.Close()

			s, err := api.ImportSnapshot(c.Context(), application, host, fingerprint, f)
			if err != nil {
				return err
			}

			return showSnapshots(o, c, []wire.Snapshot{s})
		})}

	fingerprintFlag(take, &fingerprint)
	take.Flags().StringVar(&host, "host", "", "the host (default: as the file says)")
	take.Flags().StringVar(&application, "application", "", "the application (default: as the file says)")
	return take
}

// saveHere scans this machine and writes what it found. It returns how many of the roots could not be read.
func saveHere(
	ctx context.Context, file string, head archive.Head, roots []string, opt scan.Options,
) (_ archive.Head, unread int, err error) {
	for i, r := range roots {
		abs, err := filepath.Abs(r)
		if err != nil {
			return head, 0, err
		}
		roots[i] = abs
	}

	slices.Sort(roots)
	roots = slices.Compact(roots)
	for _, r := range roots {
		if i := slices.IndexFunc(roots, func(other string) bool {
			return other != r && pathname.Under(r, other)
		}); i >= 0 {
			return head, 0, usageError{
				fmt.Errorf("--root %s lies in %s: give one of them", pathname.Escape(r), pathname.Escape(roots[i])),
			}
		}
		head.Roots = append(head.Roots, pathname.Path(r))
	}

	dir, err := identity.Read(ctx)
	if err != nil {
		return head, 0, err
	}
	spool, err := spool.New(filepath.Dir(file))
	if err != nil {
		return head, 0, err
	}
	defer spool.Close()

	head.Taken = time.Now().UTC().Truncate(time.Second)
	forest, stats, err := scan.Scan(ctx, roots, opt, spool)
	if err != nil {
		return head, 0, err
	}

	dir = new(identity.Owners).Complete(ctx, dir, stats.Owners())
	head.SnapshotDone = agent.Outcome(roots, forest, stats, dir)
	tops, err := tree.Load(ctx, spool, forest)
	if err != nil {
		return head, 0, err
	}

	for _, e := range tops[0].Entries {
		if e.Gap != tree.NoGap {
			unread++
		}
	}

	return head, unread, create(file, func(w io.Writer) error { return archive.Write(ctx, w, head, spool) })
}
