package check

import (
	"time"

	"nestseed/internal/core/parallel"
)

// pace is how many requests a site is sent at a time: more, as long as it answers more of them in the same time.
type pace struct {
	limit  int
	best   float64 // requests in a second
	bestAt int     // the limit with which they were
}

const (
	firstPace = 2
	mostPace  = 16
	better    = 1.15 // times as many requests in a second are worth more at a time
)

// each calls do for each item, so many at a time.
func (p *pace) each(n int, do func(i int)) error {
	p.limit = max(p.limit, firstPace)
	for from := 0; from < n; {
		to := min(n, from+2*p.limit)
		start := time.Now()
		group := parallel.Group{}
		group.SetLimit(p.limit)
		for i := from; i < to; i++ {
			group.Go(func() error { do(i); return nil })
		}
		if err := group.Wait(); err != nil {
			return err
		}
		if to-from == 2*p.limit {
			p.learn(float64(to-from) / time.Since(start).Seconds())
		}
		from = to
	}
	return nil
}

// learn decides on the next limit by how many requests were answered in a second with this one.
func (p *pace) learn(rate float64) {
	switch {
	case rate > p.best*better:
		p.best, p.bestAt = rate, p.limit
		p.limit = min(2*p.limit, mostPace)
	default:
		p.limit = max(p.bestAt, firstPace)
	}
}
