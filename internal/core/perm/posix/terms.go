package posix

import (
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/caps"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

func (p State) Terms(f perm.Found, _ *perm.Directory, name func(perm.Principal) string) []perm.Term {
	k := f.Kind
	who := func(id perm.Principal) []string {
		if n := name(id); n != "" {
			return []string{n}
		}
		return nil
	}

	out := []perm.Term{{Key: "owner", Values: who(unixid.UID(p.UID))}, {Key: "group", Values: who(unixid.GID(p.GID))}}
	if k == perm.Link {
		return out
	}

	_, _, _, named := p.masked()
	out = append(out, perm.Term{Key: "entries", Values: grantTexts(named, k, name)})
	if k == perm.Folder {
		out = append(out, perm.Term{Key: "folders", Values: []string{p.declaredMode().String()}}, perm.Term{
			Key:    "defaults",
			Values: p.defaultTexts(named, name),
		})
	}

	if k == perm.File {
		text := caps.Text(p.Caps)
		var values []string
		if raw, err := caps.Parse(text); err == nil && raw == p.Caps {
			values = []string{text}
		}

		out = append(out, perm.Term{Key: "files", Values: []string{p.declaredMode().String()},
			Loose: whereItBelongs(p.declaredMode())},
			perm.Term{Key: "capability", Values: values})
	}

	if k == perm.File || k == perm.Folder {
		for _, f := range []perm.Flags{perm.Immutable, perm.AppendOnly} {
			value := "no"
			if p.Flags&f != 0 {
				value = "yes"
			}
			out = append(out, perm.Term{Key: f.Words()[0], Values: []string{value}})
		}
	}

	return out
}

// whereItBelongs returns the symbolic mode that leaves execute to programs, where a file's execute
// bits go with those to read.
func whereItBelongs(m mode.Mode) []string {
	var read, execute mode.Mode
	var clauses []string
	for i, c := range []struct {
		letter string
		perm   mode.Perm
	}{{"u", m.Owner()}, {"g", m.Group()}, {"o", m.Other()}} {
		if c.perm&mode.Read != 0 {
			read |= 1 << i
		}

		if c.perm&mode.Execute != 0 {
			execute |= 1 << i
		}

		letters := strings.NewReplacer("-", "", "x", "").Replace(c.perm.String())
		if c.perm&mode.Read != 0 {
			letters += "X"
		}

		clauses = append(clauses, c.letter+"="+letters)
	}

	if m&^0o777 == 0 && read != 0 && (execute == 0 || execute == read) {
		return []string{strings.Join(clauses, ",")}
	}

	return nil
}

// grantTexts returns the ways to declare named entries: as they are, and with execute for folders only.
func grantTexts(named posixacl.List, k perm.Kind, name func(perm.Principal) string) []string {
	if len(named) == 0 {
		return []string{"none"}
	}

	var exact, conditional []string
	for _, e := range named {
		id, what := unixid.UID(e.ID), "user:"
		if e.Tag == posixacl.Group {
			id, what = unixid.GID(e.ID), "group:"
		}

		who := name(id)
		if who == "" {
			return nil
		}

		plain := e.Perm.String()
		exact = append(exact, strconv.Quote(what+who+":"+plain))
		if (e.Perm&mode.Execute != 0) == (k == perm.Folder) && e.Perm != 0 {
			plain = plain[:2] + "X"
		}

		conditional = append(conditional, strconv.Quote(what+who+":"+plain))
	}

	out := []string{"[" + strings.Join(exact, ", ") + "]"}
	if !slices.Equal(exact, conditional) {
		out = append(out, "["+strings.Join(conditional, ", ")+"]")
	}

	return out
}

// defaultTexts returns the ways to declare a folder's default entries, whose classes follow from the
// folder's own.
func (p State) defaultTexts(named posixacl.List, name func(perm.Principal) string) []string {
	if p.Default == nil {
		if len(named) == 0 {
			return []string{"none", "derived"}
		}
		return []string{"none"}
	}

	m := p.declaredMode()
	given := p.Default.Named()
	if len(given) == 0 || !slices.Equal(p.Default, posixacl.Build(m.Owner(), m.Group(), m.Other(), given, nil)) {
		return nil
	}

	var out []string
	if texts := grantTexts(given, perm.Folder, name); texts != nil {
		out = texts[:1]
	}

	if slices.Equal(given, named) {
		out = append(out, "derived")
	}

	return out
}
