package httpapi

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
	"nestseed/internal/service/runs"
	"nestseed/internal/wire"
)

func (a *api) siteOut(s records.Site) wire.Site {
	out := wire.Site{Name: s.Name, Client: s.Client, Host: s.Host, Release: s.Release, Address: s.Address, Folder: s.Plan.Folder, Database: s.Plan.Database,
		Prefix: s.Plan.Prefix, Admin: s.Result.Admin, LoginAt: s.Address, Visible: s.Plan.Visible, Files: s.Result.Files, Rows: s.Result.Rows, Bytes: s.Plan.Bytes,
		Values: s.Plan.Values, Rewritten: s.Result.Rewritten, Steps: s.Result.Steps, MadeAt: s.MadeAt, RunID: s.RunID, Report: s.Report, Tasks: []wire.LaunchTask{}}
	for _, v := range s.Plan.Values {
		if v.Key == "title" {
			out.Title = v.Value
		}
	}
	// All kinds that come with the program say where people log in.
	for _, k := range a.Works.Kinds {
		out.LoginAt = s.Address + "/" + k.Login.Path
	}
	return out
}

func argsOf(in wire.NewSite) runs.ProvisionArgs {
	return runs.ProvisionArgs{Name: in.Name, Client: in.Client, Release: in.From, Host: in.Host, Address: in.Address, Visible: in.Visible}
}

// plan makes a plan and touches nothing.
func (a *api) plan(ctx context.Context, args runs.ProvisionArgs, set map[string]string) (*wire.Plan, error) {
	if err := a.Works.SealValues(&args, set); err != nil {
		return nil, err
	}
	o, err := a.Works.Request(ctx, args, "")
	if err != nil {
		return nil, err
	}
	defer o.Close()
	p, err := provision.Prepare(ctx, o.Request)
	if err != nil {
		return nil, wrong(err)
	}
	if s, err := a.db.Site(ctx, p.Name); err == nil {
		p.Problems = append(p.Problems, fmt.Sprintf("there is a site %s already, at %s; give this one another name", s.Name, s.Address))
	} else if s, err := a.db.Site(ctx, p.Address); err == nil {
		p.Problems = append(p.Problems, fmt.Sprintf("site %s has the address %s already", s.Name, s.Address))
	}
	return &wire.Plan{Plan: *p, Fields: o.Archive.Manifest.List.Fields, Ready: p.Ready()}, nil
}

