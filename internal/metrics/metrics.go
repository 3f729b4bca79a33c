// Package metrics tells how a service does, in the Prometheus text format and OpenMetrics.
package metrics

import (
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view"
)

// Metrics gathers what is told of a service.
type Metrics struct {
	registry *prometheus.Registry
	limited  *prometheus.CounterVec
}

// Of begins to gather. It must be called before the service is used: it has it told of decisions and refusals. version is
// that of the binary, dir the folder of the records.
func Of(s *service.Service, version, dir string) *Metrics {
	m := &Metrics{registry: prometheus.NewRegistry()}
	decisions := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "ironledger_decision_seconds",
		Help:    "How long decisions took until they were durable, by outcome.",
		Buckets: []float64{.0005, .001, .002, .005, .01, .02, .05, .1, .25, 1, 5}}, []string{"outcome"})
	for _, outcome := range []string{"allow", "deny", "step-up", "unrecorded"} {
		decisions.WithLabelValues(outcome) // there before the first
	}
	refused := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ironledger_evidence_refused_total",
		Help: "What was not taken of evidence: reports, or attributes of others, by the source that brought them."},
		[]string{"source", "what"})
	m.limited = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ironledger_requests_limited_total",
		Help: "Requests that were refused since their caller asked too much, by operation."}, []string{"operation"})
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "ironledger_build_info",
		Help: "1, with the version of the service.", ConstLabels: prometheus.Labels{"version": version}})
	build.Set(1)
	m.registry.MustRegister(decisions, refused, m.limited, build, &collector{service: s, dir: dir},
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	s.Decisions.Decided = func(outcome string, took time.Duration) {
		decisions.WithLabelValues(outcome).Observe(took.Seconds())
	}
	known := sources{}
	s.Intake.Refused = func(source, what string) { refused.WithLabelValues(known.label(source), what).Inc() }
	return m
}

// Limited counts a request that was refused since its caller asked too much.
func (m *Metrics) Limited(operation string) { m.limited.WithLabelValues(operation).Inc() }

// Handler answers with the metrics.
func (m *Metrics) Handler(log *slog.Logger) http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn), MaxRequestsInFlight: 4, Timeout: 10 * time.Second})
}

// maxSources bounds how many sources are told apart: a caller names them.
const maxSources = 200

// sources are those that labels name.
type sources struct {
	mu    sync.Mutex
	named map[string]bool
}

// label is the source as a label: "other" for one too many, "unknown" for none.
func (x *sources) label(source string) string {
	if source == "" {
		return "unknown"
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.named[source] {
		return source
	}
	if len(x.named) >= maxSources {
		return "other"
	}
	if x.named == nil {
		x.named = map[string]bool{}
	}
	x.named[source] = true
	return source
}

// What is worked out from how things are, when somebody asks.
var (
	commits = desc("commits_total", "Durable commits of the records, each of many batches.")
	batches = desc("commit_batches_total", "Batches that commits wrote: decisions, and changes of the state.")
	writing = desc("commit_seconds_total", "How long commits took altogether.")
	queue   = desc("writer_queue", "Changes that wait for the writer.")
	due     = desc("due_heap", "Moments at which the writer wakes by itself.")
	entries = desc("ledger_entries", "Entries of the ledger.")
	size    = desc("records_bytes", "The size of the records on disk.")
	free    = desc("records_free_bytes", "What is left of the disk of the records.")
	trouble = desc("records_trouble", "1 while nothing can be recorded and every request is denied.")
	devices = desc("devices", "Devices in service, by level.", "level")
	retired = desc("devices_retired", "Devices out of service.")
	people  = desc("people", "People in the directory.")
	session = desc("sessions", "Allows that may still be relied on.")
	stays   = desc("network_stays", "Devices on networks, by network and grant.", "network", "grant")
	untold  = desc("network_untold", "Devices of which the access point could not be told what is granted now.", "network")
	dropped = desc("radius_dropped_total", "Packets of access points that were dropped or did not fit; of strangers "+
		"with no access point.", "access_point")
	age     = desc("source_age_seconds", "How long ago the newest reading of each source was observed.", "source")
	book    = desc("rulebook_version", "The version of the rulebook in force.")
	checked = desc("ledger_verified", "1 when the newest verification found the ledger as it was signed, else 0.")
	at      = desc("ledger_verified_timestamp_seconds", "When that was.")
	alerts  = desc("alerts", "What needs a person, by kind, that nobody has seen.", "kind")
)

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("ironledger_"+name, help, labels, nil)
}

