// Package derive drafts a baseline from hosts that are right: few general rules, and what does not
// follow them beside, so that the hosts' own snapshots hold it.
//
// It labels the merged tree of the snapshots, key by key, with values such that rules for whole
// folders and exceptions are fewest (a parsimonious labelling after Hartigan, with costs), merges
// what says the same, and then holds the draft against the snapshots: a merger that makes a path
// come out wrong is taken back.
//
// For example, in this folder the key files costs (a rule costs 100):
//
//	/srv/app            a.log 0640, b.log 0640, key 0600
//	/srv/app/cache      99 files, all 0640
//
// Labelled 0640, the folder needs one rule for /srv/app/** and one exception for /srv/app/key: 200. Labelled 0600 it
// needs an exception for a.log and b.log together (a bunch, one pattern), and a rule for cache, which stands under
// another value: 300. Going up, each folder keeps the values that cost less than a rule of its own beside its best one;
// going down, each takes the value of the folder above where that is as cheap. The draft says
//
//   - {rule: everything, paths: /srv/app/**, files: 0640}
//   - {rule: key, paths: /srv/app/key, files: 0600}
package derive

import (
	"context"
	"errors"
	"fmt"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Seen is one host as its snapshot shows it.
type Seen struct {
	Host      string
	Tags      []string
	Source    tree.Source
	Forest    tree.Hash
	Directory *perm.Directory
	Note      string // what the draft tells of it
}

// A Rule is one rule of a draft, and how much of the snapshots it explains.
type Rule struct {
	Name   string
	Places int // paths on hosts of which it decides something
}

// A Draft is a baseline that holds for the hosts that it was derived from.
type Draft struct {
	Text   string
	Rules  []Rule
	Places int // paths on hosts, all together
	Free   int // of these, paths of which something could not be declared
}

// ErrVaried says that the snapshots follow no rules.
var ErrVaried = errors.New("the snapshots follow too few rules")

// Baseline derives the draft of an application from hosts.
func Baseline(ctx context.Context, application string, hosts []Seen) (Draft, error) {
	if len(hosts) == 0 {
		return Draft{}, errors.New("no snapshot to derive from")
	}

	var g *general
	for _, cost := range freePenalty {
		w := newWords(hosts, cost)
		top, err := gather(ctx, w, hosts)
		if err != nil {
			return Draft{}, err
		}

		g = &general{w: w, application: application, hosts: hosts, items: map[string]*item{}}
		for _, root := range top.below {
			g.roots = append(g.roots, root.name)
			w.assign(root, make([]label, len(perm.TermKeys)), g.note)
		}

		if len(siblings(g.list())) <= manyItems {
			break
		}
	}

	if err := g.settle(ctx); err != nil {
		return Draft{}, err
	}

	return g.measure(ctx)
}

// A fault is a path that a draft gets wrong, and the rule that does.
type fault struct {
	path string
	at   state
	rule int
}

// maxFaults bounds the faults that one look at a draft gathers.
const maxFaults = 2000

// hold checks a draft against the snapshots.
func hold(ctx context.Context, text string, hosts []Seen) ([]fault, error) {
	var out []fault
	for i, h := range hosts {
		m, err := compile(text, h)
		if err != nil {
			return nil, err
		}

		_, _, err = drift.Compare(ctx, h.Source, h.Forest, m, h.Directory, nil, nil, drift.Report{
			Finding: func(f drift.Finding) error {
				if len(out) < maxFaults {
					out = append(out, fault{
						f.Path,
						state{i, perm.Found{Kind: f.Kind, Set: f.FoundSet, Above: f.Above}},
						f.Rule,
					})
				}
				return nil
			},
			Unread: func(drift.Unread) error { return nil },
		})

		if err != nil {
			return nil, fmt.Errorf("hold the draft against host %s: %w", h.Host, err)
		}
	}

	return out, nil
}

func compile(text string, h Seen) (*baseline.Matcher, error) {
	doc, err := baseline.ParseFor([]byte(text), baseline.Env{Host: h.Host, Tags: h.Tags})
	if err != nil {
		return nil, fmt.Errorf("the draft cannot be read: %w", err)
	}
	m, _ := baseline.Compile(doc, h.Directory)
	return m, nil
}
