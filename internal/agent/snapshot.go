//go:build linux

package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/host/scan"
	"idletally/internal/wire"
)

// allowed takes the roots that this host's own list does not hold out.
func (a *Agent) allowed(roots []string) (in []string, denied []wire.Denied, err error) {
	for _, r := range roots {
		raw, err := pathname.Unescape(r)
		if err != nil {
			return nil, nil, err
		}
		if slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(raw, own) }) {
			in = append(in, raw)
		} else {
			denied = append(denied, wire.Denied{Path: r, Reason: "this host's own list of roots does not hold it"})
		}
	}
	return in, denied, nil
}

func (a *Agent) snapshot(ctx context.Context, w *wire.Work, done *atomic.Int64) error {
	fail := func(format string, args ...any) error {
		return a.api.SnapshotDone(ctx, w.ID, wire.SnapshotDone{Failed: fmt.Sprintf(format, args...)})
	}
	roots, denied, err := a.allowed(w.Roots)
	if err != nil {
		return fail("roots: %v", err)
	}
	if len(denied) > 0 {
		return fail("%s: %s: add it with idletally agent enrol --root", denied[0].Path, denied[0].Reason)
	}
	dir, err := identity.Read(ctx)
	if err != nil {
		return fail("%v", err)
	}
	found, err := a.look(ctx, w, roots, done)
	if errors.Is(err, scan.ErrNotSpooled) {
		// The service has lost what it had when the last scan was kept, or it is another service.
		a.Log.Warn("the service lacks folders that have not changed: everything is read again", "error", err)
		w.Whole = true
		found, err = a.look(ctx, w, roots, done)
	}
	switch {
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errScan):
		return fail("%v", err)
	case err != nil:
		return err
	}
	defer found.past.Close()
	if err := a.api.SnapshotDone(ctx, w.ID, Outcome(roots, found.forest, found.stats, dir)); err != nil {
		return err
	}
	if err := found.stats.Remember(found.past); err != nil { // the next scan reads everything
		a.Log.Warn("what the scan found is not kept", "error", err)
	}
	return nil
}

// Outcome says what a scan of some roots found, with the folders that lead to them.
func Outcome(roots []string, forest tree.Hash, stats scan.Stats, dir *perm.Directory) wire.SnapshotDone {
	d := wire.SnapshotDone{Forest: forest, Directory: dir, Paths: stats.Paths, Gaps: stats.Gaps}
	for _, r := range roots {
		// Where a root went away meanwhile its gap says so.
		if f, err := look.Path(r); err == nil && string(f.Seen.Path) == r {
			d.Ways = append(d.Ways, f.Way)
		}
	}
	for _, x := range stats.Denied {
		d.Denied = append(d.Denied, wire.Denied{Path: x.Path.String(), Reason: x.Reason})
	}
	return d
}

// looked is what a scan found, all of it with the service.
type looked struct {
	forest tree.Hash
	stats  scan.Stats
	past   *scan.Past
}

var errScan = errors.New("scan")

// wholeEvery is how often everything is read, whatever the past says.
const wholeEvery = 24 * time.Hour

// look scans, reading again what can have changed, and sends what the service lacks.
func (a *Agent) look(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) (out looked, err error) {
	spool, err := scan.NewSpool(a.Folder)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	defer spool.Close()
	if out.past, err = a.past(roots, w.Whole); err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	defer func() {
		if err != nil {
			out.past.Close()
		}
	}()
	start := time.Now()
	out.forest, out.stats, err = scan.Scan(ctx, roots, scan.Options{Past: out.past, Gentle: a.Gentle, Progress: func(s scan.Stats) { done.Store(s.Paths) }}, spool)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	scanned := time.Since(start)
	sent, err := a.send(ctx, spool, out.forest)
	if err != nil {
		return out, err
	}
	a.Log.Info("snapshot", "paths", out.stats.Paths, "kept", out.stats.Kept, "gaps", out.stats.Gaps, "nodes", len(spool.Order()), "bytes_sent", sent,
		"scanned", scanned.Round(time.Millisecond), "took", time.Since(start).Round(time.Millisecond))
	return out, nil
}

// past opens what the last scan of some roots found.
func (a *Agent) past(roots []string, whole bool) (*scan.Past, error) {
	folder := filepath.Join(a.Folder, "past")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	names, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, n := range names { // of roots that nobody asks for any more
		if st, err := n.Info(); err == nil && time.Since(st.ModTime()) > 30*24*time.Hour {
			if err := scan.Forget(filepath.Join(folder, n.Name())); err != nil {
				return nil, err
			}
		}
	}
	name := sha256.Sum256([]byte(strings.Join(roots, "\x00")))
	file := filepath.Join(folder, hex.EncodeToString(name[:12]))
	p, err := scan.OpenPast(file, whole)
	if err == nil && !p.Whole() && time.Since(p.Full()) > wholeEvery {
		p.Close()
		return scan.OpenPast(file, true)
	}
	return p, err
}

const (
	askAtOnce = 10_000
	packSize  = 4 << 20
)

// send asks from the root downwards which nodes the service lacks, and sends those, children
// before parents. A node that it has stands for everything below.
func (a *Agent) send(ctx context.Context, spool *scan.Spool, forest tree.Hash) (int, error) {
	lacking := map[tree.Hash]bool{}
	for frontier := []tree.Hash{forest}; len(frontier) > 0; {
		var next []tree.Hash
		for ask := range slices.Chunk(frontier, askAtOnce) {
			missing, err := a.api.Missing(ctx, ask)
			if err != nil {
				return 0, err
			}
			for i, h := range ask {
				if !missing[i] || lacking[h] {
					continue
				}
				lacking[h] = true
				nodes, err := tree.Load(ctx, spool, h)
				if err != nil {
					return 0, err
				}
				next = append(next, nodes[0].Children()...)
			}
		}
		slices.SortFunc(next, func(x, y tree.Hash) int { return slices.Compare(x[:], y[:]) })
		frontier = slices.Compact(next)
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, err
	}
	sent := 0
	var pack []byte
	flush := func() error {
		if len(pack) == 0 {
			return nil
		}
		body := z.EncodeAll(pack, nil)
		sent += len(body)
		pack = pack[:0]
		return a.api.SendNodes(ctx, body)
	}
	for _, h := range spool.Order() {
		if !lacking[h] {
			continue
		}
		raw, err := spool.Nodes(ctx, []tree.Hash{h})
		if err != nil {
			return sent, err
		}
		pack = tree.AppendPack(pack, raw[0])
		if len(pack) >= packSize {
			if err := flush(); err != nil {
				return sent, err
			}
		}
	}
	return sent, flush()
}
