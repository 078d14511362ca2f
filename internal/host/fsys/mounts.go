//go:build linux

package fsys

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
)

// Mount returns the number of the mount that the last entry lies on, and whether it is the mount's root. If the
// kernel tells no number (before Linux 5.8) it is 0.
func (r *Reader) Mount() (id uint64, begins bool) {
	if r.stat.Mask&unix.STATX_MNT_ID != 0 {
		id = r.stat.Mnt_id
	}
	return id, r.stat.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0
}

// Mounts returns what this process's mounts deny, by their numbers (proc_pid_mountinfo(5)). No file system is asked,
// so that one which does not answer blocks nobody. Where each is mounted is left out.
func Mounts() (map[uint64]access.Mount, error) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, fmt.Errorf("read the table of mounts: %w", err)
	}
	defer f.Close()

	out := map[uint64]access.Mount{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)

	for lines.Scan() {
		if id, m, ok := parseMount(lines.Text()); ok {
			out[id] = m
		}
	}

	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("read the table of mounts: %w", err)
	}

	return out, nil
}

// parseMount reads a line of the table: number, parent, device, root, place, options, more of them up to a dash, and
// then the file system's type, source and own options.
func parseMount(line string) (id uint64, m access.Mount, ok bool) {
	fields := strings.Fields(line)
	dash := slices.Index(fields, "-")
	if dash < 6 || len(fields) < dash+4 {
		return 0, m, false
	}
	id, err := strconv.ParseUint(fields[0], 10, 64)
	if err != nil {
		return 0, m, false
	}

	own, super := strings.Split(fields[5], ","), strings.Split(fields[dash+3], ",")
	has := func(list []string, option string) bool { return slices.Contains(list, option) }
	m = access.Mount{
		ReadOnly: has(own, "ro") || has(super, "ro"),
		NoExec:   has(own, "noexec"),
		NoSUID:   has(own, "nosuid"),
		NoDev:    has(own, "nodev"),
		NoFollow: has(own, "nosymfollow"),
	}

	if has(super, "grpid") || has(super, "bsdgroups") {
		m.GroupOfFolder = fields[dash+1]
	}

	return id, m, true
}

// Sealed reports whether the kernel refuses writing to what a descriptor points to because of its file system, as in
// a subvolume of btrfs that is read-only, whatever its mount says. Nothing is opened for it. If it cannot be asked it
// is false.
func Sealed(fd int) bool {
	return unix.Faccessat(fd, "", unix.W_OK, unix.AT_EMPTY_PATH) == unix.EROFS
}
