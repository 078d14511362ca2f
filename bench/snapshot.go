//go:build linux

package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
)

// snapshot measures a scan. Its floor is two threads of getdents, newfstatat and getxattr over the
// same tree, and nothing else: no sorting, no hashing, no encoding, no keeping.
func snapshot(entries, rounds int, parent string) error {
	root, err := os.MkdirTemp(parent, "idletally-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(root)

	made, err := grow(root, entries)
	if err != nil {
		return err
	}

	fmt.Fprintf(os.Stderr,
		"%d entries, one in ten with access entries, one in ten below a folder with default entries; %d rounds, "+
			"floor and product in turn; medians\n",
		made, rounds)
	seen := 0
	past := filepath.Join(root+"-past", "past") // not among what is measured
	if err := os.Mkdir(filepath.Dir(past), 0o700); err != nil {
		return err
	}
	defer os.RemoveAll(filepath.Dir(past))

	err = inTurn(rounds, func() (float64, float64, error) {
		f, n, err := floor(root, true)
		if err != nil {
			return 0, 0, err
		}

		o, paths, _, err := product(root, past, true)
		if err == nil && n != paths-1 { // the root itself is looked at by the product only
			err = fmt.Errorf("the floor saw %d entries, the product %d", n, paths-1)
		}

		seen = paths
		return f, o, err
	}, func(f, o float64) {
		fmt.Printf("figure snapshot-%d %.3f s floor %.3f ratio %.2f\n", seen, o, f, o/f)
	})

	if err != nil {
		return err
	}
	time.Sleep(2 * time.Second) // what was made just now is not trusted
	if _, _, _, err := product(root, past, true); err != nil {
		return err
	}

	size, changed := 0, 0
	err = inTurn(rounds, func() (float64, float64, error) {
		for range 10 {
			changed++
			if err := os.Chmod(
				filepath.Join(root,
					fmt.Sprintf("folder-%d/folder-%d/file-%02d.dat", changed%4, changed/4%4, changed%40)),
				os.FileMode(0o600+changed%8)); err != nil {
				return 0, 0, err
			}
		}

		f, n, err := floor(root, false)
		if err != nil {
			return 0, 0, err
		}

		o, paths, sent, err := product(root, past, false)
		if err == nil && n != paths-1 {
			err = fmt.Errorf("the floor saw %d entries, the product %d", n, paths-1)
		}

		size = max(size, sent)
		return f, o, err
	}, func(f, o float64) {
		fmt.Printf("figure snapshot-again-10-%d %.3f s floor %.3f ratio %.2f\n", seen, o, f, o/f)
		fmt.Printf("figure snapshot-again-10-%d-new-nodes %.1f KiB floor 0 ratio 0\n", seen, float64(size)/1024)
	})

	if err != nil {
		return err
	}
	var use syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &use); err != nil {
		return err
	}

	fmt.Printf("figure snapshot-%d-resident %.0f MiB floor 0 ratio 0\n", seen, float64(use.Maxrss)/1024)
	return nil
}

// grow makes folders of 40 files and 4 subfolders until there are enough entries.
func grow(root string, entries int) (int, error) {
	named := posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 33, Perm: 4}}, nil).AppendXattr(nil)
	inherit := posixacl.Build(7, 5, 0, posixacl.List{{Tag: posixacl.User, ID: 33, Perm: 5}}, nil).AppendXattr(nil)
	made := 0
	queue := []string{root}

	for made < entries {
		at := queue[0]
		queue = queue[1:]
		for i := 0; i < 40 && made < entries; i++ {
			p := filepath.Join(at, fmt.Sprintf("file-%02d.dat", i))
			fd, err := unix.Open(p, unix.O_CREAT|unix.O_WRONLY, 0o640)
			if err != nil {
				return made, err
			}

			if i%10 == 0 {
				err = unix.Fsetxattr(fd, posix.AttrAccess, named, 0)
			}

			unix.Close(fd)
			if err != nil {
				return made, err
			}

			made++
		}

		for i := 0; i < 4 && made < entries; i++ {
			p := filepath.Join(at, fmt.Sprintf("folder-%d", i))
			if err := os.Mkdir(p, 0o750); err != nil {
				return made, err
			}

			if made%10 == 0 {
				if err := unix.Setxattr(p, posix.AttrDefault, inherit, 0); err != nil {
					return made, err
				}
			}

			made++
			queue = append(queue, p)
		}
	}

	return made, nil
}

