//go:build linux

// Package look looks at paths of the machine it runs on, for people: what each is, who may do what, the way that
// leads to it, and what could not be read. It changes nothing.
package look

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/subtree"
	"idletally/internal/host/fsys"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
)

// maxLinks is how many links the kernel follows on one way (path_resolution(7)).
const maxLinks = 40

// A walker holds the folders above where it stands, each by a descriptor that only points, so that nothing is
// resolved twice.
type walker struct {
	bounds Bounds
	fds    []int
	names  []string
	mounts []access.Mount
	way    access.Way
	been   map[string]bool
}

// Bounds say where somebody may look. The zero value lets them look everywhere.
type Bounds struct {
	Pass func(path string) bool // may be looked at, and passed through
	Show func(path string) bool // and what is in it may be listed, tried or scanned
}

// ErrOutside says that a path, or what a link on its way leads to, lies outside of the bounds. Nothing there was
// opened, so that the error reveals neither what is there nor whether anything is.
var ErrOutside = errors.New("it lies, or leads, outside of what is shown")

func (b Bounds) pass(path string) error {
	if b.Pass != nil && !b.Pass(path) {
		return ErrOutside
	}
	return nil
}

func (b Bounds) show(path pathname.Path) error {
	if b.Show != nil && !b.Show(string(path)) {
		return ErrOutside
	}
	return nil
}

// Path is Bounds.Path where everything is shown.
func Path(path string) (access.Found, error) { return Bounds{}.Path(path) }

// Folder is Bounds.Folder where everything is shown.
func Folder(ctx context.Context, path, after string, limit int) (access.Found, error) {
	return Bounds{}.Folder(ctx, path, after, limit)
}

// Below is Bounds.Below where everything is shown.
func Below(ctx context.Context, spoolIn, path string, q subtree.Query) (access.Found, subtree.Tally, error) {
	return Bounds{}.Below(ctx, spoolIn, path, q)
}

// Path looks at every folder from / to a path, and at the path itself, which comes last. Links on the way are
// followed as the kernel does, and are part of the way; a link at its end is not followed.
func (b Bounds) Path(path string) (access.Found, error) {
	w := &walker{bounds: b, been: map[string]bool{}}
	defer w.close()
	e, err := w.walk(path)
	return access.Found{Way: w.way, Seen: e}, err
}

// Shown is Path for something that is to be opened afterwards.
func (b Bounds) Shown(path string) (access.Found, error) {
	f, err := b.Path(path)
	if err == nil {
		err = b.show(f.Seen.Path)
	}
	return f, err
}

// Folder lists a folder's entries by name bytes, at most limit of them, after one, with the way to it.
func (b Bounds) Folder(ctx context.Context, path, after string, limit int) (access.Found, error) {
	w := &walker{bounds: b, been: map[string]bool{}}
	defer w.close()

	e, err := w.walk(path)
	if err == nil {
		err = b.show(e.Path)
	}

	f := access.Found{Way: w.way, Seen: e}
	if err != nil {
		return f, err
	}
	if e.Kind != perm.Folder {
		return f, fmt.Errorf("%s is a %s, not a folder", e.Path, e.Kind)
	}
	fd, err := fsys.Content(w.fds[len(w.fds)-1])
	if err != nil {
		return f, fmt.Errorf("%s: %w", e.Path, explain(err))
	}

	dir := os.NewFile(uintptr(fd), string(e.Path))
	defer dir.Close()

	names, err := dir.Readdirnames(-1)
	if err != nil {
		return f, fmt.Errorf("%s: %w", e.Path, err)
	}

	slices.Sort(names)
	for _, name := range names {
		if after != "" && name <= after {
			continue
		}
		if err := ctx.Err(); err != nil {
			return f, err
		}

		if len(f.Entries) == limit {
			f.Next = pathname.Path(base(f.Entries[limit-1]))
			break
		}

		at := pathname.Join(string(e.Path), name)
		x, err := entry(fd, at, name, e.Mount)
		if errors.Is(err, unix.ENOENT) {
			continue // it vanished while it was looked at: as if it had gone before
		}

		if err != nil {
			x = access.Seen{Place: access.Place{Path: pathname.Path(at), Kind: perm.File}, Gap: err.Error()}
		}

		f.Entries = append(f.Entries, x)
	}

	return f, nil
}

func base(e access.Seen) string { return pathname.Base(string(e.Path)) }

// walkable checks a path that is to be walked part by part. From somebody at this machine it need not be in its
// shortest form: the walk finds out what .. and a slash at the end mean, since what stands before them may be a link.
// From others it has to be.
func (b Bounds) walkable(path string) error {
	if b.Pass != nil || !strings.HasPrefix(path, "/") || len(path) > pathname.MaxPath {
		return pathname.Check(path)
	}
	var parts []string
	for part := range strings.SplitSeq(path, "/") {
		if part != "" && part != "." && part != ".." {
			parts = append(parts, part)
		}
	}
	return pathname.Check("/" + strings.Join(parts, "/"))
}

