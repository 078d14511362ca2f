package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const (
	perKind   = 8  // hits of each kind that a search gives, of paths on each host
	mostPaths = 24 // hits of paths in all
	maxHomes  = 30 // distinct account databases that are searched
	maxTraced = 20 // snapshots in which a path is looked for
)

func (s *App) search(ctx context.Context, text string) (wire.Found, error) {
	if strings.HasPrefix(text, "/") {
		return s.searchPath(ctx, text)
	}
	hits, err := s.searchNames(ctx, text)
	return few(hits), err
}

// few keeps so many hits of each kind, and says of which there are more.
func few(hits []wire.Hit) wire.Found {
	out := wire.Found{Items: []wire.Hit{}}
	n := map[string]int{}
	for _, h := range hits {
		switch n[h.Kind]++; {
		case n[h.Kind] <= perKind:
			out.Items = append(out.Items, h)
		case n[h.Kind] == perKind+1:
			out.More = append(out.More, h.Kind)
		}
	}
	return out
}

// searchNames looks for names and titles: of each kind it gives one more than are shown, where there are so many.
func (s *App) searchNames(ctx context.Context, text string) (out []wire.Hit, err error) {
	if text == "" {
		return nil, nil
	}

	small := strings.ToLower(text)
	hosts, err := s.store.HostsLike(ctx, text, perKind+1)
	if err != nil {
		return nil, err
	}

	for _, h := range hosts {
		out = append(out, wire.Hit{
			Kind:    "host",
			Name:    h.Name,
			Detail:  strings.Join(h.Tags(), ", "),
			Host:    h.Name,
			Subject: h.Name,
		})
	}

	newest, err := s.store.Applications(ctx)
	if err != nil {
		return nil, err
	}

	var rules []wire.Hit
	for _, n := range newest {
		if has(small, n.Application, n.Title) {
			out = append(out, wire.Hit{
				Kind:        "application",
				Name:        n.Application,
				Detail:      n.Title,
				Application: n.Application,
				Subject:     n.Application,
			})
		}

		_, doc, _, err := s.engine.Published(ctx, n.Application)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}

		for _, r := range doc.Rules {
			switch as := speaks(doc, &r, small); {
			case len(rules) > perKind:
			case has(small, r.Name, r.Why):
				rules = append(rules, wire.Hit{
					Kind:        "rule",
					Name:        r.Name,
					Detail:      r.Why,
					Application: n.Application,
					Subject:     r.Name,
				})
			case as != "":
				rules = append(rules, wire.Hit{
					Kind:        "rule",
					Name:        r.Name,
					Detail:      as,
					Application: n.Application,
					Subject:     r.Name,
				})
			}
		}
	}

	plans, err := s.store.PlansLike(ctx, text, perKind+1)
	if err != nil {
		return nil, err
	}

	for _, p := range plans {
		out = append(out, wire.Hit{
			Kind:        "plan",
			Name:        p.Title,
			Detail:      string(p.State) + ", by " + p.Author,
			Application: p.Application,
			Subject:     p.ID,
		})
	}

	out = append(out, rules...)
	findings, err := s.searchFindings(ctx, newest, small)
	if err != nil {
		return nil, err
	}

	out = append(out, findings...)
	accounts, err := s.searchAccounts(ctx, small)
	return append(out, accounts...), err
}

func has(small string, texts ...string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(strings.ToLower(t), small) })
}

// searchFindings looks in what was found and declared, and for whom that opens or closes.
func (s *App) searchFindings(ctx context.Context, newest []store.Edition, small string) (out []wire.Hit, err error) {
	if len(small) < 3 { // nearly every finding has two letters somewhere
		return nil, nil
	}
	reports, err := s.store.CurrentReports(ctx)
	if err != nil {
		return nil, err
	}

	for _, n := range newest {
		groups, _, err := s.equalGroups(ctx, n.Application, reports)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}

		for _, g := range groups {
			if len(out) > perKind {
				return out, nil
			}
			if !has(small, g.Found, g.Declared, g.Meaning, g.Rule, g.Folder) {
				continue
			}

			where := g.Host
			if g.Hosts > 1 {
				where = fmt.Sprintf("%d hosts", g.Hosts)
			}

			out = append(out, wire.Hit{
				Kind:        "finding",
				Name:        fmt.Sprintf("%d × %s %s: %s", g.Total, g.Kind, g.Aspect, g.Found),
				Detail:      g.Meaning + ", in " + g.Folder + " on " + where,
				Application: n.Application,
				Host:        g.Host,
				Subject:     n.Application,
			})
		}
	}

	return out, nil
}

