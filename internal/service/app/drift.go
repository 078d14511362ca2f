package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"idletally/internal/core/drift"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/core/verdict"
	"idletally/internal/report"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func itoa(n int) string { return strconv.Itoa(n) }

func seconds(n int64) time.Duration { return time.Duration(n) * time.Second }

func wireSnapshot(v store.Snapshot) wire.Snapshot {
	w := wire.Snapshot{
		ID:          v.ID,
		Host:        v.Host,
		Application: v.Application,
		State:       v.State,
		Paths:       v.Paths,
		Gaps:        v.Gaps,
		Message:     v.Message,
		RequestedBy: v.RequestedBy,
		Heard:       v.Heard,
		Created:     v.Created,
		Taken:       v.Taken,
	}

	if v.State == lifecycle.SnapshotReady {
		w.Root = v.Hash().String()
	}

	roots, _ := v.RootList() // we wrote both
	w.Roots = pathname.EscapeAll(roots)
	w.Denied, _ = v.DeniedList()
	return w
}

// ImportRequest is a snapshot's file, which is read as it comes: it may be larger than what memory is for.
type ImportRequest struct {
	Application string `query:"application" required:"true" maxLength:"64" pattern:"^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$"`
	Host        string `query:"host" required:"true" maxLength:"64"`
	Fingerprint string `query:"fingerprint" maxLength:"64" doc:"The file's, as it was shown where it was written: another file is refused"`
	File        io.Reader
}

// ByID names something by its id.
type ByID struct {
	ID string `path:"id" maxLength:"16"`
}

// diffSnapshots returns what changed from one snapshot to another.
func (s *App) diffSnapshots(ctx context.Context, from, to, after string, limit int) (wire.Turnover, error) {
	out := wire.Turnover{Groups: []wire.ChangeGroup{}, Items: []wire.SingleChange{}}
	a, err := s.stored(ctx, from)
	if err != nil {
		return out, err
	}
	b, err := s.stored(ctx, to)
	if err != nil {
		return out, err
	}
	raw, err := unescaped("after", after)
	if err != nil {
		return out, err
	}

	out.From, out.To = wireSnapshot(a.row), wireSnapshot(b.row)
	order, err := walkOrder(a.row, b.row)
	if err != nil {
		return out, err
	}

	t, groups, err := drift.DiffSnapshots(ctx, s.store, a.snap.Forest, b.snap.Forest, b.dir,
		func(c drift.Change) error {
			if raw != "" && order(c.Path, raw) <= 0 {
				return nil
			}

			if len(out.Items) == limit {
				if limit > 0 {
					out.Next = out.Items[limit-1].Path
				}
				return nil
			}

			what := "changed"
			switch {
			case c.Before.Kind == 0:
				what = "added"
			case c.After.Kind == 0:
				what = "gone"
			}

			out.Items = append(out.Items, wire.SingleChange{Path: pathname.Escape(c.Path), Change: what})
			return nil
		})

	if err != nil {
		return out, err
	}

	out.Added = t.Added
	out.Gone = t.Gone
	out.Changed = t.Changed
	side := func(x drift.Side, d *perm.Directory) (kind string, view *perm.View, gap string) {
		if x.Kind == 0 {
			return "", nil, ""
		}
		if !x.Set.IsZero() {
			v := perm.Describe(x.Kind, x.Set, d)
			view = &v
		}
		return x.Kind.String(), view, x.Gap.String()
	}

	for _, g := range groups {
		w := wire.ChangeGroup{
			Word:    g.Effect.Word(),
			Meaning: g.Effect.String(),
			Count:   g.Count,
			Folder:  g.Folder.String(),
			Example: g.Example.String(),
		}

		w.BeforeKind, w.Before, w.BeforeGap = side(g.Before, a.dir)
		w.AfterKind, w.After, w.AfterGap = side(g.After, b.dir)
		out.Groups = append(out.Groups, w)
	}

	return out, nil
}

// walkOrder is that of a walk through both of two snapshots.
func walkOrder(a, b store.Snapshot) (func(x, y string) int, error) {
	before, err := a.RootList()
	if err != nil {
		return nil, err
	}
	now, err := b.RootList()
	return tree.Order(append(before, now...)), err
}

const maxGroups = 2000

