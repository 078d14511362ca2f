package posix

import (
	"encoding/hex"
	"fmt"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
)

// A Shell is a state in the words of the system's own utilities: chown, chmod, setfacl and setfattr.
type Shell struct {
	Owner    string // UID:GID
	Mode     string // octal, as stat gives it: without leading zeros
	Access   string // the whole access list in its text form, numbers for names
	Defaults string // "-" for none
	Caps     string // hexadecimal, "-" for none
}

// ShellOf returns a POSIX state as arguments of chown, chmod, setfacl and setfattr.
func ShellOf(s perm.Set) (Shell, error) {
	p, err := Of(s)
	if err != nil {
		return Shell{}, err
	}

	out := Shell{
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

	return out, nil
}

// Plain reports whether mode and owner say all of it.
func (s Shell) Plain() bool {
	return strings.Count(s.Access, ",") == 2 && s.Defaults == "-" && s.Caps == "-"
}

// String returns it in one word for each part.
func (s Shell) String() string {
	return strings.Join([]string{s.Owner, s.Mode, s.Access, s.Defaults, s.Caps}, " ")
}
