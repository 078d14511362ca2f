package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"idletally/internal/cli"
)

// rule is an alert as the file has it.
type rule struct {
	Alert       string            `yaml:"alert"`
	Expr        string            `yaml:"expr"`
	Labels      map[string]string `yaml:"labels"`
	Annotations map[string]string `yaml:"annotations"`
}

func alerts(t *testing.T) (out []rule) {
	t.Helper()
	var file struct {
		Groups []struct {
			Rules []rule `yaml:"rules"`
		} `yaml:"groups"`
	}
	b, err := os.ReadFile("monitoring/alerts.yaml")
	if err == nil {
		err = yaml.Unmarshal(b, &file)
	}

	if err != nil {
		t.Fatal(err)
	}

	for _, g := range file.Groups {
		out = append(out, g.Rules...)
	}

	return out
}

// Each alert fires where it should, and not where it should not, as Prometheus itself evaluates it.
func TestAlerts(t *testing.T) {
	const day = 24 * 60 // minutes, which is how often figures come
	type series map[string]string
	still := func(name string, value int) series { return series{name: fmt.Sprintf("%d+0x%d", value, 4*day)} }
	from := func(name string, before, after int) series {
		return series{name: fmt.Sprintf("%d+0x%d %d+0x%d", before, day, after, 3*day)}
	}
	both := func(a, b series) series {
		out := series{}
		for _, s := range []series{a, b} {
			for name, values := range s {
				out[name] = values
			}
		}
		return out
	}

	rising := func(name string, each int) series { return series{name: fmt.Sprintf("0+%dx%d", each, 4*day)} }
	slow := func(fast int) series { // of 60 calls a minute so many take up to 0.25 s
		return both(rising(`idletally_request_seconds_bucket{route="/api/v1/hosts",le="0.25"}`, fast),
			both(rising(`idletally_request_seconds_bucket{route="/api/v1/hosts",le="1"}`, 60),
				rising(`idletally_request_seconds_bucket{route="/api/v1/hosts",le="+Inf"}`, 60)))
	}
	for _, c := range []struct {
		alert       string
		fires, not  series
		after, also int // minutes until it fires, and before which it does not
	}{
		{"NotAnswering", still(`up{job="idletally"}`, 0), still(`up{job="idletally"}`, 1), 3, 1},
		{"FiguresMissing", still(`idletally_figures_complete`, 0), still(`idletally_figures_complete`, 1), 6, 4},
		{"CallsSlow", slow(50), slow(59), 30, 10},
		{"CallsFail", rising(`idletally_request_seconds_count{status="500"}`, 30),
			rising(`idletally_request_seconds_count{status="404"}`, 30), 20, 5},
		{"AgentsAway", both(still(`idletally_agents_waiting`, 50), still(`idletally_hosts{state="calling"}`, 100)),
			both(still(`idletally_agents_waiting`, 95), still(`idletally_hosts{state="calling"}`, 100)), 11, 9},
		{"NodesGrow", rising(`idletally_nodes_received_total`, 200_000),
			rising(`idletally_nodes_received_total`, 60_000), 70, 20},
		{"HostsSilent", still(`idletally_hosts{state="silent"}`, 1), still(`idletally_hosts{state="silent"}`, 0), 11,
			9},
		{"WatchingFalls", from(`idletally_hosts_watching`, 9, 8), still(`idletally_hosts_watching`, 9), day + 50,
			day + 10},
		{"VersionsDiffer", both(still(`idletally_agents{version="1"}`, 1), still(`idletally_agents{version="2"}`, 1)),
			both(still(`idletally_agents{version="1"}`, 1), still(`idletally_agents{version="2"}`, 0)), day + 20,
			day - 20},
		{"NotKnown", still(`idletally_application_hosts{application="ticketing",state="old"}`, 1),
			still(`idletally_application_hosts{application="ticketing",state="drifted"}`, 1), 121, 119},
		{"LookOld", still(`idletally_application_oldest_look_timestamp_seconds{application="ticketing"}`, 0),
			rising(`idletally_application_oldest_look_timestamp_seconds{application="ticketing"}`, 60), 3 * day,
			2 * day},
		{"GraveFindings", still(`idletally_application_findings{application="ticketing",severity="grave"}`, 1),
			still(`idletally_application_findings{application="ticketing",severity="other"}`, 1), 6, 4},
		{"OpensMore", from(`idletally_application_opening_findings{application="ticketing"}`, 1, 2),
			still(`idletally_application_opening_findings{application="ticketing"}`, 2), day + 90, day + 30},
		{"PlansWait", still(`idletally_plans{state="in review"}`, 1), still(`idletally_plans{state="draft"}`, 1),
			2*day + 20, 2*day - 20},
		{"RunHalted", still(`idletally_runs{state="halted"}`, 1), still(`idletally_runs{state="running"}`, 1), 11, 9},
		{"NoticesWait", still(`idletally_notices_waiting`, 101), still(`idletally_notices_waiting`, 99), 31, 29},
		{"HooksFail", still(`idletally_hooks_failing`, 1), still(`idletally_hooks_failing`, 0), 31, 29},
		{"ComparisonsWait", still(`idletally_comparisons_waiting`, 21), still(`idletally_comparisons_waiting`, 20), 16,
			14},
		{"ScheduleOverdue", still(`idletally_schedules_overdue_seconds`, 90),
			still(`idletally_schedules_overdue_seconds`, 30), 11, 9},
		{"DatabaseFull",
			both(still(`idletally_database_connections{instance="a",state="in_use"}`, 9),
				still(`idletally_database_connections{instance="a",state="max"}`, 9)),
			both(still(`idletally_database_connections{instance="a",state="in_use"}`, 8),
				still(`idletally_database_connections{instance="a",state="max"}`, 9)),
			6, 4},
		{"CertificateEnds", still(`idletally_certificate_end_timestamp_seconds{certificate="authority"}`, 50*86400),
			still(`idletally_certificate_end_timestamp_seconds{certificate="authority"}`, 400*86400), 61, 59},
	} {
		t.Run(c.alert, func(t *testing.T) {
			t.Parallel()
			every := "1m"
			if c.after >= day { // nobody waits for the minute
				every = "10m"
			}

			file := map[string]any{
				"rule_files":          []string{absolute(t, "monitoring/alerts.yaml")},
				"evaluation_interval": every,
			}
			var tests []any
			for at, s := range map[int]series{c.after: c.fires, c.also: c.fires, -c.after: c.not} {
				var input []any
				for name, values := range s {
					input = append(input, map[string]string{"series": name, "values": values})
				}

				want := 0
				if at == c.after {
					want = 1
				}

				tests = append(tests, map[string]any{
					"interval":     "1m",
					"input_series": input,
					"promql_expr_test": []any{map[string]any{
						"expr": `count(ALERTS{alertname="Idletally` + c.alert +
							`",alertstate="firing"}) or vector(0)`,
						"eval_time":   fmt.Sprintf("%dm", max(at, -at)),
						"exp_samples": []any{map[string]any{"labels": "{}", "value": want}}}},
				})
			}

			file["tests"] = tests
			b, err := yaml.Marshal(file)
			if err != nil {
				t.Fatal(err)
			}

			path := filepath.Join(t.TempDir(), "test.yaml")
			if err := os.WriteFile(path, b, 0o600); err != nil {
				t.Fatal(err)
			}

			if out, err := exec.Command("promtool", "test", "rules", path).CombinedOutput(); err != nil {
				t.Errorf("%v: %s", err, out)
			}
		})
		told[c.alert] = true
	}

	for _, r := range alerts(t) {
		name := strings.TrimPrefix(r.Alert, "Idletally")
		if !told[name] {
			t.Errorf("nobody tried %s", r.Alert)
		}

		if r.Labels["severity"] == "" || r.Annotations["summary"] == "" || r.Annotations["do"] == "" {
			t.Errorf("%s: %+v", r.Alert, r)
		}

		for _, m := range regexp.MustCompile(`idletally ([a-z-]+)( [a-z-]+)?`).FindAllStringSubmatch(
			r.Annotations["do"], -1) {
			if found, left, err := cli.Root().Find(strings.Fields(m[0])[1:]); err != nil ||
				len(left) > 0 && found.HasSubCommands() {
				t.Errorf("%s: there is no command %s", r.Alert, m[0])
			}
		}
	}
}

