//go:build linux

package scan

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// A listing is the outcome of reading a folder. It counts when it is complete: a worker that was given up in the
// middle of it leaves nothing behind.
type listing struct {
	fd       int // of the folder; -1 where it was not opened
	dev, ino uint64
	trusted  bool
	way      tree.Way
	node     tree.Node
	stamps   []fsys.Stamp
	places   []cachedPath
	settled  []bool // subfolders that are as they were, whatever is below
	denied   []denial
	mounts   []Mounted
	kept     int64
	err      error // why there is none

	cached    cachedPath // what it was
	identical bool
	renewed   bool
}

type denial struct {
	path string
	err  error
}

// open opens a folder, if it is not open, and lists it.
func (w *worker) open(f *folder) *listing {
	l := &listing{fd: f.fd, dev: f.dev, ino: f.ino, trusted: f.trusted, way: f.way}
	if f.up != nil {
		if l.way, l.err = f.up.way.Into(f.name); l.err == nil {
			l.fd, l.err = fsys.Subfolder(f.up.fd, f.name, w.opt.Cross)
		}

		f.up.release()
		if l.err != nil {
			return l
		}

		// Another file system may be mounted here, and what a watch did not report was not looked at.
		if w.opt.Cache != nil && (w.opt.Cross || w.rescanned != nil) {
			l.dev, l.ino, l.trusted = trustworthy(l.fd)
		}
	}

	w.beat.Add(1)
	if l.err = w.list(f, l); l.err != nil {
		l.node = tree.Node{}
	}

	return l
}

// list looks at a folder's entries: at all of them, or at those whose state is uncertain. The source says what was
// known of them before, and which have to be looked at.
func (w *worker) list(f *folder, l *listing) error {
	from, err := w.source(f, l)
	if err != nil {
		return err
	}
	defer w.shed()

	w.sortNames()
	l.node.Entries = make([]tree.Entry, 0, len(w.sorted))
	if w.opt.Cache != nil {
		l.stamps = make([]fsys.Stamp, 0, len(w.sorted))
	}

	w.were, w.same = w.were[:0], w.same[:0]
	for _, raw := range w.sorted {
		name := raw[:len(raw)-1]
		was := from.was(name)
		known := !from.looks(name, was)

		e := tree.Entry{Name: name}
		var stamp fsys.Stamp
		if known {
			e.Kind, e.Set, e.Gap, e.Extra = was.known.Kind, was.known.Set, was.gap, was.extra
			stamp = was.known.Stamp
		} else if !w.look(f, l, raw, from, was, &e, &stamp) {
			continue // it went away while we listed: as if it had gone before
		}

		if err := w.hold(l, &e); err != nil {
			return err
		}
		if w.opt.Cache != nil {
			w.keep(l, &e, stamp, was, known)
			from.kept()
		}
	}
	from.end()

	if err := l.node.Fits(); err != nil {
		return err
	}
	l.places = slices.Clone(w.were)
	l.settled = make([]bool, len(l.node.Entries))
	if w.rescanned != nil {
		for i := range l.settled {
			l.settled[i] = w.same[i] && f.touched.at(l.node.Entries[i].Name) == nil
		}
	}
	return nil
}

// sortNames separates the names in the worker's buffer, and sorts them.
func (w *worker) sortNames() {
	all := string(w.names) // one allocation for the names of a folder
	w.sorted = w.sorted[:0]
	for at := 0; at < len(all); {
		end := at + strings.IndexByte(all[at:], 0)
		w.sorted = append(w.sorted, all[at:end+1])
		at = end + 1
	}

	slices.Sort(w.sorted) // with their NUL bytes: no name holds one, so the order is that of the names

	// A folder that changes while it is listed can show a name twice.
	w.sorted = slices.Compact(w.sorted)
}

// look looks at an entry, whose name comes with a NUL byte, and reports whether it is there.
func (w *worker) look(
	f *folder, l *listing, raw string, from source, was *cachedFolder, e *tree.Entry, stamp *fsys.Stamp,
) bool {
	var before *fsys.Known
	if was != nil {
		before = &was.known
	}

	// The system calls only read the name, so the string's own bytes will do.
	var err error
	e.Kind, e.Set, *stamp, err = w.reader.At(l.fd, unsafe.Slice(unsafe.StringData(raw), len(raw)), before)
	w.beat.Add(1)
	from.saw(e.Name, was, e.Kind)
	if errors.Is(err, unix.ENOENT) {
		return false
	}

	if w.opt.Mounts {
		if id, begins := w.reader.Mount(); begins || e.Kind == perm.Folder && stamp.Ino == SubvolumeTop {
			l.mounts = append(l.mounts, Mounted{pathname.Path(pathname.Join(f.path(), e.Name)), id, begins})
		}
	}

	if err == nil {
		e.Extra = w.reader.Extra(e.Kind)
		return true
	}
	if e.Kind == 0 {
		e.Kind = perm.File
	}
	e.Gap = gapOf(err)
	l.denied = append(l.denied, denial{pathname.Join(f.path(), e.Name), err})
	return true
}