// reportHead is a report without what depends on waivers.
func reportHead(r store.Report) wire.Report {
	w := wire.Report{
		ID:          r.ID,
		Application: r.Application,
		Edition:     r.Edition,
		Host:        r.Host,
		Snapshot:    r.Snapshot,
		Created:     r.Created,
		Paths:       r.Paths,
		Judged:      r.Judged,
		Findings:    r.Findings,
		Unread:      r.Unread,
	}
	_ = json.Unmarshal([]byte(r.Problems), &w.Problems) // we wrote it
	return w
}

func (s *App) wireReport(ctx context.Context, r store.Report) (wire.Report, []wire.Group, error) {
	w := reportHead(r)
	groups, err := s.store.Groups(ctx, r.ID, maxGroups)
	if err != nil {
		return w, nil, err
	}

	if len(groups) == maxGroups {
		n, err := s.store.CountGroups(ctx, r.ID)
		if err != nil {
			return w, nil, err
		}
		w.MoreGroups = n - maxGroups
	}

	waived, err := s.engine.Waived(ctx, r, groups)
	if err != nil {
		return w, nil, err
	}

	since := map[string]time.Time{}
	for _, g := range groups {
		if g.Count == 1 && g.Since != nil {
			since[string(g.Example)] = *g.Since
		}
	}

	by, err := s.engine.By(ctx, r, since)
	if err != nil {
		return w, nil, err
	}

	out := make([]wire.Group, 0, len(groups))
	for _, g := range groups {
		x := wire.GroupOf(r.Host, g.Group)
		x.Report = r.ID
		x.Since = g.Since
		x.Fresh = g.Fresh
		x.Returned = g.Returned
		x.Doers = g.Doers
		x.Causes = g.Causes
		if a, ok := by[string(g.Example)]; ok && g.Count == 1 {
			x.By = &a
		}

		if row, ok := waived[g.ID]; ok {
			waiver := wireWaiver(row)
			x.Waiver = &waiver
			w.Waived += int64(g.Count)
			w.Findings -= int64(g.Count)
			out = append(out, x)
			continue
		}

		if len(g.Effect.Opens) > 0 {
			w.Opens += int64(g.Count)
		}

		if len(g.Effect.Closes) > 0 {
			w.Closes += int64(g.Count)
		}

		out = append(out, x)
	}

	return w, out, nil
}

func wireWaiver(w store.Waiver) wire.Waiver {
	return wire.Waiver{
		ID: w.ID,
		NewWaiver: wire.NewWaiver{
			Application: w.Application,
			Host:        w.Host,
			Paths:       w.Pattern,
			Rule:        w.Rule,
			Kind:        w.Kind,
			Aspect:      w.Aspect,
			Found:       w.Found,
			Reason:      w.Reason,
			Ends:        w.Ends,
		},
		Author:      w.Author,
		Created:     w.Created,
		Counts:      w.Counts(time.Now()),
		WithdrawnBy: w.WithdrawnBy,
		Withdrawn:   w.Withdrawn,
	}
}

// maxPoints bounds the points of a trend.
const maxPoints = 400

// eachHost goes through the hosts of an application, or one of them.
func (s *App) eachHost(ctx context.Context, application, host string, f func(host string) error) error {
	_, _, hosts, err := s.engine.Published(ctx, application)
	if err == nil {
		hosts, err = s.only(ctx, application, hosts, host)
	}
	if err != nil {
		return err
	}
	for _, h := range hosts {
		if err := f(h.Name); err != nil {
			return err
		}
	}
	return nil
}

