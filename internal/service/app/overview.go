package app

import (
	"cmp"
	"context"
	"slices"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/verdict"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const (
	maxNeeds   = 50
	maxCells   = 400 // hosts of an application that an overview shows one by one
	unseenAt   = 10 * time.Minute
	endingSoon = 7 * 24 * time.Hour
	shownDays  = 14
	maxUnseen  = 5 // hosts that are named one by one
)

func (s *App) overview(ctx context.Context, host string, at time.Time) (out wire.Overview, err error) {
	hosts, err := s.allHosts(ctx)
	if err != nil {
		return out, err
	}

	reports, err := s.current(ctx)
	if err == nil {
		out.Applications, err = s.standings(ctx, reports, host, at)
	}

	if err != nil {
		return out, err
	}
	out.Needs = []wire.Need{}
	if err := s.needs(ctx, &out, hosts, at); err != nil {
		return out, err
	}

	if len(out.Needs) > maxNeeds {
		out.More = len(out.Needs) - maxNeeds
		out.Needs = out.Needs[:maxNeeds]
	}

	out.Days, err = s.days(ctx, reports, at)
	return out, err
}

func (s *App) allHosts(ctx context.Context) (all []store.Host, err error) {
	for after := ""; ; {
		part, err := s.store.Hosts(ctx, after, 1000)
		all = append(all, part...)
		if err != nil || len(part) < 1000 {
			return all, err
		}
		after = part[len(part)-1].Name
	}
}

// current returns the newest report of each application on each host, with what is accepted by now: waivers have
// ended since, or were withdrawn.
func (s *App) current(ctx context.Context) ([]store.Report, error) {
	reports, err := s.store.CurrentReports(ctx)
	if err != nil {
		return nil, err
	}

	var ids []string
	at := map[string]*store.Report{}
	counting := map[string]bool{}
	asked := map[string]bool{}

	for i := range reports {
		r := &reports[i]
		if r.Waived == 0 {
			continue
		}

		ids = append(ids, r.ID)
		at[r.ID] = r
		if asked[r.Application] {
			continue
		}
		asked[r.Application] = true
		if err := s.waivers(ctx, r.Application, counting); err != nil {
			return nil, err
		}
	}

	err = s.store.GroupsOn(ctx, ids, func(report string, g store.Group) error {
		if g.Waiver == "" || counting[g.Waiver] {
			return nil
		}

		r := at[report]
		r.Waived -= int64(g.Count)
		r.Weigh(g.Group)
		return nil
	})

	return reports, err
}

// counting returns how much of what a report found counts; nothing if there is none.
func counting(r *store.Report) int64 {
	if r == nil {
		return 0
	}
	return r.Findings - r.Waived
}

// waivers adds the waivers of an application that count now, by id.
func (s *App) waivers(ctx context.Context, application string, to map[string]bool) error {
	list, err := s.store.CountingWaivers(ctx, application)
	for _, w := range list {
		to[w.ID] = true
	}
	return err
}

// place is an application on a host.
type place struct{ application, host string }

func byPlace(reports []store.Report) map[place]*store.Report {
	out := make(map[place]*store.Report, len(reports))
	for i, r := range reports {
		out[place{r.Application, r.Host}] = &reports[i]
	}
	return out
}