// hold adds an entry to a folder's node, if a way can lead there.
func (w *worker) hold(l *listing, e *tree.Entry) error {
	var before *tree.Entry
	if n := len(l.node.Entries); n > 0 {
		before = &l.node.Entries[n-1]
	}
	if err := l.way.Hold(e, before); err != nil {
		return err
	}

	if before == nil || before.Set != e.Set { // neighbours are mostly alike
		w.noteOwners(e.Set)
	}
	l.node.Entries = append(l.node.Entries, *e)
	return nil
}

// keep records what the next scan has to know of an entry, and how it differs from what this one knew.
func (w *worker) keep(l *listing, e *tree.Entry, stamp fsys.Stamp, was *cachedFolder, known bool) {
	l.stamps = append(l.stamps, stamp)
	if !known {
		w.opt.Inodes.add(stamp.Ino, e.Kind)
	}

	if was == nil {
		w.were, w.same = append(w.were, cachedPath{}), append(w.same, false)
		l.identical, l.renewed = false, true
		return
	}

	if stamp == was.known.Stamp {
		l.kept++
	} else {
		l.renewed = true
	}

	l.identical = l.identical && was.known.Kind == e.Kind && was.known.Set == e.Set && was.gap == e.Gap &&
		was.extra == e.Extra

	// Its record tells whether it is the same folder.
	w.were = append(w.were, was.child)
	w.same = append(w.same, was.child.at > 0 && (known || stamp.Ino == was.known.Ino))
}

// shed frees the room that a large folder took.
func (w *worker) shed() {
	const usual = 1 << 20
	clear(w.sorted)
	if cap(w.names) > usual {
		w.names = nil
		w.sorted = nil
		w.were = nil
		w.same = nil
	}
}

// read puts the names of a folder's entries into the worker's buffer, each with a NUL byte.
func (w *worker) read(fd int) error {
	w.names = w.names[:0]
	count := 0
	for {
		n, err := unix.Getdents(fd, w.dirents)
		if err == unix.EINTR {
			continue
		}
		if err != nil || n <= 0 {
			return err
		}

		for b := w.dirents[:n]; len(b) > 0; {
			size := binary.NativeEndian.Uint16(b[16:])
			name := b[19:size]
			name = name[:bytes.IndexByte(name, 0)+1]
			b = b[size:]
			if string(name) != ".\x00" && string(name) != "..\x00" {
				w.names = append(w.names, name...)
				count++
			}
		}

		w.beat.Add(1)
		if count > tree.MaxEntries || len(w.names) > tree.MaxNode {
			return fmt.Errorf("%w: it has more than %d names, or more than %d MiB of them", tree.ErrTooLarge,
				tree.MaxEntries, tree.MaxNode>>20)
		}
	}
}

// cached returns what the cache has of a folder; nil if it has nothing valid.
func (w *worker) cached(f *folder, l *listing) *cachedFolder {
	l.renewed = true
	if w.opt.Cache == nil || f.cached.at == 0 || !l.trusted || w.opt.Cache.whole {
		return nil
	}
	past := w.opt.Cache.look(f.cached.at, l.dev, l.ino, &w.record, w.known)
	if past != nil {
		l.cached = f.cached
		l.identical = true
		l.renewed = false
	}
	return past
}

// settled, seen and gone record what is found out anew where a watch reported what to look at: of a whole folder, of
// one entry, and of what is no longer there.
func (w *worker) settled(f *folder, past *cachedFolder) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if past == nil {
		w.rescanned.trees[f.path()] = true
	} else {
		w.rescanned.folders[f.path()] = true
	}
}

func (w *worker) seen(f *folder, name string, another bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if path := pathname.Join(f.path(), name); another {
		w.rescanned.trees[path] = true
	} else {
		w.rescanned.paths[path] = true
	}
}

func (w *worker) gone(f *folder, name string) {
	if w.rescanned != nil {
		w.seen(f, name, true)
	}
}
