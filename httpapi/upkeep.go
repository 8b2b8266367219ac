package httpapi

import (
	"bytes"
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/common/expfmt"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/detect"
	"inkret/core/severity"
	"inkret/service"
)

// Health checks, and metrics in the Prometheus text format.

// GetHealth implements [serve.StrictServerInterface].
func (h *upkeepHandlers) GetHealth(context.Context,
	serve.GetHealthRequestObject) (serve.GetHealthResponseObject, error) {
	return serve.GetHealth200JSONResponse{Status: "ok", Version: h.options.Version}, nil
}

// GetReadiness implements [serve.StrictServerInterface].
func (h *upkeepHandlers) GetReadiness(ctx context.Context,
	_ serve.GetReadinessRequestObject) (serve.GetReadinessResponseObject, error) {
	out := wire.Readiness{Ready: true}
	for _, r := range h.service.Ready(ctx) {
		out.Ready = out.Ready && r.OK
		out.Checks = append(out.Checks, struct {
			Detail *string                  `json:"detail,omitempty"`
			Name   wire.ReadinessChecksName `json:"name"`
			Ok     bool                     `json:"ok"`
		}{some(r.Detail), wire.ReadinessChecksName(r.Name), r.OK})
	}
	if !out.Ready {
		return serve.GetReadiness503JSONResponse(out), nil
	}
	return serve.GetReadiness200JSONResponse(out), nil
}

// numbers holds the metrics. Requests are counted as they happen; everything else is read on demand.
type numbers struct {
	service  *service.Service
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	took     *prometheus.HistogramVec
}

func newNumbers(s *service.Service, version string) *numbers {
	n := &numbers{service: s, registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "inkret_requests_total",
			Help: "Requests by method, route and status."}, []string{"method", "route", "status"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "inkret_request_seconds",
			Help:    "How long requests took, by route.",
			Buckets: []float64{.001, .005, .02, .05, .1, .25, 1, 5, 30}}, []string{"route"}),
	}
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "inkret_build_info",
		Help:        "1, with the version and the number of the built-in rules.",
		ConstLabels: prometheus.Labels{"version": version, "rules": strconv.Itoa(detect.Rules)}})
	build.Set(1)
	n.registry.MustRegister(n.requests, n.took, build, n)
	return n
}

// count counts a finished request.
func (n *numbers) count(c *echo.Context, status int, took time.Duration) {
	route := c.Path()
	if route == "" {
		route = "none"
	}
	n.requests.WithLabelValues(knownMethod(c.Request().Method), route, strconv.Itoa(status)).Inc()
	n.took.WithLabelValues(route).Observe(took.Seconds())
}

// knownMethod limits the method labels, because clients can make up any method.
func knownMethod(m string) string {
	switch m {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return m
	}
	return "other"
}

func gauge(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("inkret_"+name, help, labels, nil)
}

var (
	findingsDesc = gauge("findings", "Findings by state and severity.", "state", "severity")
	judgedDesc   = gauge("captures_judged", "Captures of all batches that were judged.")
	capturesDesc = gauge("captures", "Captures of all batches.")
	bytesDesc    = gauge("captures_bytes", "Bytes of bodies of all batches.")
	growingDesc  = gauge("recordings_open", "Recordings that are in progress.")
	watchesDesc  = gauge("watches", "Watches that run by the clock.")
	failingDesc  = gauge("watches_failing", "Watches of which the last run failed.")
	queueDesc    = gauge("queue_length", "What waits to be sent, by queue.", "queue")
	keysDesc     = gauge("keys", "Sessions and tokens that have not ended.", "kind")
	sizeDesc     = gauge("database_bytes", "Bytes of the database, of what is free in it, and of its log.", "part")
	waitDesc     = gauge("write_wait_seconds_total", "How long writes waited for other writes, in all.")
	waitsDesc    = gauge("write_waits_total", "How often a write waited for another.")
	backupDesc   = gauge("backup_age_seconds",
		"How old the last scheduled backup is; there is none where backups are not scheduled.")
)

// Describe implements [prometheus.Collector].
func (n *numbers) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{findingsDesc, judgedDesc, capturesDesc, bytesDesc, growingDesc, watchesDesc,
		failingDesc, queueDesc,
		keysDesc, sizeDesc, waitDesc, waitsDesc, backupDesc} {
		to <- d
	}
}

// Collect implements [prometheus.Collector].
func (n *numbers) Collect(to chan<- prometheus.Metric) {
	const patience = 10 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	all, err := n.service.Numbers(ctx)
	if err != nil {
		to <- prometheus.NewInvalidMetric(findingsDesc, err)
		return
	}
	put := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, kind, v, labels...)
	}
	for state, by := range all.Findings {
		for level, count := range by {
			put(findingsDesc, prometheus.GaugeValue, float64(count), state, severity.Severity(level).String())
		}
	}
	for d, v := range map[*prometheus.Desc]float64{judgedDesc: float64(all.Judged), capturesDesc: float64(all.Captures),
		bytesDesc: float64(all.Bytes), growingDesc: float64(all.Growing), watchesDesc: float64(all.Watches),
		failingDesc: float64(all.Failing)} {
		put(d, prometheus.GaugeValue, v)
	}
	put(queueDesc, prometheus.GaugeValue, float64(all.Deliveries), "webhooks")
	put(queueDesc, prometheus.GaugeValue, float64(all.Mails), "mail")
	put(keysDesc, prometheus.GaugeValue, float64(all.Sessions), "session")
	put(keysDesc, prometheus.GaugeValue, float64(all.Tokens), "token")
	put(sizeDesc, prometheus.GaugeValue, float64(all.Size), "database")
	put(sizeDesc, prometheus.GaugeValue, float64(all.Free), "free")
	put(sizeDesc, prometheus.GaugeValue, float64(all.Log), "log")
	put(waitDesc, prometheus.CounterValue, all.Waited.Seconds())
	put(waitsDesc, prometheus.CounterValue, float64(all.Waiting))
	if last, err := n.service.LastBackup(); err == nil && !last.IsZero() {
		put(backupDesc, prometheus.GaugeValue, time.Since(last).Seconds())
	}
}

// GetMetrics implements [serve.StrictServerInterface].
func (h *upkeepHandlers) GetMetrics(context.Context,
	serve.GetMetricsRequestObject) (serve.GetMetricsResponseObject, error) {
	all, err := h.numbers.registry.Gather()
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	for _, family := range all {
		if _, err := expfmt.MetricFamilyToText(&text, family); err != nil {
			return nil, err
		}
	}
	return serve.GetMetrics200TextResponse(text.String()), nil
}
