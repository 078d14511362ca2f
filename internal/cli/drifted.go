package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/core/verdict"
	"idletally/internal/wire"
)

// maxAge is a flag for how long a look counts; it takes days, too.
type maxAge struct{ time.Duration }

func (m *maxAge) Type() string { return "DURATION" }

func (m *maxAge) String() string {
	if m.Duration == 0 {
		return ""
	}
	return m.Duration.String()
}

func (m *maxAge) Set(text string) error {
	d, err := time.ParseDuration(text)
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n int
		n, err = strconv.Atoi(days)
		d = time.Duration(min(n, 10_000)) * 24 * time.Hour
	}
	if err != nil || d < time.Second || d > 10*365*24*time.Hour {
		return fmt.Errorf("%q is no age: want at least a second and at most ten years, such as 90m, 26h or 7d", text)
	}
	m.Duration = d
	return nil
}

// mostHosts is how many hosts are listed when all are meant; of more, those that are as declared are left out, and
// counted.
const mostHosts = 20

// showDrift shows what may be said of an application, then host by host, then what was found, equal findings
// as one line.
func showDrift(o *options, c *cobra.Command, application string, d client.Drift) error {
	if o.output != "table" {
		return o.show(c, driftLines(d))
	}
	printf(c, "%s: %s.", application, d.Verdict.Says)
	if len(d.Hosts) == 0 {
		return nil
	}
	printf(c, "")
	if err := hostLines(o, c, d); err != nil {
		return err
	}

	waived := sum(d.Reports, func(r wire.Report) int64 { return r.Waived })
	if waived > 0 && !slices.ContainsFunc(d.Groups, func(g wire.Group) bool { return g.Waiver != nil }) {
		printf(c, "%d findings more are waived: --waived shows them, idletally waiver list says why.", waived)
	}

	if len(d.Groups) == 0 {
		return nil
	}

	printf(c, "")
	return o.show(c, equalLines(d.Groups))
}

func sum(reports []wire.Report, of func(wire.Report) int64) (n int64) {
	for _, r := range reports {
		n += of(r)
	}
	return n
}

// hostLines shows how each host stands, and what its report says of the baseline.
func hostLines(o *options, c *cobra.Command, d client.Drift) error {
	reports := map[string]wire.Report{}
	for _, r := range d.Reports {
		reports[r.Host] = r
	}

	t := table{
		head: []string{
			"HOST", "LOOKED AT", "PATHS", "JUDGED", "FINDINGS", "OPEN", "CLOSE", "UNREAD", "EDITION", "STATE",
		},
	}
	left := 0
	for _, h := range d.Hosts {
		if h.State == string(verdict.Declared) && len(d.Hosts) > mostHosts {
			left++
			continue
		}

		r, ok := reports[h.Host]
		if !ok {
			t.add(h.Host, "never", "", "", "", "", "", "", "", h.Says)
			continue
		}

		t.add(h.Host, h.Looked, num(r.Paths), num(r.Judged), num(r.Findings), num(r.Opens), num(r.Closes),
			num(r.Unread), strconv.Itoa(r.Edition), h.Says)
	}

	if len(t.rows) > 0 {
		if err := o.show(c, t); err != nil {
			return err
		}
	}

	if left > 0 {
		printf(c, "%d hosts more are as declared: --host shows one.", left)
	}

	for _, r := range d.Reports {
		if r.MoreGroups > 0 {
			printf(c, "On %s there are %d groups more, of less weight: idletally drift findings lists all paths.",
				r.Host,
				r.MoreGroups)
		}
	}

	said := map[string]bool{}
	for _, r := range d.Reports {
		for _, p := range r.Problems {
			if !said[p.Message] {
				printf(c, "On %s: %s", r.Host, p.Message)
			}
			said[p.Message] = true
		}
	}

	return nil
}

// driftLines is for programs: each group on each host, and each host without one that is not as declared.
func driftLines(d client.Drift) table {
	t := table{
		head: []string{
			"GROUP", "HOST", "COUNT", "EFFECT", "RULE", "KIND", "ASPECT", "DECLARED", "FOUND", "WHERE", "WAIVED",
			"UNREAD", "HOST STATE", "LOOKED AT",
		},
		value: d,
	}

	for _, h := range d.Hosts {
		none := true
		for _, g := range d.Groups {
			if g.Host == h.Host {
				none = false
				t.add(g.ID, g.Host, strconv.Itoa(g.Count), g.Word, g.Rule, g.Kind, g.Aspect, g.Declared, g.Found,
					place(g.Count, g.Folder, g.Example), strconv.FormatBool(g.Waiver != nil), strconv.Itoa(g.Unread),
					h.State, h.Looked)
			}
		}
		if none && h.State != string(verdict.Declared) {
			t.add("", h.Host, "", "", "", "", "", "", "", "", "", "", h.State, h.Looked)
		}
	}

	if len(d.Hosts) == 0 {
		t.add("", "", "", "", "", "", "", "", "", "", "", "", d.Verdict.State, "")
	}

	return t
}

// an equal is a group of findings that is the same on some hosts.
type equal struct {
	wire.Group
	hosts  []string
	folder pathname.Path
}

// equalLines shows equal groups of all hosts as one line.
func equalLines(groups []wire.Group) table {
	var all []*equal
	at := map[string]*equal{}
	for _, g := range groups {
		key := g.ID + strconv.FormatBool(g.Waiver != nil)
		folder, _ := pathname.Unescape(g.Folder)
		e, ok := at[key]
		if !ok {
			e = &equal{Group: g, folder: pathname.Path(folder)}
			at[key], all = e, append(all, e)
			e.hosts = []string{g.Host}
			continue
		}

		e.Count += g.Count
		e.Unread += g.Unread
		e.hosts = append(e.hosts, g.Host)
		e.folder = pathname.Widen(e.folder, folder)
	}

	weight := func(e *equal) wire.WeightOf {
		return wire.WeightOf{Group: &e.Group, Hosts: len(e.hosts), Findings: int64(e.Count)}
	}
	slices.SortStableFunc(all, func(a, b *equal) int { return wire.Heavier(weight(a), weight(b)) })
	t := table{
		head: []string{"GROUP", "HOSTS", "COUNT", "SEVERITY", "EFFECT", "RULE", "ASPECT", "DECLARED", "FOUND", "WHERE"},
	}

	for _, e := range all {
		effect := mark(e.Word)
		if e.Waiver != nil {
			effect += " (waived)"
		}
		t.add(e.ID, someHosts(e.hosts), counted(e.Group), e.Severity, effect, e.Rule, e.Kind+" "+e.Aspect, e.Declared,
			e.Found, place(e.Count, e.folder.String(), e.Example))
	}

	return t
}

// someHosts names up to two hosts, and counts more.
func someHosts(hosts []string) string {
	if len(hosts) > 2 {
		return strconv.Itoa(len(hosts)) + " hosts"
	}
	return strings.Join(hosts, ", ")
}
