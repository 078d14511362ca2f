// Package caps reads and writes file capabilities, as the attribute security.capability holds them: struct vfs_cap_data
// of linux/capability.h, revision 2.
//
//	raw, _ := caps.Parse("cap_net_bind_service=ep")
//	caps.Text(raw) // "cap_net_bind_service=ep"
package caps

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
)

// File capabilities: the attribute is struct vfs_cap_data of linux/capability.h, revision 2; the
// text is the textual representation of POSIX.1e draft 17 section 25, one clause.

var capNames = []string{
	"chown", "dac_override", "dac_read_search", "fowner", "fsetid", "kill", "setgid", "setuid", "setpcap",
	"linux_immutable",
	"net_bind_service", "net_broadcast", "net_admin", "net_raw", "ipc_lock", "ipc_owner", "sys_module", "sys_rawio",
	"sys_chroot", "sys_ptrace",
	"sys_pacct", "sys_admin", "sys_boot", "sys_nice", "sys_resource", "sys_time", "sys_tty_config", "mknod", "lease",
	"audit_write", "audit_control",
	"setfcap", "mac_override", "mac_admin", "syslog", "wake_alarm", "block_suspend", "audit_read", "perfmon", "bpf",
	"checkpoint_restore",
}

const (
	capsRevision2 = 0x02000000
	capsEffective = 1
)

// Parse reads "none", or capabilities with =ep or =p behind them: "cap_net_bind_service=ep".
func Parse(s string) (string, error) {
	if s == "none" {
		return "", nil
	}

	list, flags, ok := strings.Cut(s, "=")
	if !ok || flags != "ep" && flags != "p" {
		return "", fmt.Errorf(
			"capability %q: want none, or names with =ep (effective at once) or =p behind them, such as "+
				"cap_net_bind_service=ep",
			s)
	}

	var bits uint64
	for name := range strings.SplitSeq(list, ",") {
		i := slices.Index(capNames, strings.TrimPrefix(strings.ToLower(name), "cap_"))
		if i < 0 {
			return "", fmt.Errorf("capability %q is unknown: see capabilities(7)", name)
		}
		bits |= 1 << i
	}

	magic := uint32(capsRevision2)
	if flags == "ep" {
		magic |= capsEffective
	}

	b := binary.LittleEndian.AppendUint32(nil, magic)
	for _, half := range []uint64{bits, bits >> 32} {
		b = binary.LittleEndian.AppendUint32(b, uint32(half))
		b = binary.LittleEndian.AppendUint32(b, 0) // nothing inheritable
	}

	return string(b), nil
}

// Text writes a capability attribute; what is more than the text can say stays hexadecimal.
func Text(raw string) string {
	if raw == "" {
		return "none"
	}

	b := []byte(raw)
	if len(b) != 20 || binary.LittleEndian.Uint32(b)&^capsEffective != capsRevision2 ||
		binary.LittleEndian.Uint32(b[8:])|binary.LittleEndian.Uint32(b[16:]) != 0 {
		return fmt.Sprintf("%x", raw)
	}

	bits := uint64(binary.LittleEndian.Uint32(b[4:])) | uint64(binary.LittleEndian.Uint32(b[12:]))<<32
	if bits == 0 || bits>>len(capNames) != 0 {
		return fmt.Sprintf("%x", raw)
	}

	var names []string
	for i, n := range capNames {
		if bits&(1<<i) != 0 {
			names = append(names, "cap_"+n)
		}
	}

	if binary.LittleEndian.Uint32(b)&capsEffective != 0 {
		return strings.Join(names, ",") + "=ep"
	}

	return strings.Join(names, ",") + "=p"
}