// partsOf returns a path's parts. A slash at its end asks for a folder, as if a dot stood behind it.
func partsOf(path string) []string {
	if strings.HasSuffix(path, "/") {
		path += "."
	}
	return strings.Split(path, "/")
}

// walk goes where the kernel would go (path_resolution(7)). The way ends with what it leads to, even if that was
// passed before, as by a link that leads back up.
func (w *walker) walk(path string) (access.Seen, error) {
	if err := w.bounds.walkable(path); err != nil {
		return access.Seen{}, err
	}
	slash, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return access.Seen{}, fmt.Errorf("open /: %w", err)
	}
	e, err := w.step(slash, "/")
	if err != nil {
		return access.Seen{}, err
	}

	rest, links := partsOf(path), 0
	for len(rest) > 0 {
		part := rest[0]
		rest = rest[1:]
		if (part == "." || part == "..") && e.Kind != perm.Folder {
			return access.Seen{}, fmt.Errorf("%s: %w", e.Path, explain(unix.ENOTDIR))
		}

		switch part {
		case "", ".":
			continue
		case "..":
			w.up()
			if e, err = w.again(); err != nil {
				return access.Seen{}, err
			}
			continue
		}

		at := pathname.Join(w.here(), part)
		if err := w.bounds.pass(at); err != nil {
			return access.Seen{}, err
		}
		fd, err := unix.Openat(w.fds[len(w.fds)-1], part, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return access.Seen{}, fmt.Errorf("%s: %w", pathname.Escape(at), explain(err))
		}
		if e, err = w.step(fd, at); err != nil {
			return access.Seen{}, err
		}
		if e.Kind != perm.Link || len(rest) == 0 {
			continue
		}
		links++
		if links > maxLinks {
			return access.Seen{}, fmt.Errorf("%s: more than %d links on the way", pathname.Escape(path), maxLinks)
		}

		rest = append(partsOf(string(e.Target)), rest...)
		w.up()
		if strings.HasPrefix(string(e.Target), "/") {
			for len(w.fds) > 1 {
				w.up()
			}
		}

		if e, err = w.again(); err != nil {
			return access.Seen{}, err
		}
	}

	if w.way[len(w.way)-1].Path != e.Path {
		w.way = append(w.way, e.Place)
	}

	return e, nil
}

// again looks at where the walk stands after coming back there.
func (w *walker) again() (access.Seen, error) {
	last := len(w.fds) - 1
	above := access.Mount{}
	if last > 0 {
		above = w.mounts[last-1]
	}
	e, err := seen(w.fds[last], w.names[last], above)
	if err != nil {
		err = fmt.Errorf("%s: %w", pathname.Escape(w.names[last]), err)
	}
	return e, err
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
		w.fds = w.fds[:last]
		w.names = w.names[:last]
		w.mounts = w.mounts[:last]
	}
}

// step looks at what fd points to and stands there.
func (w *walker) step(fd int, at string) (access.Seen, error) {
	var mount access.Mount
	if len(w.mounts) > 0 {
		mount = w.mounts[len(w.mounts)-1]
	}
	w.fds, w.names = append(w.fds, fd), append(w.names, at)
	e, err := seen(fd, at, mount)
	if err != nil {
		return access.Seen{}, fmt.Errorf("%s: %w", pathname.Escape(at), err)
	}
	w.mounts = append(w.mounts, e.Mount)
	if !w.been[at] {
		w.been[at] = true
		w.way = append(w.way, e.Place)
	}
	return e, nil
}

// mountOf returns what the mount behind a descriptor denies. The descriptor is asked, not the table of mounts, which
// is incomplete in a changed root.
func mountOf(fd int, at string, number uint64) (access.Mount, error) {
	var fs unix.Statfs_t
	if err := unix.Fstatfs(fd, &fs); err != nil {
		return access.Mount{}, fmt.Errorf("read the file system's options: %w", err)
	}

	on := func(flag int64) bool { return fs.Flags&flag != 0 }
	m := access.Mount{
		At:       pathname.Path(at),
		ReadOnly: on(unix.ST_RDONLY),
		NoExec:   on(unix.ST_NOEXEC),
		NoSUID:   on(unix.ST_NOSUID),
		NoDev:    on(unix.ST_NODEV),
		NoFollow: on(noSymFollow),
	}

	// Only the table tells whose group new paths get, for file systems that have such an option. If it has no line,
	// as in a changed root, the usual rule is assumed.
	if fs.Type == unix.EXT4_SUPER_MAGIC || fs.Type == unix.XFS_SUPER_MAGIC {
		table, _ := fsys.Mounts()
		m.GroupOfFolder = table[number].GroupOfFolder
	}

	return m, nil
}

