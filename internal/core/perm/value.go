package perm

import (
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/posixacl"
)

// A Value is what a state has of one aspect, or what a rule asks of it: in numbers, and in one form alone. Findings,
// groups of findings and waivers are known by values, and not by the text beside them. A value holds no name, so that
// an account that is called otherwise is still the same; and nobody is shown it, so that what people read may be put
// in better words. Values are kept in the database: their form stays.
type Value string

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
func (p POSIX) value(a Aspect) Value {
	switch a {
	case AspectOwner:
		return Value(UID(p.UID))
	case AspectGroup:
		return Value(GID(p.GID))
	case AspectMode:
		return Value(p.declaredMode().String())
	case AspectEntries:
		return Value(maskedList(p.Access.Named(), maskOver(p)))
	case AspectDefaults:
		return Value(maskedList(p.Default, nil))
	case AspectCaps:
		return Value("caps " + fmt.Sprintf("%x", p.Caps))
	case AspectFlags:
		return Value(strconv.Itoa(int(p.Flags)))
	}
	return ""
}

// declared returns what a rule asks of an aspect of a POSIX state, which it comes to be by that. What a rule
// says in its own words, and not in numbers, is kept as it says it.
func (w *Desired) declared(a Aspect, mended POSIX) Value {
	switch {
	case a == AspectMode && w.Mode != nil:
		return Value(w.Mode.String())
	case a == AspectEntries && w.Entries != nil && w.AtLeast:
		return Value("at least " + maskedList(*w.Entries, nil) + " without " + maskedList(w.Without, nil))
	case a == AspectEntries && w.Entries != nil:
		return Value(maskedList(*w.Entries, nil))
	}
	return mended.value(a)
}

// ntEntryList writes entries in numbers. Those that mean the same, and so are said in the same words, are one.
func ntEntryList(list []ntsd.Entry) string {
	parts := make([]string, len(list))
	for i, e := range list {
		e.Mask |= ace.Synchronize // part of every right to open a file, and of no words
		parts[i] = fmt.Sprintf("%x:%x:%x:%s:%x", uint8(e.Type), uint8(e.Flags), uint32(e.Mask), e.SID, e.Extra)
	}
	return strings.Join(parts, ",")
}

// value returns what a descriptor has of an aspect, at a path found as f says.
func (n ntState) value(a Aspect, f Found) Value {
	d := &n.Descriptor
	switch a {
	case AspectOwner:
		return Value(SIDOf(d.Owner))
	case AspectInheritance:
		_, missing, left := f.astray(d)
		how := "inherits"
		switch {
		case d.Open:
			how = "open"
		case d.Control&ntsd.Protected != 0:
			how = "protected"
		}
		return Value(how + " left " + ntEntryList(left) + " missing " + ntEntryList(missing))
	case AspectGrants:
		if d.Open {
			return "open"
		}
		order := "canonical "
		if !ntsd.Canonical(d.Entries) {
			order = "unordered "
		}
		return Value(order + ntEntryList(own(d.Entries)))
	}
	return ""
}

// ntDeclared returns what a rule asks of an aspect of a share's path.
func (w *Desired) ntDeclared(a Aspect) Value {
	switch {
	case a == AspectOwner && w.Owner != nil:
		return Value(*w.Owner)
	case a == AspectInheritance && w.NT.Inherits != nil:
		return Value(strconv.FormatBool(*w.NT.Inherits))
	case a == AspectGrants && w.NT.Grants != nil:
		text := ntEntryList(*w.NT.Grants)
		if w.NT.AtLeast {
			text = "at least " + text + " without"
			for _, s := range w.NT.Without {
				text += " " + s.String()
			}
		}
		return Value(text)
	}
	return ""
}

// Key tells effects apart as [Effect.String] does, without names.
func (e Effect) Key() string {
	var b strings.Builder
	for _, side := range [][]Gain{e.Opens, e.Closes} {
		for _, g := range side {
			fmt.Fprintf(&b, "%s %x,", g.ID, uint16(g.Can))
		}
		b.WriteByte(';')
	}
	return b.String()
}
