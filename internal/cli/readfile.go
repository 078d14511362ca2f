package cli

import (
	"cmp"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/archive"
	"idletally/internal/client"
	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/tree"
	"idletally/internal/core/verdict"
	"idletally/internal/host/spool"
	"idletally/internal/wire"
)

// readFile reads and checks a snapshot file. Its nodes are in the spool.
func readFile(name string) (head archive.Head, nodes *spool.Spool, err error) {
	f, err := os.Open(name)
	if err != nil {
		return head, nil, err
	}
	defer f.Close()

	if nodes, err = spool.New(os.TempDir()); err != nil {
		return head, nil, err
	}

	err = archive.Read(f, func(h archive.Head) error { head = h; return nil }, func(h tree.Hash, b []byte) error {
		return nodes.Put(h, b)
	})
	if err != nil {
		nodes.Close()
		return head, nil, fmt.Errorf("%s: %w", name, err)
	}

	return head, nodes, nil
}

// fingerprintFlag lets a command insist on exactly the file that was written elsewhere.
func fingerprintFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "fingerprint", "",
		"the file's, as it was shown where it was written: another file is refused")
}

// showFile shows what a snapshot file is.
func (o *options) showFile(c *cobra.Command, name string, head archive.Head) error {
	is, err := head.Fingerprint()
	if err != nil {
		return err
	}
	shown := struct {
		archive.Head
		Fingerprint string `json:"fingerprint"`
	}{head, is}
	return o.showOne(c, shown, "file", name, "host", head.Host, "taken", head.Taken, "paths", num(head.Paths), "gaps",
		num(head.Gaps), "root hash", head.Forest.String(), "fingerprint", is)
}

// fileDrift compares a snapshot file with a baseline file.
func fileDrift(o *options) *cobra.Command {
	var strict bool
	var age maxAge
	var tags []string
	var fingerprint string
	c := &cobra.Command{
		Use:   "file SNAPSHOT-FILE BASELINE-FILE",
		Short: "Hold a snapshot file against a baseline file, without any service",
		Args:  args(2, 2, "a snapshot file and a baseline file"),
		RunE: func(c *cobra.Command, a []string) error {
			head, spool, err := readFile(a[0])
			if err != nil {
				return err
			}
			defer spool.Close()

			if err := head.Meant(fingerprint); err != nil {
				return err
			}
			text, err := read(c, a[1])
			if err != nil {
				return err
			}
			doc, err := baseline.ParseFor([]byte(text), baseline.Env{Host: head.Host, Tags: tags})
			if err != nil {
				return fmt.Errorf("%s:\n%w", a[1], err)
			}

			m, problems := baseline.Compile(doc, head.Directory)
			for _, p := range problems {
				tell(c.ErrOrStderr(), "%s:%s: %s\n", a[1], p.Position, p.Message)
			}

			sum, groups, err := drift.Compare(c.Context(), spool, head.Forest, m, head.Directory, nil, nil,
				drift.Report{
					Finding: func(drift.Finding) error { return nil }, Unread: func(drift.Unread) error { return nil },
				})
			if err != nil {
				return err
			}

			r := wire.Report{
				Application: doc.Application,
				Host:        head.Host,
				Created:     head.Taken,
				Paths:       int64(sum.Paths),
				Judged:      int64(sum.Judged),
				Findings:    int64(sum.Findings),
				Unread:      int64(sum.Unread),
			}

			for _, g := range groups {
				if len(g.Effect.Opens) > 0 {
					r.Opens += int64(g.Count)
				}
				if len(g.Effect.Closes) > 0 {
					r.Closes += int64(g.Count)
				}
			}

			now := time.Now()
			look := verdict.Look{
				At:       head.Taken,
				Until:    head.Taken.Add(cmp.Or(age.Duration, verdict.DefaultAge)),
				Findings: r.Findings,
				Unread:   r.Unread,
			}

			d := client.Drift{
				Verdict: wire.VerdictOf(verdict.Of([]verdict.Look{look}, now)),
				Hosts:   []wire.HostVerdict{wire.HostVerdictOf(head.Host, look, now)},
				Reports: []wire.Report{r},
			}
			for _, g := range groups {
				d.Groups = append(d.Groups, wire.GroupOf(head.Host, g))
			}

			if err := showDrift(o, c, doc.Application, d); err != nil {
				return err
			}
			if strict && !d.Verdict.Holds {
				return errNotSo
			}

			return nil
		},
	}

	fingerprintFlag(c, &fingerprint)
	c.Flags().BoolVar(&strict, "strict", false,
		"exit with 4 unless everything is as declared, in a snapshot that is not too old")
	c.Flags().Var(&age, "max-age", "how long a look counts, such as 90m, 26h or 7d; 26h by default")
	c.Flags().StringArrayVar(&tags, "tag", nil, "a tag that the host has; repeatable")
	return c
}
