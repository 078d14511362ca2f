package ntsd

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
)

// The letters of rights in SDDL text (MS-DTYP 2.5.1.1), those of files and folders first.
var rightLetters = []struct {
	letters string
	mask    ace.Mask
}{
	{"FA", ace.Full}, {"FR", ace.FileRead}, {"FW", ace.FileWrite}, {"FX", ace.FileExecute},
	{"GA", ace.GenericAll}, {"GX", ace.GenericExecute}, {"GW", ace.GenericWrite}, {"GR", ace.GenericRead},
	{"RC", ace.ReadControl}, {"SD", ace.Delete}, {"WD", ace.WriteDAC}, {"WO", ace.WriteOwner},
	{"CC", 1 << 0}, {"DC", 1 << 1}, {"LC", 1 << 2}, {"SW", 1 << 3}, {"RP", 1 << 4}, {"WP", 1 << 5}, {"DT", 1 << 6},
	{"LO", 1 << 7}, {"CR", 1 << 8},
}

var flagLetters = []struct {
	letters string
	flag    ace.Flags
}{
	{"OI", ace.ObjectInherit},
	{"CI", ace.ContainerInherit},
	{"NP", ace.NoPropagate},
	{"IO", ace.InheritOnly},
	{"ID", ace.Inherited},
}

func (s SID) sddl() string {
	for _, k := range known {
		if k.sid == s && k.letters != "" {
			return k.letters
		}
	}
	return s.String()
}

// SDDL writes a descriptor as text (MS-DTYP 2.5.1). Entries of other types than allow and deny have none here.
func (d Descriptor) SDDL() (string, error) {
	var b strings.Builder
	if !d.Owner.IsZero() {
		b.WriteString("O:" + d.Owner.sddl())
	}

	if !d.Group.IsZero() {
		b.WriteString("G:" + d.Group.sddl())
	}

	b.WriteString("D:")
	if d.Control&Protected != 0 {
		b.WriteString("P")
	}

	if d.Control&AutoInherited != 0 {
		b.WriteString("AI")
	}

	if d.Open {
		b.WriteString("NO_ACCESS_CONTROL")
		return b.String(), nil
	}

	for _, e := range d.Entries {
		if e.Foreign() || e.Extra != "" || e.Flags&^(ace.Passed|ace.Inherited) != 0 {
			return "", fmt.Errorf("an entry of type %d has no text here", e.Type)
		}

		b.WriteString("(" + map[Type]string{Allow: "A", Deny: "D"}[e.Type] + ";")
		for _, f := range flagLetters {
			if e.Flags&f.flag != 0 {
				b.WriteString(f.letters)
			}
		}

		rights := fmt.Sprintf("0x%x", uint32(e.Mask))
		for _, r := range rightLetters[:8] {
			if e.Mask == r.mask {
				rights = r.letters
			}
		}

		b.WriteString(";" + rights + ";;;" + e.SID.sddl() + ")")
	}

	return b.String(), nil
}

// An sddl is text that is being read.
type sddl struct {
	text string
	at   int
}

func (s *sddl) rest() string { return s.text[s.at:] }

func (s *sddl) fail(format string, args ...any) error {
	return fmt.Errorf("security descriptor text, character %d: %s", s.at+1, fmt.Sprintf(format, args...))
}

func (s *sddl) take(prefix string) bool {
	if !strings.HasPrefix(s.rest(), prefix) {
		return false
	}
	s.at += len(prefix)
	return true
}

// maxText bounds SDDL text in bytes.
const maxText = 512 << 10

// ParseSDDL reads a descriptor from text. Letters that stand for accounts of some domain cannot be read
// without it: write those as S-1-5-21-….
func ParseSDDL(text string) (Descriptor, error) {
	var d Descriptor
	if len(text) > maxText {
		return d, fmt.Errorf("security descriptor text has %d bytes, at most %d are allowed", len(text), maxText)
	}

	s := &sddl{text: text}
	d.Open = true
	var seen [4]bool

	for s.at < len(text) {
		i := strings.IndexByte("OGDS", text[s.at])
		if i < 0 || !strings.HasPrefix(s.rest()[1:], ":") {
			return Descriptor{}, s.fail("want O:, G: or D:")
		}
		if seen[i] {
			return Descriptor{}, s.fail("%s stands twice", text[s.at:s.at+2])
		}

		seen[i] = true
		s.at += 2
		var err error

		switch i {
		case 0:
			d.Owner, err = s.sid()
		case 1:
			d.Group, err = s.sid()
		case 2:
			err = s.list(&d)
		default:
			err = s.fail("system lists are not kept: leave S: out")
		}

		if err != nil {
			return Descriptor{}, err
		}
	}

	return d, nil
}

func (s *sddl) sid() (SID, error) {
	if strings.HasPrefix(s.rest(), "S-") {
		n := 2
		for n < len(s.rest()) &&
			(s.rest()[n] == '-' || s.rest()[n] >= '0' && s.rest()[n] <= '9' ||
				s.rest()[n] >= 'a' && s.rest()[n] <= 'f' || s.rest()[n] == 'x') {
			n++
		}

		sid, err := ParseSID(s.rest()[:n])
		if err != nil {
			return SID{}, s.fail("%v", err)
		}

		s.at += n
		return sid, nil
	}

	for _, k := range known {
		if k.letters != "" && s.take(k.letters) {
			return k.sid, nil
		}
	}

	return SID{}, s.fail(
		"want an identity: S-1-…, or letters such as BA; those of a domain's accounts are not known here")
}

func (s *sddl) list(d *Descriptor) error {
	for {
		switch {
		case s.take("NO_ACCESS_CONTROL"):
			return nil
		case s.take("P"):
			d.Control |= Protected
			continue
		case s.take("AI"):
			d.Control |= AutoInherited
			continue
		case s.take("AR"):
			continue // it asks for what AI says
		}
		break
	}

	d.Open = false
	for s.take("(") {
		e, err := s.entry()
		if err != nil {
			return err
		}
		d.Entries = append(d.Entries, e)
	}

	return nil
}

func (s *sddl) entry() (Entry, error) {
	var e Entry
	end := strings.IndexByte(s.rest(), ')')
	if end < 0 {
		return e, s.fail("an entry without its )")
	}

	switch {
	case s.take("A;"):
	case s.take("D;"):
		e.Type = Deny
	default:
		return e, s.fail("want an entry of type A or D")
	}

flags:
	for !s.take(";") {
		for _, f := range flagLetters {
			if s.take(f.letters) {
				e.Flags |= f.flag
				continue flags
			}
		}
		return e, s.fail("want flags out of OI, CI, NP, IO and ID, and a semicolon")
	}

	if strings.HasPrefix(s.rest(), "0") {
		n := strings.IndexByte(s.rest(), ';')
		if n < 0 {
			return e, s.fail("want a semicolon after the rights")
		}
		v, err := strconv.ParseUint(s.rest()[:n], 0, 32)
		if err != nil {
			return e, s.fail("rights: %v", errors.Unwrap(err))
		}

		e.Mask = ace.Mask(v)
		s.at += n + 1
	} else {
	rights:
		for !s.take(";") {
			for _, r := range rightLetters {
				if s.take(r.letters) {
					e.Mask |= r.mask
					continue rights
				}
			}
			return e, s.fail("want rights: a number, or letters such as FA")
		}
	}

	if !s.take(";;") {
		return e, s.fail("entries for kinds of objects do not belong on files")
	}
	var err error
	if e.SID, err = s.sid(); err != nil {
		return e, err
	}
	if !s.take(")") {
		return e, s.fail("want ) after the identity")
	}

	return e, nil
}
