//go:build linux

package demo

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/drift"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/service/engine"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// How big the big world is.
const (
	BigHosts    = 1000
	BigFindings = 100_000
	BigPaths    = 1_000_000
	BigFolder   = "/srv/fleet/archive" // with 100,000 children
)

// BigHost is the host on which most has gone wrong.
const BigHost = "ship-0001"

// BigBaseline is what is declared there.
const BigBaseline = `idletally: 1
application: fleet
title: Logs and papers of the whole fleet
hosts:
  tags: [fleet]
roots:
  - /srv/fleet
rules:
  - rule: everything
    why: The bridge keeps these, the crew reads.
    paths: /srv/fleet/**
    owner: bridge
    group: crew
    files: 0640
    folders: 0750
  - rule: papers
    paths: /srv/fleet/papers/**
    severity: grave
    files: 0600
    folders: 0700
`

// A Big is a service with a great many records: made up, and written to the database as they would be after agents
// had reported.
type Big struct {
	*Stage
	database *mariadb.Server
}

// End stops service and database.
func (b *Big) End() error {
	err := b.Stage.End()
	b.database.Stop()
	return err
}

// BeginBig starts database and service and fills them: 1,000 hosts, one of them with 1,000,000 paths and
// 100,000 findings.
func BeginBig(ctx context.Context, dir, program, listen string, log io.Writer) (b *Big, err error) {
	b = &Big{Stage: Bare(dir, program, log)}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, err
	}
	if b.database, err = mariadb.Start(ctx, filepath.Join(dir, "database")); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = b.End() // what went wrong before is what counts
		}
	}()

	if err := b.Serve(ctx, listen, b.database.DSN); err != nil {
		return b, err
	}
	if _, err := b.Crew(ctx); err != nil {
		return b, err
	}

	return b, b.fill(ctx)
}

func (b *Big) fill(ctx context.Context) error {
	st, err := store.Open(ctx, b.database.DSN)
	if err != nil {
		return err
	}
	defer st.Close()

	api, err := b.As(ctx, "quartermaster")
	if err != nil {
		return err
	}

	for i := range BigHosts {
		name := shipOf(i)
		if err := st.Invite(ctx, name, []string{"fleet"}, sha256.Sum256([]byte(name)),
			time.Now().Add(time.Hour)); err != nil {
			return err
		}
		if _, err := st.SetCertificate(ctx, name, store.Certified{Serial: "seeded", Version: "0"}); err != nil {
			return err
		}

		if i%250 != 7 { // some are silent
			if err := st.Seen(ctx, name); err != nil {
				return err
			}
		}
	}

	e, err := api.UploadBaseline(ctx, BigBaseline)
	if err != nil {
		return err
	}

	// Published before anything is compared, and compared here.
	if _, err := api.Publish(ctx, "fleet", e.Number); err != nil {
		return err
	}

	d := &engine.Engine{Store: st, Log: slog.New(slog.NewTextHandler(b.log, nil)), Memo: drift.NewMemo(400_000)}
	r := rand.New(rand.NewPCG(1, 1))
	nodes := tree.Memory{}
	forests := []tree.Hash{bigTree(nodes, BigFindings, 0)}
	for i := 1; i < 12; i++ { // the others are of a dozen kinds
		forests = append(forests, bigTree(nodes, []int{0, 3, 40, 600}[i%4], i))
	}

	var pack [][]byte
	size := 0
	flush := func() error {
		err := st.PutNodes(ctx, pack)
		pack, size = nil, 0
		return err
	}

	for _, f := range forests {
		err := tree.Each(ctx, nodes, f, func(_ tree.Hash, n []byte) error {
			pack = append(pack, n)
			size += len(n)
			if size < 4<<20 {
				return nil
			}

			return flush()
		})
		if err != nil {
			return err
		}
		if err := flush(); err != nil {
			return err
		}
	}

	dir := &perm.Directory{
		Groups: []perm.Account{{ID: unixid.GID(3001), Name: "crew"}, {ID: unixid.GID(3002), Name: "pursers"}},
	}
	dir.Accounts = append(dir.Accounts, perm.Account{ID: unixid.UID(0), Name: "root"}, perm.Account{
		ID:     unixid.UID(2001),
		Name:   "bridge",
		Groups: []perm.Principal{unixid.GID(3001)},
	})
	for i := range 500 {
		dir.Accounts = append(dir.Accounts, perm.Account{
			ID:     unixid.UID(uint32(4000 + i)),
			Name:   fmt.Sprintf("hand-%03d", i),
			Groups: []perm.Principal{unixid.GID(3001)},
		})
	}

	dir.Index()
	way := access.Way{
		{Path: "/", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set()},
		{Path: "/srv", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set()},
		{Path: "/srv/fleet", Kind: perm.Folder, Set: posix.State{UID: 2001, GID: 3001, Mode: 0o750}.Set()},
	}
	for i := range BigHosts {
		f := forests[0]
		if i > 0 {
			f = forests[1+r.IntN(len(forests)-1)]
		}

		times := 1
		if i == 0 {
			times = 3
		}

		for range times {
			id, err := st.ImportSnapshot(ctx, "fleet", shipOf(i), []string{"/srv/fleet"}, time.Now(),
				wire.SnapshotDone{Forest: f, Directory: dir, Paths: BigPaths, Ways: []access.Way{way}}, "quartermaster")
			if err != nil {
				return err
			}
			if err := st.ShowSnapshot(ctx, id); err != nil {
				return err
			}
			snap, err := st.Snapshot(ctx, id)
			if err != nil {
				return err
			}
			if err := d.Compare(ctx, snap); err != nil {
				return err
			}
		}
	}

	for i := range 20_000 {
		if err := st.Audit(ctx, store.By{Who: []string{"quartermaster", "harbourmaster", "bosun"}[i%3]},
			[]string{"snapshot asked for", "plan drafted", "plan approved", "run started"}[i%4], shipOf(i%BigHosts),
			""); err != nil {
			return err
		}
	}

	for i := range 3 {
		if _, err := api.DraftPlan(ctx, wire.Draft{
			Application: "fleet",
			All:         true,
			Folder:      "/srv/fleet/papers",
			Title:       fmt.Sprintf("Close the logs of the fleet, part %d", i+1),
		}); err != nil {
			return fmt.Errorf("draft a plan: %w", err)
		}
	}

	return nil
}

