package posix

import (
	"encoding/hex"
	"fmt"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
)

// Shell returns a state as arguments of chown, chmod, setfacl and setfattr.
func (p State) Shell() perm.Shell {
	out := perm.Shell{
		Owner:    fmt.Sprintf("%d:%d", p.UID, p.GID),
		Mode:     fmt.Sprintf("%o", uint16(p.Mode&mode.All)),
		Defaults: "-",
		Caps:     "-",
	}

	access := p.Access
	if access == nil {
		access = posixacl.FromMode(p.Mode)
	}

	out.Access = access.Text(nil)
	if p.Default != nil {
		out.Defaults = p.Default.Text(nil)
	}

	if p.Caps != "" {
		out.Caps = "0x" + hex.EncodeToString([]byte(p.Caps))
	}

	return out
}
