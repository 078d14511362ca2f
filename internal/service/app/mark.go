package app

import (
	"context"

	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// mark says of each entry of a folder in a snapshot how it differs from what is declared, and of each subfolder how
// much of what is in it does.
func (s *App) mark(ctx context.Context, l *wire.Listing, snapshot, folder string) error {
	r, err := s.store.ReportOf(ctx, snapshot)
	if isNotFound(err) {
		return nil // nothing is declared, or its findings were let go
	}
	if err != nil {
		return err
	}

	at := make(map[string]int, len(l.Items))
	var paths []string
	for i, p := range l.Items {
		raw, err := pathname.Unescape(p.Path)
		if err != nil {
			return err
		}

		at[raw] = i
		paths = append(paths, raw)
	}

	found, err := s.store.FindingsAt(ctx, r, paths)
	if err != nil {
		return err
	}
	marks, err := s.pathFindings(ctx, r, found)
	if err != nil {
		return err
	}

	for i, f := range found {
		item := &l.Items[at[string(f.Path)]]
		item.Findings = append(item.Findings, marks[i])
	}

	inside := func(p drift.Place) {
		if i, ok := at[p.Path]; ok {
			t := p.Tally
			l.Items[i].Inside = &wire.Tally{Findings: t.Findings, Opens: t.Opens, Closes: t.Closes, Waived: t.Waived}
		}
	}

	if folder == "" {
		for _, root := range paths {
			p, err := s.store.Place(ctx, r.ID, root)
			if isNotFound(err) {
				continue
			}
			if err != nil {
				return err
			}

			inside(p)
		}
		return nil
	}

	below, err := s.store.PlacesIn(ctx, r.ID, folder, 5000)
	for _, p := range below {
		inside(p)
	}

	return err
}

// findingsAt says how one path of a snapshot differs from what is declared.
func (s *App) findingsAt(ctx context.Context, snapshot, path string) ([]wire.PathFinding, error) {
	r, err := s.store.ReportOf(ctx, snapshot)
	if isNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	found, err := s.store.FindingsAt(ctx, r, []string{path})
	if err != nil {
		return nil, err
	}
	return s.pathFindings(ctx, r, found)
}

// pathFindings says findings with what their groups say of them.
func (s *App) pathFindings(ctx context.Context, r store.Report, found []store.Finding) ([]wire.PathFinding, error) {
	var ids []string
	known := map[string]bool{}
	for _, f := range found {
		if !known[f.Group] {
			known[f.Group] = true
			ids = append(ids, f.Group)
		}
	}

	groups, err := s.store.GroupsOf(ctx, r.ID, ids)
	if err != nil {
		return nil, err
	}

	out := make([]wire.PathFinding, len(found))
	for i, f := range found {
		g := groups[f.Group]
		out[i] = wire.PathFinding{
			Aspect:      f.Aspect,
			Declared:    g.Declared,
			Found:       g.Found,
			Word:        g.Effect.Word(),
			Rule:        g.Rule,
			Meaning:     g.Effect.String(),
			Severity:    string(g.Severity),
			Group:       f.Group,
			Application: r.Application,
			Since:       f.Since,
			Waived:      g.Waiver != "",
		}
	}

	return out, nil
}
