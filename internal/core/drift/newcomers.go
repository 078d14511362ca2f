package drift

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// Newcomers are the paths of a snapshot that the previous one did not have. Drift that comes back every night usually
// comes with them, and their folder shows why they come out wrong.
type Newcomers struct {
	src    tree.Source
	forest tree.Hash
	// the folder that each new path came into: with a whole new tree the one that the tree came into
	fresh  map[string]string
	places map[Spot]bool // where something new is, of which kind
	wrong  map[Spot]*Cause
	sample map[Spot]Finding
}

// A Spot is a kind of path in a folder, and an aspect; "" stands for each.
type Spot struct {
	Folder string
	Kind   perm.Kind
	Aspect perm.Aspect
}

// A Cause is why new paths in a folder come out otherwise than declared.
type Cause struct {
	Spot
	perm.Cause
	Paths           int
	Example         string
	Declared, Found string
}

// maxNewcomers bounds the new paths that are looked at, and maxCauses the folders.
const (
	maxNewcomers = 100_000
	maxFresh     = 32 << 20 // bytes of their paths
	maxCauses    = 200
)

var errEnough = errors.New("enough newcomers")

// FindNewcomers compares a snapshot with the one before it.
func FindNewcomers(ctx context.Context, src tree.Source, before, now tree.Hash) (*Newcomers, error) {
	n := &Newcomers{
		src:    src,
		forest: now,
		fresh:  map[string]string{},
		places: map[Spot]bool{},
		wrong:  map[Spot]*Cause{},
		sample: map[Spot]Finding{},
	}

	room := maxFresh
	err := tree.Diff(ctx, src, before, now, func(path string, a, b *tree.Entry) error {
		if a != nil || b.Set.IsZero() {
			return nil
		}
		room -= len(path)
		if room < 0 || len(n.fresh) == maxNewcomers {
			return errEnough
		}

		home := pathname.Folder(path)
		if above, ok := n.fresh[home]; ok && home != "/" { // a folder comes before what is in it
			home = above
		}

		n.fresh[path] = home
		n.places[Spot{Folder: home, Kind: b.Kind}] = true
		return nil
	})

	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}

	return n, nil
}

// See takes note of a finding.
func (n *Newcomers) See(f Finding) {
	home, ok := n.fresh[f.Path]
	if !ok || f.Aspect == perm.AspectPresence || f.Waiver != "" {
		return
	}
	at := Spot{home, f.Kind, f.Aspect}
	c := n.wrong[at]
	if c == nil {
		c = &Cause{Spot: at, Example: f.Path, Declared: f.Declared, Found: f.Found}
		n.wrong[at], n.sample[at] = c, f
	}
	c.Paths++
}

// Causes tells why newcomers are wrong, the most paths first.
func (n *Newcomers) Causes(ctx context.Context, d *perm.Directory) ([]Cause, error) {
	var out []Cause
	for _, c := range n.wrong {
		out = append(out, *c)
	}

	slices.SortFunc(out, func(a, b Cause) int {
		return cmp.Or(b.Paths-a.Paths, pathname.Compare(a.Folder, b.Folder), int(a.Kind)-int(b.Kind),
			cmp.Compare(a.Aspect, b.Aspect))
	})
	out = out[:min(len(out), maxCauses)]
	for i := range out {
		c := &out[i]
		folder, _, err := tree.Lookup(ctx, n.src, n.forest, c.Folder)
		if err != nil && !tree.IsUntold(err) {
			return nil, err
		}

		f := n.sample[c.Spot]
		c.Cause = perm.CauseOf(c.Kind, c.Aspect, folder.Set, f.FoundSet, f.Mended, d)
	}

	return slices.DeleteFunc(out, func(c Cause) bool { return c.Why == "" }), nil
}

// Mended reports whether new paths of a spot are as declared now.
func (n *Newcomers) Mended(s Spot) bool {
	return n.places[Spot{Folder: s.Folder, Kind: s.Kind}] && n.wrong[s] == nil
}
