package report

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/verdict"
	"idletally/internal/wire"
)

func data() Data {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)
	waiver := &wire.Waiver{
		NewWaiver: wire.NewWaiver{Reason: "Moves soon <b>", Ends: at.AddDate(0, 1, 0)},
		Author:    "harbourmaster",
	}
	return judge(Data{Application: "ticketing", Title: "Ticket sales", Made: at, Rules: []string{"all", "keys", "site"},
		Reports: []wire.Report{
			{
				ID: "r1", Host: "slip-north", Created: at, Edition: 3, Paths: 10, Judged: 9, Findings: 4, Waived: 2,
				Unread: 1, Opens: 4,
			},
			{ID: "r2", Host: "slip-south", Created: at, Edition: 3, Paths: 10},
		},
		Groups: []wire.Group{
			{
				ID: "g1", Report: "r1", Host: "slip-north", Rule: "all", Severity: "serious", Kind: "file",
				Aspect: "mode", Declared: "0640", Found: "0777", Word: "opens", Meaning: "opens for everyone: read",
				Count: 4, Folder: "/srv/<i>", Example: `=cmd\x0a`,
			},
			{
				ID: "g2", Report: "r1", Host: "slip-north", Rule: "keys", Severity: "grave", Kind: "file",
				Aspect: "mode", Declared: "u+r", Found: "0644", Word: "opens", Count: 2, Folder: "/srv",
				Example: "/srv/k", Waiver: waiver,
			},
		}}, []string{"slip-north", "slip-south", "dinghy"},
		verdict.Look{At: at, Until: at.Add(time.Hour), Findings: 4, Unread: 1},
		verdict.Look{At: at, Until: at.Add(time.Hour)}, verdict.Look{})
}

// judge says of data what may be said of hosts that are known so.
func judge(d Data, hosts []string, looks ...verdict.Look) Data {
	d.Verdict, d.Hosts = wire.VerdictOf(verdict.Of(looks, d.Made)), nil
	for i, l := range looks {
		d.Hosts = append(d.Hosts, wire.HostVerdictOf(hosts[i], l, d.Made))
	}
	return d
}

// In no format does anything look well that is not known to be.
func TestNothingLooksWell(t *testing.T) {
	at := data().Made
	sound := verdict.Look{At: at.Add(-time.Hour), Until: at.Add(time.Hour), Edition: 3, Published: 3}
	mar := func(f func(*verdict.Look)) verdict.Look { l := sound; f(&l); return l }

	for state, looks := range map[verdict.State][]verdict.Look{
		verdict.Declared: {sound},
		verdict.Nowhere:  nil,
		verdict.Never:    {{Published: 3}},
		verdict.Failed:   {mar(func(l *verdict.Look) { l.Failed = "no room" })},
		verdict.Old:      {mar(func(l *verdict.Look) { l.Until = at })},
		verdict.Behind:   {mar(func(l *verdict.Look) { l.Edition = 2 })},
		verdict.Unread:   {mar(func(l *verdict.Look) { l.Unread = 2 })},
		verdict.Drifted:  {mar(func(l *verdict.Look) { l.Findings = 2 })},
	} {
		t.Run(fmt.Sprint(state), func(t *testing.T) {
			d := judge(data(), []string{"slip-south"}, looks...)
			d.Groups = nil
			d.Reports = nil
			if state != verdict.Never && state != verdict.Nowhere {
				d.Reports = []wire.Report{
					{
						ID: "r2", Host: "slip-south", Created: at, Edition: 3, Findings: looks[0].Findings,
						Unread: looks[0].Unread,
					},
				}
			}

			if state == verdict.Drifted {
				d.Groups = []wire.Group{
					{
						ID: "g1", Report: "r2", Host: "slip-south", Rule: "all", Severity: "serious", Kind: "file",
						Aspect: "mode", Declared: "0640", Found: "0777", Word: "opens", Count: 2, Folder: "/srv",
						Example: "/srv/k",
					},
				}
			}

			out := map[string]string{}
			for _, f := range Formats {
				b, err := f.Write(d)
				if err != nil {
					t.Fatal(err)
				}
				out[f.Name] = string(b)
			}

			well := state == verdict.Declared
			if says := strings.Contains(strings.ToLower(out["html"]), "as declared"); says != well ||
				!strings.Contains(out["html"], `class="verdict `+string(state)) {
				t.Errorf("%s: the page is\n%s", state, out["html"])
			}

			if rows := strings.Count(out["csv"], "\n") - 1; (rows == 0) != well {
				t.Errorf("%s: %d rows\n%s", state, rows, out["csv"])
			}

			var suites junitSuites
			if err := xml.Unmarshal([]byte(out["junit"]), &suites); err != nil || (suites.Failures == 0) != well ||
				suites.Tests == 0 {
				t.Errorf("%s, %v:\n%s", state, err, out["junit"])
			}

			if says := strings.Contains(out["openmetrics"], `state="declared"} 1`); says != well {
				t.Errorf("%s:\n%s", state, out["openmetrics"])
			}

			if state != verdict.Nowhere &&
				!strings.Contains(out["openmetrics"],
					`idletally_drift_state{application="ticketing",host="slip-south",state="`+string(state)+`"} 1`) {
				t.Errorf("%s:\n%s", state, out["openmetrics"])
			}
		})
	}
}