// keepFor is how long what takes a walk over the fleet is told again.
const keepFor = 15 * time.Second

// collector works out how things are when somebody asks.
type collector struct {
	service *service.Service
	dir     string

	mu     sync.Mutex
	looked time.Time
	levels view.Levels
	last   map[string]int64 // the moment of the newest reading, by source
}

// Describe tells what there is.
func (c *collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{commits, batches, writing, queue, due, entries, size, free, trouble,
		devices, retired,
		people, session, stays, untold, dropped, age, book, checked, at, alerts} {
		out <- d
	}
}

// Collect tells how it is.
func (c *collector) Collect(out chan<- prometheus.Metric) {
	s := c.service
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	total := func(d *prometheus.Desc, v float64) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v)
	}
	n := s.Store.Commits()
	total(commits, float64(n.Groups))
	total(batches, float64(n.Batches))
	total(writing, n.Took.Seconds())
	gauge(queue, float64(s.Waiting()))
	gauge(due, float64(s.Due()))
	gauge(entries, float64(s.Store.Sealed().Size))
	gauge(trouble, truth(s.Store.Trouble() != nil))
	if bytes, err := engine.RecordsSize(c.dir); err == nil {
		gauge(size, float64(bytes))
	}
	if left, _, err := engine.DiskSpace(c.dir); err == nil {
		gauge(free, float64(left))
	}
	snap := s.Snapshot()
	levels, last := c.walk()
	for i, level := range snap.Book.Rulebook.Ladder {
		if i < len(levels.Devices) {
			gauge(devices, float64(levels.Devices[i]), level)
		}
	}
	gauge(retired, float64(levels.Retired))
	gauge(people, float64(snap.People.Len()))
	gauge(session, float64(s.Decisions.SessionCount()))
	gauge(book, float64(snap.Book.Info.Version))
	c.networks(gauge, out)
	for source, moment := range last {
		gauge(age, float64(s.Micros()-moment)/1e6, source)
	}
	if v := s.Audit.Verified(); v.State == "sound" || v.State == "broken" { // none before the first, or during one
		gauge(checked, truth(v.State == "sound"))
		if moment, err := value.ParseTime(v.At); err == nil {
			gauge(at, float64(moment.Num())/1e6)
		}
	}
	kinds := map[string]int{}
	if list, err := s.Alerts.List(); err == nil {
		for _, a := range list.Items {
			if a.SeenBy == "" {
				kinds[a.Kind]++
			}
		}
	}
	for kind, n := range kinds {
		gauge(alerts, float64(n), kind)
	}
}

// networks tells who is on which network, and what was dropped of access points.
func (c *collector) networks(gauge func(*prometheus.Desc, float64, ...string), out chan<- prometheus.Metric) {
	for _, n := range c.service.Networks.Networks() {
		for _, g := range n.Grants {
			gauge(stays, float64(g.Stays), n.ID, g.ID)
		}
		gauge(untold, float64(n.Untold), n.ID)
	}
	list := c.service.Networks.Clients()
	tell := func(accessPoint string, n int64) {
		out <- prometheus.MustNewConstMetric(dropped, prometheus.CounterValue, float64(n), accessPoint)
	}
	for _, x := range list.Items {
		n := int64(0)
		for _, d := range x.Dropped {
			n += d.Times
		}
		tell(x.ID, n)
	}
	n := int64(0)
	for _, x := range list.Strangers {
		n += x.Times
	}
	tell("", n)
}

// walk looks over the fleet, or tells what it found a moment ago.
func (c *collector) walk() (view.Levels, map[string]int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < keepFor {
		return c.levels, c.last
	}
	c.levels, c.last, c.looked = c.service.View.Levels(), map[string]int64{}, time.Now()
	for _, src := range c.service.View.Sources() {
		if moment, err := value.ParseTime(src.LastAt); err == nil {
			c.last[src.ID] = moment.Num()
		}
	}
	return c.levels, c.last
}

func truth(yes bool) float64 {
	if yes {
		return 1
	}
	return 0
}
