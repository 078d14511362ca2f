package inquiry

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/least"
	"idletally/internal/core/perm"
	"idletally/internal/core/wish"
	"idletally/internal/wire"
)

// maxRestricting is how long it may take to find what has to be taken away: with each entry there is more to try.
const maxRestricting = 15 * time.Second

// Restrict answers what has to be taken away so that nobody but some accounts can do something with a path.
func Restrict(
	ctx context.Context, sc Source, only []string, path string, op access.Operation,
) (wire.Restriction, error) {
	f, err := sc.Path(ctx, path, only...)
	if err != nil {
		return wire.Restriction{}, err
	}

	d := f.Directory
	op = access.Meant(op, f.Seen.Kind)
	out := wire.Restriction{
		Origin:    sc.Origin(),
		Path:      f.Seen.Path.String(),
		Kind:      f.Seen.Kind.String(),
		Operation: op,
		Only:      only,
		Changes:   []wire.ProposedChange{},
	}
	ask := least.Only{Way: f.Way, Operation: op, Names: d}
	for _, name := range only {
		who, err := Subject(d, name)
		switch {
		case err != nil:
			return out, err
		case who.ID == perm.Everyone:
			return out, fmt.Errorf("%w: everyone is nobody in particular: name accounts", ErrBad)
		}
		ask.Keep = append(ask.Keep, who)
	}

	within, cancel := context.WithTimeout(ctx, maxRestricting)
	defer cancel()
	found, err := ask.Find(within)
	switch {
	case err != nil && ctx.Err() == nil:
		return out, fmt.Errorf("%w: the entries of %s are too many to be tried in %s", ErrBad, out.Path, maxRestricting)
	case err != nil:
		return out, err
	}
	var says []string
	for _, c := range found.Changes {
		at := f.Way[c.Place]
		out.Changes = append(out.Changes, wire.ProposedChange{
			Path:   at.Path.String(),
			Kind:   at.Kind.String(),
			Before: perm.Describe(at.Kind, c.Before, d),
			After:  perm.Describe(at.Kind, c.After, d),
		})
		for _, w := range c.Words {
			says = append(says, said(w, at.Kind, d)+" on "+at.Path.String())
		}
		out.Wishes = append(out.Wishes, wishedAll(c.Words, at.Path.String(), at.Kind, d))
	}
	out.Says = strings.Join(says, "; ")
	out.Out, out.Less, out.Left = parties(found.Out, d), parties(found.Less, d), parties(found.Left, d)
	out.Unsure = parties(found.Unsure, d)
	out.Back, out.Short = parties(found.Back, d), parties(found.Short, d)
	if len(out.Wishes) > 0 {
		out.Text, err = wish.Changes(out.Wishes)
	}
	return out, err
}

func parties(list []perm.Principal, d *perm.Directory) wire.Parties {
	out := wire.Parties{Names: []string{}, Count: len(list)}
	for _, who := range list[:min(len(list), maxOthers)] {
		name := Everyone
		if who != perm.Everyone {
			name = d.Name(who)
		}
		out.Names = append(out.Names, name)
	}
	return out
}

// wishedAll is what one change says of a path by several words.
func wishedAll(list []least.Words, path string, k perm.Kind, d *perm.Directory) wish.Wish {
	var out wish.Wish
	for _, w := range list {
		x := wished(w, path, k, d)
		out.Paths, out.Only = x.Paths, x.Only
		out.Set.Files, out.Set.Folders = andThen(out.Set.Files, x.Set.Files), andThen(out.Set.Folders, x.Set.Folders)
		if w.NoEntry != "" { // and what was said of them before
			whose := party(w.NoEntry, d)
			out.Entries.Give = slices.DeleteFunc(out.Entries.Give, func(e string) bool {
				return strings.HasPrefix(e, whose+":")
			})
			if !slices.Contains(out.Entries.Without, whose) {
				out.Entries.Without = append(out.Entries.Without, whose)
			}
		}
		out.Entries.Give = append(out.Entries.Give, x.Entries.Give...)
		out.Grants.Give = append(out.Grants.Give, x.Grants.Give...)
		out.Grants.Without = append(out.Grants.Without, x.Grants.Without...)
	}
	return out
}

func andThen(mode, more string) string {
	if mode == "" || more == "" {
		return mode + more
	}
	return mode + "," + more
}
