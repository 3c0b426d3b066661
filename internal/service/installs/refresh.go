package installs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
)

// Plan is what will be done with the sites of an install, in order.
type Plan struct {
	Install  string
	Host     string
	Release  string // whose code they will share; "" where each goes back to what it was
	Place    bool   // that code has to be placed first
	Sites    []PlannedSite
	Problems []string
}

// PlannedSite is what will be done with one.
type PlannedSite struct {
	Site    string
	Address string
	From    string // the release whose code it shares now
	To      string
	There   bool // it shares that already, and stays
	// Problem says why it cannot be done.
	Problem string
	undo    sites.SiteArgs
}

// RefreshArgs ask for all sites of an install to share the code of a release.
type RefreshArgs struct {
	Install string        `json:"install"`
	Release string        `json:"release,omitempty"`
	First   []string      `json:"first,omitempty"` // sites that come before the others, in this order
	Despite sites.Despite `json:"despite,omitzero"`
}

// withCode returns an install with its code, newest first.
func (svc *Installs) withCode(ctx context.Context, name string) (records.Install, []records.InstallCode, error) {
	i, err := svc.DB.Install(ctx, name)
	if err != nil {
		return i, nil, err
	}
	codes, err := svc.DB.InstallCodes(ctx, i.ID)
	return i, codes, err
}

// RefreshPlan says what bringing the sites of an install to a release will do: its newest of the same starter unless one is named.
func (svc *Installs) RefreshPlan(ctx context.Context, args RefreshArgs) (*Plan, error) {
	i, codes, err := svc.withCode(ctx, args.Install)
	if err != nil {
		return nil, err
	}
	if len(codes) == 0 {
		return nil, fmt.Errorf("install %s has no code: %w", i.Name, records.ErrNotFound)
	}
	name := args.Release
	if name == "" {
		name = starterOf(codes[0].Release)
	}
	r, err := svc.DB.Release(ctx, name)
	if err != nil {
		return nil, err
	}
	p := &Plan{Install: i.Name, Host: i.Host, Release: r.Ref(), Sites: []PlannedSite{}, Problems: []string{}}
	if starterOf(codes[0].Release) != starterOf(r.Ref()) && codes[0].Kind != r.Manifest.Kind {
		p.Problems = append(p.Problems, fmt.Sprintf("the sites of install %s are of the kind %s, and %s is of %s", i.Name, codes[0].Kind, r.Ref(),
			r.Manifest.Kind))
	}
	p.Place = !slices.ContainsFunc(codes, func(c records.InstallCode) bool { return c.ReleaseID == r.ID })
	if p.Place {
		if _, err := svc.Check(ctx, PlaceArgs{i.Name, i.Host, r.Ref()}); errors.Is(err, provision.ErrPlan) {
			p.Problems = append(p.Problems, err.Error())
		} else if err != nil {
			return nil, err
		}
	}
	tenants, err := svc.inOrder(ctx, i, args.First)
	if err != nil {
		return nil, err
	}
	for _, s := range tenants {
		from := codeNamed(codes, *s.CodeID)
		p.Sites = append(p.Sites, PlannedSite{Site: s.Name, Address: s.Address, From: from.Release, To: r.Ref(), There: from.ReleaseID == r.ID})
	}
	return p, nil
}

func codeNamed(codes []records.InstallCode, id int64) records.InstallCode {
	for _, c := range codes {
		if c.ID == id {
			return c
		}
	}
	return records.InstallCode{}
}

func starterOf(ref string) string {
	for i := range ref {
		if ref[i] == '@' {
			return ref[:i]
		}
	}
	return ref
}