func shipOf(i int) string { return fmt.Sprintf("ship-%04d", i+1) }

// bigTree makes a tree of 1,000,000 paths of which some are wrong. Each kind differs in a folder of its own.
func bigTree(m tree.Memory, wrong, kind int) tree.Hash {
	set := func(md mode.Mode) perm.Set { return posix.State{UID: 2001, GID: 3001, Mode: md}.Set() }
	file := set(0o640)
	folder := set(0o750)
	open := set(0o644)
	left := wrong
	leaf := func(files int, prefix string) tree.Hash {
		var n tree.Node
		for i := range files {
			s := file
			if left > 0 {
				s = open
				left--
			}
			n.Entries = append(n.Entries, tree.Entry{
				Name: fmt.Sprintf("%s-%06d.log", prefix, i),
				Kind: perm.File,
				Set:  s,
			})
		}

		return m.Add(n)
	}

	var top tree.Node
	add := func(name string, child tree.Hash, s perm.Set) {
		top.Entries = append(top.Entries, tree.Entry{Name: name, Kind: perm.Folder, Set: s, Child: child})
	}
	const archive, depots, folders = 100_000, 90, 100
	add("archive", func() tree.Hash { // one folder with very much in it
		keep := left
		left = min(left, 1000)
		h := leaf(archive, "paper")
		left = max(keep-1000, 0)
		return h
	}(), folder)

	for d := range depots {
		var n tree.Node
		for f := range folders {
			n.Entries = append(n.Entries, tree.Entry{
				Name:  fmt.Sprintf("voyage-%03d", f),
				Kind:  perm.Folder,
				Set:   folder,
				Child: leaf(99, fmt.Sprintf("log-%d", f)),
			})
		}
		add(fmt.Sprintf("depot-%02d", d), m.Add(n), folder)
	}

	var own tree.Node
	own.Entries = []tree.Entry{{Name: fmt.Sprintf("kind-%02d", kind), Kind: perm.File, Set: file}}
	add("kind", m.Add(own), folder)
	var papers tree.Node

	for i := range 20 {
		s := set(0o600)
		if kind%3 == 0 && i < 2 {
			s = file
		}
		papers.Entries = append(papers.Entries, tree.Entry{
			Name: fmt.Sprintf("licence-%02d", i),
			Kind: perm.File,
			Set:  s,
		})
	}

	add("papers", m.Add(papers), set(0o700))
	return m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv/fleet", Kind: perm.Folder, Set: folder, Child: m.Add(top)}},
	})
}