// speaks says where a rule names somebody.
func speaks(doc *baseline.Document, r *baseline.Rule, small string) string {
	var as []string
	say := func(what, name string) { // by the baseline's own word, or by what that stands for
		if real := doc.Accounts[name]; has(small, name, real) {
			if real != "" {
				name = real
			}
			what += " " + name
			if !slices.Contains(as, what) {
				as = append(as, what)
			}
		}
	}

	if r.Owner != nil {
		say("names as owner", r.Owner.Name)
	}

	if r.Group != nil {
		say("names as group", r.Group.Name)
	}

	for what, g := range map[string]*baseline.Grants{
		"has an entry for":        r.Entries,
		"has a default entry for": r.Defaults,
	} {
		if g != nil {
			for _, x := range g.List {
				say(what, x.Name)
			}
		}
	}

	if r.Shares != nil {
		for _, x := range r.Shares.List {
			say("has an entry for", x.Name)
		}
	}

	slices.Sort(as)
	return strings.Join(as, ", ")
}

// searchAccounts looks in the account databases that came with the newest snapshots; equal ones are one.
func (s *App) searchAccounts(ctx context.Context, small string) (out []wire.Hit, err error) {
	homes, err := s.store.Homes(ctx, maxHomes)
	if err != nil {
		return nil, err
	}

	for _, home := range homes {
		snap, err := s.store.Snapshot(ctx, home.Snapshot)
		if err != nil {
			return nil, err
		}
		dir, err := s.store.Directory(ctx, snap)
		if err != nil {
			return nil, err
		}

		where := home.Host
		if home.Hosts > 1 {
			where = fmt.Sprintf("%s and %d more", home.Host, home.Hosts-1)
		}

		for i, list := range [][]perm.Account{dir.Accounts, dir.Groups} {
			for _, a := range list {
				if !strings.Contains(strings.ToLower(a.Name), small) {
					continue
				}

				kind := "account"
				if i == 1 {
					kind = "group"
				}

				out = append(out, wire.Hit{
					Kind:     "account",
					Name:     a.Name,
					Detail:   kind + " on " + where,
					Host:     snap.Host,
					Snapshot: snap.ID,
					Subject:  a.Name,
				})

				if len(out) > perKind {
					return out, nil
				}
			}
		}
	}

	return out, nil
}

// searchPath finds a path, or what begins with it, in the newest snapshots.
func (s *App) searchPath(ctx context.Context, text string) (out wire.Found, err error) {
	out.Items = []wire.Hit{}
	more := func() { out.More = []string{"path"} }
	raw, err := unescaped("q", text)
	if err != nil {
		return out, err
	}

	folder, part := raw, ""
	if i := strings.LastIndexByte(raw, '/'); i >= 0 {
		folder, part = raw[:max(i, 1)], raw[i+1:]
	}

	reports, err := s.store.CurrentReports(ctx)
	if err != nil {
		return out, err
	}

	traced := map[tree.Hash]bool{} // equal hosts have equal trees: one stands for all
	for _, r := range reports {
		snap, err := s.store.Snapshot(ctx, r.Snapshot)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return out, err
		}
		if traced[snap.Hash()] {
			continue
		}

		if len(traced) == maxTraced || len(out.Items) >= mostPaths {
			more() // in what was not looked at
			break
		}

		_, node, err := tree.Trace(ctx, s.store, snap.Hash(), folder)
		if tree.IsUntold(err) {
			continue
		}
		if err != nil {
			return out, err
		}
		traced[snap.Hash()] = true
		if node == nil {
			continue
		}

		n := 0
		if part == "" {
			out.Items = append(out.Items, wire.Hit{
				Kind:        "path",
				Name:        pathname.Escape(folder),
				Detail:      "folder on " + r.Host,
				Application: r.Application,
				Host:        r.Host,
				Snapshot:    snap.ID,
				Subject:     pathname.Escape(folder),
			})
		}

		i, _ := slices.BinarySearchFunc(node.Entries, part, func(e tree.Entry, p string) int {
			return strings.Compare(e.Name, p)
		})
		for ; i < len(node.Entries) && strings.HasPrefix(node.Entries[i].Name, part); i, n = i+1, n+1 {
			if n == perKind {
				more()
				break
			}

			e := node.Entries[i]
			at := pathname.Escape(pathname.Join(folder, e.Name))
			out.Items = append(out.Items, wire.Hit{
				Kind:        "path",
				Name:        at,
				Detail:      e.Kind.String() + " on " + r.Host,
				Application: r.Application,
				Host:        r.Host,
				Snapshot:    snap.ID,
				Subject:     at,
			})
		}
	}

	return out, nil
}

// SearchRequest is the request of [App.Search].
type SearchRequest struct {
	Text string `query:"q" required:"true" minLength:"1" maxLength:"1024" doc:"A part of a name or a title; a path from / on"`
}

// Search finds hosts, applications, rules, accounts, plans and paths.
func (s *App) Search(ctx context.Context, in *SearchRequest) (*wire.Found, error) {
	out, err := s.search(ctx, strings.TrimSpace(in.Text))
	return &out, err
}