// currentDrift gathers the newest reports of an application.
func (s *App) currentDrift(ctx context.Context, application, host string, age time.Duration) (report.Data, error) {
	out := report.Data{
		Application: application,
		Made:        time.Now(),
		Hosts:       []wire.HostVerdict{},
		Reports:     []wire.Report{},
		Groups:      []wire.Group{},
	}

	e, doc, hosts, err := s.engine.Published(ctx, application)
	if err != nil {
		return out, err
	}

	out.Title = e.Title
	for _, r := range doc.Rules {
		out.Rules = append(out.Rules, r.Name)
	}

	if hosts, err = s.only(ctx, application, hosts, host); err != nil {
		return out, err
	}

	var rows []store.Report
	counts := map[string]int64{}
	for _, h := range hosts {
		r, err := s.store.CurrentReport(ctx, application, h.Name)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return out, err
		}
		wr, groups, err := s.wireReport(ctx, r)
		if err != nil {
			return out, err
		}

		rows, counts[h.Name] = append(rows, r), wr.Findings
		out.Reports, out.Groups = append(out.Reports, wr), append(out.Groups, groups...)
	}

	known, err := s.engine.Known(ctx, application, host, rows, out.Made, age)
	if err != nil {
		return out, err
	}

	current := byPlace(rows)
	var looks []verdict.Look
	for _, h := range hosts {
		l := known.Of(e, h, current[place{application, h.Name}], counts[h.Name])
		looks = append(looks, l)
		out.Hosts = append(out.Hosts, wire.HostVerdictOf(h.Name, l, out.Made))
	}

	out.Verdict = wire.VerdictOf(verdict.Of(looks, out.Made))
	return out, nil
}

// only returns the host of an application that was asked for; all if none was. One that the application does not have
// is an error.
func (s *App) only(ctx context.Context, application string, hosts []store.Host, host string) ([]store.Host, error) {
	if host == "" {
		return hosts, nil
	}
	i := slices.IndexFunc(hosts, func(h store.Host) bool { return h.Name == host })
	if i >= 0 {
		return hosts[i : i+1], nil
	}
	if _, err := s.store.Host(ctx, host); err != nil {
		return nil, err
	}
	return nil, fmt.Errorf("%w: the published baseline of %s does not apply to host %s", engine.ErrBad, application,
		host)
}

// mostPlaces bounds the subfolders that are shown of one folder.
const mostPlaces = 1000

// places returns where in the tree a report's findings are.
func (s *App) places(ctx context.Context, report, path string) (wire.Spots, error) {
	out := wire.Spots{Folders: []wire.Spot{}}
	r, err := s.store.Report(ctx, report)
	if err != nil {
		return out, err
	}
	raw, err := unescaped("path", path)
	if err != nil {
		return out, err
	}
	if err := checked("path", raw); err != nil {
		return out, err
	}

	tally := func(t drift.Tally) wire.Tally {
		return wire.Tally{Findings: t.Findings, Opens: t.Opens, Closes: t.Closes, Waived: t.Waived}
	}
	shown := func(p drift.Place) wire.Spot {
		return wire.Spot{
			Path:  pathname.Escape(p.Path),
			All:   tally(p.Tally),
			Here:  tally(p.Here),
			Below: p.Tally != p.Here,
		}
	}

	at, err := s.store.Place(ctx, r.ID, raw)
	if isNotFound(err) { // all is as declared there
		out.Path = pathname.Escape(raw)
		return out, nil
	}

	if err != nil {
		return out, err
	}

	out.Spot = shown(at)
	rows, err := s.store.PlacesIn(ctx, r.ID, raw, mostPlaces+1)
	if len(rows) > mostPlaces {
		rows, out.More = rows[:mostPlaces], true
	}

	for _, p := range rows {
		out.Folders = append(out.Folders, shown(p))
	}

	return out, err
}