// standings sums up each application over its hosts. The first of them are shown one by one, or the one that is asked
// for.
func (s *App) standings(
	ctx context.Context, reports []store.Report, host string, at time.Time,
) ([]wire.Standing, error) {
	known, err := s.engine.Known(ctx, "", "", reports, at, 0)
	if err != nil {
		return nil, err
	}

	current := byPlace(reports)
	newest, err := s.store.Applications(ctx)
	if err != nil {
		return nil, err
	}

	out := []wire.Standing{}
	for _, n := range newest {
		st := wire.Standing{Name: n.Application, Title: n.Title, Cells: []wire.Cell{}}
		e, _, on, err := s.engine.Published(ctx, n.Application)
		if isNotFound(err) {
			out = append(out, st)
			continue
		}

		if err != nil {
			return nil, err
		}

		st.Published = e.Number
		st.Title = e.Title
		st.Hosts = len(on)
		looks := make([]verdict.Look, 0, len(on))

		for _, h := range on {
			r := current[place{n.Application, h.Name}]
			l := known.Of(e, h, r, counting(r))
			looks = append(looks, l)
			c := wire.Cell{Host: h.Name, State: string(l.State(known.At)), Says: l.Says(known.At)}
			if r == nil {
				st.Cells = append(st.Cells, c)
				continue
			}

			c.Findings = counting(r)
			c.Opens = r.Opens
			c.Closes = r.Closes
			c.Grave = r.Grave
			c.Unread = r.Unread
			c.At = &l.At
			st.Findings += c.Findings
			st.Opens += r.Opens
			st.Closes += r.Closes
			st.Grave += r.Grave
			st.Waived += r.Waived
			st.Paths += r.Paths
			st.Unread += r.Unread
			if st.Oldest == nil || l.At.Before(*st.Oldest) {
				st.Oldest = &l.At
			}

			st.Cells = append(st.Cells, c)
		}

		st.Verdict = wire.VerdictOf(verdict.Of(looks, known.At))
		slices.SortStableFunc(st.Cells, func(a, b wire.Cell) int {
			return cmp.Or(-cmp.Compare(a.Grave, b.Grave), -cmp.Compare(a.Opens, b.Opens),
				-cmp.Compare(a.Findings, b.Findings), cmp.Compare(bit(a.At != nil), bit(b.At != nil)),
				cmp.Compare(a.Host, b.Host))
		})
		if host != "" {
			st.Cells = slices.DeleteFunc(st.Cells, func(c wire.Cell) bool { return c.Host != host })
		}

		st.Cells = st.Cells[:min(len(st.Cells), maxCells)]
		out = append(out, st)
	}

	return out, nil
}

