// Package report writes a drift report for others to read: a page in one file for people, a table
// for a spreadsheet, JUnit XML for pipelines, OpenMetrics for monitoring. It computes nothing.
package report

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"idletally/internal/core/mode"
	"idletally/internal/core/verdict"
	"idletally/internal/wire"
)

// Data is what a report is made of.
type Data struct {
	Application string
	Title       string
	Made        time.Time
	Rules       []string // of the published edition
	Verdict     wire.Verdict
	Hosts       []wire.HostVerdict
	Reports     []wire.Report
	Groups      []wire.Group
}

// of returns the report of a host; nil where it has none.
func (d Data) of(host string) *wire.Report {
	i := slices.IndexFunc(d.Reports, func(r wire.Report) bool { return r.Host == host })
	if i < 0 {
		return nil
	}
	return &d.Reports[i]
}

// A Format is a way to write a report.
type Format struct {
	Name  string
	Type  string // media type
	write func(Data) ([]byte, error)
}

// Formats lists them.
var Formats = []Format{
	{"html", "text/html; charset=utf-8", page},
	{"csv", "text/csv; charset=utf-8", table},
	{"junit", "application/xml; charset=utf-8", junit},
	{"openmetrics", "application/openmetrics-text; version=1.0.0; charset=utf-8", openMetrics},
}

// Names lists the names of the formats.
func Names() (out []string) {
	for _, f := range Formats {
		out = append(out, f.Name)
	}
	return out
}

// Find returns a format by its name.
func Find(name string) (Format, error) {
	i := slices.IndexFunc(Formats, func(f Format) bool { return f.Name == name })
	if i < 0 {
		return Format{}, fmt.Errorf("report format %q is unknown: want one of %s", name, strings.Join(Names(), ", "))
	}
	return Formats[i], nil
}

// Write writes a report.
func (f Format) Write(d Data) ([]byte, error) { return f.write(d) }

// Cell returns a cell of a table that programs read: control characters are escaped, and what a spreadsheet would
// take for a formula is quoted.
func Cell(text string) string {
	text = strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && unicode.IsControl(r) {
			return '�'
		}
		return r
	}, text)
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// table writes a line for each group, and one for each host that has none and is not as declared: a table without
// lines must not look like one in which all is well. What a spreadsheet would take for a formula is quoted.
func table(d Data) ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	rows := [][]string{
		{"host", "group", "rule", "severity", "kind", "aspect", "declared", "found", "effect", "meaning", "count",
			"folder", "example", "waived_until", "waived_by", "waived_reason", "looked_at", "edition", "as_last_read",
			"host_state", "host_says"},
	}
	add := func(row ...string) {
		for i, cell := range row {
			row[i] = Cell(cell)
		}
		rows = append(rows, row)
	}

	for _, h := range d.Hosts {
		looked := ""
		edition := ""
		none := true
		if h.Looked != nil {
			looked = h.Looked.UTC().Format(time.RFC3339)
		}

		if r := d.of(h.Host); r != nil {
			edition = strconv.Itoa(r.Edition)
		}

		for _, g := range d.Groups {
			if g.Host != h.Host {
				continue
			}

			none = false
			var until, who, why string
			if g.Waiver != nil {
				until = g.Waiver.Ends.UTC().Format(time.RFC3339)
				who = g.Waiver.Author
				why = g.Waiver.Reason
			}

			add(g.Host, g.ID, g.Rule, g.Severity, g.Kind, g.Aspect, g.Declared, g.Found, g.Word, g.Meaning,
				strconv.Itoa(g.Count), g.Folder, g.Example, until, who, why,
				looked, edition, strconv.Itoa(g.Unread), h.State, h.Says)
		}

		if none && h.State != string(verdict.Declared) {
			add(append(append([]string{h.Host}, make([]string, 15)...), looked, edition, "", h.State, h.Says)...)
		}
	}

	if len(d.Hosts) == 0 {
		add(append(make([]string, 19), d.Verdict.State, d.Verdict.Says)...)
	}

	err := w.WriteAll(rows)
	return b.Bytes(), err
}

// unknown are the states in which the knowledge about a host is out of date.
var unknown = []verdict.State{verdict.Never, verdict.Failed, verdict.Old, verdict.Behind}

