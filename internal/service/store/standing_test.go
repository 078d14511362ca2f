package store

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/testkit/seeded"
)

// keep stores a report of findings, all in one group.
func keep(t *testing.T, app, host string, paths, gaps []string) Report {
	t.Helper()
	w, err := st.NewReport(t.Context(), Report{
		Application: app,
		Edition:     1,
		Host:        host,
		Snapshot:    NewID(),
		Problems:    "[]",
	})

	must(t, err)
	g := drift.Group{
		ID:       "0123456789ab",
		Severity: baseline.Grave,
		Aspect:   perm.AspectMode,
		Kind:     perm.File,
		Count:    len(paths),
	}

	for _, p := range paths {
		must(t,
			w.Finding(t.Context(), drift.Finding{
				Path:     p,
				Kind:     perm.File,
				Aspect:   perm.AspectMode,
				FoundSet: posix.State{}.Set(),
				Group:    g.ID,
			}))
	}

	for _, p := range gaps {
		must(t, w.Unread(t.Context(), drift.Unread{Path: p, Why: "refused"}))
	}

	r, err := w.End(t.Context(), drift.Summary{Findings: len(paths)}, []drift.Group{g})
	must(t, err)
	time.Sleep(2 * time.Millisecond) // times are kept in milliseconds
	return r
}

// Findings keep their identity: random reports one after another are what an obvious book-keeping says.
func TestStanding(t *testing.T) {
	r := seeded.Rand(t)
	app, host := name("app"), name("host")
	type entry struct {
		first, since time.Time
		spells       int
		open         bool
	}
	book := map[string]*entry{}

	for round := range 12 {
		var paths, gaps []string
		for i := range 60 {
			if r.IntN(2) == 0 {
				paths = append(paths, fmt.Sprintf("/srv/%d/\xff%d", i%4, i))
			}
		}

		if r.IntN(2) == 0 {
			gaps = []string{fmt.Sprintf("/srv/%d", r.IntN(4))}
			paths = slices.DeleteFunc(paths, func(p string) bool { return strings.HasPrefix(p, gaps[0]) })
		}

		slices.Sort(paths)
		rep := keep(t, app, host, paths, gaps)
		var fresh, returned, gone int64

		for _, p := range paths {
			switch e := book[p]; {
			case e == nil:
				book[p] = &entry{rep.Created, rep.Created, 1, true}
				fresh++
			case !e.open:
				e.open = true
				e.since = rep.Created
				e.spells++
				returned++
			}
		}

		for p, e := range book {
			if e.open && !slices.Contains(paths, p) && (len(gaps) == 0 || !strings.HasPrefix(p, gaps[0])) {
				e.open = false
				gone++
			}
		}

		if rep.Fresh != fresh || rep.Returned != returned || rep.Gone != gone {
			t.Fatalf("round %d: fresh %d, returned %d, gone %d; want %d, %d, %d", round, rep.Fresh, rep.Returned,
				rep.Gone, fresh, returned, gone)
		}

		rows, err := st.Findings(t.Context(), rep, "", 0, 1000)
		must(t, err)
		oldest := rep.Created

		for _, f := range rows {
			e := book[string(f.Path)]
			if f.FirstSeen == nil || !f.FirstSeen.Equal(e.first) || !f.Since.Equal(e.since) || *f.Spells != e.spells {
				t.Fatalf("round %d: %q %+v, want %+v", round, f.Path, f, e)
			}
			if e.since.Before(oldest) {
				oldest = e.since
			}
		}

		gs, err := st.Groups(t.Context(), rep.ID, 10)
		must(t, err)
		if len(rows) > 0 && (gs[0].Since == nil || !gs[0].Since.Equal(oldest) || int64(gs[0].Fresh) != fresh) {
			t.Errorf("round %d: group %+v, oldest %s, fresh %d", round, gs[0].Age, oldest, fresh)
		}

		back, err := st.Returned(t.Context(), rep, 1000)
		if err != nil || int64(len(back)) != returned {
			t.Errorf("round %d: %d came back, want %d, %v", round, len(back), returned, err)
		}
	}

	trend, err := st.Trend(t.Context(), app, host, time.Now().Add(-time.Hour), 5)
	if err != nil || len(trend) != 5 ||
		!slices.IsSortedFunc(trend, func(a, b Report) int { return cmp.Compare(a.ID, b.ID) }) {
		t.Errorf("%d points, %v", len(trend), err)
	}

	if last, err := st.CurrentReport(t.Context(), app, host); err != nil || trend[4].ID != last.ID {
		t.Errorf("the trend ends with %s, %v", trend[4].ID, err)
	}

	if all, err := st.Trend(t.Context(), app, host, time.Now().Add(-time.Hour), 100); err != nil || len(all) != 12 {
		t.Errorf("%d points, %v", len(all), err)
	}
}

// Many at once come and go in several statements.
func TestStandingMany(t *testing.T) {
	app, host := name("app"), name("host")
	var paths []string
	for i := range 2*atOnce + 7 {
		paths = append(paths, fmt.Sprintf("/srv/%05d", i))
	}

	for _, c := range []struct {
		paths                 []string
		fresh, returned, gone int
	}{
		{paths, len(paths), 0, 0},
		{paths, 0, 0, 0},
		{paths[:3], 0, 0, len(paths) - 3},
		{paths, 0, len(paths) - 3, 0},
		{nil, 0, 0, len(paths)},
	} {
		t.Run(fmt.Sprint(c.paths), func(t *testing.T) {
			r := keep(t, app, host, c.paths, nil)
			if int(r.Fresh) != c.fresh || int(r.Returned) != c.returned || int(r.Gone) != c.gone {
				t.Errorf("fresh %d, returned %d, gone %d; want %+v", r.Fresh, r.Returned, r.Gone, []int{
					c.fresh, c.returned, c.gone,
				})
			}
		})
	}
}

