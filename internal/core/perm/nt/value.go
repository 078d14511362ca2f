package nt

import (
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// entryList writes entries in numbers. Those that mean the same, and so are said in the same words, are one.
func entryList(list []ntsd.Entry) string {
	parts := make([]string, len(list))
	for i, e := range list {
		e.Mask |= ace.Synchronize // part of every right to open a file, and of no words
		parts[i] = fmt.Sprintf("%x:%x:%x:%s:%x", uint8(e.Type), uint8(e.Flags), uint32(e.Mask), e.SID, e.Extra)
	}
	return strings.Join(parts, ",")
}

// value returns what a descriptor has of an aspect, at a path found as f says.
func (n State) value(a perm.Aspect, f perm.Found) perm.Value {
	d := &n.Descriptor
	switch a {
	case perm.AspectOwner:
		return perm.Value(PrincipalOf(d.Owner))
	case perm.AspectInheritance:
		_, missing, left := astray(f, d)
		how := "inherits"
		switch {
		case d.Open:
			how = "open"
		case d.Control&ntsd.Protected != 0:
			how = "protected"
		}
		return perm.Value(how + " left " + entryList(left) + " missing " + entryList(missing))
	case perm.AspectGrants:
		if d.Open {
			return "open"
		}
		order := "canonical "
		if !ntsd.Canonical(d.Entries) {
			order = "unordered "
		}
		return perm.Value(order + entryList(own(d.Entries)))
	}
	return ""
}

// declared returns what a rule asks of an aspect of a share's path.
func (w *desired) declared(a perm.Aspect) perm.Value {
	switch {
	case a == perm.AspectOwner:
		return w.Value(a)
	case a == perm.AspectInheritance && w.NT.Inherits != nil:
		return perm.Value(strconv.FormatBool(*w.NT.Inherits))
	case a == perm.AspectGrants && w.NT.Grants != nil:
		text := entryList(*w.NT.Grants)
		if w.NT.AtLeast {
			text = "at least " + text + " without"
			for _, s := range w.NT.Without {
				text += " " + s.String()
			}
		}
		return perm.Value(text)
	}
	return ""
}
