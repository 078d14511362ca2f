package fileserver

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/tree"
)

// A Found is what a scan of shares found.
type Found struct {
	Forest tree.Hash
	Paths  int64
	Gaps   int64
	Denied []Denied // the first of them, with reasons
	SIDs   []ntsd.SID
}

// A Denied is a path that could not be read.
type Denied struct{ Path, Reason string }

const (
	maxDenied = 1000
	maxSIDs   = 20_000
	// listers is how many folders are read at once: most of the time passes on the way to the server and back.
	listers = 8
	// light is what the folders on one way may weigh (tree.Way.Held) for several of them to be read at once. Heavier
	// ones are read one after the other, so that all that are held come to listers times this and one tree.MaxWay.
	light = 8 << 20
)

type scanner struct {
	stop   func()
	put    func(tree.Hash, []byte) error
	slots  chan struct{}
	alone  chan struct{} // has room for whoever reads what is not light
	seen   atomic.Int64  // so far, for whoever waits
	paths  atomic.Int64  // in what was read to its end
	gaps   atomic.Int64
	report func(paths int64)

	mu     sync.Mutex
	denied []Denied
	sids   map[ntsd.SID]bool
	sets   map[string]perm.Set // by the descriptor's bytes
	err    error
}

// Scan reads everything below some roots into a hash tree, nodes to put, children before parents. A root is a
// share or a folder in one, /SHARE/FOLDER. What cannot be read is a gap, with its reason among the denied.
func Scan(
	ctx context.Context, s Server, roots []string, progress func(paths int64), put func(tree.Hash, []byte) error,
) (Found, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()

	w := &scanner{
		stop:   cancel,
		put:    put,
		slots:  make(chan struct{}, listers),
		alone:  make(chan struct{}, 1),
		report: progress,
		sids:   map[ntsd.SID]bool{},
		sets:   map[string]perm.Set{},
	}

	roots = slices.Clone(roots)
	slices.Sort(roots)
	forest := tree.Node{Forest: true, Entries: make([]tree.Entry, len(roots))}

	for i, root := range roots {
		if err := pathname.Check(root); err != nil {
			return Found{}, err
		}

		e := &forest.Entries[i]
		*e = tree.Entry{Name: root, Kind: perm.Folder}
		w.paths.Add(1)
		name, below, err := Split(root)
		if err != nil {
			return Found{}, err
		}

		share, err := s.Open(ctx, name)
		if err != nil {
			e.Gap = w.deny(root, err)
			continue
		}

		seen, err := Look(share, below)
		if err == nil {
			e.Kind = seen.Kind
			e.Set, err = w.set(seen.Descriptor)
		}

		if err != nil {
			e.Gap = w.deny(root, err)
		} else if e.Kind == perm.Folder {
			e.Child, e.Gap = w.folder(ctx, share, root, below, tree.Way{Depth: 1}, false)
		}

		_ = share.Close() // nothing more is asked of it
	}

	if w.err != nil {
		return Found{}, w.err
	}
	if err := ctx.Err(); err != nil {
		return Found{}, err
	}

	b := tree.Encode(forest)
	h := tree.Sum(b)
	if err := put(h, b); err != nil {
		return Found{}, err
	}

	f := Found{Forest: h, Paths: w.paths.Load(), Gaps: w.gaps.Load(), Denied: w.denied}
	for sid := range w.sids {
		f.SIDs = append(f.SIDs, sid)
	}

	slices.SortFunc(f.SIDs, func(a, b ntsd.SID) int { return strings.Compare(a.Bytes(), b.Bytes()) })
	slices.SortFunc(f.Denied, func(a, b Denied) int { return pathname.Compare(a.Path, b.Path) })
	return f, nil
}

func (w *scanner) deny(path string, err error) tree.Gap {
	if errors.Is(err, ErrLost) { // of what was not asked nothing is known, and the whole scan is worth nothing
		w.fail(err)
		w.stop()
	}

	w.gaps.Add(1)
	w.mu.Lock()
	defer w.mu.Unlock()

	if len(w.denied) < maxDenied {
		w.denied = append(w.denied, Denied{path, err.Error()})
	}

	switch {
	case errors.Is(err, tree.ErrTooLarge):
		return tree.TooLarge
	case Refused(err):
		return tree.Refused
	case Gone(err):
		return tree.Vanished
	}

	return tree.Failed
}