func TestCauses(t *testing.T) {
	ctx := t.Context()
	app, host := name("app"), name("host")
	at := time.Now().UTC().Truncate(time.Millisecond)
	c := Cause{
		Folder:   []byte("/srv/\xff"),
		Kind:     1,
		Aspect:   "mode",
		Paths:    3,
		Example:  []byte("/srv/\xff/a"),
		Declared: "0640",
		Found:    "0644",
		Why:      "umask",
		Instead:  "0027",
	}

	other := c
	other.Aspect = "group"
	must(t, st.NoteCauses(ctx, app, host, at, []Cause{c, other}, nil))
	c.Paths, c.Found = 2, "0664"
	must(t, st.NoteCauses(ctx, app, host, at.Add(time.Hour), []Cause{c}, nil))
	got, err := st.Causes(ctx, app, host, at, 0, 100)
	if err != nil || len(got) != 2 || got[0].Paths != 5 || got[0].Times != 2 || got[0].Found != "0664" ||
		!got[0].FirstSeen.Equal(at) || !got[0].LastSeen.Equal(at.Add(time.Hour)) || got[1].Times != 1 {
		t.Errorf("%+v, %v", got, err)
	}

	if second, err := st.Causes(ctx, app, host, at, 1, 1); err != nil || len(second) != 1 ||
		second[0].Aspect != got[1].Aspect {
		t.Errorf("the second one: %+v, %v", second, err)
	}

	must(t, st.NoteCauses(ctx, app, host, at, nil, []Cause{c}))
	if got, err := st.Causes(ctx, app, host, at, 0, 100); err != nil || len(got) != 1 || got[0].Aspect != "group" {
		t.Errorf("%+v, %v", got, err)
	}

	if got, err := st.Causes(ctx, app, host, at.Add(time.Minute), 0, 100); err != nil || len(got) != 0 {
		t.Errorf("%+v, %v", got, err)
	}
}

// Folders count what is in them and below; what is missing stands behind the rest and is found all the same.
func TestPlaces(t *testing.T) {
	ctx := t.Context()
	w, err := st.NewReport(ctx, Report{
		Application: name("app"),
		Edition:     1,
		Host:        name("host"),
		Snapshot:    NewID(),
		Problems:    "[]",
	})

	must(t, err)
	set := posix.State{}.Set()
	opens := perm.Effect{Opens: []perm.Gain{{}}}

	for _, f := range []drift.Finding{
		{Path: "/srv", Kind: perm.Folder, FoundSet: set},
		{Path: "/srv/a/\xff", Kind: perm.Folder, FoundSet: set, Effect: opens},
		{Path: "/srv/a/\xff/1", Kind: perm.File, FoundSet: set, Effect: opens},
		{Path: "/srv/a/\xff/2", Kind: perm.File, FoundSet: set, Waiver: "w"},
		{Path: "/srv/b/1", Kind: perm.File, FoundSet: set},
		{Path: "/srv/a/gone", Kind: perm.File, Aspect: perm.AspectPresence},
		{Path: "/srv/b/gone", Kind: perm.File, Aspect: perm.AspectPresence},
	} {
		f.Group = "0123456789ab"
		must(t, w.Finding(t.Context(), f))
	}

	r, err := w.End(t.Context(), drift.Summary{}, nil)
	must(t, err)
	p, err := st.Place(ctx, r.ID, "/srv/a")
	if err != nil || p.Tally != (drift.Tally{Findings: 3, Opens: 2, Waived: 1}) ||
		p.Here != (drift.Tally{Findings: 1}) {
		t.Errorf("%+v, %v", p, err)
	}

	in, err := st.PlacesIn(ctx, r.ID, "/srv", 10)
	if err != nil || len(in) != 2 || in[0].Path != "/srv/a" || in[1].Path != "/srv/b" || in[1].Findings != 2 {
		t.Errorf("%+v, %v", in, err)
	}

	if in, err := st.PlacesIn(ctx, r.ID, "/", 10); err != nil || len(in) != 1 {
		t.Errorf("%+v, %v", in, err)
	}

	for folder, want := range map[string]string{
		"/srv":   "/srv /srv/a/\xff /srv/a/\xff/1 /srv/a/\xff/2 /srv/b/1 /srv/a/gone /srv/b/gone",
		"/srv/a": "/srv/a/\xff /srv/a/\xff/1 /srv/a/\xff/2 /srv/a/gone",
		"/srv/b": "/srv/b/1 /srv/b/gone",
		"/srv/c": "",
	} {
		t.Run(folder, func(t *testing.T) {
			for _, limit := range []int{1, 2, 100} {
				var got []string
				for after := 0; ; {
					page, err := st.FindingsUnder(ctx, r, folder, after, limit)
					must(t, err)
					for _, f := range page {
						after = f.Seq
						got = append(got, string(f.Path))
					}

					if len(page) < limit {
						break
					}
				}
				if strings.Join(got, " ") != want {
					t.Errorf("under %s, %d at once: %q", folder, limit, got)
				}
			}
		})
	}
}