// TakeSnapshot has a snapshot taken.
func (s *App) TakeSnapshot(ctx context.Context, in *wire.NewSnapshot) (*wire.Snapshot, error) {
	id, err := s.engine.AskSnapshot(ctx, *in, CallerOf(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.notifier.wake(in.Host)
	s.audit(ctx, "snapshot asked for", in.Host, in.Application)
	v, err := s.store.Snapshot(ctx, id)
	return new(wireSnapshot(v)), err
}

// TakeSnapshotsRequest is the request of [App.TakeSnapshots].
type TakeSnapshotsRequest struct {
	Name string `path:"name" maxLength:"64"`
	Body wire.NewSnapshots
}

// TakeSnapshots has snapshots of an application taken on all of its hosts, or on some.
func (s *App) TakeSnapshots(
	ctx context.Context, in *TakeSnapshotsRequest,
) (*wire.Page[wire.AskedSnapshot], error) {
	out := wire.Page[wire.AskedSnapshot]{Items: []wire.AskedSnapshot{}}
	var hosts []string
	err := s.engine.AskSnapshots(ctx, in.Name, in.Body, CallerOf(ctx).Name, func(host, id string, err error) error {
		asked := wire.AskedSnapshot{Host: host}
		if err != nil {
			asked.Problem = err.Error()
		} else {
			v, err := s.store.Snapshot(ctx, id)
			if err != nil {
				return err
			}

			w := wireSnapshot(v)
			asked.Snapshot, hosts = &w, append(hosts, host)
			s.notifier.wake(host)
		}

		out.Items = append(out.Items, asked)
		return nil
	})

	if len(hosts) > 0 {
		s.audit(ctx, "snapshots asked for", in.Name, strings.Join(hosts, " "))
	}

	return &out, err
}

// ListSnapshotsRequest is the request of [App.ListSnapshots].
type ListSnapshotsRequest struct {
	Application string `query:"application" maxLength:"64"`
	Host        string `query:"host" maxLength:"64"`
	After       string `query:"after" maxLength:"16"`
	Limit       int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
}

// ListSnapshots lists snapshots, newest first.
func (s *App) ListSnapshots(ctx context.Context, in *ListSnapshotsRequest) (*wire.Page[wire.Snapshot], error) {
	rows, err := s.store.Snapshots(ctx, in.Application, in.Host, in.After, in.Limit)
	out := make([]wire.Snapshot, len(rows))
	for i, v := range rows {
		out[i] = wireSnapshot(v)
		out[i].Denied = nil
	}

	if err != nil {
		return nil, err
	}

	p, err := counted(ctx, in.After != "", page(out, in.Limit, func(v wire.Snapshot) string { return v.ID }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountSnapshots(ctx, in.Application, in.Host)
		})
	return &p, err
}

// GetSnapshot shows a snapshot.
func (s *App) GetSnapshot(ctx context.Context, in *ByID) (*wire.Snapshot, error) {
	v, err := s.store.Snapshot(ctx, in.ID)
	if err != nil {
		return nil, err
	}

	out := wireSnapshot(v)
	if v.State == lifecycle.SnapshotWaiting { // as many paths as last time is the best that can be said
		last, err := s.store.Newest(ctx, v.Application, v.Host)
		if err != nil && !isNotFound(err) {
			return nil, err
		}
		out.Seen, out.Expected = v.Seen, last.Paths
	}

	return &out, nil
}

// CancelSnapshot cancels a pending snapshot.
func (s *App) CancelSnapshot(ctx context.Context, in *ByID) (*wire.Snapshot, error) {
	if err := s.store.CancelSnapshot(ctx, in.ID, CallerOf(ctx).Name); err != nil {
		return nil, err
	}

	v, err := s.store.Snapshot(ctx, in.ID)
	s.audit(ctx, "snapshot cancelled", v.Host, v.Application)
	return new(wireSnapshot(v)), err
}

// ExportSnapshot returns a snapshot as one file that holds all of it (see docs/formats.md).
func (s *App) ExportSnapshot(ctx context.Context, in *ByID) (*Download, error) {
	v, err := s.store.Snapshot(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	write, err := s.engine.Export(ctx, v)
	if err != nil {
		return nil, err
	}

	return &Download{
		Name:  fmt.Sprintf("%s-%s.snapshot", v.Host, v.ID),
		Type:  "application/octet-stream",
		Write: func(_ context.Context, w io.Writer) error { return write(w) },
	}, nil
}

// ImportSnapshot takes in a snapshot file of a host (application/octet-stream).
func (s *App) ImportSnapshot(ctx context.Context, in *ImportRequest) (*wire.Snapshot, error) {
	id, err := s.engine.Import(ctx, in.Application, in.Host, in.Fingerprint, CallerOf(ctx).Name, in.File)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "snapshot imported", in.Host, in.Application+" "+id)
	v, err := s.store.Snapshot(ctx, id)
	return new(wireSnapshot(v)), err
}

// CompareSnapshotsRequest is the request of [App.CompareSnapshots].
type CompareSnapshotsRequest struct {
	ID    string `path:"id" maxLength:"16" doc:"The later snapshot"`
	From  string `query:"from" required:"true" maxLength:"16" doc:"The earlier one; of any host"`
	After string `query:"after" maxLength:"131072" doc:"Path to go on after"`
	Limit int    `query:"limit" default:"500" minimum:"0" maximum:"5000"`
}

// CompareSnapshots returns what changed from one snapshot to another.
func (s *App) CompareSnapshots(ctx context.Context, in *CompareSnapshotsRequest) (*wire.Turnover, error) {
	out, err := s.diffSnapshots(ctx, in.From, in.ID, in.After, in.Limit)
	return &out, err
}

// ListWaiversRequest is the request of [App.ListWaivers].
type ListWaiversRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
	All         bool   `query:"all" doc:"Those that ended or were withdrawn, too, those that end last first, page by page"`
	After       string `query:"after" maxLength:"16"`
	Limit       int    `query:"limit" default:"500" minimum:"1" maximum:"2000" doc:"How many at the most, with all; of those that count all are given"`
}

// ListWaivers lists the waivers of an application, soonest to end first.
func (s *App) ListWaivers(ctx context.Context, in *ListWaiversRequest) (*wire.Page[wire.Waiver], error) {
	var rows []store.Waiver
	var err error
	if in.All {
		rows, err = s.store.Waivers(ctx, in.Application, in.After, in.Limit)
	} else {
		rows, err = s.store.CountingWaivers(ctx, in.Application)
	}

	if err != nil {
		return nil, err
	}

	out := make([]wire.Waiver, len(rows))
	for i, w := range rows {
		out[i] = wireWaiver(w)
	}

	if !in.All {
		return whole(wire.Page[wire.Waiver]{Items: out}), nil
	}

	p, err := counted(ctx, in.After != "", page(out, in.Limit, func(w wire.Waiver) string { return w.ID }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountWaivers(ctx, in.Application)
		})
	return &p, err
}

// AddWaiver accepts findings until a date, with a reason.
func (s *App) AddWaiver(ctx context.Context, in *wire.NewWaiver) (*wire.Waiver, error) {
	if err := plainText("reason", in.Reason); err != nil {
		return nil, err
	}
	w, err := s.engine.Waive(ctx, *in, CallerOf(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "findings waived", in.Application,
		fmt.Sprintf("%s until %s: %s", w.Pattern, in.Ends.Format(time.DateOnly), in.Reason))
	w, err = s.store.Waiver(ctx, w.ID)
	return new(wireWaiver(w)), err
}

// WithdrawWaiver ends a waiver before its time.
func (s *App) WithdrawWaiver(ctx context.Context, in *ByID) (*wire.Waiver, error) {
	if err := s.store.WithdrawWaiver(ctx, in.ID, CallerOf(ctx).Name); err != nil {
		return nil, err
	}

	w, err := s.store.Waiver(ctx, in.ID)
	s.audit(ctx, "waiver withdrawn", w.Application, w.Pattern)
	return new(wireWaiver(w)), err
}

type current struct {
	Verdict wire.Verdict       `json:"verdict"`
	Hosts   []wire.HostVerdict `json:"hosts"`
	Reports []wire.Report      `json:"reports"`
	Groups  []wire.Group       `json:"groups"`
}

type file struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Holds       string `header:"Idletally-Holds" enum:"yes,no" doc:"yes where all is as declared or accepted: each host was looked at, lately, with success, and everything could be read"`
	Body        []byte
}

// GetDriftRequest is the request of [App.GetDrift].
type GetDriftRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
	Host        string `query:"host" maxLength:"64" doc:"Only this host"`
	Age         int64  `query:"age" minimum:"0" maximum:"315360000" doc:"How many seconds a look counts. 0: until two looks by schedule are missing, or 26 hours where none is scheduled"`
}

