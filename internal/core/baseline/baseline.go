// Package baseline is the declaration language: what owners, modes and access entries the paths
// of one application should have. It parses a document with positions in every error, and
// compiles it for one host into a matcher that a walk drives from folder to folder.
package baseline

import (
	"fmt"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// A Position is where something stands in a document, counted from 1.
type Position struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

func (p Position) String() string { return fmt.Sprintf("%d:%d", p.Line, p.Column) }

// An Error is one thing wrong with a document, where it stands, and what would be right.
type Error struct {
	Position
	Message string `json:"message"`
}

func (e *Error) Error() string { return e.Position.String() + ": " + e.Message }

// Errors is every error of a document, in its order.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i := range e {
		lines[i] = e[i].Error()
	}
	return strings.Join(lines, "\n")
}

// A Severity says how bad it is when a rule is broken.
type Severity string

// The severities.
const (
	Minor   Severity = "minor"
	Serious Severity = "serious"
	Grave   Severity = "grave"
)

// Severities lists them, mildest first.
var Severities = []Severity{Minor, Serious, Grave}

// A Document is a parsed baseline, as it reads for one host.
type Document struct {
	Application string
	Title       string
	HostNames   []string
	HostTags    []string
	Varies      bool     // something differs from host to host: the text is parsed for each
	Includes    []string // applications that it takes over from, in however many steps
	Roots       []string
	EnterMounts bool              // other file systems below the roots are kept, too
	Accounts    map[string]string // a baseline's word for an account -> its name on the host, "" where it has none
	LeaveAlone  []Pattern
	Rules       []Rule
}

// A Pattern is a path pattern. Each part is a name, or holds the wildcards * ? [...]; the part
// ** stands for any number of parts, none included.
type Pattern struct {
	Position
	Text  string
	parts []string
}

// A Who is an account or group as a rule writes it.
type Who struct {
	Position
	Name string
}

// A Grant is one access entry of a rule.
type Grant struct {
	Position
	Group         bool
	Name          string
	Perm          mode.Perm
	Conditionally bool // X: execute for folders only
}

// Grants is what a rule says of access entries, or of default entries.
type Grants struct {
	List    []Grant // empty: none
	AtLeast bool    // others may stand beside them
	Without []Grant // nor may there be one for these, whatever it grants; goes with AtLeast
	Derived bool    // default entries: those that the folder itself has
}

// A ShareGrant is one entry of a share's list as a rule writes it.
type ShareGrant struct {
	Position
	Deny  bool
	Name  string
	Mask  ace.Mask
	Flags ace.Flags // to what it applies, of a folder
}

// ShareGrants is what a rule says of a share's own entries.
type ShareGrants struct {
	List    []ShareGrant // empty: none
	AtLeast bool
	Without []Who
}

// Only narrows a rule to some of the paths that match its patterns.
type Only struct {
	Kinds         uint16 // bits by kind; 0: every kind
	Must, MustNot perm.Traits
}

// admits reports whether a rule speaks of a path of this kind and state. A link is neither executable nor not: that
// is a matter of what it leads to.
func (o Only) admits(k perm.Kind, t perm.Traits) bool {
	if k == perm.Link && (o.Must|o.MustNot)&perm.Executable != 0 {
		return false
	}
	return (o.Kinds == 0 || o.Kinds&(1<<k) != 0) && t&o.Must == o.Must && t&o.MustNot == 0
}

// A Rule is one statement: patterns, and what must be true of the paths that match. Nil fields declare nothing.
type Rule struct {
	Position
	Name     string
	Why      string
	Severity Severity
	Paths    []Pattern
	Only     Only
	Owner    *Who
	Group    *Who
	Files    *mode.Declared
	Folders  *mode.Declared
	Entries  *Grants
	Defaults *Grants
	Caps     *string
	On, Off  perm.Flags
	Shares   *ShareGrants // of shares: a path's own entries
	Inherits *bool        // of shares: whether it takes entries from above
	Drops    bool         // of a change that stops that: what came down is not kept as the path's own
	Exists   *bool
	Any      []string            // keys of which it takes back what earlier rules say
	At       map[string]Position // where each of its keys stands
}

// Applies reports whether a baseline speaks of a host.
func (d *Document) Applies(host string, tags []string) bool {
	for _, n := range d.HostNames {
		if n == host {
			return true
		}
	}
	for _, t := range d.HostTags {
		for _, have := range tags {
			if t == have {
				return true
			}
		}
	}
	return false
}