func (a *api) showSite(ctx context.Context, name string) (*body[wire.Site], error) {
	s, err := a.db.Site(ctx, name)
	if err != nil {
		return nil, err
	}
	tasks, err := a.db.LaunchTasks(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	out := a.siteOut(s)
	for _, t := range tasks {
		page := ""
		if t.Page != "" {
			page = s.Address + "/" + strings.TrimPrefix(t.Page, "/")
		}
		out.Tasks = append(out.Tasks, wire.LaunchTask{Key: t.Key, Title: t.Title, Detail: t.Detail, Page: page, DoneAt: t.DoneAt, DoneBy: t.DoneBy})
	}
	return &body[wire.Site]{out}, nil
}

func (a *api) siteOperations(h huma.API) {
	operation(h, "GET", "/sites", "list-sites", "List sites", func(ctx context.Context, _ *nothing) (*body[[]wire.Site], error) {
		sites, err := a.db.Sites(ctx)
		return list(sites, err, a.siteOut)
	})
	operation(h, "GET", "/sites/{name}", "show-site", "Show a site", func(ctx context.Context, in *Named) (*body[wire.Site], error) {
		return a.showSite(ctx, in.Name)
	})
	operation(h, "PUT", "/sites/{name}/tasks/{key}", "tick-task", "Tick a launch task off, or put it back", func(ctx context.Context, in *struct {
		Named
		Key string `path:"key"`
		Put[wire.Tick]
	}) (*body[wire.Site], error) {
		s, err := a.db.Site(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		if err := a.db.TickTask(ctx, s.ID, in.Key, who(ctx).Name, in.Body.Done); err != nil {
			return nil, err
		}
		return a.showSite(ctx, in.Name)
	})
	operation(h, "POST", "/sites/plan", "plan-site", "Plan a site; nothing is touched", func(ctx context.Context, in *Put[wire.NewSite]) (*body[wire.Plan], error) {
		p, err := a.plan(ctx, argsOf(in.Body), in.Body.Set)
		if err != nil {
			return nil, err
		}
		return &body[wire.Plan]{*p}, nil
	})
	operation(h, "POST", "/sites", "provision-site", "Start making a site", a.provision)
	operation(h, "POST", "/sites/{name}/check", "check-site", "Start checking a site", func(ctx context.Context, in *Named) (*body[wire.Run], error) {
		s, err := a.db.Site(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Sort: "check", Title: "Check " + s.Name, Target: runs.Target("site", s.Name)}, runs.CheckArgs{Site: s.Name})
	})
	operation(h, "GET", "/today", "today", "What there is and what needs attention", a.today)
}

// provision refuses what the plan says cannot be done, before a run is started.
func (a *api) provision(ctx context.Context, in *Put[wire.NewSite]) (*body[wire.Run], error) {
	args := argsOf(in.Body)
	p, err := a.plan(ctx, args, in.Body.Set)
	if err != nil {
		return nil, err
	}
	if !p.Ready {
		sentences := p.Problems
		for _, v := range p.Values {
			if v.Problem != "" {
				sentences = append(sentences, fmt.Sprintf("%s (%s) %s", v.Label, v.Key, v.Problem))
			}
		}
		return nil, fmt.Errorf("%w: %s; see the plan", provision.ErrPlan, strings.Join(sentences, "; "))
	}
	args.Name, args.Address, args.Release = p.Name, p.Address, p.Release
	if err := a.Works.SealValues(&args, in.Body.Set); err != nil {
		return nil, err
	}
	return a.start(ctx, records.Run{Sort: "provision", Title: "Make site " + p.Name, Target: runs.Target("site", p.Name)}, args)
}

func (a *api) today(ctx context.Context, _ *nothing) (*body[wire.Today], error) {
	c, err := a.db.Counts(ctx)
	if err != nil {
		return nil, err
	}
	out := wire.Today{Sources: c.Sources, Starters: c.Starters, Clients: c.Clients, Sites: c.Sites, Hosts: c.Hosts, Working: c.Working, Attention: []wire.Attention{}}
	sites, err := a.db.Sites(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sites {
		if s.Report == nil {
			out.Attention = append(out.Attention, wire.Attention{Severity: "warning", Sentence: s.Name + " was never checked", Link: "/sites/" + s.Name})
		} else if n := s.Report.Faults(); n > 0 {
			out.Attention = append(out.Attention, wire.Attention{Severity: "fault", Sentence: fmt.Sprintf("%d checks of %s found faults", n, s.Name), Link: "/sites/" + s.Name})
		}
	}
	open, err := a.db.OpenTasks(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sites {
		if n := open[s.Name]; n > 0 {
			out.Attention = append(out.Attention, wire.Attention{Severity: "note", Sentence: fmt.Sprintf("%s has %d launch tasks to do", s.Name, n), Link: "/sites/" + s.Name})
		}
	}
	sources, err := a.db.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sources {
		if s.Survey == nil {
			out.Attention = append(out.Attention, wire.Attention{Severity: "note", Sentence: s.Name + " was never surveyed", Link: "/sources/" + s.Name})
			continue
		}
		for _, f := range s.Survey.Findings {
			if f.Severity != "note" {
				out.Attention = append(out.Attention, wire.Attention{Severity: f.Severity, Sentence: fmt.Sprintf("%s: %s, %s", s.Name, f.What, f.Where), Link: "/sources/" + s.Name})
			}
		}
	}
	failed, err := a.db.Runs(ctx, 0, 20)
	for _, r := range failed {
		if r.Status == records.Failed {
			out.Attention = append(out.Attention, wire.Attention{Severity: "fault", Sentence: r.Title + " failed: " + r.Error, Link: fmt.Sprintf("/runs/%d", r.ID)})
		}
	}
	return &body[wire.Today]{out}, err
}
