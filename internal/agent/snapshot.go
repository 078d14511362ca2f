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
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
	"idletally/internal/private"
	"idletally/internal/wire"
)

func (h *linuxHost) snapshot(ctx context.Context, w *wire.Work, roots []string, done *atomic.Int64) error {
	a := h.a
	dir, err := identity.Read(ctx)
	if err != nil {
		return a.cannot(ctx, w, err)
	}
	defer a.hold(roots)()

	found, err := a.look(ctx, roots, w.Whole, scan.Options{
		Cross:    w.Cross,
		Progress: func(s scan.Stats) { done.Store(s.Paths) },
	})
	switch {
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errScan):
		return a.cannot(ctx, w, err)
	case err != nil:
		return err
	}
	defer found.past.Close()

	dir = a.owners.Complete(ctx, dir, found.stats.Owners())
	if err := a.api.SnapshotDone(ctx, w.ID, Outcome(roots, found.forest, found.stats, dir)); err != nil {
		return err
	}

	if err := found.stats.Store(found.past); err != nil { // the next scan reads everything
		a.Log.Warn("what the scan found is not kept", "error", err)
	}

	return nil
}

// Outcome describes what a scan of some roots found, with the folders that lead to them.
func Outcome(roots []string, forest tree.Hash, stats scan.Stats, dir *perm.Directory) wire.SnapshotDone {
	d := wire.SnapshotDone{Forest: forest, Directory: dir, Paths: stats.Paths, Gaps: stats.Gaps}
	for _, r := range roots {
		// A root that went away meanwhile is a gap with that reason.
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
	past   *scan.Cache
	whole  bool
}

var errScan = errors.New("scan")

// wholeEvery is how often everything is read, whatever the cache says.
const wholeEvery = 24 * time.Hour

// hold reserves what is known of some roots, until the returned function is called.
func (a *Agent) hold(roots []string) (free func()) {
	m, _ := a.held.LoadOrStore(cacheName(roots), &sync.Mutex{})
	m.(*sync.Mutex).Lock()
	return m.(*sync.Mutex).Unlock
}

// look scans, reading again what can have changed, and sends what the service lacks. The caller has reserved what is
// known of the roots.
func (a *Agent) look(ctx context.Context, roots []string, whole bool, opt scan.Options) (looked, error) {
	found, err := a.lookOnce(ctx, roots, whole, opt)
	if errors.Is(err, errLacks) && !found.whole {
		// The service has lost what it had when the last scan was stored, or it is another service.
		a.Log.Warn("the service lacks folders that have not changed: everything is read again", "error", err)
		found, err = a.lookOnce(ctx, roots, true, opt)
	}
	return found, err
}

func (a *Agent) lookOnce(ctx context.Context, roots []string, whole bool, opt scan.Options) (out looked, err error) {
	spool, err := spool.New(a.Folder)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}
	defer spool.Close()

	if out.past, err = a.cache(roots, whole); err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}

	out.whole = out.past.Whole()
	defer func() {
		if err != nil {
			out.past.Close()
		}
	}()

	start := time.Now()
	opt.Cache, opt.Throttle = out.past, a.Gentle
	out.forest, out.stats, err = scan.Scan(ctx, roots, opt, spool)
	if err != nil {
		return out, fmt.Errorf("%w: %w", errScan, err)
	}

	scanned := time.Since(start)
	sent, err := a.send(ctx, spool, out.forest)
	if err != nil {
		return out, err
	}

	a.Log.Info("snapshot", "paths", out.stats.Paths, "looked", out.stats.Looked, "kept", out.stats.Kept, "gaps",
		out.stats.Gaps, "nodes", spool.Count(), "bytes_sent", sent,
		"scanned", scanned.Round(time.Microsecond), "took", time.Since(start).Round(time.Microsecond))
	return out, nil
}

func (a *Agent) cacheFile(roots []string) string {
	return filepath.Join(a.Folder, "past", cacheName(roots))
}

func cacheName(roots []string) string {
	name := sha256.Sum256([]byte(strings.Join(roots, "\x00")))
	return hex.EncodeToString(name[:12])
}

// cache opens what the last scan of some roots found.
func (a *Agent) cache(roots []string, whole bool) (*scan.Cache, error) {
	folder := filepath.Join(a.Folder, "past")
	if err := private.MkdirAll(folder); err != nil {
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

	file := a.cacheFile(roots)
	p, err := scan.OpenCache(file, whole)
	if err == nil && !p.Whole() && time.Since(p.Full()) > wholeEvery {
		p.Close()
		return scan.OpenCache(file, true)
	}

	return p, err
}
