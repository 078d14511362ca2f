//go:build linux

// Package look lists paths of the machine it runs on, for people: what each is, who may do what,
// and what could not be read. It changes nothing and follows no link.
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

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/fsys"
)

// An Entry is one path.
type Entry struct {
	Path     string
	Kind     perm.Kind
	Set      perm.Set
	Size     int64 // bytes, of files
	Modified time.Time
	Links    uint64
	Target   string // of a link
}

// A Refusal is a path that could not be looked at, and why.
type Refusal struct {
	Path   pathname.Path `json:"path"`
	Reason string        `json:"reason"`
}

// One looks at a single path, without following it.
func One(path string) (Entry, error) {
	if err := pathname.Check(path); err != nil {
		return Entry{}, err
	}
	dir, err := unix.Open(pathname.Folder(path), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return Entry{}, fmt.Errorf("%s: %w", pathname.Escape(pathname.Folder(path)), err)
	}
	defer unix.Close(dir)
	name := path[strings.LastIndexByte(path, '/')+1:]
	if name == "" {
		name = "."
	}
	var r fsys.Reader
	return entry(&r, dir, path, name)
}

func entry(r *fsys.Reader, dir int, path, name string) (Entry, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return Entry{}, err
	}
	e := Entry{Path: path, Kind: fsys.KindOf(st.Mode), Modified: time.Unix(st.Mtim.Unix()), Links: uint64(st.Nlink)}
	if e.Kind == perm.File {
		e.Size = st.Size
	}
	if e.Kind == perm.Link {
		e.Target, _ = readlink(dir, name) // one that cannot be read is a link all the same
	}
	var err error
	e.Kind, e.Set, err = r.At(dir, append([]byte(name), 0))
	return e, err
}

// List calls each for every entry of a folder, by name bytes, and where deep is asked for for all
// below it, a folder before its content; at the end it tells what was refused. Other file systems
// are listed but not entered.
func List(ctx context.Context, path string, deep bool, each func(Entry) error) ([]Refusal, error) {
	top, err := One(path)
	if err != nil {
		return nil, err
	}
	if top.Kind != perm.Folder {
		return nil, each(top)
	}
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", pathname.Escape(path), err)
	}
	l := &lister{ctx: ctx, deep: deep, each: each}
	err = l.folder(os.NewFile(uintptr(fd), path), path)
	return l.refused, err
}

type lister struct {
	ctx     context.Context
	deep    bool
	each    func(Entry) error
	reader  fsys.Reader
	refused []Refusal
}

func (l *lister) refuse(path string, err error) {
	l.refused = append(l.refused, Refusal{pathname.Path(path), err.Error()})
}

func (l *lister) folder(f *os.File, path string) error {
	defer f.Close()
	names, err := f.Readdirnames(-1)
	if err != nil {
		l.refuse(path, err)
	}
	slices.Sort(names)
	for _, name := range names {
		if err := l.ctx.Err(); err != nil {
			return err
		}
		at := pathname.Join(path, name)
		e, err := entry(&l.reader, int(f.Fd()), at, name)
		if err != nil {
			l.refuse(at, err)
			continue
		}
		if err := l.each(e); err != nil {
			return err
		}
		if !l.deep || e.Kind != perm.Folder {
			continue
		}
		fd, err := fsys.Subfolder(int(f.Fd()), name, false)
		if errors.Is(err, unix.EXDEV) {
			l.refuse(at, errors.New("another file system is mounted here: list it by itself"))
			continue
		}
		if err != nil {
			l.refuse(at, err)
			continue
		}
		if err := l.folder(os.NewFile(uintptr(fd), at), at); err != nil {
			return err
		}
	}
	return nil
}
