package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/subtree"
)

// A Caution is what a plan's checker warns of. A grave one needs the reviewer's own word.
type Caution struct {
	ID      string        `json:"id" doc:"Names it, for the reviewer's word"`
	Host    string        `json:"host"`
	Kind    string        `json:"kind" doc:"What it is about, in a word"`
	Grave   bool          `json:"grave,omitempty"`
	Count   int           `json:"count" doc:"Steps that it is about"`
	Folder  pathname.Path `json:"folder" doc:"That holds all of them"`
	Example pathname.Path `json:"example"`
	Account string        `json:"account,omitempty"`
	Text    string        `json:"text"`
	Instead string        `json:"instead"`
}

// A Checker examines one host's steps for what people have come to regret.
type Checker struct {
	Host   string
	Names  *perm.Directory
	Matter []perm.Principal // accounts whose losses are told
	// Identified is set if steps say which files they mean, because their host could be asked.
	Identified bool
	// Way gives the way to a path as the host was seen last; nil where nothing is known.
	Way func(path string) (access.Way, error)
	// Below hands out what is in a folder and below, as it was seen last, until visit wants no more.
	Below func(folder string, visit func(path string, k perm.Kind, s perm.Set) (more bool)) error
}

const (
	maxCautions = 200 // kinds, accounts and texts of one host
	maxWays     = 500 // ways that are followed
	maxOwners   = 5   // owners that are named
	maxBelow    = 50_000
	maxThen     = 300_000 // steps whose results are kept for looking below folders
)

type cautionKey struct {
	kind, text string
	who        perm.Principal
	grave      bool
}

func keyOf(w perm.Caution) cautionKey { return cautionKey{w.Kind, w.Text, w.Who, w.Grave} }

type changeKey struct {
	kind          perm.Kind
	before, after perm.Set
}

// exchangers are those who could have replaced what lies somewhere: whoever may write in one of the folders above it.
type exchangers struct {
	who     []string
	unknown bool // there may be others: nobody looked at some of the folders
}

// any reports whether there is anybody, or may be.
func (x exchangers) any() bool { return x.unknown || len(x.who) > 0 }

func (x *exchangers) add(more exchangers) {
	x.unknown = x.unknown || more.unknown
	for _, name := range more.who {
		if !slices.Contains(x.who, name) {
			x.who = append(x.who, name)
		}
	}
}

// String names them, in words that follow on who could have written it.
func (x exchangers) String() string {
	said := ""
	if len(x.who) > 0 {
		said = "; it could have been put there by " + strings.Join(x.who[:min(len(x.who), maxOwners)], ", ")
		if more := len(x.who) - maxOwners; more > 0 {
			said += fmt.Sprintf(", and %d more", more)
		}
	}
	switch {
	case x.unknown && said == "":
		return "; who could have put it there is not known"
	case x.unknown:
		return said + ", and by others who are not known"
	}
	return said
}

// exchangers returns who could have replaced what lies somewhere. known keeps the answers by folder.
func (c Checker) exchangers(path string, known map[string]exchangers) (x exchangers, err error) {
	folder := pathname.Folder(path)
	x, ok := known[folder]
	if ok {
		return x, nil
	}
	if len(known) == maxWays {
		return exchangers{unknown: true}, nil
	}
	way, err := c.Way(path)
	if err != nil {
		return x, err
	}

	x.unknown = len(way) == 0
	for _, p := range way[:max(0, len(way)-1)] {
		who, ok := perm.Exchangers(p.Set, c.Names)
		x.add(exchangers{who, !ok})
	}

	known[folder] = x
	return x, nil
}

// unidentified warns of steps that do not say which file they mean. It is grave where they open what lies
// there, and somebody could have them open something else.
func (c Checker) unidentified(grave bool) perm.Caution {
	return perm.Caution{
		Kind:    perm.CautionFiles,
		Grave:   grave,
		Instead: "draft the plan again while the agent of " + c.Host + " runs",
		Text: "the host did not answer when the plan was drafted, so that it is not known which files are meant: " +
			"whatever lies at the paths when it runs is changed, if it is in the state that was reviewed",
	}
}

// more stands for cautions that are not listed one by one.
func more(grave bool) perm.Caution {
	of := ""
	if grave {
		of = ", grave ones among them"
	}
	return perm.Caution{
		Kind:  perm.CautionMore,
		Grave: grave,
		Text: fmt.Sprintf("there are more than %d things to warn of%s: the rest is told by its number alone",
			maxCautions, of),
		Instead: "draft it in parts, by folder or by group, so that each is told",
	}
}

