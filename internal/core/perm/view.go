package perm

import (
	"strings"

	"idletally/internal/core/ace"
)

// View is a set as people read it.
type View struct {
	Scheme   string   `json:"scheme,omitempty" doc:"How the system keeps permissions: posix is by mode and POSIX lists, nt by security descriptors, as shares do, nfs4 by NFSv4 lists" example:"posix"`
	Owner    string   `json:"owner" doc:"Owner's name on the host, or the bare number"`
	Group    string   `json:"group" doc:"Owning group's name on the host, or the bare number"`
	Mode     string   `json:"mode,omitempty" doc:"Four octal digits" example:"0640"`
	Letters  string   `json:"letters,omitempty" example:"rw-r-----"`
	Entries  []string `json:"entries,omitempty" doc:"Access entries beyond the mode, POSIX.1e short text"`
	Defaults []string `json:"defaults,omitempty" doc:"Default entries of a folder"`
	Flags    []string `json:"flags,omitempty" doc:"immutable, append-only"`
	// Of a share:
	Grants      []Grant  `json:"grants,omitempty" doc:"The entries of a list that allows and denies, in their order"`
	Inheritance string   `json:"inheritance,omitempty" doc:"How a share's path takes entries from above"`
	Unknown     []string `json:"unknown,omitempty" doc:"Aspects whose account no longer exists on the host"`
}

// FromAbove reports whether the path's folder has a part in it, as on shares: then it has no mode.
func (v View) FromAbove() bool { return v.Inheritance != "" }

// String returns it in one line.
func (v View) String() string {
	s := strings.TrimSpace(v.Owner + ":" + v.Group + " " + v.Mode)
	if v.FromAbove() {
		s = v.Owner + ", " + v.Inheritance
	}
	for _, part := range []struct {
		name string
		list []string
	}{{"", v.Entries}, {"default", v.Defaults}, {"flags", v.Flags}} {
		if len(part.list) > 0 {
			s += " " + part.name + "[" + strings.Join(part.list, " ") + "]"
		}
	}
	return s
}

// Describe renders the set of a path of some kind with its host's names.
func Describe(k Kind, s Set, d *Directory) View { return s.State().View(k, d) }

// A Grant is one entry of a share's list, as people read it.
type Grant struct {
	Who       string `json:"who"`
	Type      string `json:"type" enum:"allow,deny,other" doc:"other: of a kind that is kept and not understood"`
	Rights    string `json:"rights" doc:"Named sets and single rights, separated by commas"`
	Reaches   string `json:"reaches,omitempty" doc:"Of a folder: what it reaches, any of here, folders, files, and once for one level; or nothing"`
	Inherited bool   `json:"inherited,omitempty" doc:"It came from a folder above"`
	Unknown   bool   `json:"unknown,omitempty" doc:"The server knows the identity no more"`
}

// String returns it in one line.
func (g Grant) String() string {
	s := g.Type + " " + g.Who + ": " + g.Rights
	if g.Reaches != "" && g.Reaches != ace.ReachesAll {
		s += "; reaches " + g.Reaches
	}
	if g.Inherited {
		s += "; inherited"
	}
	return s
}

// GrantsText writes entries in one line.
func GrantsText(list []Grant) string {
	if len(list) == 0 {
		return "none"
	}
	parts := make([]string, len(list))
	for i, g := range list {
		parts[i] = g.String()
	}
	return strings.Join(parts, " | ")
}

// An EntryLine is one entry as it is shown: who, what it says and what of it counts.
type EntryLine struct {
	Text      string `json:"text" doc:"As written in a list"`
	Who       string `json:"who"`
	Rights    string `json:"rights"`
	Effective string `json:"effective" doc:"What the mask leaves of it"`
	Default   bool   `json:"default,omitempty" doc:"It counts for what is made in the folder later, not for the folder"`
	Origin    string `json:"origin" doc:"Where it comes from"`
	Unknown   bool   `json:"unknown,omitempty" doc:"The account or group no longer exists on the host"`
	Deny      bool   `json:"deny,omitempty" doc:"It denies instead of allowing"`
	Reaches   string `json:"reaches,omitempty" doc:"On a share, of a folder: what it reaches, any of here, folders, files, and once for one level; or nothing"`
}

// Above is a folder that leads to a path, with its state.
type Above struct {
	Path string
	Set  Set
}

// Entries lists everything that a state grants, the mode's three classes included, in the order in which entries are
// checked. The folders above, the nearest last, show where an entry most likely comes from: POSIX copies default
// entries when a path is made, and keeps no note of it; a share's entries are marked as inherited, but not from
// where.
func Entries(k Kind, s Set, above []Above, d *Directory) []EntryLine {
	return s.State().Lines(k, above, d)
}

// Explain says what a state's mode means for a kind of path, a line for each class and bit, and
// what a list makes of it.
func Explain(k Kind, s Set) []string { return s.State().Explain(k) }

// How a path takes entries from above.
const (
	InheritsFromAbove = "from above"
	InheritsStopped   = "stopped"
	InheritsEmptied   = "stopped and emptied" // what came down is not kept as the path's own
	NoListAtAll       = "no list: everybody may do everything"
)