func write(t *testing.T, format string) string {
	t.Helper()
	f, err := Find(format)
	if err != nil {
		t.Fatal(err)
	}
	b, err := f.Write(data())
	if err != nil || len(b) == 0 {
		t.Fatalf("%s: %v", format, err)
	}
	return string(b)
}

func TestPage(t *testing.T) {
	p := write(t, "html")
	for _, want := range []string{
		"<title>Drift of ticketing</title>", "/srv/&lt;i&gt;/…", "▲ opens",
		"Accepted by harbourmaster until 2026-12-25", "Moves soon &lt;b&gt;", `aria-label="mode 0777"`,
		`id="slip-south"`, "<p>Never looked at.</p>", "<p>As declared.</p>",
		"1 of 3 hosts was never looked at; 1 has paths that could not be read; 1 has drifted; 1 is as declared.",
		"u&#43;r",
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(p, want) {
				t.Errorf("%q is not in the page", want)
			}
		})
	}

	for _, not := range []string{"http://", "https://", "<script", "<i>", "ZgotmplZ"} {
		t.Run(not, func(t *testing.T) {
			if strings.Contains(p, not) {
				t.Errorf("the page holds %q", not)
			}
		})
	}

	// 0777 beside 0640: the owner's execute, the group's write and execute, and all three of others.
	if n := strings.Count(p, `stroke="#7d4300"`); n != 6 {
		t.Errorf("%d cells are ringed, want 6", n)
	}
}

func TestTable(t *testing.T) {
	rows, err := csv.NewReader(strings.NewReader(write(t, "csv"))).ReadAll()
	if err != nil || len(rows) != 4 || rows[3][0] != "dinghy" || rows[3][19] != "never" ||
		rows[1][12] != `'=cmd\x0a` || rows[2][14] != "harbourmaster" || rows[1][16] != "2026-11-25T09:30:00Z" {
		t.Errorf("%q, %v", rows, err)
	}
}

func TestJUnit(t *testing.T) {
	var got junitSuites
	if err := xml.NewDecoder(bytes.NewReader([]byte(write(t, "junit")))).Decode(&got); err != nil {
		t.Fatal(err)
	}

	if got.Tests != 11 || got.Failures != 3 || len(got.Suites) != 3 || got.Suites[2].Cases[0].Failure == nil {
		t.Errorf("%+v", got)
	}

	s := got.Suites[0]
	if s.Tests != 5 || s.Failures != 2 || s.Skipped != 1 || s.Cases[0].Failure != nil ||
		s.Cases[1].Failure == nil || s.Cases[1].Failure.Type != "serious" || s.Cases[2].Skipped == nil ||
		s.Cases[3].Failure != nil || s.Cases[4].Failure == nil {
		t.Errorf("%+v", s)
	}

	if s := got.Suites[1]; s.Failures+s.Skipped != 0 {
		t.Errorf("%+v", s)
	}
}

func TestOpenMetrics(t *testing.T) {
	m := write(t, "openmetrics")
	for _, want := range []string{
		"# TYPE idletally_drift_findings gauge\n",
		`idletally_drift_findings{application="ticketing",host="slip-north",effect="opens",severity="serious"} 4` +
			"\n",
		`idletally_drift_findings{application="ticketing",host="slip-north",effect="opens",severity="grave"} 0` + "\n",
		`idletally_drift_waived{application="ticketing",host="slip-north"} 2` + "\n",
		"# UNIT idletally_drift_compared_timestamp_seconds seconds\n",
		"idletally_drift_compared_timestamp_seconds{application=\"ticketing\",host=\"slip-south\"} 1795599000\n",
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(m, want) {
				t.Errorf("%q is not in\n%s", want, m)
			}
		})
	}

	if !strings.HasSuffix(m, "# EOF\n") {
		t.Error("it does not end as OpenMetrics does")
	}

	if _, err := Find("pdf"); err == nil || !strings.Contains(err.Error(), "html, csv, junit, openmetrics") {
		t.Errorf("%v", err)
	}
}
