package httpapi

import (
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/service"
	"idlebeacon/internal/watching"
)

// metrics is what the service reports to its operator in numbers, in the form of OpenMetrics.
// docs/OPERATING.md says of each what to do about it.
type metrics struct {
	handler  http.Handler
	requests *prometheus.CounterVec
	took     *prometheus.HistogramVec
	rows     sync.Map // a counters for each row, as to find them by their labels takes longer
}

// A row is what requests are counted by.
type row struct {
	method, route string
	status        int
}

// A counters counts the requests of a row.
type counters struct {
	requests prometheus.Counter
	took     prometheus.Observer
}

const metricsPrefix = "idlebeacon_"

func newMetrics(h *server) *metrics {
	registry := prometheus.NewRegistry()
	m := &metrics{
		handler: promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: metricsPrefix + "requests_total", Help: "Requests answered, by method, route and status; status 0 " +
				"was cut off.",
		}, []string{"method", "route", "status"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: metricsPrefix + "request_seconds", Help: "How long requests took, by route.",
			Buckets: []float64{.0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60},
		}, []string{"route"}),
	}
	registry.MustRegister(m.requests, m.took, newServiceCollector(h),
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// note counts a request. What matches no route is one row, whatever its path.
func (m *metrics) note(method, route string, status int, took time.Duration) {
	if route == "" {
		route = "none"
	}
	switch method {
	case http.MethodGet,
		http.MethodHead,
		http.MethodPost,
		http.MethodPut,
		http.MethodPatch,
		http.MethodDelete,
		http.MethodOptions:
	default:
		method = "other"
	}
	in := row{method, route, status}
	known, there := m.rows.Load(in)
	if !there { // who else finds that finds the same counters
		known = counters{m.requests.WithLabelValues(method, route, strconv.Itoa(status)), m.took.WithLabelValues(route)}
		m.rows.Store(in, known)
	}
	c := known.(counters) // nothing else is stored
	c.requests.Inc()
	c.took.Observe(took.Seconds())
}

func (h *server) serveMetrics(w http.ResponseWriter, r *http.Request) {
	h.metrics.handler.ServeHTTP(w, r)
}

// A serviceCollector asks the service how it is whenever somebody wants to know.
type serviceCollector struct {
	server *server
	gauges []serviceGauge
}

// A serviceGauge is one number of the service.
type serviceGauge struct {
	description *prometheus.Desc
	kind        prometheus.ValueType
	value       func(*service.Stats) (value float64, known bool)
}

// numbers are what a service reports of itself.
var numbers = []struct {
	kind       prometheus.ValueType
	name, help string
	value      func(*service.Stats) float64
}{
	{gauge, "ready", "1 if the service can do its work.",
		func(s *service.Stats) float64 { return truth(s.Ready) }},
	{gauge, "applied_change", "The newest change in memory.",
		func(s *service.Stats) float64 { return float64(s.Applied) }},
	{gauge, "clock_change", "The newest change of the database when it was heard last.",
		func(s *service.Stats) float64 { return float64(s.Clock) }},
	{gauge, "database_silence_seconds", "How long ago the database was heard last.",
		func(s *service.Stats) float64 { return s.Silence.Seconds() }},
	{gauge, "listening", "1 if the connection that hears of changes at once is there.",
		func(s *service.Stats) float64 { return truth(s.Listening) }},
	{gauge, "collections", "Collections.",
		func(s *service.Stats) float64 { return float64(s.Collections) }},
	{gauge, "places", "Places in memory.",
		func(s *service.Stats) float64 { return float64(s.Places) }},
	{gauge, "shapes", "Areas and paths in memory.",
		func(s *service.Stats) float64 { return float64(s.Shapes) }},
	{gauge, "waiting_writes", "Writes that wait to be committed.",
		func(s *service.Stats) float64 { return float64(s.WaitingWrites) }},
	{gauge, "collections_behind", "Collections that are being brought up to the others.",
		func(s *service.Stats) float64 { return float64(s.Behind) }},
	{counter, "edits_total", "Edits that were committed.",
		func(s *service.Stats) float64 { return float64(s.Writes.Edits) }},
	{counter, "write_transactions_total", "Transactions of edits, those that failed included.",
		func(s *service.Stats) float64 { return float64(s.Writes.Groups) }},
	{counter, "write_transactions_failed_total", "Transactions of edits that failed.",
		func(s *service.Stats) float64 { return float64(s.Writes.Failed) }},
	{counter, "write_transaction_seconds_total", "Time in transactions of edits, waiting for the clock included.",
		func(s *service.Stats) float64 { return s.Writes.Took.Seconds() }},
	{counter, "clock_wait_seconds_total", "Time that edits waited until the clock was free.",
		func(s *service.Stats) float64 { return s.Writes.ClockWait.Seconds() }},
	{gauge, "imports_under_way", "Imports of this process that have not ended.",
		func(s *service.Stats) float64 { return float64(s.ImportsUnderWay) }},
	{gauge, "listeners", "Streams of changes that are open.",
		func(s *service.Stats) float64 { return float64(s.Listeners) }},
	{gauge, "dear_work_running", "Pieces of dear work that were admitted.",
		func(s *service.Stats) float64 { return float64(s.Work.Running) }},
	{gauge, "dear_work_waiting", "Pieces of dear work that wait to be admitted.",
		func(s *service.Stats) float64 { return float64(s.Work.Waiting) }},
	{gauge, "dear_work_bytes", "Memory that admitted work has asked for.",
		func(s *service.Stats) float64 { return float64(s.Work.Bytes) }},
	{counter, "dear_work_refused_total", "Pieces of dear work that were refused.",
		func(s *service.Stats) float64 { return float64(s.Work.Refused) }},
	{gauge, "connections_in_use", "Connections for reading that are in use.",
		func(s *service.Stats) float64 { return float64(s.Connections.Reading.InUse) }},
	{gauge, "connections_most", "Connections for reading that there may be.",
		func(s *service.Stats) float64 { return float64(s.Connections.Reading.MaxOpenConnections) }},
	{counter, "connection_waits_total", "How often one had to wait for a connection for reading.",
		func(s *service.Stats) float64 { return float64(s.Connections.Reading.WaitCount) }},
	{gauge, "kept_orders", "Sorted listings that are kept.",
		func(s *service.Stats) float64 { return float64(s.KeptOrders) }},
	{gauge, "kept_order_bytes", "Memory of the sorted listings that are kept.",
		func(s *service.Stats) float64 { return float64(s.KeptOrderBytes) }},
}

// fleetNumbers are what is reported of devices.
var fleetNumbers = []struct {
	kind       prometheus.ValueType
	name, help string
	value      func(*fleet.Stats) float64
}{
	{gauge, "devices", "Devices in memory.", func(s *fleet.Stats) float64 { return float64(s.Devices) }},
	{gauge, "device_groups", "Groups of devices.", func(s *fleet.Stats) float64 { return float64(s.Groups) }},
	{gauge, "waiting_position_bytes", "Memory of positions that wait to be written, about.",
		func(s *fleet.Stats) float64 { return float64(s.WaitingBytes) }},
	{counter, "positions_total", "Positions that were kept.", func(s *fleet.Stats) float64 { return float64(s.Written) }},
	{counter, "position_transactions_total", "Transactions of positions, those that failed included.",
		func(s *fleet.Stats) float64 { return float64(s.Transactions) }},
	{counter, "position_transaction_seconds_total", "Time in transactions of positions.",
		func(s *fleet.Stats) float64 { return s.Took.Seconds() }},
	{counter, "positions_heard_total", "Positions that came from other processes over the bus.",
		func(s *fleet.Stats) float64 { return float64(s.Heard) }},
	{gauge, "other_processes", "Other processes on the database that take positions.",
		func(s *fleet.Stats) float64 { return float64(s.Others) }},
}

// watchNumbers are what is reported of watches and hooks.
var watchNumbers = []struct {
	kind       prometheus.ValueType
	name, help string
	value      func(*watching.Watching, *hooks.Hooks) float64
}{
	{gauge, "watching", "1 if this process is the one that watches devices and tells hooks.",
		func(w *watching.Watching, _ *hooks.Hooks) float64 { return truth(w.Epoch() != 0) }},
	{gauge, "watch_seconds_behind", "How old the oldest position is that waits to be judged by watches.",
		func(w *watching.Watching, _ *hooks.Hooks) float64 { return w.Behind().Seconds() }},
	{counter, "notices_total", "Notices that this process wrote.",
		func(w *watching.Watching, _ *hooks.Hooks) float64 { return float64(w.Noticed()) }},
	{counter, "hook_messages_total", "Messages to hooks that were taken.",
		func(_ *watching.Watching, h *hooks.Hooks) float64 { return float64(h.Counts().Taken) }},
	{counter, "hook_attempts_failed_total", "Attempts to send messages to hooks that failed.",
		func(_ *watching.Watching, h *hooks.Hooks) float64 { return float64(h.Counts().Failed) }},
	{counter, "hook_messages_dead_total", "Messages to hooks that were given up.",
		func(_ *watching.Watching, h *hooks.Hooks) float64 { return float64(h.Counts().Dead) }},
}

const gauge, counter = prometheus.GaugeValue, prometheus.CounterValue

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func newServiceCollector(h *server) *serviceCollector {
	c := &serviceCollector{server: h}
	add := func(kind prometheus.ValueType, name, help string, value func(*service.Stats) (float64, bool)) {
		description := prometheus.NewDesc(metricsPrefix+name, help, nil, nil)
		c.gauges = append(c.gauges, serviceGauge{description, kind, value})
	}
	for _, n := range numbers {
		add(n.kind, n.name, n.help, func(s *service.Stats) (float64, bool) { return n.value(s), true })
	}
	add(gauge, "disk_free_bytes", "Room on the disk of the private database.",
		func(s *service.Stats) (float64, bool) { return float64(s.RoomFree), s.RoomKnown })
	for _, k := range []struct {
		name, help string
		value      func() float64
	}{
		{"kept_answers", "Answers about the map that are kept.", func() float64 { return float64(h.answers.Len()) }},
		{"kept_answer_bytes", "Memory of the answers about the map that are kept.",
			func() float64 { return float64(h.answers.Bytes()) }},
		{"kept_squares", "Squares of the map that are kept.", func() float64 { return float64(h.squares.Len()) }},
		{"kept_square_bytes", "Memory of the squares of the map that are kept.",
			func() float64 { return float64(h.squares.Bytes()) }},
	} {
		add(gauge, k.name, k.help, func(*service.Stats) (float64, bool) { return k.value(), true })
	}
	for _, n := range fleetNumbers {
		add(n.kind, n.name, n.help, func(*service.Stats) (float64, bool) {
			if h.options.Fleet == nil {
				return 0, false
			}
			s := h.options.Fleet.Stats()
			return n.value(&s), true
		})
	}
	for _, n := range watchNumbers {
		add(n.kind, n.name, n.help, func(*service.Stats) (float64, bool) {
			if h.options.Watching == nil || h.options.Hooks == nil {
				return 0, false
			}
			return n.value(h.options.Watching, h.options.Hooks), true
		})
	}
	return c
}

// Describe implements prometheus.Collector.
func (c *serviceCollector) Describe(to chan<- *prometheus.Desc) {
	for _, g := range c.gauges {
		to <- g.description
	}
}

// Collect implements prometheus.Collector.
func (c *serviceCollector) Collect(to chan<- prometheus.Metric) {
	stats := c.server.service.Stats()
	for _, g := range c.gauges {
		if value, known := g.value(&stats); known {
			to <- prometheus.MustNewConstMetric(g.description, g.kind, value)
		}
	}
}
