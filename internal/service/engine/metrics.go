package engine

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
)

var runSeconds = promauto.NewHistogramVec(prometheus.HistogramOpts{
	Name: "nestseed_run_seconds", Help: "How long runs worked, by job and how they ended.", Buckets: []float64{.1, .5, 2, 10, 60, 300, 1800},
}, []string{"job", "result"})
