package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func (a *api) sampleOperations(h huma.API) {
	operation(h, "GET", "/sample", "show-sample", "Whether there is a sample to begin with: only where there is nothing yet",
		func(ctx context.Context, _ *nothing) (*body[wire.SampleThere], error) {
			s, err := a.sample(ctx)
			if err != nil || s == nil {
				return &body[wire.SampleThere]{}, err
			}
			return &body[wire.SampleThere]{wire.SampleThere{There: true, About: s.About}}, nil
		})
	operation(h, "POST", "/sample", "take-sample", "Begin with the sample: add its host, site and clients, and start surveying the site",
		a.takeSample)
}

// sample reads the file that the settings name. There is none where there is a source already: it is for those who have nothing.
func (a *api) sample(ctx context.Context) (*wire.Sample, error) {
	if a.Sample == "" {
		return nil, nil
	}
	text, err := os.ReadFile(a.Sample)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // what it describes is not running
	}
	if err != nil {
		return nil, err
	}
	s := &wire.Sample{}
	if err := json.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("the file of the sample, %s: %w", a.Sample, err)
	}
	all, err := a.db.Sources(ctx)
	if len(all) > 0 {
		s = nil
	}
	return s, err
}

// takeSample adds what is in the sample. What is there already, as when an earlier try was cut off, stays as it is.
func (a *api) takeSample(ctx context.Context, _ *nothing) (*begun, error) {
	if err := owner(ctx); err != nil {
		return nil, err
	}
	s, err := a.sample(ctx)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, input.Wrongf("there is no sample to begin with, or there is a source already")
	}
	if _, err := a.addHost(ctx, &s.Host); err != nil && !errors.Is(err, records.ErrTaken) {
		return nil, err
	}
	for _, c := range s.Clients {
		if err := a.Clients.Add(ctx, c.Name, c.Settings); err != nil && !errors.Is(err, records.ErrTaken) {
			return nil, err
		}
	}
	source, err := a.addSource(ctx, &s.Source)
	if err != nil {
		return nil, err
	}
	return a.survey(ctx, source)
}