var told = map[string]bool{}

func absolute(t *testing.T, path string) string {
	t.Helper()
	out, err := filepath.Abs(path)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

var figure = regexp.MustCompile(`idletally_[a-z_]+`)

// The dashboard shows every figure of the service, and nothing that the service does not tell; what one is to
// look at by docs/metrics.md has an alert.
func TestDashboard(t *testing.T) {
	b, err := os.ReadFile("../docs/metrics.md")
	if err != nil {
		t.Fatal(err)
	}

	documented := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `(idletally_[a-z_]+)`").FindAllStringSubmatch(string(b), -1) {
		documented[m[1]] = true
	}

	if len(documented) < 20 {
		t.Fatalf("%v", documented)
	}

	shown, alerted := map[string]bool{}, map[string]bool{}
	note := func(where string, exprs string, into map[string]bool) {
		for _, name := range figure.FindAllString(exprs, -1) {
			name = strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_count")
			if !documented[name] {
				t.Errorf("%s: %s is no figure of the service", where, name)
			}
			into[name] = true
		}
	}

	for _, p := range panels(t) {
		for _, q := range p.Targets {
			note(p.Title, q.Expr, shown)
		}
	}

	for _, r := range alerts(t) {
		note(r.Alert, r.Expr, alerted)
	}

	for name := range documented {
		if !shown[name] {
			t.Errorf("%s is on no panel", name)
		}
		if !alerted[name] {
			t.Errorf("%s has no alert", name)
		}
	}
}

// panel is one of the dashboard.
type panel struct {
	Title   string                   `json:"title"`
	GridPos struct{ X, Y, W, H int } `json:"gridPos"`
	Targets []struct {
		Expr string `json:"expr"`
	} `json:"targets"`
}

func panels(t *testing.T) []panel {
	t.Helper()
	var board struct {
		Panels []panel `json:"panels"`
	}
	b, err := os.ReadFile("monitoring/dashboard.json")
	if err == nil {
		err = json.Unmarshal(b, &board)
	}

	if err != nil {
		t.Fatal(err)
	}

	taken := map[[2]int]string{}
	for _, p := range board.Panels {
		for x := p.GridPos.X; x < p.GridPos.X+p.GridPos.W; x++ {
			for y := p.GridPos.Y; y < p.GridPos.Y+p.GridPos.H; y++ {
				if at := [2]int{x, y}; taken[at] != "" || x >= 24 {
					t.Errorf("%s lies over %s", p.Title, taken[at])
				} else {
					taken[at] = p.Title
				}
			}
		}
	}

	return board.Panels
}