type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	XMLName   xml.Name    `xml:"testsuite"`
	Name      string      `xml:"name,attr"`
	Timestamp string      `xml:"timestamp,attr"`
	Tests     int         `xml:"tests,attr"`
	Failures  int         `xml:"failures,attr"`
	Skipped   int         `xml:"skipped,attr"`
	Cases     []junitCase `xml:"testcase"`
}

type junitCase struct {
	XMLName xml.Name      `xml:"testcase"`
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitMessage `xml:"failure"`
	Skipped *junitMessage `xml:"skipped"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr,omitempty"`
	Text    string `xml:",chardata"`
}

// junit writes a case for each rule on each host: it fails where something is not as declared, and is skipped
// where all of that is accepted for a time. That the host was looked at, lately, with success, and that
// everything could be read, are cases too.
func junit(d Data) ([]byte, error) {
	out := junitSuites{Name: "drift of " + d.Application}
	if len(d.Hosts) == 0 {
		out.Tests, out.Failures = 1, 1
		out.Suites = append(out.Suites, junitSuite{
			Name:      d.Application,
			Timestamp: d.Made.UTC().Format("2006-01-02T15:04:05"),
			Tests:     1,
			Failures:  1,
			Cases: []junitCase{
				{
					Class: d.Application, Name: "it applies to a host",
					Failure: &junitMessage{Message: d.Verdict.Says, Type: d.Verdict.State},
				},
			},
		})
	}

	for _, h := range d.Hosts {
		s := junitSuite{Name: d.Application + " on " + h.Host, Timestamp: d.Made.UTC().Format("2006-01-02T15:04:05")}
		if h.Looked != nil {
			s.Timestamp = h.Looked.UTC().Format("2006-01-02T15:04:05")
		}

		add := func(name string, fails, waived []string, kind string) {
			c := junitCase{Class: d.Application + "." + h.Host, Name: name}
			switch {
			case len(fails) > 0:
				c.Failure = &junitMessage{
					Message: fails[0],
					Type:    kind,
					Text:    strings.Join(append(fails, waived...), "\n"),
				}
				s.Failures++
			case len(waived) > 0:
				c.Skipped = &junitMessage{Message: strings.Join(waived, "; ")}
				s.Skipped++
			}

			s.Tests++
			s.Cases = append(s.Cases, c)
		}

		var look []string
		if slices.ContainsFunc(h.States, func(s string) bool { return slices.Contains(unknown, verdict.State(s)) }) {
			look = append(look, h.Says)
		}

		add("it was looked at, lately, with success", look, nil, h.State)
		r := d.of(h.Host)
		rules := d.Rules
		if r == nil {
			r, rules = &wire.Report{}, nil // nothing is known of any
		}

		for _, rule := range rules {
			var fails, waived []string
			kind := ""
			for _, g := range d.Groups {
				if g.Report != r.ID || g.Rule != rule {
					continue
				}

				line := fmt.Sprintf("%d × %s %s: declared %s, found %s in %s, such as %s: %s", g.Count, g.Kind,
					g.Aspect, g.Declared, g.Found, g.Folder, g.Example, g.Meaning)
				if g.Unread > 0 {
					line += fmt.Sprintf(" (%d as last read: they cannot be read now)", g.Unread)
				}

				if g.Waiver != nil {
					waived = append(waived,
						fmt.Sprintf("%s (accepted by %s until %s: %s)", line, g.Waiver.Author,
							g.Waiver.Ends.Format(time.DateOnly), g.Waiver.Reason))
					continue
				}

				fails, kind = append(fails, line), g.Severity
			}

			add(rule, fails, waived, kind)
		}

		var unread []string
		if r.Unread > 0 {
			unread = append(unread, fmt.Sprintf("%d paths could not be judged", r.Unread))
		}

		if h.Looked != nil {
			add("everything could be read", unread, nil, "unread")
		}

		out.Tests, out.Failures = out.Tests+s.Tests, out.Failures+s.Failures
		out.Suites = append(out.Suites, s)
	}

	b, err := xml.MarshalIndent(out, "", "  ")
	return append([]byte(xml.Header), append(b, '\n')...), err
}

