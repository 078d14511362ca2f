// Package wish is what somebody wants changed of paths, field by field as a form has it, and the words of changes and
// of baselines that say so.
//
//	text, err := wish.Changes([]wish.Wish{{Paths: []string{"/srv/ticketing/keys/gate.key"}, Form: "private-key"}})
//	// changes:
//	//   - paths: ['/srv/ticketing/keys/gate.key']
//	//     set:
//	//       form: 'private-key'
package wish

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
)

// A Depth says how far below its paths a wish goes.
type Depth string

// How far a wish goes.
const (
	Itself  Depth = "itself"
	All     Depth = "all"     // a folder, and all below it
	Content Depth = "content" // all below a folder, and not the folder
)

// Bounds of what somebody wants at once.
const (
	MaxWishes = 100
	MaxPaths  = 500
)

// A Wish is one change. What is empty stays as it is.
type Wish struct {
	Paths []string `json:"paths" minItems:"1" maxItems:"500" doc:"As they are, escaped: nothing in them is a wildcard"`
	Depth Depth    `json:"depth,omitempty" enum:"itself,all,content" doc:"The paths alone, with all that is below, or only what is below; itself where nothing is said"`
	Only  []string `json:"only,omitempty" maxItems:"8" doc:"file, folder, link, executable and so on, as in baselines"`
	Where Basics   `json:"where,omitempty,omitzero" doc:"Only where it is so now"`

	Form string   `json:"form,omitempty" maxLength:"64" doc:"A starting point, as in baselines; what is set besides counts"`
	For  []string `json:"for,omitempty" maxItems:"50" doc:"For whom the form is"`
	Set  Basics   `json:"set,omitempty,omitzero" doc:"What is to be so"`

	Entries EntryChange `json:"entries,omitempty,omitzero" doc:"Access entries, such as group:auditors:rX, and user:temp that is to have none"`
	Later   bool        `json:"later,omitempty" doc:"The default entries of folders, too, for what comes later"`

	Grants   EntryChange `json:"grants,omitempty,omitzero" doc:"Own entries on a share, such as allow crew: read, and temp that is to have none"`
	Inherits string      `json:"inherits,omitempty" enum:"from above,stopped,stopped and emptied" doc:"Whether paths on a share take entries from above"`
}

// Basics are how a path is, or is to be.
type Basics struct {
	Owner   string `json:"owner,omitempty" maxLength:"256"`
	Group   string `json:"group,omitempty" maxLength:"256"`
	Files   string `json:"files,omitempty" maxLength:"64" doc:"The mode of files: 0640, rw-r----- or g+r,o="`
	Folders string `json:"folders,omitempty" maxLength:"64" doc:"The mode of folders"`
}

// An EntryChange is what is to be in a list, and whose entries are not.
type EntryChange struct {
	Give    []string `json:"give,omitempty" maxItems:"200" doc:"Entries that are to be there"`
	Without []string `json:"without,omitempty" maxItems:"200" doc:"Who is to have none"`
	None    bool     `json:"none,omitempty" doc:"No others"`
}

func (e EntryChange) any() bool { return len(e.Give)+len(e.Without) > 0 || e.None }

// Changes returns the text of hand-written changes that make wishes come true, as package baseline reads it. What
// cannot be written, such as a name with a line break, is an error.
func Changes(list []Wish) (string, error) {
	if len(list) == 0 || len(list) > MaxWishes {
		return "", fmt.Errorf("want 1 to %d changes at once, here are %d", MaxWishes, len(list))
	}
	w := &writer{}
	w.line(0, "changes:")
	for _, x := range list {
		if x.silent() {
			return "", fmt.Errorf("nothing is said of what is to become of %s: an owner, a group, a mode, entries, "+
				"a form or inheritance", strings.Join(x.Paths, ", "))
		}
		w.line(2, "- paths: "+w.patterns(x))
		if len(x.Only) > 0 {
			w.line(4, "only: "+w.list(x.Only))
		}
		if x.Where != (Basics{}) {
			w.line(4, "where:")
			w.state(x.Where)
		}
		w.line(4, "set:")
		w.set(x)
	}
	return w.text()
}

