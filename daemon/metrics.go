package daemon

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"vergekeep/archive"
	"vergekeep/core/reason"
	"vergekeep/service/rounds"
	"vergekeep/store"
)

// meter counts for Prometheus.
type meter struct {
	registry *prometheus.Registry
	visits   *prometheus.CounterVec
	failures *prometheus.CounterVec
	took     prometheus.Histogram
}

func newMeter(db *store.DB, a *archive.Archive) *meter {
	m := &meter{
		registry: prometheus.NewRegistry(),
		visits:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vergekeep_visits_total", Help: "Visits by outcome."}, []string{"outcome"}),
		failures: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vergekeep_visit_failures_total", Help: "Failed visits by reason."}, []string{"reason"}),
		took:     prometheus.NewHistogram(prometheus.HistogramOpts{Name: "vergekeep_visit_seconds", Help: "Length of visits.", Buckets: prometheus.ExponentialBuckets(0.01, 2.5, 12)}),
	}
	size := func(name, help string, pick func(revisions, contents, stored int64) int64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, func() float64 {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			r, c, s, err := a.Size(ctx)
			if err != nil {
				return -1
			}
			return float64(pick(r, c, s))
		})
	}
	m.registry.MustRegister(m.visits, m.failures, m.took,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "vergekeep_wal_bytes", Help: "Size of the database's write-ahead log."}, func() float64 { return float64(db.WALSize()) }),
		size("vergekeep_archive_revisions", "Revisions in the archive.", func(r, _, _ int64) int64 { return r }),
		size("vergekeep_archive_stored_bytes", "Bytes that the contents take, compressed.", func(_, _, s int64) int64 { return s }))
	return m
}

// VisitEnded implements rounds.Metrics.
func (m *meter) VisitEnded(o rounds.Outcome, code reason.Code, took time.Duration) {
	m.visits.WithLabelValues(string(o)).Inc()
	if o == rounds.Failed {
		m.failures.WithLabelValues(string(code)).Inc()
	}
	m.took.Observe(took.Seconds())
}

func (m *meter) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}
