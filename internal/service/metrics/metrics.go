// Package metrics tells monitoring how the service is doing, as OpenMetrics: how long its calls take, what the fleet
// is like, and what work waits.
package metrics

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/verdict"
	"idletally/internal/service/app"
	"idletally/internal/wire"
)

// A Figure is one of the metrics that the service has of its own.
type Figure struct {
	Name   string
	Kind   string // gauge, counter or histogram
	Labels []string
	Is     string
	When   string // to look at it
}

// OwnFigures lists them. Every instance reports those that concern all instances alike.
var OwnFigures = []Figure{
	{"idletally_build_info", "gauge", []string{"version", "commit", "go"}, "What this instance is; always 1.",
		"instances differ for longer than an upgrade takes"},
	{"idletally_request_seconds", "histogram", []string{"route", "method", "status"},
		"Time that calls took at this instance.",
		"95 of 100 take over 0.3 s, or status 5xx comes more than now and then"},
	{"idletally_agents_waiting", "gauge", nil, "Agents that wait for work at this instance.",
		"the sum over instances falls below the hosts that call"},
	{"idletally_nodes_received_total", "counter", nil, "Snapshot nodes received from agents at this instance.",
		"it grows fast without snapshots: somebody fills the storage"},
	{"idletally_figures_complete", "gauge", nil,
		"Whether the figures below could be read: 0 where the database did not answer, and they are missing.",
		"it is 0"},
	{"idletally_hosts", "gauge", []string{"state"},
		"Hosts: invited (no agent yet), carried (nothing leads there), calling, or silent (not heard from for " +
			"ten minutes).",
		"some are silent"},
	{"idletally_hosts_watching", "gauge", nil, "Hosts whose changes are noticed as they happen.", "it falls"},
	{"idletally_agents", "gauge", []string{"version"},
		"Enrolled hosts by the version of their agent; those of rare versions together as other.",
		"there are several for longer than an upgrade takes"},
	{"idletally_application_hosts", "gauge", []string{"application", "state"},
		"Hosts of an application by each of their states; one may be in several. Only those that are declared are " +
			"known to be well.",
		"never, failed, old, behind or unread is above 0"},
	{"idletally_application_findings", "gauge", []string{"application", "severity"},
		"Findings that nobody accepted: grave, or other.", "grave is above 0"},
	{"idletally_application_opening_findings", "gauge", []string{"application"},
		"Findings by which somebody can do more than intended.", "it grows"},
	{"idletally_application_oldest_look_timestamp_seconds", "gauge", []string{"application"},
		"As of when the host that is known worst is known, in Unix time; missing where one was never looked at.",
		"it is older than looks may be"},
	{"idletally_plans", "gauge", []string{"state"}, "Plans by state.", "some are in review for days"},
	{"idletally_runs", "gauge", []string{"state"}, "Runs by state.", "some are halted"},
	{"idletally_notices_waiting", "gauge", nil, "Notices that wait to be told.", "it grows"},
	{"idletally_hooks_failing", "gauge", nil, "Hooks to which the last notice could not be told.", "it is above 0"},
	{"idletally_comparisons_waiting", "gauge", nil, "Snapshots that wait to be compared with their baselines.",
		"it grows for minutes"},
	{"idletally_schedules_overdue_seconds", "gauge", nil,
		"How long ago the schedule should have fired that is overdue longest.", "it is over a minute"},
	{"idletally_database_connections", "gauge", []string{"state"},
		"Connections of this instance to the database: in_use, idle, or max, which is how many there may be.",
		"in_use stays at max"},
	{"idletally_certificate_end_timestamp_seconds", "gauge", []string{"certificate"},
		"When certificates end, in Unix time: authority, and former_authority while hosts change over.",
		"it is less than 90 days away"},
}

// A Source counts what there is of hosts, applications and work at a time; nil where nothing can be counted.
type Source func(ctx context.Context, at time.Time) (*app.Figures, error)

// Metrics are those of an instance.
type Metrics struct {
	registry *prometheus.Registry
	took     *prometheus.HistogramVec
	waiting  prometheus.Gauge
	nodes    prometheus.Counter
}