// GetDrift returns the newest reports of an application and their groups of findings.
func (s *App) GetDrift(ctx context.Context, in *GetDriftRequest) (*current, error) {
	d, err := s.currentDrift(ctx, in.Application, in.Host, seconds(in.Age))
	return &current{d.Verdict, d.Hosts, d.Reports, d.Groups}, err
}

// ListEqualRequest is the request of [App.ListEqual].
type ListEqualRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
}

// ListEqual returns the groups of findings of an application, equal ones of all hosts as one.
func (s *App) ListEqual(ctx context.Context, in *ListEqualRequest) (*wire.Page[wire.EqualGroup], error) {
	reports, err := s.store.CurrentReports(ctx)
	if err != nil {
		return nil, err
	}

	list, left, err := s.equalGroups(ctx, in.Application, reports)
	total := int64(len(list) + left)
	return &wire.Page[wire.EqualGroup]{Items: list, Total: &total}, err
}

// GetTrendRequest is the request of [App.GetTrend].
type GetTrendRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
	Host        string `query:"host" maxLength:"64" doc:"Only this host"`
	Days        int    `query:"days" default:"90" minimum:"1" maximum:"3660" doc:"How far back"`
}

// GetTrend returns how drift went, host by host.
func (s *App) GetTrend(ctx context.Context, in *GetTrendRequest) (*wire.Page[wire.Trend], error) {
	out := wire.Page[wire.Trend]{Items: []wire.Trend{}}
	err := s.eachHost(ctx, in.Application, in.Host, func(host string) error {
		rows, err := s.store.Trend(ctx, in.Application, host, time.Now().AddDate(0, 0, -in.Days), maxPoints)
		t := wire.Trend{Host: host, Points: []wire.TrendPoint{}}
		for _, r := range rows {
			t.Points = append(t.Points, wire.TrendPoint{
				At:       r.Created,
				Report:   r.ID,
				Edition:  r.Edition,
				Paths:    r.Paths,
				Findings: r.Findings - r.Waived,
				Waived:   r.Waived,
				Opens:    r.Opens,
				Closes:   r.Closes,
				Unread:   r.Unread,
				Fresh:    r.Fresh,
				Returned: r.Returned,
				Gone:     r.Gone,
			})
		}

		out.Items = append(out.Items, t)
		return err
	})

	return &out, err
}