// inOrder lists the sites of an install: those that are named, and then the others by name. Errors: input.ErrWrong.
func (svc *Installs) inOrder(ctx context.Context, i records.Install, first []string) ([]records.Site, error) {
	tenants, err := svc.DB.Tenants(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	for _, name := range first {
		if !slices.ContainsFunc(tenants, func(s records.Site) bool { return s.Name == name }) {
			return nil, input.Wrongf("site %s does not share the code of install %s", name, i.Name)
		}
	}
	slices.SortStableFunc(tenants, func(a, b records.Site) int { return rank(first, a.Name) - rank(first, b.Name) })
	return tenants, nil
}

func rank(first []string, name string) int {
	if at := slices.Index(first, name); at >= 0 {
		return at
	}
	return len(first)
}

// Outcome is what became of a site.
type Outcome struct {
	Site   string `json:"site"`
	Status string `json:"status"` // done, there, failed, or waiting: it was not begun, or has not ended
	Error  string `json:"error,omitempty"`
	RunID  int64  `json:"run_id,omitempty"`
	Faults int    `json:"faults"` // that the checks found
	Before int    `json:"before"` // faults before it was begun
}

// Result is what became of all.
type Result struct {
	Install string    `json:"install"`
	Release string    `json:"release,omitempty"`
	Sites   []Outcome `json:"sites"`
	Done    int       `json:"done"`
}

// Refresh places code where it has to, and brings one site after the other to it. Each is checked before the next is begun, and with a
// fault that it did not have the others stay where they are. It is called again whenever a run that it waits for has ended.
func (svc *Installs) Refresh(ctx context.Context, run engine.Run, args RefreshArgs, report progress.Reporter) (*Result, error) {
	p, err := svc.RefreshPlan(ctx, args)
	if err == nil && len(p.Problems) > 0 {
		err = &provision.PlanError{Problems: p.Problems}
	}
	if err != nil {
		return nil, err
	}
	if p.Place {
		if run.Progress.Step == "" {
			report.Step("Place the code of "+p.Release, progress.Amount{})
		}
		child, err := svc.child(ctx, run, engine.Run{Job: "install-code", Title: "Place code of " + p.Release,
			Target: engine.Target("install code", p.Install), Purpose: "code"}, PlaceArgs{p.Install, p.Host, p.Release})
		if err != nil {
			return nil, err
		}
		if child.EndedAt == nil {
			return nil, &engine.Aside{First: child.ID}
		}
	}
	return svc.each(ctx, run, p, report, func(ctx context.Context, _ PlannedSite, s records.Site) (engine.Run, error) {
		return svc.child(ctx, run, engine.Run{Job: "provision", Title: "Refresh site " + s.Name, Target: engine.Target("site", s.Name),
			Purpose: "refresh " + s.Name}, sites.ProvisionArgs{Name: s.Name, Client: s.Client, Release: p.Release, Host: s.Host, Address: s.Address,
			Refresh: true, TenantOf: p.Install, Despite: args.Despite})
	})
}

// soFar is what a run that was aside had come to.
func soFar(run engine.Run, p *Plan) (*Result, error) {
	res := &Result{Install: p.Install, Release: p.Release}
	if len(run.Result) > 0 {
		if err := json.Unmarshal(run.Result, res); err != nil || len(res.Sites) > 0 {
			return res, err
		}
	}
	for _, s := range p.Sites {
		o := Outcome{Site: s.Site, Status: "waiting"}
		if s.There {
			o.Status = "there"
		}
		res.Sites = append(res.Sites, o)
	}
	return res, nil
}

// each does something with one site after the other, and stops at the first that fails or has new faults. begin returns the run that does
// it, and is called again until that has ended.
func (svc *Installs) each(ctx context.Context, run engine.Run, p *Plan, report progress.Reporter,
	begin func(context.Context, PlannedSite, records.Site) (engine.Run, error)) (*Result, error) {
	res, err := soFar(run, p)
	if err != nil {
		return nil, err
	}
	const step = "Sites, one after the other"
	if run.Progress.Step != step {
		report.Step(step, progress.Amount{Files: int64(len(res.Sites))})
	}
	for i := range res.Sites {
		out := &res.Sites[i]
		if out.Status != "waiting" {
			if run.Progress.Step != step { // it begins, or was interrupted
				report.Add(progress.Amount{Files: 1})
			}
			continue
		}
		if err := ctx.Err(); err != nil {
			return res, err
		}
		planned := PlannedSite{Site: out.Site}
		if at := slices.IndexFunc(p.Sites, func(s PlannedSite) bool { return s.Site == out.Site }); at >= 0 {
			planned = p.Sites[at]
		}
		child, err := svc.one(ctx, planned, out, begin)
		if err != nil {
			return res, fmt.Errorf("%w. %d sites are done, and the others stay where they were. Once that is seen to, the same asked for again "+
				"goes on with them; undo for the install brings those that are done back", err, res.Done)
		}
		if child.EndedAt == nil {
			return res, &engine.Aside{First: child.ID, From: float64(i) / float64(len(res.Sites)), To: float64(i+1) / float64(len(res.Sites))}
		}
		res.Done++
		report.Note(fmt.Sprintf("%s: done, %d checks failed, none of them new", planned.Site, out.Faults))
	}
	return res, nil
}

// one begins what is done with a site, or says what came of it.
func (svc *Installs) one(ctx context.Context, planned PlannedSite, out *Outcome,
	begin func(context.Context, PlannedSite, records.Site) (engine.Run, error)) (engine.Run, error) {
	s, err := svc.DB.Site(ctx, planned.Site)
	if err != nil {
		return engine.Run{}, err
	}
	if out.RunID == 0 && s.Report != nil {
		out.Before = s.Report.Faults()
	}
	fail := func(err error) (engine.Run, error) {
		out.Status, out.Error = records.Failed, err.Error()
		return engine.Run{}, fmt.Errorf("site %s: %w", s.Name, err)
	}
	child, err := begin(ctx, planned, s)
	if err != nil {
		return fail(err)
	}
	out.RunID = child.ID
	if child.EndedAt == nil {
		return child, nil
	}
	if s, err = svc.DB.Site(ctx, planned.Site); err != nil {
		return fail(err)
	}
	if s.Report != nil {
		out.Faults = s.Report.Faults()
	}
	fresh := out.Faults > out.Before // of a check that compares with nothing
	if child.Job == "provision" {
		names, err := sites.FaultsOf(child)
		if err != nil {
			return fail(err)
		}
		fresh = len(names) > 0
	}
	if fresh {
		return fail(fmt.Errorf("%d checks failed, %d before: %s", out.Faults, out.Before, sites.Faults(s.Report.Since(nil))))
	}
	out.Status = records.Done
	return child, nil
}

// child starts a run for a run, or returns the one that was started for the same purpose. Errors: what that has failed of.
func (svc *Installs) child(ctx context.Context, of engine.Run, run engine.Run, args any) (engine.Run, error) {
	run.ParentID, run.Who = &of.ID, of.Who
	child, err := svc.Engine.Start(ctx, run, args)
	if err == nil && child.EndedAt != nil && child.Status != records.Done {
		err = errors.New(child.Error)
	}
	return child, err
}

// UndoPlan says which sites of an install go back to the code that they shared before, as they stood then.
func (svc *Installs) UndoPlan(ctx context.Context, args RefreshArgs) (*Plan, error) {
	i, codes, err := svc.withCode(ctx, args.Install)
	if err != nil {
		return nil, err
	}
	tenants, err := svc.inOrder(ctx, i, args.First)
	if err != nil {
		return nil, err
	}
	p := &Plan{Install: i.Name, Host: i.Host, Sites: []PlannedSite{}, Problems: []string{}}
	newest := int64(0)
	for _, s := range tenants {
		newest = max(newest, *s.CodeID)
	}
	for _, s := range tenants {
		if *s.CodeID != newest {
			continue
		}
		undo, _, err := svc.Sites.UndoPlan(ctx, s)
		if err != nil {
			return nil, err
		}
		if undo.CopyID == 0 {
			continue // nothing stood there before it
		}
		c, err := svc.DB.SiteCopyByID(ctx, undo.CopyID)
		if err != nil {
			return nil, err
		}
		if c.CodeID == nil || *c.CodeID == newest || codeNamed(codes, *c.CodeID).ID == 0 {
			continue
		}
		p.Sites = append(p.Sites, PlannedSite{Site: s.Name, Address: s.Address, From: codeNamed(codes, newest).Release,
			To: codeNamed(codes, *c.CodeID).Release, undo: undo})
	}
	if len(p.Sites) == 0 {
		p.Problems = append(p.Problems, fmt.Sprintf("no site of install %s has shared other code of it before; there is nothing to go back to",
			i.Name))
	}
	return p, nil
}

// Undo brings the sites of an install back to the code that they shared before, with content and database as they stood then. It is
// called again whenever a run that it waits for has ended.
func (svc *Installs) Undo(ctx context.Context, run engine.Run, args RefreshArgs, report progress.Reporter) (*Result, error) {
	p, err := svc.UndoPlan(ctx, args)
	if err == nil && len(p.Problems) > 0 && len(run.Result) == 0 {
		err = &provision.PlanError{Problems: p.Problems}
	}
	if err != nil {
		return nil, err
	}
	return svc.each(ctx, run, p, report, func(ctx context.Context, planned PlannedSite, s records.Site) (engine.Run, error) {
		child, err := svc.child(ctx, run, engine.Run{Job: "undo", Title: "Undo site " + s.Name, Target: engine.Target("site", s.Name),
			Purpose: "undo " + s.Name}, planned.undo)
		if err != nil || child.EndedAt == nil {
			return child, err
		}
		return svc.child(ctx, run, engine.Run{Job: "check", Title: "Check " + s.Name, Target: engine.Target("site", s.Name),
			Purpose: "check " + s.Name}, sites.CheckArgs{Site: s.Name})
	})
}