// figureOf returns what the table says of a metric.
func figureOf(name string) Figure {
	return OwnFigures[slices.IndexFunc(OwnFigures, func(f Figure) bool { return f.Name == name })]
}

// New returns the metrics of an instance, which is of a build. Source counts what all instances have in common.
func New(source Source, build wire.Build, log *slog.Logger) *Metrics {
	took := figureOf("idletally_request_seconds")
	waiting := figureOf("idletally_agents_waiting")
	nodes := figureOf("idletally_nodes_received_total")
	m := &Metrics{registry: prometheus.NewRegistry(),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    took.Name,
			Help:    took.Is,
			Buckets: []float64{.005, .02, .05, .1, .3, 1, 3, 10},
		},
			took.Labels),
		waiting: prometheus.NewGauge(prometheus.GaugeOpts{Name: waiting.Name, Help: waiting.Is}),
		nodes:   prometheus.NewCounter(prometheus.CounterOpts{Name: nodes.Name, Help: nodes.Is}),
	}

	m.registry.MustRegister(m.took, m.waiting, m.nodes, newFleet(source, build, log), collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Methods are those that the service has. Anybody may invent others: they are refused first of all, and share one
// series.
var Methods = map[string]bool{"GET": true, "HEAD": true, "POST": true, "PUT": true, "DELETE": true}

// Request records a call that was answered.
func (m *Metrics) Request(route, method string, status int, took time.Duration) {
	if !Methods[method] {
		method = "other"
	}
	m.took.WithLabelValues(route, method, strconv.Itoa(status)).Observe(took.Seconds())
}

// Handler serves them, as OpenMetrics to whoever asks for that.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

const (
	figuresFor  = 15 * time.Second // they are told again before they are counted again, however often somebody asks
	figuresIn   = 20 * time.Second
	mostSeries  = 1000 // applications
	mostVersion = 20
)

// fleet counts what there is of hosts, applications and work.
type fleet struct {
	count func(*counts) error
	build wire.Build
	log   *slog.Logger

	counting sync.Mutex // held by who counts
	mu       sync.Mutex
	at       time.Time
	last     []prometheus.Metric
}

func newFleet(source Source, build wire.Build, log *slog.Logger) *fleet {
	return &fleet{count: func(c *counts) error { return c.all(source) }, build: build, log: log}
}

// Describe says nothing: which series there are is known when they are counted.
func (f *fleet) Describe(chan<- *prometheus.Desc) {}

// Collect makes a fleet a prometheus.Collector. Nobody waits while somebody else counts: they get the last count.
func (f *fleet) Collect(to chan<- prometheus.Metric) {
	figures, old := f.known()
	if old && f.counting.TryLock() {
		figures, old = f.known()
		if old { // nobody has counted meanwhile
			figures = f.anew()
		}
		f.counting.Unlock()
	}
	if figures == nil {
		figures = f.incomplete()
	}
	for _, m := range figures {
		to <- m
	}
}

// known returns the last count, and whether that is too long ago.
func (f *fleet) known() (figures []prometheus.Metric, old bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.last, time.Since(f.at) > figuresFor
}

func (f *fleet) anew() []prometheus.Metric {
	c := counts{}
	if err := f.count(&c); err != nil {
		f.log.Warn("figures for monitoring", "error", err)
		c = f.incomplete()
	} else {
		c.build(f.build)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.last, f.at = c, time.Now()
	return c
}

func (f *fleet) incomplete() (c counts) {
	c.add("idletally_figures_complete", 0)
	c.build(f.build)
	return c
}

func (c *counts) build(b wire.Build) { c.add("idletally_build_info", 1, b.Version, b.Commit, b.Go) }

// counts are metrics that were counted.
type counts []prometheus.Metric

func (c *counts) add(name string, v float64, labels ...string) {
	f := figureOf(name)
	*c = append(*c,
		prometheus.MustNewConstMetric(prometheus.NewDesc(name, f.Is, f.Labels,
			nil), prometheus.GaugeValue, v, labels...))
}

// addStates adds how many there are in each state, including those with none: an absent series looks like one that is
// not reported.
func (c *counts) addStates(name string, states []string, of map[string]int64) {
	for _, state := range states {
		c.add(name, float64(of[state]), state)
	}
}

func (c *counts) addEach(name string, of map[string]int64) {
	for _, k := range slices.Sorted(maps.Keys(of)) {
		c.add(name, float64(of[k]), k)
	}
}

func (c *counts) all(source Source) error {
	ctx, cancel := context.WithTimeout(context.Background(), figuresIn)
	defer cancel()

	at := time.Now()
	all, err := source(ctx, at)
	if err != nil || all == nil {
		return err
	}

	c.hosts(all.Hosts, at)
	c.applications(all.Applications[:min(len(all.Applications), mostSeries)])
	n := all.Counted
	c.addStates("idletally_plans", lifecycle.Words(lifecycle.Plans), n.Plans)
	c.addStates("idletally_runs", lifecycle.Words(lifecycle.Runs), n.Runs)
	c.add("idletally_notices_waiting", float64(n.Notices))
	c.add("idletally_hooks_failing", float64(n.Faults))
	c.add("idletally_comparisons_waiting", float64(n.Comparisons))
	c.add("idletally_schedules_overdue_seconds", n.Overdue.Seconds())
	c.addEach("idletally_database_connections", map[string]int64{
		"in_use": int64(n.InUse),
		"idle":   int64(n.Idle),
		"max":    int64(n.Max),
	})
	for i, a := range all.Authorities {
		c.add("idletally_certificate_end_timestamp_seconds", float64(a.Until.Unix()),
			[]string{"authority", "former_authority"}[min(i, 1)])
	}

	c.add("idletally_figures_complete", 1)
	return nil
}

// hosts counts hosts by state, and by the version of their agents.
func (c *counts) hosts(hosts []app.Host, at time.Time) {
	states := map[string]int64{}
	versions := map[string]int64{}
	watching := 0

	for _, h := range hosts {
		state := "calling"
		switch {
		case h.Certificate == "":
			state = "invited"
		case h.Carried:
			state = "carried"
		case app.Silent(h, at):
			state = "silent"
		}

		states[state]++
		if h.Certificate == "" {
			continue
		}

		versions[h.Version]++
		if h.Watching != nil && *h.Watching {
			watching++
		}
	}

	c.addStates("idletally_hosts", lifecycle.Words(lifecycle.Hosts), states)
	c.add("idletally_hosts_watching", float64(watching))

	// Agents say their versions themselves: however many they invent, only a few have a series.
	often := slices.SortedFunc(maps.Keys(versions), func(a, b string) int {
		return cmp.Or(cmp.Compare(versions[b], versions[a]), cmp.Compare(a, b))
	})
	few := map[string]int64{}
	for i, v := range often {
		if i >= mostVersion {
			v = "other"
		}
		few[v] += versions[often[i]]
	}

	c.addEach("idletally_agents", few)
}

// applications counts each application's hosts and findings.
func (c *counts) applications(apps []wire.Standing) {
	for _, a := range apps {
		if a.Published == 0 {
			continue
		}

		for _, s := range verdict.States {
			if s == verdict.Nowhere && a.Hosts > 0 {
				continue
			}

			n := a.Verdict.In[string(s)]
			if s == verdict.Nowhere {
				n = 1 // that it has none is to be seen
			}

			c.add("idletally_application_hosts", float64(n), a.Name, string(s))
		}

		c.add("idletally_application_findings", float64(a.Grave), a.Name, "grave")
		c.add("idletally_application_findings", float64(a.Findings-a.Grave), a.Name, "other")
		c.add("idletally_application_opening_findings", float64(a.Opens), a.Name)
		if a.Oldest != nil && a.Verdict.In[string(verdict.Never)] == 0 {
			c.add("idletally_application_oldest_look_timestamp_seconds", float64(a.Oldest.Unix()), a.Name)
		}
	}
}

// AgentWaits records that an agent waits for work, until it does no more.
func (m *Metrics) AgentWaits() (noMore func()) {
	m.waiting.Inc()
	return m.waiting.Dec
}

// NodesReceived records that agents sent nodes.
func (m *Metrics) NodesReceived(n int) { m.nodes.Add(float64(n)) }
