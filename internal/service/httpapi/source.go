package httpapi

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/service/sources"
	"nestseed/internal/wire"
)

func sourceOut(s records.Source) wire.Source {
	v := as[*wire.Survey](s.Survey)
	if v != nil {
		v.Areas, v.Folders, v.Largest, v.Tables, v.Findings = filled(v.Areas), filled(v.Folders), filled(v.Largest), filled(v.Tables),
			filled(v.Findings)
		for i := range v.Groups {
			v.Groups[i].Values = filled(v.Groups[i].Values)
		}
	}
	return wire.Source{Name: s.Name, Host: s.Host, Path: s.Path, Kind: s.Kind, Version: s.Version, Address: s.Address, Survey: v}
}

// filled is a list that is empty and not missing.
func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func kindOut(k *kind.Kind) wire.Kind {
	out := wire.Kind{Name: k.Name, Title: k.Title, Lists: slices.Sorted(maps.Keys(k.Lists)), Keep: []wire.Part{}}
	for _, p := range k.Keep {
		out.Keep = append(out.Keep, wire.Part{What: p.What, Title: p.Title})
	}
	return out
}

func (a *api) sourceOperations(h huma.API) {
	operation(h, "GET", "/sources", "list-sources", "List sources", func(ctx context.Context, _ *nothing) (*body[[]wire.Source], error) {
		sources, err := a.db.Sources(ctx)
		return list(sources, err, func(s records.Source) wire.Source {
			out := sourceOut(s)
			if out.Survey != nil {
				out.Survey.Folders, out.Survey.Largest, out.Survey.Tables = []wire.SurveyFolder{}, []wire.SurveyFile{}, []wire.Table{}
			}
			return out
		})
	})
	operation(h, "GET", "/sources/{name}", "show-source", "Show a source with its newest survey",
		func(ctx context.Context, in *Named) (*body[wire.Source], error) {
			s, err := a.db.Source(ctx, in.Name)
			return single(s, err, sourceOut)
		})
	operation(h, "POST", "/sources", "add-source", "Add a source", a.addSource)
	operation(h, "PATCH", "/sources/{name}", "change-source", "Change where a source is read; what is not given stays", a.changeSource)
	operation(h, "DELETE", "/sources/{name}", "remove-source", "Remove a source; the site itself is not touched",
		func(ctx context.Context, in *Named) (*nothing, error) {
			if err := a.db.RemoveSource(ctx, in.Name); err != nil {
				return nil, err
			}
			return nil, a.db.RemoveSecrets(ctx, "source", in.Name)
		})
	operation(h, "POST", "/sources/{name}/survey", "survey-source", "Start a survey", func(ctx context.Context, in *Named) (*begun, error) {
		s, err := a.db.Source(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: "survey", Title: "Survey " + s.Name, Target: engine.Target("source", s.Name)},
			sources.SurveyArgs{SourceID: s.ID})
	})
	operation(h, "POST", "/sources/{name}/check", "check-source", "Start checking a source as a site that people visit",
		func(ctx context.Context, in *Named) (*begun, error) {
			s, err := a.db.Source(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return a.start(ctx, records.Run{Job: "check", Title: "Check source " + s.Name, Target: engine.Target("source", s.Name)},
				sites.CheckArgs{Source: s.Name})
		})
	operation(h, "GET", "/kinds", "list-kinds", "List kinds", func(_ context.Context, _ *nothing) (*body[[]wire.Kind], error) {
		return list(a.Kinds, nil, kindOut)
	})
	operation(h, "GET", "/kinds/{name}", "show-kind", "Show a kind with its definition",
		func(_ context.Context, in *Named) (*body[wire.Kind], error) {
			k, err := kind.Named(a.Kinds, in.Name)
			if err != nil {
				return nil, fmt.Errorf("there is no kind %q: %w; see nestseed kind list", in.Name, records.ErrNotFound)
			}
			out := kindOut(k)
			out.Definition = k.Text()
			return &body[wire.Kind]{out}, nil
		})
}

// addSource looks at the source at once: kind, settings, database and address are found out here. A source
// that is there already keeps its password, and one that cannot be added leaves none behind.
func (a *api) addSource(ctx context.Context, in *Put[wire.NewSource]) (*body[wire.Source], error) {
	b := in.Body
	host, err := a.db.Host(ctx, b.Host)
	if err != nil {
		return nil, err
	}
	if _, err := a.db.Source(ctx, b.Name); err == nil {
		return nil, fmt.Errorf("there is a source %q already: %w; choose another name", b.Name, records.ErrTaken)
	}
	database, password := "", ""
	if b.Database != "" {
		if database, password, err = splitPassword(b.Database, b.DatabasePassword); err != nil {
			return nil, err
		}
	}
	if password != "" {
		if err := a.Vault.Put(ctx, "source", b.Name, "database", password); err != nil {
			return nil, err
		}
	}
	s, err := a.identified(ctx, host, b, database)
	if err == nil {
		s.FromSite, err = a.db.SiteAt(ctx, s.HostID, s.Path)
	}
	if err == nil {
		s, err = a.db.AddSource(ctx, s)
	}
	if err != nil && password != "" && !errors.Is(err, records.ErrTaken) {
		err = errors.Join(err, a.db.RemoveSecrets(ctx, "source", b.Name))
	}
	return single(s, err, sourceOut)
}

// identified finds out what a source is.
func (a *api) identified(ctx context.Context, host records.Host, b wire.NewSource, database string) (records.Source, error) {
	open, err := a.Sources.OpenAt(ctx, host, b.Name, b.Path, database)
	if err != nil {
		return records.Source{}, wrong(err)
	}
	defer open.Close()
	if b.Kind != "" && b.Kind != open.Identity.Kind.Name {
		return records.Source{}, wrong(fmt.Errorf("%s holds %s, not %s", b.Path, open.Identity.Kind.Name, b.Kind))
	}
	address := b.Address
	if address == "" {
		all, err := survey.Addresses(ctx, open.DB, open.Identity)
		if err != nil {
			return records.Source{}, wrong(err)
		}
		address = all[0]
	}
	return records.Source{Name: b.Name, HostID: host.ID, Path: b.Path, Kind: open.Identity.Kind.Name, Version: open.Identity.Version,
		Address: address, Database: database}, nil
}