// Rules returns the rules of a baseline that declare what wishes make, under names that begin with a word. What only
// changes can say is an error: a condition on how paths are now.
func Rules(list []Wish, name string) (string, error) {
	w := &writer{}
	for i, x := range list {
		if x.Where != (Basics{}) {
			return "", errors.New("a rule says how paths are to be, wherever they are: leave the conditions out")
		}
		label := name
		if i > 0 {
			label = fmt.Sprint(name, "-", i+1)
		}
		w.line(2, "- rule: "+w.scalar(label))
		w.line(4, "paths: "+w.patterns(x))
		if len(x.Only) > 0 {
			w.line(4, "only: "+w.list(x.Only))
		}
		if x.Inherits == emptied { // of what came down before nothing is left to declare
			x.Inherits = stopped
		}
		w.indent = -2
		w.set(x)
		w.indent = 0
	}
	return w.text()
}

const (
	stopped = "stopped"
	emptied = "stopped and emptied"
)

// silent reports whether nothing is to change.
func (x Wish) silent() bool {
	return x.Form == "" && x.Set == Basics{} && !x.Entries.any() && !x.Grants.any() && x.Inherits == ""
}

// patterns returns the patterns that fit what is wished of, and nothing else.
func (x Wish) patterns() ([]string, error) {
	out := make([]string, len(x.Paths))
	for i, p := range x.Paths {
		raw, err := pathname.Unescape(p)
		if err == nil {
			err = pathname.Check(raw)
		}
		if err != nil {
			return nil, fmt.Errorf("path %s: %w", p, err)
		}

		p = baseline.Quote(raw)
		switch below := strings.TrimSuffix(p, "/"); x.Depth {
		case All:
			p = below + "/**"
		case Content:
			p = below + "/*/**"
		}
		out[i] = baseline.Written(p)
	}
	return out, nil
}

// A writer writes YAML, and keeps the first reason why it cannot.
type writer struct {
	strings.Builder
	indent int
	err    error
}

func (w *writer) text() (string, error) { return w.String(), w.err }

func (w *writer) line(indent int, text string) {
	w.WriteString(strings.Repeat(" ", max(indent+w.indent, 0)) + text + "\n")
}

// scalar returns a text in quotes, in which nothing but the quote itself means anything.
func (w *writer) scalar(s string) string {
	if w.err == nil && (s == "" || strings.ContainsFunc(s, func(r rune) bool { return !unicode.IsPrint(r) })) {
		w.err = fmt.Errorf("%q cannot be written as one line of text", s)
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

func (w *writer) list(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = w.scalar(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func (w *writer) patterns(x Wish) string {
	list, err := x.patterns()
	if w.err == nil {
		w.err = err
	}
	return w.list(list)
}

// pair writes a key with a value, if there is one.
func (w *writer) pair(key, value string) {
	if value != "" {
		w.line(6, key+": "+w.scalar(value))
	}
}

func (w *writer) state(s Basics) {
	w.pair("owner", s.Owner)
	w.pair("group", s.Group)
	w.pair("files", s.Files)
	w.pair("folders", s.Folders)
}

func (w *writer) set(x Wish) {
	w.pair("form", x.Form)
	if len(x.For) > 0 {
		w.line(6, "for: "+w.list(x.For))
	}
	w.state(x.Set)
	w.entries("entries", x.Entries)
	if x.Later {
		w.entries("defaults", x.Entries)
	}
	w.entries("grants", x.Grants)
	w.pair("inherits", x.Inherits)
}

// entries writes which entries are to be there: just these, or these beside others.
func (w *writer) entries(key string, e EntryChange) {
	switch {
	case !e.any():
	case e.None && len(e.Give) == 0:
		w.line(6, key+": none")
	case e.None:
		w.line(6, key+": "+w.list(e.Give))
	default:
		var parts []string
		if len(e.Give) > 0 {
			parts = append(parts, "at-least: "+w.list(e.Give))
		}
		if len(e.Without) > 0 {
			parts = append(parts, "without: "+w.list(e.Without))
		}
		w.line(6, key+": {"+strings.Join(parts, ", ")+"}")
	}
}
