package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// Export prepares a stored snapshot for writing it as a file. Whatever prevents that is returned before anything is
// written.
func (d *Engine) Export(ctx context.Context, snap store.Snapshot) (func(io.Writer) error, error) {
	h, err := d.head(ctx, snap)
	if err != nil {
		return nil, err
	}
	return func(w io.Writer) error { return archive.Write(ctx, w, h, d.Store) }, nil
}

func (d *Engine) head(ctx context.Context, snap store.Snapshot) (h archive.Head, err error) {
	if snap.State != lifecycle.SnapshotReady || snap.Taken == nil {
		return h, fmt.Errorf("%w: snapshot %s is %s: only a finished one can be exported", ErrBad, snap.ID, snap.State)
	}
	roots, err := snap.RootList()
	if err != nil {
		return h, err
	}

	h = archive.Head{Host: snap.Host, Application: snap.Application, Taken: *snap.Taken}
	for _, r := range roots {
		h.Roots = append(h.Roots, pathname.Path(r))
	}

	h.Forest = snap.Hash()
	h.Paths = snap.Paths
	h.Gaps = snap.Gaps
	if h.Denied, err = snap.DeniedList(); err != nil {
		return h, err
	}
	if h.Ways, err = snap.Ways(); err != nil {
		return h, err
	}

	h.Directory, err = d.Store.Directory(ctx, snap)
	return h, err
}

// importPack is how many bytes of nodes are stored at once.
const importPack = 4 << 20

// Import takes a snapshot that was taken elsewhere, of a known host, and compares it with the baseline if it is the
// host's newest. If a fingerprint is given a file with another one is refused.
func (d *Engine) Import(ctx context.Context, application, host, fingerprint, by string, r io.Reader) (string, error) {
	h, err := d.Store.Host(ctx, host)
	if err != nil {
		return "", err
	}

	var head archive.Head
	var pack [][]byte
	size := 0
	flush := func() error {
		err := d.Store.PutNodes(ctx, pack)
		pack, size = nil, 0
		return err
	}
	err = archive.Read(r, func(x archive.Head) error {
		head = x
		if err := x.Meant(fingerprint); err != nil {
			return fmt.Errorf("%w: %w", ErrBad, err)
		}
		return d.fits(ctx, x, application, h)
	}, func(_ tree.Hash, b []byte) error {
		pack = append(pack, b)
		size += len(b)
		if size < importPack {
			return nil
		}

		return flush()
	})

	if err == nil {
		err = flush()
	}

	if errors.Is(err, archive.ErrNoSnapshot) || errors.Is(err, store.ErrBadNode) {
		return "", fmt.Errorf("%w: %w", ErrBad, err)
	}
	if err != nil {
		return "", err
	}

	var roots []string
	for _, r := range head.Roots {
		roots = append(roots, string(r))
	}

	id, err := d.Store.ImportSnapshot(ctx, application, host, roots, head.Taken, head.SnapshotDone, by)
	if err != nil {
		return "", err
	}
	newest, err := d.Store.Newest(ctx, application, host)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}

	if newest.Looked == nil || *newest.Looked < id {
		snap, err := d.Store.Snapshot(ctx, id)
		if err == nil {
			err = d.Compare(ctx, snap)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) { // nothing is published yet
			return "", err
		}
	}

	return id, d.Store.ShowSnapshot(ctx, id)
}

// fits reports whether a file can be a snapshot of an application on a host.
func (d *Engine) fits(ctx context.Context, head archive.Head, application string, h store.Host) error {
	if head.Taken.After(time.Now().Add(5 * time.Minute)) {
		return fmt.Errorf("%w: the file says that the snapshot was taken in the future, at %s", ErrBad,
			head.Taken.Format(time.RFC3339))
	}

	e, err := d.Store.Edition(ctx, application, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	doc, err := d.ParseOn(ctx, e.Text, h.Name)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrBad, err)
	}

	for _, root := range doc.Roots {
		if !slices.ContainsFunc(head.Roots, func(r pathname.Path) bool { return string(r) == root }) {
			return fmt.Errorf(
				"%w: the baseline of %s keeps %s, and the file does not hold it: take the snapshot with --root %s",
				ErrBad, application, pathname.Escape(root), pathname.Escape(root))
		}
	}

	return nil
}
