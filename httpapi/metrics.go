package httpapi

import (
	"net/http"

	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics serves the service's numbers (OpenMetrics 1.0) to whoever has an administrator's token.
func metrics(sv *server, r chi.Router) {
	r.Get("/metrics", func(w http.ResponseWriter, r *http.Request) {
		list, err := sv.s.History.Metrics(r.Context())
		if err != nil {
			http.Error(w, "the records do not answer", http.StatusServiceUnavailable)
			return
		}
		all := prometheus.NewRegistry()
		all.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
		for _, m := range list {
			kind := prometheus.GaugeValue
			if m.Total {
				kind = prometheus.CounterValue
			}
			all.MustRegister(reading{prometheus.NewDesc("piston_"+m.Name, m.Means, nil, nil), kind, m.Value})
		}
		promhttp.HandlerFor(all, promhttp.HandlerOpts{EnableOpenMetrics: true}).ServeHTTP(w, r)
	})
}

// reading is a metric that is known already.
type reading struct {
	desc  *prometheus.Desc
	kind  prometheus.ValueType
	value float64
}

// Describe implements prometheus.Collector.
func (n reading) Describe(to chan<- *prometheus.Desc) { to <- n.desc }

// Collect implements prometheus.Collector.
func (n reading) Collect(to chan<- prometheus.Metric) {
	to <- prometheus.MustNewConstMetric(n.desc, n.kind, n.value)
}
