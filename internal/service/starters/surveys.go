package starters

import (
	"context"
	"sync"
	"time"

	"nestseed/internal/core/survey"
	"nestseed/internal/service/records"
)

// surveyCache keeps the survey that was totalled last, so that one change of a packing list after another does not read it again.
type surveyCache struct {
	mu     sync.Mutex
	source int64
	taken  time.Time
	survey *survey.Survey
}

func (c *surveyCache) get(ctx context.Context, db *records.DB, source int64) (*survey.Survey, error) {
	taken, err := db.SurveyTime(ctx, source)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.survey != nil && c.source == source && c.taken.Equal(taken) {
		return c.survey, nil
	}
	s, err := db.SurveyWithFiles(ctx, source)
	if err == nil {
		c.source, c.taken, c.survey = source, taken, s
	}
	return s, err
}
