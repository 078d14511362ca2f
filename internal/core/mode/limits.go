package mode

import (
	"fmt"
	"strings"
)

// Limits say which bits a mode must have and which it must not, and leave the others free. They
// are written as a symbolic mode of + and - alone, which names what applying it would change:
// "g+r,o-w" is met by a mode on which the group can read and others cannot write.
type Limits struct{ Must, MustNot Mode }

// ParseLimits reads limits.
func ParseLimits(s string) (Limits, error) {
	c, err := ParseChange(s)
	if err != nil {
		return Limits{}, err
	}

	var l Limits
	for _, a := range c.actions {
		bits := a.bits & a.who
		switch {
		case a.op == '=':
			return Limits{}, fmt.Errorf(
				"limits %q: = would be an exact mode; limits are written with + (must have) and - (must not have)", s)
		case a.copyFrom != 0, a.ifAny:
			return Limits{}, fmt.Errorf(
				"limits %q: X and copies such as g=u depend on the mode that is there; name the permissions "+
					"r, w, x, s, t",
				s)
		case bits == 0:
			return Limits{}, fmt.Errorf("limits %q: after %c no permission is named that the class has", s, a.op)
		case a.op == '+':
			l.Must |= bits
		default:
			l.MustNot |= bits
		}
	}

	if both := l.Must & l.MustNot; both != 0 {
		return Limits{}, fmt.Errorf("limits %q ask for %s and forbid it", s, both)
	}

	return l, nil
}

// Meets reports whether a mode keeps the limits.
func (l Limits) Meets(m Mode) bool { return m&l.Must == l.Must && m&l.MustNot == 0 }

// Mend returns the nearest mode that keeps the limits.
func (l Limits) Mend(m Mode) Mode { return m&^l.MustNot | l.Must }

// String writes limits in a form that ParseLimits reads.
func (l Limits) String() string {
	var parts []string
	for _, c := range []struct {
		who     string
		shift   int
		special Mode
		letter  string
	}{{"u", 6, SetUID, "s"}, {"g", 3, SetGID, "s"}, {"o", 0, Sticky, "t"}} {
		for _, x := range []struct {
			op   string
			bits Mode
		}{{"+", l.Must}, {"-", l.MustNot}} {
			s := strings.ReplaceAll(Perm(x.bits>>c.shift&7).String(), "-", "")
			if x.bits&c.special != 0 {
				s += c.letter
			}
			if s != "" {
				parts = append(parts, c.who+x.op+s)
			}
		}
	}

	return strings.Join(parts, ",")
}

// Words says what the limits mean.
func (l Limits) Words() []string { return limitWords(l.Must, l.MustNot, "must have", "must not have") }

// Broken says which of the limits a mode does not keep.
func (l Limits) Broken(m Mode) []string {
	return limitWords(l.Must&^m, l.MustNot&m, "must have", "must not have")
}

func limitWords(must, not Mode, have, haveNot string) (out []string) {
	for i, who := range []string{"the owner", "the group", "others"} {
		for _, x := range []struct {
			bits Mode
			verb string
		}{{must, have}, {not, haveNot}} {
			var what []string
			for j, w := range []string{"read", "write", "execute"} {
				if x.bits&(0o400>>(3*i+j)) != 0 {
					what = append(what, w)
				}
			}
			if len(what) > 0 {
				out = append(out, who+" "+x.verb+" "+strings.Join(what, ", "))
			}
		}
	}

	for i, w := range []string{"set-user-ID", "set-group-ID", "sticky"} {
		bit := SetUID >> i
		if must&bit != 0 {
			out = append(out, "it "+have+" "+w)
		}
		if not&bit != 0 {
			out = append(out, "it "+haveNot+" "+w)
		}
	}

	return out
}
