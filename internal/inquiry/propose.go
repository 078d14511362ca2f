package inquiry

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/least"
	"idletally/internal/core/perm"
	"idletally/internal/core/wish"
	"idletally/internal/wire"
)

// maxOthers is how many of those whom a proposal lets in are named.
const maxOthers = 50

// maxElsewhere is of how many proposals it is counted what else they open: each takes a walk through all of a snapshot.
const maxElsewhere = 5

// Propose answers what it would take that an account can do something with a path. All is the whole of a host, in which
// is counted what else they open; nil where that is not known.
func Propose(
	ctx context.Context, sc, all Source, account, path string, op access.Operation,
) (wire.Proposals, error) {
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
	if all == nil || len(list) == 0 {
		return out, nil
	}
	out.Counted = new(all.Origin())
	for i := range out.Proposals[:min(len(list), maxElsewhere)] {
		ask := BelowAsk{Account: account, Operation: op, Suppose: supposing(f.Way, list[i], d)}
		if err := countElsewhere(ctx, all, ask, &out.Proposals[i]); err != nil {
			return out, err
		}
	}
	return out, nil
}

// countElsewhere adds on how many paths of a host a proposal lets the account do the same, and everyone.
func countElsewhere(ctx context.Context, all Source, ask BelowAsk, p *wire.Proposal) (err error) {
	if p.Elsewhere, err = gained(ctx, all, ask); err != nil || !p.Everyone {
		return err
	}
	ask.Account, ask.Suppose.Joining = Everyone, nil
	p.Anybody, err = gained(ctx, all, ask)
	return err
}

// gained counts the paths on which somebody could do more; nil where a snapshot does not know whom it is about: they
// may have come to the host since.
func gained(ctx context.Context, all Source, ask BelowAsk) (*int64, error) {
	t, _, err := all.Below(ctx, ask)
	switch {
	case errors.Is(err, ErrBad):
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf("what else is opened: %w", err)
	}
	return new(t.Gained), nil
}

// supposing is as if a proposal had been made.
func supposing(way access.Way, p least.Proposal, d *perm.Directory) Suppose {
	if p.Means == least.Join {
		return Suppose{Joining: []string{d.Name(p.Party)}}
	}
	after := map[string]perm.Set{}
	for _, c := range p.Changes {
		after[string(way[c.Place].Path)] = c.After
	}
	return Suppose{States: func(path string, f perm.Found) perm.Set {
		if to, ok := after[path]; ok {
			return to
		}
		return f.Set
	}}
}

func wireProposal(way access.Way, p least.Proposal, account string, d *perm.Directory) (wire.Proposal, error) {
	out := wire.Proposal{
		Means:    string(p.Means),
		Changes:  []wire.ProposedChange{},
		Others:   []string{},
		Count:    len(p.Others),
		Everyone: p.Everyone,
		Extra:    p.Extra,
		Share:    p.Share,
	}
	if p.Means == least.OnShare {
		out.Says = "the share's own list lets " + account + " do it"
		return out, nil
	}
	if p.Means == least.Join {
		out.Says = account + " joins " + d.Name(p.Party)
		return out, nil
	}

	var says []string
	for _, c := range p.Changes {
		at := way[c.Place]
		out.Changes = append(out.Changes, wire.ProposedChange{
			Path:   at.Path.String(),
			Kind:   at.Kind.String(),
			Before: perm.Describe(at.Kind, c.Before, d),
			After:  perm.Describe(at.Kind, c.After, d),
		})
		says = append(says, said(c.Words, at.Kind, d)+" on "+at.Path.String())
		out.Wishes = append(out.Wishes, wished(c.Words, at.Path.String(), at.Kind, d))
	}
	for _, who := range p.Others[:min(len(p.Others), maxOthers)] {
		out.Others = append(out.Others, d.Name(who))
	}
	out.Says = strings.Join(says, "; ")
	if p.Share {
		out.Says += "; and the share's own list lets " + account + " do it"
	}

	text, err := wish.Changes(out.Wishes)
	out.Text = text
	return out, err
}

// only is how a change names a kind.
func only(k perm.Kind) string {
	switch k {
	case perm.File, perm.Folder, perm.Link:
		return k.String()
	}
	return "other"
}

// wished is what a change says of a path.
func wished(w least.Words, path string, k perm.Kind, d *perm.Directory) wish.Wish {
	out := wish.Wish{Paths: []string{path}, Only: []string{only(k)}}
	if w.Owner != "" {
		out.Set.Owner = d.Name(w.Owner)
	}
	switch {
	case k == perm.Folder:
		out.Set.Folders = w.Mode
	default:
		out.Set.Files = w.Mode
	}
	if w.Entry != nil {
		out.Entries.Give = []string{entry(*w.Entry, d)}
	}
	if w.Grant != nil {
		out.Grants.Give = []string{grant(*w.Grant, k, d)}
	}
	if w.Without != "" {
		out.Grants.Without = []string{d.Name(w.Without)}
	}
	return out
}

func entry(e perm.DesiredEntry, d *perm.Directory) string {
	return party(e.Who, d) + ":" + strings.ReplaceAll(e.Perm.String(), "-", "")
}

// party is how an entry names somebody.
func party(who perm.Principal, d *perm.Directory) string {
	if d.Identify(who).Group {
		return "group:" + d.Name(who)
	}
	return "user:" + d.Name(who)
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
	switch {
	case w.NoEntry != "" && w.Entry == nil:
		out = append(out, "no entry for "+d.Name(w.NoEntry))
	case w.NoEntry != "":
		out = append(out, "no more than "+entry(*w.Entry, d))
	case w.Entry != nil:
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
