//go:build linux

package look

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/fsys"
)

// maxLinks is how many links the kernel follows on one way (path_resolution(7)).
const maxLinks = 40

// A walker holds the folders that lie above where it stands, each by a descriptor that only
// points, so that nothing is resolved twice.
type walker struct {
	fds   []int
	names []string
	mount access.Mount
	way   access.Way
	seen  map[string]bool
}

// Way looks at every folder from / to a path, and at the path itself, which comes last. Links on
// the way are followed as the kernel does, and are part of it; a link at its end is not.
func Way(path string) (access.Way, Entry, error) {
	if err := pathname.Check(path); err != nil {
		return nil, Entry{}, err
	}
	w := &walker{seen: map[string]bool{}}
	defer w.close()
	slash, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, Entry{}, fmt.Errorf("open /: %w", err)
	}
	e, err := w.step(slash, "/")
	if err != nil {
		return nil, Entry{}, err
	}
	rest, links := strings.Split(strings.Trim(path, "/"), "/"), 0
	for len(rest) > 0 {
		part := rest[0]
		rest = rest[1:]
		switch part {
		case "", ".":
			continue
		case "..":
			w.up()
			continue
		}
		at := pathname.Join(w.here(), part)
		fd, err := unix.Openat(w.fds[len(w.fds)-1], part, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return w.way, Entry{}, fmt.Errorf("%s: %w", pathname.Escape(at), explain(err))
		}
		if e, err = w.step(fd, at); err != nil {
			return w.way, Entry{}, err
		}
		if e.Kind != perm.Link || len(rest) == 0 {
			continue
		}
		if links++; links > maxLinks {
			return w.way, Entry{}, fmt.Errorf("%s: more than %d links on the way", pathname.Escape(path), maxLinks)
		}
		w.up()
		if strings.HasPrefix(e.Target, "/") {
			for len(w.fds) > 1 {
				w.up()
			}
		}
		rest = append(strings.Split(strings.Trim(e.Target, "/"), "/"), rest...)
	}
	return w.way, e, nil
}

// explain says what a person can do about the errors of looking.
func explain(err error) error {
	switch {
	case errors.Is(err, unix.ENOENT):
		return fmt.Errorf("it is not there, or has just vanished: %w", err)
	case errors.Is(err, unix.ENOTDIR):
		return fmt.Errorf("what stands before it is no folder: %w", err)
	case errors.Is(err, unix.EACCES):
		return fmt.Errorf("this account may not pass through its folder: ask as root, or ask the service: %w", err)
	}
	return err
}

func (w *walker) close() {
	for _, fd := range w.fds {
		unix.Close(fd)
	}
}

func (w *walker) here() string { return w.names[len(w.names)-1] }

func (w *walker) up() {
	if last := len(w.fds) - 1; last > 0 {
		unix.Close(w.fds[last])
		w.fds, w.names = w.fds[:last], w.names[:last]
	}
}

// step looks at what fd points to and stands there.
func (w *walker) step(fd int, at string) (Entry, error) {
	w.fds, w.names = append(w.fds, fd), append(w.names, at)
	i, err := fsys.Look(fd)
	if err != nil {
		return Entry{}, fmt.Errorf("%s: %w", pathname.Escape(at), err)
	}
	e := Entry{Path: at, Kind: i.Kind, Set: i.State.Set(), Modified: i.Modified, Links: i.Links}
	switch i.Kind {
	case perm.File:
		e.Size = i.Size
	case perm.Link:
		if e.Target, err = readlink(fd, ""); err != nil {
			return Entry{}, fmt.Errorf("%s: %w", pathname.Escape(at), err)
		}
	}
	m, err := MountOf(fd, at, i.Top || at == "/", w.way)
	if err != nil {
		return Entry{}, fmt.Errorf("%s: %w", pathname.Escape(at), err)
	}
	if !w.seen[at] {
		w.seen[at] = true
		w.way = append(w.way, access.Place{Path: pathname.Path(at), Kind: i.Kind, Set: e.Set, Mount: m, Top: i.Top})
	}
	return e, nil
}

// MountOf tells what the mount behind a descriptor withholds. Where it is no mount's top, the
// mount is that of its folder, which is in the way already.
func MountOf(fd int, at string, top bool, way access.Way) (access.Mount, error) {
	var fs unix.Statfs_t
	if err := unix.Fstatfs(fd, &fs); err != nil {
		return access.Mount{}, fmt.Errorf("read the file system's options: %w", err)
	}
	on := func(flag int64) bool { return fs.Flags&flag != 0 }
	m := access.Mount{ReadOnly: on(unix.ST_RDONLY), NoExec: on(unix.ST_NOEXEC), NoSUID: on(unix.ST_NOSUID), NoDev: on(unix.ST_NODEV)}
	if top {
		m.At = pathname.Path(at)
		return m, nil
	}
	for i := len(way) - 1; i >= 0; i-- {
		if string(way[i].Path) == filepath.Dir(at) {
			m.At = way[i].Mount.At
		}
	}
	return m, nil
}

func readlink(dir int, name string) (string, error) {
	buf := make([]byte, 4096)
	n, err := unix.Readlinkat(dir, name, buf)
	return string(buf[:max(n, 0)]), err
}
