package httpapi

import (
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// Measures are the metrics that are recorded as things happen. All others are read when the
// metrics are requested.
type Measures struct {
	Held     prometheus.Histogram // seconds for which a core was locked
	Late     prometheus.Histogram // seconds by which a timer ran late
	FanOut   prometheus.Histogram // seconds from a seal until its frame is queued for writing
	Gaps     prometheus.Histogram // seconds between the loss and the resumption of a session
	requests *prometheus.HistogramVec
	kinds    sync.Map // the histograms of requests by their kind: of measured to prometheus.Observer
}

// NewMeasures returns empty measures.
func NewMeasures() *Measures {
	histogram := func(name, help string, buckets []float64) prometheus.Histogram {
		return prometheus.NewHistogram(prometheus.HistogramOpts{Namespace: "tovik", Name: name, Help: help, Buckets: buckets})
	}
	short := []float64{.00001, .0001, .001, .01, .1, 1}
	return &Measures{
		Held:   histogram("engine_held_seconds", "How long a core was locked at a time.", short),
		Late:   histogram("engine_late_seconds", "How late timers ran.", short),
		FanOut: histogram("fan_out_seconds", "From the seal of a change until its frame is queued for writing to a receiver; one in 64 is measured.", []float64{.001, .005, .01, .025, .05, .1, .25, .5, 1, 2.5}),
		Gaps:   histogram("resume_gap_seconds", "The time between the loss and the resumption of a session.", []float64{.1, .5, 1, 2, 5, 10, 20, 60, 120}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "tovik", Name: "http_request_duration_seconds", Help: "Durations of HTTP requests, by route.",
			Buckets: []float64{.001, .01, .1, 1}}, []string{"route", "method", "status"}),
	}
}

// measure records the duration of a request under its route. For links and streams, that is
// until they begin.
func (a *API) measure(c fiber.Ctx) error {
	began := time.Now()
	err := c.Next()
	status := c.Response().StatusCode()
	if err != nil {
		if problemType, ok := wire.ProblemTypeOf(problemOf(c, err).Code); ok && problemType.Status != 0 {
			status = problemType.Status
		}
	}
	route := c.Route().Path
	if status == fiber.StatusNotFound && (route == "/" || route == "") {
		route = "none"
	}
	a.measures.of(measured{route, c.Method(), status}).Observe(time.Since(began).Seconds())
	return err
}

// measured is a kind of requests that are measured together.
type measured struct {
	route, method string
	status        int
}

// of returns the histogram of a kind. There are few kinds, and to look for one by its labels costs more
// than to observe.
func (m *Measures) of(kind measured) prometheus.Observer {
	if known, ok := m.kinds.Load(kind); ok {
		return known.(prometheus.Observer)
	}
	observer := m.requests.WithLabelValues(kind.route, kind.method, strconv.Itoa(kind.status))
	m.kinds.Store(kind, observer)
	return observer
}

// metrics serves the Prometheus text format.
func (a *API) metrics() fiber.Handler {
	registry := prometheus.NewRegistry()
	m := a.measures
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		m.Held, m.Late, m.FanOut, m.Gaps, m.requests, &sizes{a})
	return adaptor.HTTPHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
}

// sizes collects the metrics that are read on request.
type sizes struct{ a *API }

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("tovik_"+name, help, labels, nil)
}

var (
	descLinks     = describe("links", "Open links, by kind.", "kind")
	descOperators = describe("operator_links", "Links of operators and back ends, included in links.")
	descStrangers = describe("links_before_hello", "Links without a hello, included in links.")
	descSessions  = describe("sessions", "Sessions, by state.", "realm", "state")
	descPeople    = describe("people", "People with a session.", "realm")
	descQuota     = describe("quota", "The limits of quotas, of realms that have some.", "realm", "quota")
	descUsed      = describe("quota_used", "How much of a quota is used: people, sessions, or cues of the present minute.", "realm", "quota")
	descRooms     = describe("rooms", "Rooms.", "realm")
	descBeats     = describe("beats_total", "Beats received: frames of the type beat, and HTTP beats.")
	descAsked     = describe("beats_asked_total", "Beats that the service asked for.")
	descSlow      = describe("slow_links_total", "Links closed because they did not read.")
	descDropped   = describe("cues_dropped_total", "Cues dropped because a link had too much unread data.")
	descRefused   = describe("hellos_refused_total", "Refused hellos, by the code of the problem.", "code")
	descOpened    = describe("sessions_opened_total", "Sessions opened, by kind of link.", "realm", "over")
	descLost      = describe("links_lost_total", "Links lost by sessions, by reason.", "realm", "reason")
	descResumed   = describe("sessions_resumed_total", "Sessions resumed over a new link.", "realm")
	descEnded     = describe("sessions_ended_total", "Sessions ended, by reason.", "realm", "reason")
	descJoins     = describe("joins_total", "People who joined a room.", "realm")
	descLeaves    = describe("leaves_total", "People who left a room, by reason.", "realm", "reason")
	descFailing   = describe("records_failing", "1 while the records cannot be written.")
	descWaiting   = describe("records_waiting", "Entries and people waiting to be written.")
	descLag       = describe("records_lag_seconds", "How long the oldest of them has waited.")
	descRows      = describe("records_rows_total", "Rows written.")
	descGap       = describe("journal_lost_total", "Journal entries lost because they could not be written.")
	descHookLost  = describe("hook_events_lost_total", "Events for hooks lost because they could not be written.")
	descHooks     = describe("hook_deliveries", "Deliveries to hooks on record, by state.", "state")
)