const noSymFollow = 0x2000 // ST_NOSYMFOLLOW in linux/statfs.h

func readlink(fd int) (string, error) {
	buf := make([]byte, 4096)
	n, err := unix.Readlinkat(fd, "", buf)
	return string(buf[:max(n, 0)]), err
}

// Below scans a folder and asks the core about all that is in it. Links that led to the folder are on the way in the
// answer; in the folder none is followed.
func (b Bounds) Below(
	ctx context.Context, spoolIn, path string, q subtree.Query,
) (access.Found, subtree.Tally, error) {
	f, err := b.Shown(path)
	if err != nil {
		return f, subtree.Tally{}, err
	}
	spool, err := spool.New(spoolIn)
	if err != nil {
		return f, subtree.Tally{}, err
	}
	defer spool.Close()

	q.Under = string(f.Seen.Path)
	forest, stats, err := scan.Scan(ctx, []string{q.Under}, scan.Options{Mounts: true}, spool)
	if err != nil {
		return f, subtree.Tally{}, err
	}
	mounts, err := b.mounts(ctx, stats.Mounts)
	if err != nil {
		return f, subtree.Tally{}, err
	}

	t, err := subtree.Snapshot{Source: spool, Forest: forest, Ways: []access.Way{f.Way}, Mounts: mounts}.Ask(ctx, q)
	return f, t, err
}

// patience is how long a file system is waited for that is mounted somewhere below.
const patience = 5 * time.Second

// waiting bounds how many looks may hang in file systems that do not answer: each holds a thread for that time.
var waiting = make(chan struct{}, 8)

// mounts looks at paths where a scan met other mounts, or what may be a subvolume. If a file system does not answer,
// nothing is known of it, nor of those after it.
func (b Bounds) mounts(ctx context.Context, met []scan.Mounted) (map[pathname.Path]access.Place, error) {
	if len(met) == 0 {
		return nil, nil
	}

	table, _ := fsys.Mounts() // without it nothing is known of what does not answer
	out := map[pathname.Path]access.Place{}
	for _, x := range met {
		if x.Begins {
			m := table[x.Mount]
			m.At = x.Path
			out[x.Path] = access.Place{Path: x.Path, Mount: m, Top: true}
		}
	}

	ctx, cancel := context.WithCancel(ctx)
	defer cancel()

	select {
	case waiting <- struct{}{}:
	case <-time.After(patience):
		return out, nil
	case <-ctx.Done():
		return out, ctx.Err()
	}

	found := make(chan access.Place)
	go func() { // which hangs where a file system does
		defer func() { <-waiting }()
		defer close(found)
		for _, x := range met {
			f, err := b.Shown(string(x.Path))
			if err != nil { // it has gone meanwhile, or may not be looked at
				continue
			}
			select {
			case found <- f.Seen.Place:
			case <-ctx.Done():
				return
			}
		}
	}()

	for {
		select {
		case p, more := <-found:
			if !more {
				return out, nil
			}
			out[p.Path] = p
		case <-time.After(patience):
			return out, nil
		case <-ctx.Done():
			return out, ctx.Err()
		}
	}
}

// entry looks at an entry of an open folder, without following it.
func entry(dir int, path, name string, mount access.Mount) (access.Seen, error) {
	fd, err := unix.Openat(dir, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return access.Seen{}, err
	}
	defer unix.Close(fd)
	return seen(fd, path, mount)
}

// seen looks at what a descriptor points to, on a file system unless another begins there.
func seen(fd int, path string, mount access.Mount) (access.Seen, error) {
	i, err := fsys.Look(fd)
	if err != nil {
		return access.Seen{}, err
	}

	e := access.Seen{
		Place:    access.Place{Path: pathname.Path(path), Kind: i.Kind, Set: i.Set, Mount: mount, Top: i.Top},
		Modified: i.Modified,
		Links:    i.Links,
	}
	switch i.Kind {
	case perm.File:
		e.Size = i.Size
	case perm.Link:
		target, err := readlink(fd)
		if err != nil {
			return access.Seen{}, err
		}
		e.Target = pathname.Path(target)
	}

	if i.Top || path == "/" {
		if e.Mount, err = mountOf(fd, path, i.Mount); err != nil {
			return e, err
		}
	}

	if i.Kind == perm.Folder && i.Ino == scan.SubvolumeTop {
		e.Mount.Sealed = !e.Mount.ReadOnly && fsys.Sealed(fd)
		if e.Mount.Sealed {
			e.Mount.At = pathname.Path(path)
		}
	}

	return e, nil
}
