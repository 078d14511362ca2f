package inquiry

import (
	"context"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/least"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

// maxOthers is how many of those whom a proposal lets in are named.
const maxOthers = 50

// Propose answers what it would take that an account can do something with a path.
func Propose(ctx context.Context, sc Source, account, path string, op access.Operation) (wire.Proposals, error) {
	f, err := sc.Path(ctx, path, named(account)...)
	if err != nil {
		return wire.Proposals{}, err
	}

	d := f.Directory
	out := wire.Proposals{
		Origin:    sc.Origin(),
		Path:      f.Seen.Path.String(),
		Kind:      f.Seen.Kind.String(),
		Proposals: []wire.Proposal{},
	}
	if out.Account, err = AccountOf(d, account); err != nil {
		return out, err
	}
	who, err := Subject(d, account)
	switch {
	case err != nil:
		return out, err
	case who.ID == perm.Everyone:
		return out, fmt.Errorf("%w: everyone is nobody in particular: ask what it would take for an account", ErrBad)
	}

	op = access.Meant(op, f.Seen.Kind)
	out.Answer = access.NewAsker(who).May(f.Way, op, d)
	list, err := least.Find(ctx, least.Ask{Way: f.Way, Who: who, Operation: op, Names: d})
	if err != nil {
		return out, err
	}
	for _, p := range list {
		w, err := wireProposal(f.Way, p, out.Account.Name, d)
		if err != nil {
			return out, err
		}
		out.Proposals = append(out.Proposals, w)
	}
	return out, nil
}

func wireProposal(way access.Way, p least.Proposal, account string, d *perm.Directory) (wire.Proposal, error) {
	out := wire.Proposal{
		Means:    string(p.Means),
		Changes:  []wire.ProposedChange{},
		Others:   []string{},
		Count:    len(p.Others),
		Everyone: p.Everyone,
		Extra:    p.Extra,
	}
	if p.Means == least.Join {
		out.Says = account + " joins " + d.Name(p.Party)
		return out, nil
	}

	var says []string
	var all changes
	for _, c := range p.Changes {
		at := way[c.Place]
		out.Changes = append(out.Changes, wire.ProposedChange{
			Path:   at.Path.String(),
			Kind:   at.Kind.String(),
			Before: perm.Describe(at.Kind, c.Before, d),
			After:  perm.Describe(at.Kind, c.After, d),
		})
		says = append(says, said(c.Words, at.Kind, d)+" on "+at.Path.String())
		all.List = append(all.List, change{
			Paths: pathname.Escape(baseline.Quote(string(at.Path))),
			Only:  only(at.Kind),
			Set:   set(c.Words, at.Kind, d),
		})
	}
	for _, who := range p.Others[:min(len(p.Others), maxOthers)] {
		out.Others = append(out.Others, d.Name(who))
	}
	out.Says = strings.Join(says, "; ")

	text, err := yaml.Marshal(all)
	out.Text = string(text)
	return out, err
}

// changes are hand-written changes, as package baseline reads them.
type changes struct {
	List []change `yaml:"changes"`
}

type change struct {
	Paths string         `yaml:"paths"`
	Only  string         `yaml:"only"`
	Set   map[string]any `yaml:"set"`
}

// only is how a change names a kind.
func only(k perm.Kind) string {
	switch k {
	case perm.File, perm.Folder, perm.Link:
		return k.String()
	}
	return "other"
}

// set is what a change says.
func set(w least.Words, k perm.Kind, d *perm.Directory) map[string]any {
	out := map[string]any{}
	if w.Owner != "" {
		out["owner"] = d.Name(w.Owner)
	}
	if w.Mode != "" {
		out[map[bool]string{true: "folders", false: "files"}[k == perm.Folder]] = w.Mode
	}
	if w.Entry != nil {
		out["entries"] = map[string]any{"at-least": []string{entry(*w.Entry, d)}}
	}
	grants := map[string]any{}
	if w.Grant != nil {
		grants["at-least"] = []string{grant(*w.Grant, k, d)}
	}
	if w.Without != "" {
		grants["without"] = []string{d.Name(w.Without)}
	}
	if len(grants) > 0 {
		out["grants"] = grants
	}
	return out
}

func entry(e perm.DesiredEntry, d *perm.Directory) string {
	kind := "user:"
	if d.Identify(e.Who).Group {
		kind = "group:"
	}
	return kind + d.Name(e.Who) + ":" + strings.ReplaceAll(e.Perm.String(), "-", "")
}

func grant(g perm.DesiredGrant, k perm.Kind, d *perm.Directory) string {
	out := "allow " + d.Name(g.Who) + ": " + g.Rights.Words(k == perm.Folder)
	if k == perm.Folder {
		out += "; reaches here"
	}
	return out
}

// said puts what a change says into words.
func said(w least.Words, k perm.Kind, d *perm.Directory) string {
	var out []string
	if w.Without != "" {
		out = append(out, "no entries for "+d.Name(w.Without))
	}
	if w.Entry != nil {
		out = append(out, "an entry "+entry(*w.Entry, d))
	}
	if w.Grant != nil {
		out = append(out, grant(*w.Grant, k, d))
	}
	if w.Mode != "" {
		out = append(out, "mode "+w.Mode)
	}
	if w.Owner != "" {
		out = append(out, d.Name(w.Owner)+" as the owner")
	}
	return strings.Join(out, ", ")
}