// Silent reports whether an enrolled host should be in touch, and is not.
func Silent(h store.Host, at time.Time) bool {
	return !h.Carried && (h.LastSeen == nil || at.Sub(*h.LastSeen) > unseenAt)
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// days sums up what there was at the end of each day: for a host without a report of that day, what there was before.
func (s *App) days(ctx context.Context, current []store.Report, at time.Time) ([]wire.DayTally, error) {
	first := at.UTC().AddDate(0, 0, 1-shownDays)
	rows, err := s.store.Days(ctx, first)
	if err != nil {
		return nil, err
	}

	last := map[place]store.Day{}

	// Before the first report of these days, that report is the best guess.
	for i := len(rows) - 1; i >= 0; i-- {
		last[place{rows[i].Application, rows[i].Host}] = rows[i]
	}

	for _, r := range current {
		if p := (place{r.Application, r.Host}); last[p].On.IsZero() {
			last[p] = store.Day{Findings: r.Findings - r.Waived, Opens: r.Opens, Closes: r.Closes}
		}
	}

	var sum store.Day
	for _, d := range last {
		sum.Findings += d.Findings
		sum.Opens += d.Opens
		sum.Closes += d.Closes
	}

	out := []wire.DayTally{}
	known := at.UTC() // before the first report of all nothing was known
	if len(rows) > 0 {
		known = rows[0].On
	}

	for i, n := 0, 0; n < shownDays; n++ {
		day := first.AddDate(0, 0, n).Format(time.DateOnly)
		for ; i < len(rows) && rows[i].On.Format(time.DateOnly) <= day; i++ {
			p := place{rows[i].Application, rows[i].Host}
			was := last[p]
			sum.Findings += rows[i].Findings - was.Findings
			sum.Opens += rows[i].Opens - was.Opens
			sum.Closes += rows[i].Closes - was.Closes
			last[p] = rows[i]
		}

		if day < known.Format(time.DateOnly) {
			continue
		}

		out = append(out, wire.DayTally{Day: day, Findings: sum.Findings, Opens: sum.Opens, Closes: sum.Closes})
	}

	return out, nil
}

// maxEqual bounds how many groups of equal findings are told apart.
const maxEqual = 5000

// equalGroups puts equal groups of all hosts of an application together, of the current reports, and returns how many
// more there are than it lists. What is accepted is left out.
func (s *App) equalGroups(
	ctx context.Context, application string, reports []store.Report,
) (list []wire.EqualGroup, left int, err error) {
	_, _, on, err := s.engine.Published(ctx, application)
	if err != nil {
		return nil, 0, err
	}

	hosts := map[string]bool{}
	for _, h := range on {
		hosts[h.Name] = true
	}

	host := map[string]string{} // by report
	var ids []string
	for _, r := range reports {
		if r.Application == application && hosts[r.Host] && r.Findings > 0 {
			host[r.ID] = r.Host
			ids = append(ids, r.ID)
		}
	}

	counting := map[string]bool{}
	if err := s.waivers(ctx, application, counting); err != nil {
		return nil, 0, err
	}

	out := []wire.EqualGroup{}
	var folders []pathname.Path // as bytes
	at := map[string]int{}
	err = s.store.GroupsOn(ctx, ids, func(report string, g store.Group) error {
		if g.Waiver != "" && counting[g.Waiver] {
			return nil
		}

		i, known := at[g.ID]
		switch {
		case known && i < 0:
			return nil
		case !known && len(out) == maxEqual:
			at[g.ID] = -1
			left++
			return nil
		case !known:
			i = len(out)
			at[g.ID] = i
			x := wire.EqualGroup{Group: wire.GroupOf(host[report], g.Group)}
			x.Report = report
			out, folders = append(out, x), append(folders, g.Folder)
		}

		folders[i] = pathname.Widen(folders[i], string(g.Folder))
		addEqual(&out[i], g, wire.Member{Host: host[report], Report: report, Count: g.Count})
		return nil
	})

	if err != nil {
		return nil, 0, err
	}

	for i := range out {
		out[i].Folder = folders[i].String()
		slices.SortStableFunc(out[i].Members, func(a, b wire.Member) int {
			return cmp.Or(-cmp.Compare(a.Count, b.Count), cmp.Compare(a.Host, b.Host))
		})
	}

	weight := func(e *wire.EqualGroup) wire.WeightOf {
		return wire.WeightOf{Group: &e.Group, Hosts: e.Hosts, Findings: e.Total}
	}
	slices.SortStableFunc(out, func(a, b wire.EqualGroup) int { return wire.Heavier(weight(&a), weight(&b)) })
	return out, left, nil
}

// addEqual adds a host's part to a group of equal findings.
func addEqual(e *wire.EqualGroup, g store.Group, m wire.Member) {
	e.Hosts++
	e.Total += int64(g.Count)
	e.Fresh += g.Fresh
	e.Returned += g.Returned
	e.Doers = addOrigins(e.Doers, g.Doers)
	e.Causes = addOrigins(e.Causes, g.Causes)
	if g.Since != nil && (e.Since == nil || g.Since.Before(*e.Since)) {
		e.Since = g.Since
	}
	e.Members = append(e.Members, m)
}

// addOrigins returns origins of one host and of others, those of most findings first.
func addOrigins(to, more []wire.DriftOrigin) []wire.DriftOrigin {
	for _, m := range more {
		i := slices.IndexFunc(to, func(o wire.DriftOrigin) bool { return o.What == m.What })
		switch {
		case i >= 0:
			to[i].Findings += m.Findings
		case len(to) < maxOrigins:
			to = append(to, m)
		}
	}
	slices.SortStableFunc(to, func(a, b wire.DriftOrigin) int { return b.Findings - a.Findings })
	return to
}

// maxOrigins bounds the origins that are told of equal findings of many hosts.
const maxOrigins = 50

// GetOverviewRequest is the request of [App.GetOverview].
type GetOverviewRequest struct {
	Host string `query:"host" maxLength:"64" doc:"Of the cells, only those of this host, however many there are"`
}

// GetOverview returns what needs somebody now, and how everything stands.
func (s *App) GetOverview(ctx context.Context, in *GetOverviewRequest) (*wire.Overview, error) {
	out, err := s.overview(ctx, in.Host, time.Now())
	return &out, err
}
