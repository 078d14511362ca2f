package metrics

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	dto "github.com/prometheus/client_model/go"

	"idletally/internal/service/app"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// series are the values of what was counted, by name and labels.
func series(t *testing.T, c counts) map[string]float64 {
	t.Helper()
	out := map[string]float64{}
	for _, m := range c {
		var d dto.Metric
		if err := m.Write(&d); err != nil {
			t.Fatal(err)
		}

		name := m.Desc().String()
		name = name[strings.Index(name, `"`)+1:]
		name = name[:strings.Index(name, `"`)]
		for _, l := range d.Label {
			name += " " + l.GetValue()
		}

		if _, twice := out[name]; twice {
			t.Errorf("%s is told twice", name)
		}

		out[name] = d.GetGauge().GetValue()
	}

	return out
}

// Each figure is counted from what there is, one by one, and however many versions agents make up few have a series.
func TestFigures(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	lately := now.Add(-time.Minute)
	long := now.Add(-time.Hour)
	yes := true
	hosts := []store.Host{
		{Name: "a"}, {Name: "b", Certificate: "1", Version: "2.0", LastSeen: &lately, Watching: &yes},
		{Name: "c", Certificate: "1", Version: "2.0", LastSeen: &long},
		{Name: "d", Certificate: "1", Version: "1.9", Carried: true}, {Name: "e", Certificate: "1", Version: "2.0"},
	}
	var c counts
	c.hosts(hosts, now)
	got := series(t, c)

	for name, want := range map[string]float64{
		"idletally_hosts invited":  1,
		"idletally_hosts calling":  1,
		"idletally_hosts silent":   2,
		"idletally_hosts carried":  1,
		"idletally_hosts_watching": 1,
		"idletally_agents 2.0":     3,
		"idletally_agents 1.9":     1,
	} {
		t.Run(name, func(t *testing.T) {
			if got[name] != want {
				t.Errorf("%s is %g, want %g: %v", name, got[name], want, got)
			}
		})
	}

	for i := range 500 {
		hosts = append(hosts, store.Host{Name: fmt.Sprint(i), Certificate: "1", Version: fmt.Sprint("made up ", i)})
	}

	c = nil
	c.hosts(hosts, now)
	if got := series(t, c); len(got) > mostVersion+10 || got["idletally_agents other"] < 400 ||
		got["idletally_agents 2.0"] != 3 {
		t.Errorf("%d series: %v", len(got), got)
	}

	c = nil
	c.applications([]wire.Standing{
		{Name: "draft"},
		{
			Name: "boats", Published: 1, Hosts: 3, Findings: 9, Grave: 2, Opens: 5, Oldest: &long,
			Verdict: wire.Verdict{In: map[string]int{"old": 1, "drifted": 2, "declared": 1}},
		},
		{Name: "cars", Published: 1, Hosts: 1, Oldest: &long, Verdict: wire.Verdict{In: map[string]int{"never": 1}}},
		{Name: "none", Published: 1},
	})

	got = series(t, c)
	for name, want := range map[string]float64{
		"idletally_application_hosts boats old":                     1,
		"idletally_application_hosts boats drifted":                 2,
		"idletally_application_hosts boats never":                   0,
		"idletally_application_hosts boats declared":                1,
		"idletally_application_findings boats grave":                2,
		"idletally_application_findings boats other":                7,
		"idletally_application_opening_findings boats":              5,
		"idletally_application_oldest_look_timestamp_seconds boats": float64(long.Unix()),
		"idletally_application_hosts cars never":                    1,
		"idletally_application_hosts none nowhere":                  1,
	} {
		t.Run(name, func(t *testing.T) {
			if v, ok := got[name]; !ok || v != want {
				t.Errorf("%s is %g, want %g: %v", name, v, want, got)
			}
		})
	}

	for _, not := range []string{
		"idletally_application_hosts draft never", "idletally_application_hosts boats nowhere",
		"idletally_application_oldest_look_timestamp_seconds cars",
	} {
		t.Run(not, func(t *testing.T) {
			if _, ok := got[not]; ok {
				t.Errorf("%s is told", not)
			}
		})
	}
}

// docs/metrics.md says what there is, by the conventions of names.
func TestReferenceOfMetrics(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Metrics of the service\n\nAt `/metrics`, as OpenMetrics 1.0 to whoever asks for that, and " +
		"otherwise in the text format of before; `process_…` and `go_…` of the process come with them.\n" +
		"What is not said to be of one instance is told alike by each. Figures are counted every fifteen seconds at " +
		"the most. Drift host by host is told by\n`idletally drift report --format openmetrics`.\n\n| name | kind | " +
		"labels | is | look at it when |\n| --- | --- | --- | --- | --- |\n")
	for _, f := range OwnFigures {
		labels := ""
		if len(f.Labels) > 0 {
			labels = "`" + strings.Join(f.Labels, "`, `") + "`"
		}

		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", f.Name, f.Kind, labels, f.Is, f.When)
		if strings.HasSuffix(f.Name, "_total") != (f.Kind == "counter") || !strings.HasPrefix(f.Name, "idletally_") ||
			f.Is == "" || f.When == "" || strings.Contains(f.Name, "milli") {
			t.Errorf("%+v", f)
		}
	}

	const file = "../../../docs/metrics.md"
	if os.Getenv("IDLETALLY_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	if got, err := os.ReadFile(file); err != nil || string(got) != b.String() {
		t.Errorf(
			"%s is not what the program says, %v: write it by IDLETALLY_WRITE_DOCS=1 go test "+
				"./internal/service/metrics -run TestReference",
			file, err)
	}

	// What is served stands there.
	all, err := New(nothing, wire.Build{}, slog.New(slog.DiscardHandler)).registry.Gather()
	if err != nil {
		t.Fatal(err)
	}

	for _, f := range all {
		name := f.GetName()
		if strings.HasPrefix(name, "idletally_") &&
			!slices.ContainsFunc(OwnFigures, func(o Figure) bool { return o.Name == name }) {
			t.Errorf("%s stands in no document", name)
		}
	}
}

// Nobody waits for who counts: they are told the last figures, or that there are none yet.
func TestFiguresAreNotWaitedFor(t *testing.T) {
	f := newFleet(nothing, wire.Build{}, slog.New(slog.DiscardHandler))
	counting, enough := make(chan bool), make(chan bool)
	f.count = func(c *counts) error {
		counting <- true
		<-enough
		c.add("idletally_hosts_watching", 7)
		c.add("idletally_figures_complete", 1)
		return nil
	}

	ask := func() map[string]float64 {
		to := make(chan prometheus.Metric, 100)
		f.Collect(to)
		close(to)
		var c counts
		for m := range to {
			c = append(c, m)
		}

		return series(t, c)
	}

	for round, want := range []float64{0, 1} { // figures_complete meanwhile
		first := make(chan map[string]float64)
		go func() { first <- ask() }()
		<-counting
		if got := ask(); got["idletally_figures_complete"] != want || got["idletally_hosts_watching"] != 7*want ||
			len(got) < 2 {
			t.Errorf("round %d, while somebody counts: %v", round, got)
		}

		enough <- true
		if got := <-first; got["idletally_hosts_watching"] != 7 || got["idletally_figures_complete"] != 1 {
			t.Errorf("round %d: %v", round, got)
		}

		f.at = time.Time{} // long ago
	}
}

// nothing can be counted.
func nothing(context.Context, time.Time) (*app.Figures, error) { return nil, nil }