// set interns a descriptor: few serve many paths.
func (w *scanner) set(d ntsd.Descriptor) (perm.Set, error) {
	s, err := nt.SetOf(d)
	if err != nil {
		return perm.Set{}, err
	}

	w.mu.Lock()
	defer w.mu.Unlock()

	if known, ok := w.sets[s.Bytes()]; ok {
		return known, nil
	}

	if len(w.sets) < maxSIDs {
		w.sets[s.Bytes()] = s
	}

	for _, id := range d.SIDs() {
		if len(w.sids) < maxSIDs {
			w.sids[id] = true
		}
	}

	return s, nil
}

func (w *scanner) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
}

// saw reports to whoever waits how many paths were met so far.
func (w *scanner) saw(paths int) {
	if seen := w.seen.Add(int64(paths)); w.report != nil {
		w.report(seen)
	}
}

// folder reads a folder and all below it. Other workers that are free read the folders in it, unless the folders on
// the way are not light: then this worker reads all that is below by itself, and waits for nobody.
func (w *scanner) folder(
	ctx context.Context, share Share, path, below string, way tree.Way, alone bool,
) (tree.Hash, tree.Gap) {
	if ctx.Err() != nil { // what is made of it is thrown away
		return tree.Hash{}, tree.Failed
	}

	var n tree.Node
	first := false // to be alone
	defer func() {
		if first {
			<-w.alone
		}
	}()

	err := share.List(below, func(list []Seen) error {
		if err := ctx.Err(); err != nil {
			return err
		}

		for _, seen := range list {
			e := tree.Entry{Name: seen.Name, Kind: seen.Kind}
			err := seen.Err
			if err == nil {
				e.Set, err = w.set(seen.Descriptor)
			}

			if err != nil {
				if Gone(err) {
					continue
				}
				e.Gap = w.deny(pathname.Join(path, seen.Name), err)
			}

			var before *tree.Entry
			if have := len(n.Entries); have > 0 {
				before = &n.Entries[have-1]
			}

			if err := way.Hold(&e, before); err != nil {
				return err
			}

			if !alone && way.Held > light {
				select {
				case w.alone <- struct{}{}:
				case <-ctx.Done():
					return ctx.Err()
				}
				alone, first = true, true
			}

			n.Entries = append(n.Entries, e)
		}

		if len(n.Entries) > tree.MaxEntries {
			return fmt.Errorf("%w: it has more than %d names", tree.ErrTooLarge, tree.MaxEntries)
		}

		w.saw(len(list))
		return nil
	})

	if err != nil {
		return tree.Hash{}, w.deny(path, err)
	}

	slices.SortFunc(n.Entries, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
	n.Entries = slices.CompactFunc(n.Entries, func(a, b tree.Entry) bool { return a.Name == b.Name })
	if err := n.Fits(); err != nil {
		return tree.Hash{}, w.deny(path, err)
	}

	var inside sync.WaitGroup
	for i := range n.Entries {
		e := &n.Entries[i]
		if e.Kind != perm.Folder || e.Gap != tree.NoGap {
			continue
		}

		read := func() {
			in, err := way.Into(e.Name)
			if err != nil {
				e.Gap = w.deny(pathname.Join(path, e.Name), err)
				return
			}
			e.Child, e.Gap = w.folder(ctx, share, pathname.Join(path, e.Name), Joined(below, e.Name), in, alone)
		}

		if alone {
			read()
			continue
		}

		select {
		case w.slots <- struct{}{}:
			inside.Go(func() {
				defer func() { <-w.slots }()
				read()
			})
		default:
			read()
		}
	}

	inside.Wait()
	for i := range n.Entries {
		if n.Entries[i].Gap != tree.NoGap {
			n.Entries[i].Child = tree.Hash{}
		}
	}

	w.paths.Add(int64(len(n.Entries)))
	b := tree.Encode(n)
	h := tree.Sum(b)
	if err := w.put(h, b); err != nil {
		w.fail(err)
	}

	return h, tree.NoGap
}