// loss is an account that can no longer traverse a folder.
type loss struct {
	path string
	perm.Caution
}

// lost notes whose way ends at a folder, although something below would still be open to them.
func (c Checker) lost(losses []loss, then map[string]perm.Set, note func(string, perm.Caution) *Caution) error {
	looked := 0
	for _, l := range losses {
		matters := looked >= maxBelow // nobody knows
		if !matters {
			if err := c.Below(l.path, func(path string, k perm.Kind, s perm.Set) bool {
				if after, ok := then[path]; ok {
					s = after
				}

				looked++
				matters = looked >= maxBelow ||
					k == perm.File &&
						perm.RightsOf(k, s, l.Who, c.Names)&(perm.CanRead|perm.CanWrite|perm.CanExecute) != 0
				return !matters
			}); err != nil {
				return err
			}
		}
		if matters {
			note(l.path, l.Caution)
		}
	}

	return nil
}

// taking counts the former owners of the paths that one account takes over.
type taking struct {
	from    map[string]int
	n       int
	example string
	folder  pathname.Path
}

func (t *taking) add(from, path string) {
	t.from[from]++
	t.n++
	if t.n == 1 {
		t.example, t.folder = path, pathname.Path(pathname.Folder(path))
	}
	t.folder = pathname.Widen(t.folder, path)
}

func (t *taking) String() string {
	type part struct {
		name string
		n    int
	}
	var all []part
	for name, n := range t.from {
		all = append(all, part{name, n})
	}

	slices.SortFunc(all, func(a, b part) int { return cmp.Or(cmp.Compare(b.n, a.n), cmp.Compare(a.name, b.name)) })
	var names []string
	for _, p := range all[:min(len(all), maxOwners)] {
		names = append(names, fmt.Sprintf("%s (%d)", p.name, p.n))
	}

	if more := len(all) - maxOwners; more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}

	return strings.Join(names, ", ")
}

// unreached notes what is granted to accounts that cannot get there, because they cannot traverse a folder above,
// whatever the path itself says.
func (c Checker) unreached(
	each func(func(Step) error) error, then map[string]perm.Set, note func(string, perm.Caution) *Caution,
) error {
	type grant struct {
		who    perm.Principal
		folder string
	}
	asked := map[grant]string{} // the folder that stops them, "" for none
	suppose := subtree.Suppose(func(path string, f perm.Found) perm.Set {
		if after, ok := then[path]; ok {
			return after
		}
		return f.Set
	})

	gains := map[changeKey][]perm.Principal{}
	ways := 0
	return each(func(s Step) error {
		k := changeKey{s.Kind, s.Before, s.After}
		who, ok := gains[k]
		if !ok {
			who = c.gainers(s)
			gains[k] = who
		}

		for _, id := range who {
			g := grant{id, pathname.Folder(s.Path)}
			stop, ok := asked[g]
			if !ok {
				ways++
				if ways > maxWays {
					return nil
				}
				way, err := c.Way(s.Path)
				if err != nil {
					return err
				}

				stop = stopped(suppose.On(way), access.NewAsker(access.SubjectOf(c.Names, id)))
				asked[g] = stop
			}

			if stop != "" {
				note(s.Path, perm.Caution{
					Kind: perm.CautionNothing,
					Who:  id,
					Text: fmt.Sprintf("%s gains nothing there: %s does not let them pass", c.Names.Name(id),
						pathname.Escape(stop)),
					Instead: "let them pass: an entry user:" + c.Names.Name(id) + ":--x on " + pathname.Escape(stop),
				})
			}
		}

		return nil
	})
}

// gainers lists the accounts of those that matter which gain something by a step's own states.
func (c Checker) gainers(s Step) (out []perm.Principal) {
	if s.After.Scheme().FromAbove() { // file servers let everybody who signs in pass through folders
		return nil
	}

	for _, id := range c.Matter {
		gains := func(id perm.Principal) perm.Rights {
			return perm.RightsOf(s.Kind, s.After, id, c.Names) &^ perm.RightsOf(s.Kind, s.Before, id, c.Names)
		}
		if !c.Names.IsGroup(id) && !perm.Untold(s.After, id) && gains(id)&^gains(perm.Everyone) != 0 {
			out = append(out, id)
		}
	}
	return out
}

// stopped returns the first folder on a way that somebody cannot traverse; "" if they get there.
func stopped(w access.Way, a *access.Asker) string {
	for i := range len(w) - 1 {
		if w[i].Set.IsZero() { // nobody knows
			continue
		}
		if !a.Can(w[:i+1], access.Enter) {
			return string(w[i].Path)
		}
	}
	return ""
}
