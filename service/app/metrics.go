package app

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics is what the service tells of itself in the OpenMetrics format.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(s *Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "rotanex_http_request_seconds", Help: "How long requests took, by route and status.",
			Buckets: []float64{.001, .005, .02, .1, .5, 2, 10, 30},
		}, []string{"method", "route", "status"}),
	}
	m.registry.MustRegister(m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &frameCounts{service: s})
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

func (m *metrics) count(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		out := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(out, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		m.requests.WithLabelValues(methodOf(r), route, strconv.Itoa(max(out.Status(), http.StatusOK))).Observe(time.Since(began).Seconds())
	})
}

// methodOf is a request's method as a label: whatever else somebody makes up is one.
func methodOf(r *http.Request) string {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return r.Method
	}
	return "other"
}

// countedEvery is how often the database is asked at most, however often somebody looks.
const countedEvery = 15 * time.Second

// frameCounts tells of frames and hosts, asked of the database when somebody looks.
type frameCounts struct {
	service *Service

	mu      sync.Mutex
	counted time.Time
	told    []prometheus.Metric
}

var (
	framesHelp = prometheus.NewDesc("rotanex_frames", "Frames of runs that are not over, by state.", []string{"state"}, nil)
	hostsHelp  = prometheus.NewDesc("rotanex_hosts_up", "Hosts whose agent spoke lately.", nil, nil)
)

func (q *frameCounts) Describe(out chan<- *prometheus.Desc) {
	out <- framesHelp
	out <- hostsHelp
}

func (q *frameCounts) Collect(out chan<- prometheus.Metric) {
	for _, m := range q.lately() {
		out <- m
	}
	for host, l := range q.service.samples.Newest() {
		told := map[string]bool{} // a device is told of once, whatever its agent says
		for _, d := range l.Devices {
			if told[d.Device] {
				continue
			}
			told[d.Device] = true
			for i, v := range []float64{d.Use, float64(d.MemoryBytes), d.Celsius, d.Watts, d.MHz * 1e6} {
				out <- prometheus.MustNewConstMetric(deviceHelp[i], prometheus.GaugeValue, v, host, d.Device)
			}
		}
	}
}

// lately is what the database said the last time that it was asked.
func (q *frameCounts) lately() []prometheus.Metric {
	q.mu.Lock()
	defer q.mu.Unlock()
	now := q.service.clock.WallNow()
	if q.told != nil && now.Sub(q.counted) < countedEvery {
		return q.told
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	counts := map[string]float64{"waiting": 0, "rendering": 0, "done": 0, "failed": 0}
	open, err := q.service.standing.OpenFrames(ctx)
	if err != nil {
		return q.told
	}
	for state, n := range open {
		counts[string(state)] = float64(n)
	}
	up, err := q.service.hosts.CountUp(ctx)
	if err != nil {
		return q.told
	}
	q.counted, q.told = now, []prometheus.Metric{prometheus.MustNewConstMetric(hostsHelp, prometheus.GaugeValue, float64(up))}
	for state, n := range counts {
		q.told = append(q.told, prometheus.MustNewConstMetric(framesHelp, prometheus.GaugeValue, n, state))
	}
	return q.told
}

// deviceHelp describes what agents report of each device, in the units of OpenMetrics.
var deviceHelp = func() (out []*prometheus.Desc) {
	for _, m := range [][2]string{
		{"rotanex_device_use_ratio", "How busy the device is, 0 to 1."},
		{"rotanex_device_memory_bytes", "Memory of the device in use; of the host for the CPU."},
		{"rotanex_device_temperature_celsius", "Temperature of the device."},
		{"rotanex_device_power_watts", "Power that the device draws."},
		{"rotanex_device_clock_hertz", "Clock of the device."},
	} {
		out = append(out, prometheus.NewDesc(m[0], m[1], []string{"host", "device"}, nil))
	}
	return out
}()
