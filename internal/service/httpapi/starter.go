package httpapi

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/wire"
)

func starterOut(t records.Starter) wire.Starter {
	out := wire.Starter{Name: t.Name, Source: t.Source, Kind: t.Kind, Releases: t.Releases, CreatedAt: t.CreatedAt,
		Retention: wire.Retention{Last: t.KeepLast, Weeks: t.KeepWeeks}}
	if t.Newest != nil {
		out.Newest = *t.Newest
	}
	return out
}

func (a *api) starterOperations(h huma.API) {
	operation(h, "GET", "/starters", "list-starters", "List starters", func(ctx context.Context, _ *nothing) (*body[[]wire.Starter], error) {
		starters, err := a.db.Starters(ctx)
		return list(starters, err, starterOut)
	})
	operation(h, "GET", "/starters/{name}", "show-starter", "Show a starter",
		func(ctx context.Context, in *Named) (*body[wire.Starter], error) {
			t, err := a.db.Starter(ctx, in.Name)
			return single(t, err, starterOut)
		})
	operation(h, "POST", "/starters", "create-starter", "Create a starter", a.createStarter)
	operation(h, "PATCH", "/starters/{name}", "change-starter", "Change what a starter is built from", a.changeStarter)
	operation(h, "DELETE", "/starters/{name}", "remove-starter", "Remove a starter without releases",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.db.RemoveStarter(ctx, in.Name)
		})
	operation(h, "GET", "/starters/{name}/packing", "show-packing", "Show a packing list with what it would take",
		func(ctx context.Context, in *Named) (*body[wire.Packing], error) {
			t, err := a.db.Starter(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return a.packing(ctx, t)
		})
	operation(h, "PUT", "/starters/{name}/packing", "set-packing", "Replace a packing list", func(ctx context.Context, in *struct {
		Named
		Put[wire.PackingText]
	}) (*body[wire.Packing], error) {
		return a.changeList(ctx, in.Name, func(string) (string, error) {
			_, err := packing.Parse([]byte(in.Body.Text))
			return in.Body.Text, err
		})
	})
	operation(h, "POST", "/starters/{name}/packing", "edit-packing", "Edit a packing list", func(ctx context.Context, in *struct {
		Named
		Put[wire.ListEdit]
	}) (*body[wire.Packing], error) {
		return a.changeList(ctx, in.Name, func(text string) (string, error) { return edited(text, as[packing.Edit](in.Body)) })
	})
	operation(h, "POST", "/starters/{name}/releases", "build-release", "Start a build of a release", func(ctx context.Context, in *struct {
		Named
		Put[wire.NewRelease]
	}) (*begun, error) {
		t, err := a.db.Starter(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		number, err := a.db.NextNumber(ctx, t.ID)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: "build", Title: fmt.Sprintf("Build %s@%d", t.Name, number),
			Target: engine.Target("starter", t.Name)},
			releases.BuildArgs{Starter: t.Name, Note: in.Body.Note, Full: in.Body.Full})
	})
	operation(h, "POST", "/starters/{name}/packing/try", "try-packing", "Say what a packing list would take, without keeping it",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.PackingText]
		}) (*body[wire.Packing], error) {
			t, err := a.db.Starter(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if _, err := packing.Parse([]byte(in.Body.Text)); err != nil {
				return nil, wrong(err)
			}
			t.List = in.Body.Text
			return a.packing(ctx, t)
		})
	operation(h, "PUT", "/starters/{name}/retention", "set-retention", "Say which archives of a starter are kept", a.setRetention)
}

func (a *api) setRetention(ctx context.Context, in *struct {
	Named
	Put[wire.Retention]
}) (*body[wire.Starter], error) {
	if err := a.db.SetRetention(ctx, in.Name, in.Body.Last, in.Body.Weeks); err != nil {
		return nil, err
	}
	what := fmt.Sprintf("set the rules for archives of %s: last %d, one a week for %d weeks", in.Name, in.Body.Last, in.Body.Weeks)
	if err := a.db.Audit(ctx, who(ctx).Name, what); err != nil {
		return nil, err
	}
	t, err := a.db.Starter(ctx, in.Name)
	return single(t, err, starterOut)
}

