package mode

import (
	"fmt"
	"strings"
)

// A Change is a symbolic mode, after the grammar of chmod in POSIX.1-2024: clauses apart by
// commas, each with whom it speaks of (u g o a), and actions of an operator (+ - =) and
// permissions (r w x X s t) or the class whose permissions are copied (u g o).
type Change struct{ actions []action }

type action struct {
	who      Mode // which bits of the mode may change
	anybody  bool // nobody was named: the process's umask counts
	op       byte
	bits     Mode // as for everybody; who picks from it
	ifAny    bool // X
	copyFrom byte // u, g, o, or 0
	special  bool // s or t was written
}

const (
	ownerBits = SetUID | 0o700
	groupBits = SetGID | 0o070
	otherBits = Sticky | 0o007
)

var classBits = map[byte]Mode{'u': ownerBits, 'g': groupBits, 'o': otherBits, 'a': All}

// ParseChange reads a symbolic mode.
func ParseChange(s string) (Change, error) {
	var c Change
	fail := func(at int, want string) (Change, error) {
		if at >= len(s) {
			return Change{}, fmt.Errorf("symbolic mode %q ends where %s is wanted", s, want)
		}
		return Change{}, fmt.Errorf("symbolic mode %q: character %d is %q, want %s", s, at+1, s[at], want)
	}

	for i := 0; ; i++ {
		var who Mode
		for i < len(s) && classBits[s[i]] != 0 {
			who |= classBits[s[i]]
			i++
		}

		if i >= len(s) || !strings.ContainsRune("+-=", rune(s[i])) {
			if who == 0 {
				return fail(i, "one of u g o a + - =")
			}
			return fail(i, "one of + - =")
		}

		for i < len(s) && strings.ContainsRune("+-=", rune(s[i])) {
			a := action{who: who, op: s[i]}
			if who == 0 {
				a.who, a.anybody = All, true
			}

			i++
			if i < len(s) && strings.IndexByte("ugo", s[i]) >= 0 {
				a.copyFrom = s[i]
				i++
			} else {
				for ; i < len(s) && strings.IndexByte("rwxXst", s[i]) >= 0; i++ {
					switch s[i] {
					case 'r':
						a.bits |= 0o444
					case 'w':
						a.bits |= 0o222
					case 'x':
						a.bits |= 0o111
					case 'X':
						a.ifAny = true
					case 's':
						a.bits |= SetUID | SetGID
						a.special = true
					case 't':
						a.bits |= Sticky
						a.special = true
					}
				}
			}

			c.actions = append(c.actions, a)
		}

		if i == len(s) {
			return c, nil
		}
		if s[i] != ',' {
			return fail(i, "one of r w x X s t, another action, or a comma")
		}
	}
}

// Apply returns what a change makes of a mode. On a folder X is always execute, and = leaves
// set-user-ID and set-group-ID alone unless s is written.
func (c Change) Apply(m Mode, folder bool, umask Mode) Mode {
	for _, a := range c.actions {
		bits := a.bits
		if a.ifAny && (folder || m&0o111 != 0) {
			bits |= 0o111
		}

		if a.copyFrom != 0 {
			p := m >> map[byte]int{'u': 6, 'g': 3, 'o': 0}[a.copyFrom] & 7
			bits = p<<6 | p<<3 | p
		}

		who := a.who
		if a.anybody {
			who &^= umask & 0o777
		}

		bits &= who
		switch a.op {
		case '+':
			m |= bits
		case '-':
			m &^= bits
		default:
			clear := who
			if a.anybody {
				clear = All // what nobody was named for is cleared whole, and set under the umask
			}

			if folder && !(a.special && bits&(SetUID|SetGID) != 0) {
				clear &^= SetUID | SetGID
			}

			m = m&^clear | bits
		}
	}

	return m
}

// Symbolic writes a mode so that applying it to any file gives exactly that mode.
func (m Mode) Symbolic() string {
	part := func(who string, p Perm, special bool, letter string) string {
		s := who + "=" + strings.ReplaceAll(p.String(), "-", "")
		if special {
			s += letter
		}
		return s
	}
	return part("u", m.Owner(), m&SetUID != 0, "s") + "," + part("g", m.Group(), m&SetGID != 0, "s") + "," +
		part("o", m.Other(), m&Sticky != 0, "t")
}

// Arithmetic shows how the octal digits come about, the special digit first where it is not 0.
func (m Mode) Arithmetic() []string {
	sum := func(name string, p Perm, terms [3]string) string {
		var add []string
		for i, t := range terms {
			if p&(4>>i) != 0 {
				add = append(add, fmt.Sprintf("%d (%s)", 4>>i, t))
			}
		}

		if len(add) == 0 {
			add = []string{"nothing"}
		}

		return fmt.Sprintf("%s %d = %s", name, p, strings.Join(add, " + "))
	}

	var out []string
	if sp := Perm(m >> 9); sp != 0 {
		out = append(out, sum("special", sp, [3]string{"set-user-ID", "set-group-ID", "sticky"}))
	}

	rwx := [3]string{"read", "write", "execute"}
	return append(out, sum("owner", m.Owner(), rwx), sum("group", m.Group(), rwx), sum("others", m.Other(), rwx))
}

// Words says what a mode means, a line for each class and special bit. The same letter means
// other things on a folder.
func (m Mode) Words(folder bool) []string {
	var out []string
	for _, c := range []struct {
		name string
		p    Perm
	}{{"The owner", m.Owner()}, {"The group", m.Group()}, {"Everybody else", m.Other()}} {
		out = append(out, c.name+" "+can(c.p, folder)+".")
	}

	x := m & 0o111
	switch {
	case m&SetUID != 0 && folder:
		out = append(out, "Set-user-ID means nothing on a folder.")
	case m&SetUID != 0 && x != 0:
		out = append(out, "Set-user-ID: whoever runs it does so as its owner.")
	case m&SetUID != 0:
		out = append(out,
			"Set-user-ID is on, but nobody may execute it (a capital S in the letters): it has no effect.")
	}

	switch {
	case m&SetGID != 0 && folder:
		out = append(out, "Set-group-ID: what is made in here gets this folder's group, and folders pass that on.")
	case m&SetGID != 0 && m&0o010 != 0:
		out = append(out, "Set-group-ID: whoever runs it does so with its group.")
	case m&SetGID != 0:
		out = append(out,
			"Set-group-ID is on, but the group may not execute it (a capital S in the letters): it has no effect.")
	}

	switch {
	case m&Sticky != 0 && folder:
		out = append(out, "Sticky: entries are removed and renamed only by their owner, the folder's owner, or root.")
	case m&Sticky != 0:
		out = append(out, "Sticky has no effect on a file.")
	}

	return out
}

func can(p Perm, folder bool) string {
	if !folder {
		return map[Perm]string{
			0: "can do nothing with it", 1: "can run it, if it is a program, but not read it",
			2: "can change it, but not read it",
			3: "can change it and run it, but not read it", 4: "can read it", 5: "can read it and run it",
			6: "can read it and change it",
			7: "can read it, change it and run it",
		}[p]
	}

	return map[Perm]string{
		0: "can do nothing in it", 1: "can pass through to what they know the name of, but not list it",
		2: "can do nothing in it: adding and removing needs passing through as well",
		3: "can add, remove and rename entries and pass through, but not list it",
		4: "can list the names, and nothing more: without passing through, nothing in it can be reached",
		5: "can list it and pass through",
		6: "can list the names, and nothing more: changing entries needs passing through as well",
		7: "can list it, pass through, and add, remove and rename entries",
	}[p]
}
