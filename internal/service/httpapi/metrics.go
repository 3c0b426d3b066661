package httpapi

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
)

var requestSeconds = promauto.NewHistogramVec(prometheus.HistogramOpts{
	Name: "nestseed_request_seconds", Help: "How long requests took.", Buckets: []float64{.005, .02, .1, .5, 2, 10},
}, []string{"method", "route", "status"})
