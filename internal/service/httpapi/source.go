package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

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
	return wire.Source{Name: s.Name, Host: s.Host, Path: s.Path, Kind: s.Kind, Version: s.Version, Address: s.Address,
		Network: s.Network, SubSite: s.SubSite, Survey: v}
}

// filled is a list that is empty and not missing.
func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
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
		func(ctx context.Context, in *Named) (*body[wire.Source], error) { return a.showSource(ctx, in.Name) })
	operation(h, "GET", "/sources/{name}/values", "list-values", "List options and settings of a source, or the values inside one option",
		func(ctx context.Context, in *struct {
			Named
			Option string `query:"option" maxLength:"300" doc:"list the values inside this option"`
			Find   string `query:"find" maxLength:"200" doc:"words in its name or its text"`
		}) (*body[wire.SourceValues], error) {
			if err := builder(ctx); err != nil {
				return nil, err
			}
			values, more, err := a.Sources.Values(ctx, in.Name, in.Option, in.Find)
			out := wire.SourceValues{Values: make([]wire.SourceValue, len(values)), More: more}
			for i, v := range values {
				out.Values[i] = wire.SourceValue{Option: v.Place.Option, Path: v.Place.Path, Setting: v.Place.Setting, Text: v.Text, Inside: v.Inside,
					Secret: v.Secret}
			}
			return &body[wire.SourceValues]{out}, err
		})
	operation(h, "POST", "/sources", "add-source", "Add a source", func(ctx context.Context, in *Put[wire.NewSource]) (*body[wire.Source],
		error) {
		s, err := a.addSource(ctx, &in.Body)
		return single(s, err, sourceOut)
	})
	operation(h, "PATCH", "/sources/{name}", "change-source", "Change where a source is read; what is not given stays",
		func(ctx context.Context, in *changed[wire.ChangedSource]) (*body[wire.Source], error) {
			b := in.Body
			if b.ConfirmAccount {
				if err := owner(ctx); err != nil {
					return nil, err
				}
			}
			s, err := a.Sources.Change(ctx, in.Name, sources.Change{Path: b.Path, Address: b.Address, Database: b.Database,
				Password: b.DatabasePassword, Prefix: b.Prefix, SubSite: b.SubSite, Confirm: b.ConfirmAccount})
			if err == nil {
				err = a.db.Audit(ctx, who(ctx).Name, "changed source "+s.Name)
			}
			return single(s, err, sourceOut)
		})
	operation(h, "DELETE", "/sources/{name}", "remove-source", "Remove a source; the site itself is not touched",
		func(ctx context.Context, in *Named) (*nothing, error) {
			return nil, a.Sources.Remove(ctx, in.Name)
		})
	operation(h, "POST", "/sources/{name}/survey", "survey-source", "Start a survey", func(ctx context.Context, in *Named) (*begun, error) {
		s, err := a.db.Source(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.survey(ctx, s)
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
}

func (a *api) showSource(ctx context.Context, name string) (*body[wire.Source], error) {
	s, err := a.db.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	out := sourceOut(s)
	accepted, err := a.db.AcceptedOf(ctx, s.ID)
	for _, of := range accepted {
		out.Accepted = append(out.Accepted, acceptanceOut(of))
	}
	return &body[wire.Source]{out}, err
}

func (a *api) addSource(ctx context.Context, b *wire.NewSource) (records.Source, error) {
	if b.ConfirmAccount {
		if err := owner(ctx); err != nil {
			return records.Source{}, err
		}
	}
	return a.Sources.Add(ctx, sources.New{Name: b.Name, Host: b.Host, Path: b.Path, Kind: b.Kind, Address: b.Address,
		Database: b.Database, Password: b.DatabasePassword, Prefix: b.Prefix, SubSite: b.SubSite, Ask: b.Ask, Confirm: b.ConfirmAccount})
}

func (a *api) survey(ctx context.Context, s records.Source) (*begun, error) {
	return a.start(ctx, records.Run{Job: "survey", Title: "Survey " + s.Name, Target: engine.Target("source", s.Name)},
		sources.SurveyArgs{SourceID: s.ID})
}
