package mode

import "fmt"

// A Declared is what a declaration says of a mode: exactly one mode, or a symbolic mode that must
// have been applied already. "g+r,o-w" is a limit then, and "u=rwX,g=rX,o=" leaves execute where
// it belongs: on folders, and on files that somebody may execute.
type Declared struct {
	text   string
	exact  bool
	mode   Mode
	change Change
}

// Exactly wants one mode.
func Exactly(m Mode) Declared { return Declared{text: m.String(), exact: true, mode: m} }

// ParseWanted reads octal digits, the nine letters of a listing, or a symbolic mode.
func ParseWanted(s string) (Declared, error) {
	m, octal := ParseOctal(s)
	if octal == nil {
		return Exactly(m), nil
	}
	if m, err := ParseLetters(s); err == nil {
		return Exactly(m), nil
	}
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		return Declared{}, octal
	}
	c, err := ParseChange(s)
	if err != nil {
		return Declared{}, fmt.Errorf("mode %q is neither octal digits nor nine letters; as a %w", s, err)
	}

	for _, a := range c.actions {
		if a.anybody {
			return Declared{}, fmt.Errorf(
				"mode %q: say whom each clause speaks of (u, g, o or a): a declaration has no umask", s)
		}
	}

	for m := range Mode(0o1000) {
		for _, folder := range []bool{false, true} {
			if once := c.Apply(m, folder, 0); c.Apply(once, folder, 0) != once {
				return Declared{}, fmt.Errorf(
					"mode %q contradicts itself: from %s it leads to %s, and from there to %s",
					s, m, once, c.Apply(once, folder, 0))
			}
		}
	}

	return Declared{text: s, change: c}, nil
}

// Apply returns the wanted mode that is nearest to one that was found.
func (w Declared) Apply(m Mode, folder bool) Mode {
	if w.exact {
		return w.mode
	}
	return w.change.Apply(m, folder, 0)
}

// Least returns the bits that every mode has that is as wanted.
func (w Declared) Least(folder bool) Mode { return w.Apply(0, folder) }

func (w Declared) String() string { return w.text }
