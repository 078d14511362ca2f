//go:build linux

package scan

import (
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A source says what is known of a folder's entries before any is looked at, and which have to be. There are three:
//
//   - [fresh]: nothing is known, and all are looked at;
//   - [recalled]: the cache knows the folder; all are looked at, and what has not changed is not read again;
//   - [watched]: a watch told of what was touched; the names come from the cache, and nothing else is looked at.
//
// The worker asks it of one entry after the other, in the order of their names.
type source interface {
	// was returns what the cache has of an entry, until the next one is asked for; nil where it has nothing.
	was(name string) *cachedFolder
	// looks reports whether an entry has to be looked at. Otherwise it is what it was.
	looks(name string, was *cachedFolder) bool
	// saw records what kind an entry is, after it was looked at; 0 if that is not known.
	saw(name string, was *cachedFolder, kind perm.Kind)
	// kept records that the entry is in the folder's listing.
	kept()
	// end records that there are no more entries.
	end()
}

// source puts the names of a folder's entries into the worker's buffer, and returns what is known of them.
func (w *worker) source(f *folder, l *listing) (source, error) {
	past := w.cached(f, l)
	if past != nil && w.rescanned != nil && !f.touched.is() && w.cachedNames(past, f.touched) {
		return &watched{recalled{w: w, f: f, l: l, past: past}}, nil
	}

	if err := w.read(l.fd); err != nil {
		return nil, err
	}
	if w.rescanned != nil {
		w.settled(f, past)
	}
	if past == nil {
		return fresh{}, nil
	}
	return &recalled{w: w, f: f, l: l, past: past}, nil
}

// fresh is a folder of which nothing is known.
type fresh struct{}

func (fresh) was(string) *cachedFolder             { return nil }
func (fresh) looks(string, *cachedFolder) bool     { return true }
func (fresh) saw(string, *cachedFolder, perm.Kind) {}
func (fresh) kept()                                {}
func (fresh) end()                                 {}

// recalled is a folder that the cache knows. Its record is read along with the names: both are in order.
type recalled struct {
	w    *worker
	f    *folder
	l    *listing
	past *cachedFolder // at the first entry that was not asked for
	at   bool          // the entry that is asked for is there
}

func (r *recalled) was(name string) *cachedFolder {
	for r.past.name != nil && string(r.past.name) < name {
		r.skip()
	}
	r.at = r.past.name != nil && string(r.past.name) == name
	if !r.at {
		return nil
	}
	return r.past
}

func (r *recalled) looks(string, *cachedFolder) bool { return true }

func (r *recalled) saw(string, *cachedFolder, perm.Kind) {}

func (r *recalled) kept() {
	if r.at {
		r.past.next()
	}
}

func (r *recalled) end() {
	for r.past.name != nil {
		r.skip()
	}
}

// skip passes over an entry that is gone.
func (r *recalled) skip() {
	r.w.gone(r.f, string(r.past.name))
	r.past.next()
	r.l.identical = false
}

// watched is a folder that the cache knows, and of which a watch reported each entry that was touched.
type watched struct{ recalled }

// looks reports that an entry is new, was touched, or could not be looked at the last time.
func (r *watched) looks(name string, was *cachedFolder) bool {
	return was == nil || r.f.touched.at(name).is() || was.gap == tree.Failed || was.gap == tree.Silent
}

func (r *watched) saw(name string, was *cachedFolder, kind perm.Kind) {
	r.w.seen(r.f, name, was == nil || kind != was.known.Kind)
}

// cachedNames puts the names of what is known of a folder, and of what is touched in it, into the worker's buffer. It
// reports whether the cache has all of it.
func (w *worker) cachedNames(past *cachedFolder, touched *Touched) bool {
	w.names = w.names[:0]
	at := *past
	for ; at.name != nil; at.next() {
		w.names = append(append(w.names, at.name...), 0)
	}

	if at.left > 0 || at.d.err != nil {
		return false
	}
	if touched == nil {
		return true
	}

	for name, t := range touched.below {
		if t.self {
			w.names = append(append(w.names, name...), 0)
		}
	}

	return true
}