var (
	descHeard         = describe("node_nodes_heard", "Nodes of the cluster that this node hears, with itself.")
	descOwned         = describe("node_realms_owned", "Realms that this node owns.")
	descBegun         = describe("node_realms_begun_total", "Realms that this node has begun to own: takeovers and handovers.")
	descBegan         = describe("node_realms_begun_seconds_total", "How long that took: until it was in the log, until the records were read and the core was restored, and until all nodes had reported.", "until")
	descApart         = describe("node_apart_seconds", "How long this node has heard no majority of the nodes that keep the log.")
	descRead          = describe("node_log_read_total", "The last record of the log that this node has applied.")
	descBehind        = describe("node_log_behind", "Records of the log that this node has not applied, a moment ago.")
	descLog           = describe("node_log_bytes", "The size of the log, a moment ago.")
	descMost          = describe("node_log_bytes_max", "The size that the log keeps at most.")
	descUninvited     = describe("node_routes_refused_total", "Connections that claimed to be of other nodes, and were refused or failed.")
	descRouteMessages = describe("node_routes_messages_total", "Messages over connections to other nodes, with those of the broker.", "direction")
	descRouteBytes    = describe("node_routes_bytes_total", "Bytes over connections to other nodes, with those of the broker.", "direction")
	descClock         = describe("node_clock_seconds", "By how much the clock of this node is ahead of the median of all nodes.")
)

// collectNode collects the figures of a node of a cluster.
func collectNode(of NodeFigures, gauge, counter collect) {
	gauge(descHeard, float64(of.Heard))
	gauge(descOwned, float64(len(of.Owned)))
	counter(descBegun, float64(of.Begun))
	counter(descBegan, of.BegunLog.Seconds(), "log")
	counter(descBegan, of.BegunRecords.Seconds(), "records")
	counter(descBegan, of.BegunReports.Seconds(), "reports")
	gauge(descApart, of.Apart.Seconds())
	counter(descRead, float64(of.Read))
	gauge(descBehind, float64(of.Behind))
	gauge(descLog, float64(of.LogBytes))
	gauge(descMost, float64(of.Most))
	gauge(descClock, of.Clock.Seconds())
	counter(descUninvited, float64(of.Refused))
	for way, is := range map[string][2]int64{"in": {of.MessagesIn, of.BytesIn}, "out": {of.MessagesOut, of.BytesOut}} {
		counter(descRouteMessages, float64(is[0]), way)
		counter(descRouteBytes, float64(is[1]), way)
	}
}

// Describe implements [prometheus.Collector].
func (s *sizes) Describe(to chan<- *prometheus.Desc) { prometheus.DescribeByCollect(s, to) }

// Collect implements [prometheus.Collector].
func (s *sizes) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	links := s.a.gateway.Size()
	gauge(descLinks, float64(links.WebSockets), "websocket")
	gauge(descLinks, float64(links.Streams), "stream")
	gauge(descOperators, float64(links.Operators))
	gauge(descStrangers, float64(links.Strangers))
	counter(descBeats, float64(links.Beats))
	counter(descAsked, float64(links.BeatsAsked))
	counter(descSlow, float64(links.Slow))
	counter(descDropped, float64(links.CuesDropped))
	for code, n := range links.Refused {
		counter(descRefused, float64(n), code)
	}
	node, several := s.a.world.Figures()
	if several {
		collectNode(node, gauge, counter)
	}
	figures := s.a.realms.Figures()
	leases := 0
	for i := range figures.Realms {
		if !several || slices.Contains(node.Owned, figures.Realms[i].Name) { // no node carries them
			leases += figures.Realms[i].Size.Leases
		}
		collectRealm(&figures.Realms[i], gauge, counter)
	}
	gauge(descLinks, float64(leases), "beats")
	health, failing := figures.Records, 0.0
	if health.Failing != nil {
		failing = 1
	}
	gauge(descFailing, failing)
	gauge(descWaiting, float64(health.Waiting))
	gauge(descLag, health.Lag.Seconds())
	counter(descRows, float64(figures.Rows))
	counter(descGap, float64(health.Lost))
	counter(descHookLost, float64(health.LostDeliveries))
	if figures.Waiting >= 0 { // otherwise records_failing says so
		gauge(descHooks, float64(figures.Waiting), "waiting")
		gauge(descHooks, float64(figures.Parked), "parked")
	}
}

type collect func(d *prometheus.Desc, v float64, labels ...string)

func collectRealm(of *realm.RealmFigures, gauge, counter collect) {
	gauge(descSessions, float64(of.Size.Sessions-of.Size.InGrace), of.Name, "live")
	gauge(descSessions, float64(of.Size.InGrace), of.Name, "grace")
	gauge(descPeople, float64(of.Size.People), of.Name)
	gauge(descRooms, float64(of.Size.Rooms), of.Name)
	for _, use := range of.Quotas {
		gauge(descQuota, float64(use.Limit), of.Name, string(use.Quota))
		gauge(descUsed, float64(use.Used), of.Name, string(use.Quota))
	}
	for desc, by := range map[*prometheus.Desc]map[string]int64{descOpened: of.Opened, descLost: of.Lost, descEnded: of.Ended, descLeaves: of.Left} {
		for which, n := range by {
			counter(desc, float64(n), of.Name, which)
		}
	}
	if of.Resumed > 0 {
		counter(descResumed, float64(of.Resumed), of.Name)
	}
	if of.Joined > 0 {
		counter(descJoins, float64(of.Joined), of.Name)
	}
}
