package engine

import (
	"context"
	"errors"

	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// earlier is what the newest report of a place found.
type earlier struct {
	st         *store.Store
	report     store.Report
	snap       store.Snapshot // that it is of; without a hash where it is not kept any more
	leftMounts bool           // what was entered then is not to be entered any more
	folder     string         // that was asked for last
	findings   bool           // whether there are any in it or below
}

// earlierThan returns what the newest report of a place knows of what a snapshot cannot show; nil if nothing.
func (d *Engine) earlierThan(ctx context.Context, snap store.Snapshot, last store.Report) (drift.Earlier, error) {
	if last.Findings == 0 {
		return nil, nil
	}
	then, err := d.Store.Snapshot(ctx, last.Snapshot)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	return &earlier{st: d.Store, report: last, snap: then, leftMounts: then.Crossing && !snap.Crossing}, nil
}

// knownPage is how many findings are read at once.
const knownPage = 2000

// Below makes e a drift.Earlier.
func (e *earlier) Below(ctx context.Context, path string, gap tree.Gap, each func(drift.Known) error) error {
	if gap == tree.Mount && e.leftMounts {
		return nil
	}
	if known, err := e.anyIn(ctx, pathname.Folder(path)); err != nil || !known {
		return err
	}

	last := ""
	for after, found := 0, false; ; found = true {
		rows, err := e.st.FindingsUnder(ctx, e.report, path, after, knownPage)
		if err == nil && len(rows) == 0 && !found { // it was no folder
			rows, err = e.st.FindingsAt(ctx, e.report, []string{path})
		}

		if err == nil {
			last, err = e.knownOf(ctx, rows, last, each)
		}

		if err != nil || len(rows) < knownPage {
			return err
		}

		after = rows[len(rows)-1].Seq
	}
}

// anyIn reports whether there were findings in a folder or below. Gaps come side by side.
func (e *earlier) anyIn(ctx context.Context, folder string) (bool, error) {
	if e.folder == folder {
		return e.findings, nil
	}
	_, err := e.st.Place(ctx, e.report.ID, folder)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	e.folder, e.findings = folder, err == nil
	return e.findings, nil
}

// knownOf hands out the paths of findings, each once, and returns the last of them. What was missing is not among
// them: nothing was seen of it.
func (e *earlier) knownOf(
	ctx context.Context, rows []store.Finding, last string, each func(drift.Known) error,
) (string, error) {
	var folder string // the last one, and how it was
	var above perm.Set
	for _, f := range rows {
		path := string(f.Path)
		if path == last || len(f.FoundSet) == 0 {
			continue
		}
		set, err := perm.ParseSet(string(f.FoundSet))
		if err != nil {
			return last, err
		}

		last = path
		if up := pathname.Folder(path); set.Scheme().FromAbove() && up != folder {
			if above, err = e.setOf(ctx, up); err != nil {
				return last, err
			}
			folder = up
		}

		if err := each(drift.Known{Path: path, Found: perm.In(above, f.Kind, set)}); err != nil {
			return last, err
		}
	}

	return last, nil
}

// setOf returns how a folder was; zero if nobody knows.
func (e *earlier) setOf(ctx context.Context, folder string) (perm.Set, error) {
	if e.snap.Hash().IsZero() {
		return perm.Set{}, nil
	}
	at, _, err := tree.Lookup(ctx, e.st, e.snap.Hash(), folder)
	if err != nil && !tree.IsUntold(err) {
		return perm.Set{}, err
	}
	return at.Set, nil
}

// Missing makes e a drift.Earlier.
func (e *earlier) Missing(ctx context.Context, path string) (bool, error) {
	rows, err := e.st.FindingsAt(ctx, e.report, []string{path})
	for _, f := range rows {
		if perm.Aspect(f.Aspect) == perm.AspectPresence && len(f.FoundSet) == 0 {
			return true, err
		}
	}
	return false, err
}