// product scans, keeping what it found for the next time, and returns the size of the nodes that the last scan did
// not make.
func product(root, file string, whole bool) (seconds float64, paths, size int, err error) {
	spool, err := spool.New(os.TempDir())
	if err != nil {
		return 0, 0, 0, err
	}
	defer spool.Close()

	start := time.Now()
	past, err := scan.OpenCache(file, whole)
	if err != nil {
		return 0, 0, 0, err
	}
	defer past.Close()

	_, stats, err := scan.Scan(context.Background(), []string{root}, scan.Options{Cache: past}, spool)
	if err == nil {
		err = stats.Store(past)
	}

	return time.Since(start).Seconds(), int(stats.Paths), int(spool.Size()), err
}

// floor reads the tree with two threads, with access entries or without, and keeps nothing but the list of
// folders to come.
func floor(root string, lists bool) (seconds float64, entries int, err error) {
	start := time.Now()
	var mu sync.Mutex
	cond := sync.NewCond(&mu)
	stack, busy := []string{root}, 0
	var wg sync.WaitGroup

	for range 2 {
		wg.Go(func() {
			buf, value := make([]byte, 64<<10), make([]byte, 1024)
			access, defaults := cstring(posix.AttrAccess), cstring(posix.AttrDefault)
			seen := 0

			for {
				mu.Lock()
				for len(stack) == 0 && busy > 0 && err == nil {
					cond.Wait()
				}

				if len(stack) == 0 || err != nil {
					entries += seen
					mu.Unlock()
					cond.Broadcast()
					return
				}

				at := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				busy++
				mu.Unlock()
				below, n, e := floorFolder(at, buf, value, access, defaults, lists)
				seen += n
				mu.Lock()
				busy--
				stack = append(stack, below...)
				if e != nil {
					err = e
				}

				mu.Unlock()
				cond.Broadcast()
			}
		})
	}

	wg.Wait()
	return time.Since(start).Seconds(), entries, err
}

func cstring(s string) *byte {
	p, err := unix.BytePtrFromString(s)
	if err != nil { // the names are ours
		panic(err)
	}
	return p
}

type xattrArgs struct {
	value       uint64
	size, flags uint32
}

func floorFolder(at string, buf, value []byte, access, defaults *byte, lists bool) (below []string, n int, err error) {
	fd, err := unix.Open(at, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOATIME|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, 0, err
	}
	defer unix.Close(fd)

	var st unix.Stat_t
	args := xattrArgs{value: uint64(uintptr(unsafe.Pointer(&value[0]))), size: uint32(len(value))}
	for {
		k, err := unix.Getdents(fd, buf)
		if err != nil || k == 0 {
			return below, n, err
		}
		for b := buf[:k]; len(b) > 0; {
			size := binary.NativeEndian.Uint16(b[16:])
			name := b[19:size]
			b = b[size:]
			if name[0] == '.' && (name[1] == 0 || name[1] == '.' && name[2] == 0) {
				continue
			}

			n++
			_, _, e := unix.Syscall6(unix.SYS_NEWFSTATAT, uintptr(fd), uintptr(unsafe.Pointer(&name[0])),
				uintptr(unsafe.Pointer(&st)), unix.AT_SYMLINK_NOFOLLOW, 0, 0)
			if e != 0 {
				return below, n, e
			}

			attrs := []*byte{access}
			if st.Mode&unix.S_IFMT == unix.S_IFDIR {
				attrs = []*byte{access, defaults}
				below = append(below, at+"/"+string(name[:strings.IndexByte(string(name), 0)]))
			}

			if !lists {
				continue
			}

			for _, a := range attrs { // getxattrat(2): getxattr without a path to put together
				_, _, _ = unix.Syscall6(464, uintptr(fd), uintptr(unsafe.Pointer(&name[0])), unix.AT_SYMLINK_NOFOLLOW,
					uintptr(unsafe.Pointer(a)), uintptr(unsafe.Pointer(&args)), unsafe.Sizeof(args))
			}
		}
	}
}