// ListCausesRequest is the request of [App.ListCauses].
type ListCausesRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
	Host        string `query:"host" maxLength:"64" doc:"Only this host"`
	Days        int    `query:"days" default:"90" minimum:"1" maximum:"3660" doc:"How far back"`
	After       string `query:"after" maxLength:"100"`
	Limit       int    `query:"limit" default:"500" minimum:"1" maximum:"2000"`
}

// ListCauses returns where new paths keep coming out wrong, and the likely cause, host by host.
func (s *App) ListCauses(ctx context.Context, in *ListCausesRequest) (*wire.Page[wire.Cause], error) {
	from, skip := in.After, 0
	if i := strings.LastIndexByte(in.After, '/'); i >= 0 {
		var err error
		if skip, err = strconv.Atoi(in.After[i+1:]); err != nil || skip < 0 {
			return nil, fault.Invalid("after: want what an earlier page gave as next")
		}
		from = in.After[:i]
	}

	out := wire.Page[wire.Cause]{Items: []wire.Cause{}}
	err := s.eachHost(ctx, in.Application, in.Host, func(host string) error {
		if host < from || out.Next != "" {
			return nil
		}

		if host != from {
			skip = 0
		}

		most := in.Limit - len(out.Items)
		rows, err := s.store.Causes(ctx, in.Application, host, time.Now().AddDate(0, 0, -in.Days), skip, most+1)
		if len(rows) > most { // or there are more of it
			rows, out.Next = rows[:most], host+"/"+itoa(skip+most)
		}

		for _, c := range rows {
			out.Items = append(out.Items, wire.Cause{
				Host:      host,
				Folder:    pathname.Escape(string(c.Folder)),
				Kind:      perm.Kind(c.Kind).String(),
				Aspect:    c.Aspect,
				Again:     c.Again,
				Paths:     c.Paths,
				Times:     c.Times,
				FirstSeen: c.FirstSeen,
				LastSeen:  c.LastSeen,
				Example:   pathname.Escape(string(c.Example)),
				Declared:  c.Declared,
				Found:     c.Found,
				Why:       c.Why,
				Instead:   c.Instead,
			})
		}

		return err
	})

	return &out, err
}

// WriteReportRequest is the request of [App.WriteReport].
type WriteReportRequest struct {
	Application string `query:"application" required:"true" maxLength:"64"`
	Host        string `query:"host" maxLength:"64" doc:"Only this host"`
	Age         int64  `query:"age" minimum:"0" maximum:"315360000" doc:"How many seconds a look counts, as for get-drift"`
	Format      string `query:"format" default:"html" enum:"html,csv,junit,openmetrics"`
}

