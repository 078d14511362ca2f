package posix

import (
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// maskedList writes entries in numbers, with the mask behind them where one is given.
func maskedList(l posixacl.List, mask *mode.Perm) string {
	parts := make([]string, 0, len(l)+1)
	for _, e := range l {
		parts = append(parts, e.Text(nil))
	}
	if mask != nil {
		parts = append(parts, "mask::"+mask.String())
	}
	if len(parts) == 0 {
		return "none" // an empty value would be one that nobody knows
	}
	return strings.Join(parts, ",")
}

// value returns what a POSIX state has of an aspect.
func (p State) value(a perm.Aspect) perm.Value {
	switch a {
	case perm.AspectOwner:
		return perm.Value(unixid.UID(p.UID))
	case perm.AspectGroup:
		return perm.Value(unixid.GID(p.GID))
	case perm.AspectMode:
		return perm.Value(p.declaredMode().String())
	case perm.AspectEntries:
		return perm.Value(maskedList(p.Access.Named(), maskOver(p)))
	case perm.AspectDefaults:
		return perm.Value(maskedList(p.Default, nil))
	case perm.AspectCaps:
		return perm.Value("caps " + fmt.Sprintf("%x", p.Caps))
	case perm.AspectFlags:
		return perm.Value(strconv.Itoa(int(p.Flags)))
	}
	return ""
}

// declared returns what a rule asks of an aspect of a POSIX state, which it comes to be by that. What a rule
// says in its own words, and not in numbers, is kept as it says it.
func (w *desired) declared(a perm.Aspect, mended State) perm.Value {
	switch {
	case a == perm.AspectMode && w.Mode != nil:
		return perm.Value(w.Mode.String())
	case a == perm.AspectEntries && w.Entries != nil && w.AtLeast:
		return perm.Value("at least " + maskedList(*w.Entries, nil) + " without " + maskedList(w.Without, nil))
	case a == perm.AspectEntries && w.Entries != nil:
		return perm.Value(maskedList(*w.Entries, nil))
	}
	return mended.value(a)
}
