package posixacl

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/mode"
)

// A NameFunc turns the id of a User or Group entry into a name, "" where it has none.
type NameFunc func(Tag, uint32) string

// An IDFunc finds the id of a name.
type IDFunc func(Tag, string) (uint32, bool)

var tagWords = map[Tag]string{
	UserObj:  "user",
	User:     "user",
	GroupObj: "group",
	Group:    "group",
	Mask:     "mask",
	Other:    "other",
}

// Text returns one line, entries apart by commas, each as "user:NAME:rwx".
func (l List) Text(name NameFunc) string {
	parts := make([]string, len(l))
	for i, e := range l {
		parts[i] = e.Text(name)
	}
	return strings.Join(parts, ",")
}

// Short returns the short text form of POSIX.1e draft 17 section 23.3.2: one letter for each tag.
func (l List) Short(name NameFunc) string {
	parts := make([]string, len(l))
	for i, e := range l {
		word, rest, _ := strings.Cut(e.Text(name), ":")
		parts[i] = word[:1] + ":" + rest
	}
	return strings.Join(parts, ",")
}

// Long returns the long text form of section 23.3.1, one entry a line, with a remark where the
// mask leaves less of an entry than it says.
func (l List) Long(name NameFunc) string {
	var b strings.Builder
	for _, e := range l {
		b.WriteString(e.Text(name))
		if got := l.Effective(e); got != e.Perm {
			b.WriteString("\t#effective:" + got.String())
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// Text returns one entry as "user:NAME:rwx".
func (e Entry) Text(name NameFunc) string {
	who := ""
	if e.Tag == User || e.Tag == Group {
		if name != nil {
			who = name(e.Tag, e.ID)
		}
		if who == "" {
			who = strconv.FormatUint(uint64(e.ID), 10)
		}
	}
	return tagWords[e.Tag] + ":" + who + ":" + e.Perm.String()
}

// A TextError says what in a list's text is wrong, and where.
type TextError struct {
	At   int // bytes before it
	Text string
	Want string
}

func (e *TextError) Error() string {
	if e.At >= len(e.Text) {
		return fmt.Sprintf("access list ends after %d characters where %s is wanted", e.At, e.Want)
	}
	return fmt.Sprintf("access list: character %d is %q, want %s", e.At+1, e.Text[e.At], e.Want)
}

// maxText bounds a list's text.
const maxText = 1 << 20

// ParseText reads the long or the short text form: entries apart by commas or line ends, remarks
// from # to the end of the line, tags as words or single letters, permissions as letters or one
// octal digit. Entries that begin with default: make up the second list. Names are found with id;
// numbers stand for themselves.
func ParseText(s string, id IDFunc) (access, defaults List, err error) {
	if len(s) > maxText {
		return nil, nil, fmt.Errorf("access list has %d characters, at most %d are allowed", len(s), maxText)
	}

	p := &parser{s: s, id: id}
	for {
		p.skip()
		if p.at == len(s) {
			break
		}
		e, isDefault, err := p.entry()
		if err != nil {
			return nil, nil, err
		}

		if isDefault {
			defaults = append(defaults, e)
		} else {
			access = append(access, e)
		}

		p.blanks()
		switch {
		case p.at == len(s), s[p.at] == '\n', s[p.at] == '#':
		case s[p.at] == ',':
			p.at++
			p.skip()
			if p.at == len(s) {
				return nil, nil, p.fail("another entry")
			}
		default:
			return nil, nil, p.fail("a comma or a line end")
		}
	}

	if len(access)+len(defaults) == 0 {
		return nil, nil, errors.New("access list is empty: want entries such as user::rwx,group::r-x,other::---")
	}

	for _, l := range []struct {
		of    List
		which string
	}{{access, ""}, {defaults, "default "}} {
		l.of.Sort()
		if l.of != nil {
			if err := l.of.Validate(); err != nil {
				return nil, nil, fmt.Errorf("%s%w", l.which, err)
			}
		}
	}

	return access, defaults, nil
}

type parser struct {
	s  string
	at int
	id IDFunc
}

func (p *parser) fail(want string) error { return &TextError{p.at, p.s, want} }

func (p *parser) blanks() {
	for p.at < len(p.s) && (p.s[p.at] == ' ' || p.s[p.at] == '\t' || p.s[p.at] == '\r') {
		p.at++
	}
}

// skip passes over blanks, line ends and remarks.
func (p *parser) skip() {
	for {
		p.blanks()
		switch {
		case p.at < len(p.s) && p.s[p.at] == '\n':
			p.at++
		case p.at < len(p.s) && p.s[p.at] == '#':
			if n := strings.IndexByte(p.s[p.at:], '\n'); n >= 0 {
				p.at += n
			} else {
				p.at = len(p.s)
			}
		default:
			return
		}
	}
}

// word reads up to a colon and passes over it.
func (p *parser) word(want string) (string, error) {
	start := p.at
	for p.at < len(p.s) && !strings.ContainsRune(":,\n#", rune(p.s[p.at])) {
		p.at++
	}
	if p.at == len(p.s) || p.s[p.at] != ':' {
		return "", p.fail("a colon after " + want)
	}
	p.at++
	return strings.TrimSpace(p.s[start : p.at-1]), nil
}

func (p *parser) entry() (e Entry, isDefault bool, err error) {
	const tags = "one of user, group, mask, other, default"
	start := p.at
	word, err := p.word(tags)
	if err != nil {
		return e, false, err
	}

	if word == "default" || word == "d" {
		isDefault = true
		p.blanks()
		start = p.at
		if word, err = p.word("user, group, mask or other"); err != nil {
			return e, false, err
		}
	}

	named := Tag(0)
	switch word {
	case "user", "u":
		e.Tag, named = UserObj, User
	case "group", "g":
		e.Tag, named = GroupObj, Group
	case "mask", "m":
		e.Tag = Mask
	case "other", "o":
		e.Tag = Other
	default:
		p.at = start
		return e, false, p.fail(tags)
	}

	e.ID = NoID
	p.blanks()
	start = p.at
	who, err := p.word("the name, or a second colon where nobody is named")
	if err != nil {
		return e, false, err
	}

	if who != "" {
		if named == 0 {
			p.at = start
			return e, false, p.fail("a second colon: " + word + " names nobody")
		}
		e.Tag = named
		if e.ID, err = p.find(named, who); err != nil {
			return e, false, err
		}
	}

	p.blanks()
	e.Perm, err = p.perm()
	return e, isDefault, err
}

func (p *parser) find(tag Tag, who string) (uint32, error) {
	if p.id != nil {
		if id, ok := p.id(tag, who); ok {
			return id, nil
		}
	}
	if n, err := strconv.ParseUint(who, 10, 32); err == nil && uint32(n) != NoID {
		return uint32(n), nil
	}
	return 0, fmt.Errorf("access list names the %s %q, which is not known here: give its number, or create it first",
		map[Tag]string{User: "account", Group: "group"}[tag], who)
}

// perm reads up to three of r, w, x and hyphens, each letter once, or one octal digit.
func (p *parser) perm() (mode.Perm, error) {
	start := p.at
	var got mode.Perm
	for ; p.at < len(p.s) && p.at-start < 3; p.at++ {
		c := p.s[p.at]
		if p.at == start && c >= '0' && c <= '7' {
			p.at++
			return mode.Perm(c - '0'), nil
		}

		bit := map[byte]mode.Perm{'r': mode.Read, 'w': mode.Write, 'x': mode.Execute}[c]
		if bit == 0 && c != '-' {
			break
		}
		if got&bit != 0 {
			return 0, p.fail("each of r, w and x once")
		}

		got |= bit
	}

	if p.at == start {
		return 0, p.fail("permissions: letters out of r, w, x and -, or one octal digit")
	}

	return got, nil
}
