//go:build linux

package fsys

import (
	"strings"
	"testing"

	"idletally/internal/core/access"
)

// Lines of the table are read as proc_pid_mountinfo(5) has them, whatever people who may mount have put into
// sources and options.
func TestParseMount(t *testing.T) {
	for _, c := range []struct {
		line string
		id   uint64
		want access.Mount
		ok   bool
	}{
		{"36 35 98:0 /mnt1 /mnt2 rw,noatime master:1 - ext3 /dev/root rw,errors=continue", 36, access.Mount{}, true},
		{"36 35 98:0 / /a ro,nosuid,nodev,noexec,nosymfollow - tmpfs none rw", 36,
			access.Mount{ReadOnly: true, NoSUID: true, NoDev: true, NoExec: true, NoFollow: true}, true},
		{"36 35 98:0 / /a rw - ext4 /dev/x ro,grpid", 36, access.Mount{ReadOnly: true, GroupOfFolder: "ext4"}, true},
		{"36 35 98:0 / /a rw shared:1 master:2 propagate_from:3 - xfs /dev/x rw,bsdgroups", 36,
			access.Mount{GroupOfFolder: "xfs"}, true},
		// a source that is a dash
		{`36 35 0:50 / /mnt/ro\040-\040x rw - fuse.-\040ro - rw,user_id=0`, 36, access.Mount{}, true},
		{"36 35 0:50 / /a rw - fuse  rw", 36, access.Mount{}, false}, // an empty source shifts what follows
		{"36 35 98:0 / - rw - ext4 x ro", 36, access.Mount{}, false},
		{"x 35 98:0 / /a rw - ext4 x ro", 0, access.Mount{}, false},
		{"-1 35 98:0 / /a rw - ext4 x ro", 0, access.Mount{}, false},
		{"", 0, access.Mount{}, false},
		{" - - - - - - - - -", 0, access.Mount{}, false},
	} {
		t.Run(c.line, func(t *testing.T) {
			id, m, ok := parseMount(c.line)
			if ok != c.ok || ok && (id != c.id || m != c.want) {
				t.Errorf("%q: %d, %+v, %t", c.line, id, m, ok)
			}
		})
	}

	table, err := Mounts()
	if err != nil || len(table) == 0 {
		t.Errorf("this process's own: %v, %v", table, err)
	}
}

func FuzzParseMount(f *testing.F) {
	f.Add("36 35 98:0 /mnt1 /mnt2 rw,noatime master:1 - ext3 /dev/root rw,errors=continue")
	f.Fuzz(func(t *testing.T, line string) {
		_, m, ok := parseMount(line)
		if ok && (m.At != "" || m.GroupOfFolder != "" && !strings.Contains(line, m.GroupOfFolder)) {
			t.Errorf("%q: %+v", line, m)
		}
	})
}