func (a *api) createStarter(ctx context.Context, in *Put[wire.NewStarter]) (*body[wire.Starter], error) {
	src, err := a.db.Source(ctx, in.Body.Source)
	if err != nil {
		return nil, err
	}
	k, err := kind.Named(a.Kinds, src.Kind)
	if err != nil {
		return nil, err
	}
	name := in.Body.List
	if name == "" {
		name = "starter"
	}
	text, ok := k.Lists[name]
	if !ok {
		return nil, wrong(fmt.Errorf("%s has no stock list %q; it has %s", k.Title, name, strings.Join(slices.Sorted(maps.Keys(k.Lists)), ", ")))
	}
	if len(in.Body.Fields)+len(in.Body.Tasks) > 0 {
		parsed, err := packing.Parse([]byte(text))
		if err != nil {
			return nil, err
		}
		parsed.Fields = append(parsed.Fields, as[[]packing.Field](in.Body.Fields)...)
		parsed.LaunchTasks = append(parsed.LaunchTasks, as[[]packing.LaunchTask](in.Body.Tasks)...)
		if err := parsed.Valid(); err != nil {
			return nil, wrong(err)
		}
		out, err := parsed.Text()
		if err != nil {
			return nil, err
		}
		text = string(out)
	}
	t, err := a.db.AddStarter(ctx, in.Body.Name, &src.ID, src.Kind, text)
	return single(t, err, starterOut)
}

func (a *api) changeList(ctx context.Context, name string, change func(text string) (string, error)) (*body[wire.Packing], error) {
	t, err := a.db.Starter(ctx, name)
	if err != nil {
		return nil, err
	}
	text, err := change(t.List)
	if err != nil {
		return nil, wrong(err)
	}
	if err := a.db.SetList(ctx, name, t.List, text); err != nil {
		return nil, err
	}
	t.List = text
	return a.packing(ctx, t)
}

func edited(text string, e packing.Edit) (string, error) {
	l, err := packing.Parse([]byte(text))
	if err != nil {
		return "", err
	}
	if unknown := e.Apply(l); len(unknown) > 0 {
		return "", fmt.Errorf("%s: not left out, so it cannot be put back; the list leaves out %s", strings.Join(unknown, ", "),
			strings.Join(slices.Concat(l.LeaveOut.Paths, l.LeaveOut.Suffixes, l.LeaveOut.Tables, l.Empty), ", "))
	}
	if err := l.Valid(); err != nil {
		return "", err
	}
	out, err := l.Text()
	return string(out), err
}

// packing totals a list against the source's newest survey.
func (a *api) packing(ctx context.Context, t records.Starter) (*body[wire.Packing], error) {
	l, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	out := wire.Packing{Text: t.List, List: as[*wire.PackingList](l), Saved: map[string]wire.Share{}, Problems: []wire.ListProblem{}}
	if t.SourceID == nil {
		return &body[wire.Packing]{out}, nil
	}
	s, err := a.surveys.get(ctx, *t.SourceID)
	if errors.Is(err, records.ErrNotFound) {
		return &body[wire.Packing]{out}, nil
	}
	if err != nil {
		return nil, err
	}
	m, err := a.Starters.Matcher(t, s.Prefix)
	if err != nil {
		return nil, err
	}
	out.Surveyed = true
	in, left, saved := s.Total(m)
	out.In, out.Out, out.Saved = wire.Share(in), wire.Share(left), as[map[string]wire.Share](saved)
	tables := make([]string, len(s.Tables))
	for i, tb := range s.Tables {
		tables[i] = tb.Name
	}
	used := map[string]bool{}
	for rule := range out.Saved {
		used[rule] = true
	}
	problems := m.Check(func(yield func(string, int64) bool) {
		for _, f := range s.Files {
			if !yield(f.Path, f.Bytes) {
				return
			}
		}
	}, tables, used)
	out.Problems = append(out.Problems, as[[]wire.ListProblem](problems)...)
	return &body[wire.Packing]{out}, nil
}

// surveyCache keeps the survey that was totalled last, so that one change of a packing list after another
// does not read it again.
type surveyCache struct {
	db *records.DB

	mu     sync.Mutex
	source int64
	taken  time.Time
	survey *survey.Survey
}

func (c *surveyCache) get(ctx context.Context, source int64) (*survey.Survey, error) {
	taken, err := c.db.SurveyTime(ctx, source)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.survey != nil && c.source == source && c.taken.Equal(taken) {
		return c.survey, nil
	}
	s, err := c.db.SurveyWithFiles(ctx, source)
	if err == nil {
		c.source, c.taken, c.survey = source, taken, s
	}
	return s, err
}