// openMetrics writes figures, after OpenMetrics 1.0.
func openMetrics(d Data) ([]byte, error) {
	var b strings.Builder
	label := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)
	sample := func(name, host, labels string, v float64) {
		fmt.Fprintf(&b, "%s{application=\"%s\",host=\"%s\"%s} %s\n", name, label.Replace(d.Application),
			label.Replace(host), labels, strconv.FormatFloat(v, 'f', -1, 64))
	}
	begin := func(name, unit, help string) {
		fmt.Fprintf(&b, "# TYPE %s gauge\n", name)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT %s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", name, help)
	}

	family := func(name, unit, help string, each func(r wire.Report, emit func(labels string, v float64))) {
		begin(name, unit, help)
		for _, r := range d.Reports {
			each(r, func(labels string, v float64) { sample(name, r.Host, labels, v) })
		}
	}

	begin("idletally_drift_hosts", "", "Hosts that the application applies to.")
	fmt.Fprintf(&b, "idletally_drift_hosts{application=\"%s\"} %d\n", label.Replace(d.Application), len(d.Hosts))
	begin("idletally_drift_state", "",
		"Whether a state holds of the application on a host: 1 where it does. Only declared says that all is well.")

	for _, h := range d.Hosts {
		for _, s := range verdict.States[1:] { // that it has a host is told by there being any
			v := 0.0
			if slices.Contains(h.States, string(s)) {
				v = 1
			}
			sample("idletally_drift_state", h.Host, fmt.Sprintf(",state=%q", s), v)
		}
	}

	times := func(name, help string, at func(wire.HostVerdict) *time.Time) {
		begin(name, "seconds", help)
		for _, h := range d.Hosts {
			if t := at(h); t != nil {
				sample(name, h.Host, "", float64(t.UnixMilli())/1000)
			}
		}
	}

	times("idletally_drift_looked_timestamp_seconds", "As of when the host is known, in Unix time.",
		func(h wire.HostVerdict) *time.Time { return h.Looked })
	times("idletally_drift_until_timestamp_seconds", "From when on that is too long ago, in Unix time.",
		func(h wire.HostVerdict) *time.Time { return h.Until })
	family("idletally_drift_findings", "", "Findings that count, by effect and severity.",
		func(r wire.Report, emit func(string, float64)) {
			counts := map[[2]string]int{}
			for _, g := range d.Groups {
				if g.Report == r.ID && g.Waiver == nil {
					counts[[2]string{g.Word, g.Severity}] += g.Count
				}
			}

			for _, word := range []string{"opens", "closes", "both", "neither"} {
				for _, severity := range []string{"minor", "serious", "grave"} {
					emit(fmt.Sprintf(",effect=%q,severity=%q", word, severity),
						float64(counts[[2]string{word, severity}]))
				}
			}
		})

	one := func(v func(wire.Report) float64) func(wire.Report, func(string, float64)) {
		return func(r wire.Report, emit func(string, float64)) { emit("", v(r)) }
	}
	family("idletally_drift_waived", "", "Findings accepted for a time.",
		one(func(r wire.Report) float64 { return float64(r.Waived) }))
	family("idletally_drift_paths", "", "Paths in the last snapshot.",
		one(func(r wire.Report) float64 { return float64(r.Paths) }))
	family("idletally_drift_judged", "", "Paths that a rule speaks of.",
		one(func(r wire.Report) float64 { return float64(r.Judged) }))
	family("idletally_drift_unread", "", "Paths that could not be judged.",
		one(func(r wire.Report) float64 { return float64(r.Unread) }))
	family("idletally_drift_edition", "", "Number of the edition that counts.",
		one(func(r wire.Report) float64 { return float64(r.Edition) }))
	family("idletally_drift_compared_timestamp_seconds", "seconds",
		"When the last snapshot was compared, in Unix time.",
		one(func(r wire.Report) float64 { return float64(r.Created.UnixMilli()) / 1000 }))
	b.WriteString("# EOF\n")
	return []byte(b.String()), nil
}

// cells are a mode's twelve bits as the tally grid shows them, special bits first.
func cells(octal string) []bool {
	m, err := mode.ParseOctal(octal)
	if err != nil {
		return nil
	}
	var out []bool
	for i := range 3 {
		out = append(out, m&(mode.SetUID>>i) != 0)
	}
	for row := range 3 {
		for class := range 3 {
			out = append(out, m&(0o400>>(3*class+row)) != 0)
		}
	}
	return out
}