// WriteReport returns the newest reports of an application, written for others: a page in one file, CSV,
// JUnit XML or OpenMetrics.
func (s *App) WriteReport(ctx context.Context, in *WriteReportRequest) (*file, error) {
	f, err := report.Find(in.Format)
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	d, err := s.currentDrift(ctx, in.Application, in.Host, seconds(in.Age))
	if err != nil {
		return nil, err
	}

	b, err := f.Write(d)
	holds := "yes"
	if !d.Verdict.Holds {
		holds = "no"
	}

	return &file{f.Type, "attachment", holds, b}, err
}

// ListPlacesRequest is the request of [App.ListPlaces].
type ListPlacesRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Path string `query:"path" default:"/" maxLength:"131072"`
}

// ListPlaces returns where in the tree a report's findings are.
func (s *App) ListPlaces(ctx context.Context, in *ListPlacesRequest) (*wire.Spots, error) {
	out, err := s.places(ctx, in.ID, in.Path)
	return &out, err
}

// ListFindingsRequest is the request of [App.ListFindings].
type ListFindingsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	Group string `query:"group" maxLength:"12"`
	Under string `query:"under" maxLength:"131072" doc:"Only those of a folder and all below it; not with a group"`
	After int    `query:"after" minimum:"0"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"5000"`
}

// ListFindings lists a report's findings in the order of paths.
func (s *App) ListFindings(ctx context.Context, in *ListFindingsRequest) (*wire.Page[wire.Finding], error) {
	r, err := s.store.Report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	dir, err := s.store.ReportDirectory(ctx, r)
	if err != nil {
		return nil, err
	}
	folder, err := unescaped("under", in.Under)
	if err != nil {
		return nil, err
	}

	var rows []store.Finding
	switch {
	case folder != "" && in.Group != "":
		return nil, fault.Invalid("give a group or a folder, not both")
	case folder != "":
		rows, err = s.store.FindingsUnder(ctx, r, folder, in.After, in.Limit)
	default:
		rows, err = s.store.Findings(ctx, r, in.Group, in.After, in.Limit)
	}

	since := map[string]time.Time{}
	for _, f := range rows {
		if f.Since != nil {
			since[string(f.Path)] = *f.Since
		}
	}

	by, made := s.engine.By(ctx, r, since)
	if err = errors.Join(err, made); err != nil {
		return nil, err
	}

	out := make([]wire.Finding, len(rows))
	for i, f := range rows {
		out[i] = wire.Finding{
			Report:    in.ID,
			Seq:       f.Seq,
			Group:     f.Group,
			Path:      pathname.Escape(string(f.Path)),
			Kind:      f.Kind.String(),
			Aspect:    f.Aspect,
			FirstSeen: f.FirstSeen,
			Since:     f.Since,
			Unread:    f.Unread,
		}

		if f.Spells != nil {
			out[i].Spells = *f.Spells
		}

		if set, err := perm.ParseSet(string(f.FoundSet)); err == nil {
			v := perm.Describe(f.Kind, set, dir)
			out[i].Access = &v
		}

		if a, ok := by[string(f.Path)]; ok {
			out[i].By = &a
		}
	}

	p, err := counted(ctx, in.After > 0,
		page(out, in.Limit, func(f wire.Finding) string { return itoa(f.Seq) }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountFindings(ctx, r, in.Group, folder)
		})
	return &p, err
}

// ListUnreadRequest is the request of [App.ListUnread].
type ListUnreadRequest struct {
	ID    string `path:"id" maxLength:"16"`
	After int    `query:"after" minimum:"0"`
	Limit int    `query:"limit" default:"1000" minimum:"1" maximum:"5000"`
}

// ListUnread lists what a report could not judge, and why.
func (s *App) ListUnread(ctx context.Context, in *ListUnreadRequest) (*wire.Page[wire.Left], error) {
	r, err := s.store.Report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Unread(ctx, r.ID, in.After, in.Limit)
	if err != nil {
		return nil, err
	}

	out := wire.Page[wire.Left]{Items: []wire.Left{}, Total: &r.Unread}
	for _, u := range rows {
		out.Items = append(out.Items, wire.Left{Path: pathname.Escape(u.Path), Why: u.Why})
	}

	if len(rows) == in.Limit {
		out.Next = itoa(rows[len(rows)-1].Seq)
	}

	return &out, nil
}
