package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

func (a *api) siteOut(s records.Site) wire.Site {
	out := wire.Site{Name: s.Name, Client: s.Client, Host: s.Host, Release: s.Release, Address: s.Address, Folder: s.Plan.Folder,
		Database: s.Database,
		Prefix:   s.Prefix, Admin: s.Admin, LoginAt: s.Address, Visible: s.Visible, Files: s.Result.Files, Rows: s.Result.Rows,
		Bytes:  s.Plan.Bytes,
		Values: as[[]wire.Value](s.Plan.Values), Rewritten: as[wire.RewriteTally](s.Result.Rewritten),
		Steps: as[[]wire.StepTime](s.Result.Steps), MadeAt: s.MadeAt, RunID: s.RunID, Report: as[*wire.Report](s.Report),
		Tasks: []wire.LaunchTask{},
		Held:  s.Held, Quiet: s.Quiet, Behind: s.Behind, CopyRule: wire.CopyRule{Last: s.KeepLast,
			Days: s.KeepDays}, Adjustments: s.Result.Adjustments, Upgraded: s.Result.Upgraded, RetiredAt: s.RetiredAt, Copies: []wire.SafetyCopy{},
		Kept: s.Result.Kept, Install: s.Install, Accounts: sites.LoginSentence(s.Name, s.Result)}
	if l := s.Lead; l != nil {
		out.Lead = &wire.Lead{Sentence: l.Sentence(), There: l.There, To: l.To, Since: l.Since, At: l.At}
	}
	for _, v := range s.Plan.Values {
		if v.Key == "title" {
			out.Title = v.Value
		}
	}
	if k, err := a.Kinds.Named(context.Background(), s.Kind); err == nil {
		out.LoginAt = s.Address + "/" + k.Login.Path
	}
	if s.Report != nil && s.Report.LoginAt != "" {
		out.LoginAt = s.Report.LoginAt
	}
	return out
}

func argsOf(in wire.NewSite) sites.ProvisionArgs {
	return sites.ProvisionArgs{Name: in.Name, Client: in.Client, Release: in.From, Host: in.Host, Address: in.Address, Visible: in.Visible,
		Replace: in.Replace, Keep: in.Keep, Hold: in.Hold, Mail: in.Mail, MailAddresses: in.MailAddresses, Mend: in.Mend,
		Despite:  sites.Despite(in.Despite),
		TenantOf: in.TenantOf, OwnCode: in.OwnCode}
}

// ofInstall fills in what the install of a tenant says: the host, and the release whose code it has placed last. Errors:
// input.ErrWrong where release or host are said by nobody.
func (a *api) ofInstall(ctx context.Context, tenantOf string, from, host *string) error {
	if tenantOf != "" {
		i, err := a.db.Install(ctx, tenantOf)
		if err != nil {
			return err
		}
		codes, err := a.db.InstallCodes(ctx, i.ID)
		if err != nil {
			return err
		}
		if *host = cmp.Or(*host, i.Host); len(codes) > 0 {
			*from = cmp.Or(*from, codes[0].Release)
		}
	}
	if *from == "" || *host == "" {
		return input.Wrongf("say which release the site is made from and which host it goes on, or the install whose code it is to share")
	}
	return nil
}

// plan makes a plan and touches nothing.
func (a *api) plan(ctx context.Context, args sites.ProvisionArgs, set map[string]string) (*wire.Plan, error) {
	if err := args.Despite.Valid(); err != nil {
		return nil, err
	}
	if err := a.ofInstall(ctx, args.TenantOf, &args.Release, &args.Host); err != nil {
		return nil, err
	}
	if len(args.Keep) > 0 && !args.Replace {
		return nil, input.Wrongf("parts are kept of the site that is replaced, and nothing is to be replaced")
	}
	if err := a.Sites.SealValues(&args, set); err != nil {
		return nil, err
	}
	o, err := a.Sites.Request(ctx, args, "")
	if err != nil {
		return nil, err
	}
	defer o.Close()
	p, err := provision.Prepare(ctx, o.Request)
	if err != nil {
		return nil, input.Wrong(err)
	}
	if err := a.Sites.CheckPlan(ctx, p, args); err != nil {
		return nil, err
	}
	if args.CopyID == 0 && !args.Refresh {
		r, err := a.db.Release(ctx, args.Release)
		if err != nil {
			return nil, err
		}
		places, err := a.Sites.Places(ctx, r, o.Archive)
		if err != nil {
			return nil, err
		}
		p.Counts, p.Samples = places.Counts, places.Samples
	}
	mark, err := markOf(p)
	if err != nil {
		return nil, err
	}
	checks, err := a.Sites.Expect(ctx, o, p)
	p.ExpectedMillis += checks
	return &wire.Plan{SitePlan: as[wire.SitePlan](*p), Fields: as[[]wire.Field](o.Archive.Manifest.List.Fields), Ready: p.Ready(),
		Mark: mark}, err
}

// markOf tells plans apart that say different things. Free space, which the steps name, and the time it may take change by themselves; the
// steps follow from the rest.
func markOf(p *provision.Plan) (string, error) {
	same := *p
	same.FreeBytes, same.ExpectedMillis, same.Steps = 0, 0, nil
	return digest(same)
}

// errStale says that things have changed since a plan was looked at.
func errStale(what string) error {
	return fmt.Errorf("%w: things have changed since the plan of %s was made; look at a new one", provision.ErrPlan, what)
}

func (a *api) showSite(ctx context.Context, name string) (*body[wire.Site], error) {
	s, err := a.db.SiteOrRetired(ctx, name)
	if err != nil {
		return nil, err
	}
	out := a.siteOut(s)
	if out.Tasks, err = a.tasksOf(ctx, s); err != nil {
		return nil, err
	}
	line, err := a.db.Descent(ctx, s)
	if err != nil {
		return nil, err
	}
	for _, f := range line {
		out.Descent = append(out.Descent, wire.Ancestor(f))
	}
	links, err := a.db.Handovers(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	for _, h := range links {
		out.Handovers = append(out.Handovers, handoverOut(h))
	}
	accepted, err := a.db.AcceptedOn(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	if s.Report != nil {
		for i := range s.Report.Checks {
			if of := records.CoveredBy(accepted, &s.Report.Checks[i]); of != nil {
				out.Accepted = append(out.Accepted, acceptanceOut(*of))
			}
		}
	}
	copies, err := a.db.SiteCopies(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range copies {
		release := ""
		if c.ReleaseID != nil {
			if r, err := a.db.ReleaseByID(ctx, *c.ReleaseID); err == nil {
				release = r.Ref()
			}
		}
		cp := wire.SafetyCopy{ID: c.ID, MadeAt: c.MadeAt, Why: c.Why, Bytes: c.Bytes, Release: release, Where: cmp.Or(c.Archive, c.Folder)}
		if c.Why == records.CopyMoved {
			if h, err := a.db.HostByID(ctx, *c.HostID); err == nil {
				cp.Host = h.Name
			}
		}
		if c.Serves() {
			cp.Serves = c.Address
		}
		out.Copies = append(out.Copies, cp)
	}
	return &body[wire.Site]{out}, nil
}

// tasksOf returns what must be, or was, done on a site.
func (a *api) tasksOf(ctx context.Context, s records.Site) ([]wire.LaunchTask, error) {
	tasks, err := a.db.LaunchTasks(ctx, s.ID)
	out := []wire.LaunchTask{}
	for _, t := range tasks {
		out = append(out, wire.LaunchTask{Key: t.Key, Title: t.Title, Detail: t.Detail, Page: pageOf(s.Address, t.Page), Due: t.Due,
			DoneAt: t.DoneAt, DoneBy: t.DoneBy})
	}
	return out, err
}

func (a *api) siteOperations(h huma.API) {
	operation(h, "GET", "/sites", "list-sites", "List sites", a.listSites)
	operation(h, "GET", "/sites/{name}", "show-site", "Show a site", func(ctx context.Context, in *Named) (*body[wire.Site], error) {
		return a.showSite(ctx, in.Name)
	})
	operation(h, "PUT", "/sites/{name}/tasks/{key}", "tick-task", "Tick a launch task off, or put it back",
		func(ctx context.Context, in *struct {
			Named
			Key string `path:"key"`
			Put[wire.Tick]
		}) (*body[wire.Site], error) {
			due, err := dueDay(in.Body.Due)
			if err != nil {
				return nil, err
			}
			if err := a.Sites.TickTask(ctx, in.Name, in.Key, who(ctx).Name, in.Body.Done); err != nil {
				return nil, err
			}
			if due != nil {
				if err := a.Sites.SetTaskDue(ctx, in.Name, in.Key, *due); err != nil {
					return nil, err
				}
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "POST", "/sites/plan", "plan-site", "Plan a site; nothing is touched",
		func(ctx context.Context, in *Put[wire.NewSite]) (*body[wire.Plan], error) {
			p, err := a.plan(ctx, argsOf(in.Body), in.Body.Set)
			if err != nil {
				return nil, err
			}
			return &body[wire.Plan]{*p}, nil
		})
	operation(h, "POST", "/sites", "provision-site", "Start making a site", a.provision)
	operation(h, "POST", "/sites/{name}/check", "check-site", "Start checking a site", func(ctx context.Context, in *checkIn) (*begun, error) {
		s, err := a.db.Site(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: "check", Title: "Check " + s.Name, Target: engine.Target("site", s.Name)},
			sites.CheckArgs{Site: s.Name, Full: in.Full})
	})
	a.upkeepOperations(h)
	a.handoverOperations(h)
	a.sideBySideOperations(h)
	a.acceptOperations(h)
	operation(h, "GET", "/today", "today", "What there is and what needs attention", a.today)
}

type checkIn struct {
	Named
	Full bool `query:"full" doc:"open all pages, also of templates of which some were opened, and read all files again, also those that have not changed"`
}

// provision refuses what the plan says cannot be done, before a run is started.
func (a *api) provision(ctx context.Context, in *Put[wire.NewSite]) (*begun, error) {
	args := argsOf(in.Body)
	if err := a.ofInstall(ctx, args.TenantOf, &args.Release, &args.Host); err != nil {
		return nil, err
	}
	p, err := a.plan(ctx, args, in.Body.Set)
	if err != nil {
		return nil, err
	}
	if in.Body.Plan != "" && in.Body.Plan != p.Mark {
		return nil, errStale(p.Name)
	}
	return a.startProvision(ctx, args, p, in.Body.Set)
}

func (a *api) startProvision(ctx context.Context, args sites.ProvisionArgs, p *wire.Plan, set map[string]string) (*begun, error) {
	if !p.Ready {
		fields := provision.Plan{Problems: p.Problems, Missing: p.Missing, Values: as[[]provision.Value](p.Values)}
		return nil, fmt.Errorf("%w; see the plan", fields.Err())
	}
	args.Name, args.Address = p.Name, p.Address
	title := "Make site " + p.Name
	if args.CopyID == 0 {
		args.Release = p.Release
	} else {
		title = "Put back a copy of site " + p.Name
	}
	switch {
	case args.Refresh:
		title = "Refresh site " + p.Name
	case args.Replace && args.CopyID == 0:
		title = "Replace site " + p.Name
	}
	if err := a.Sites.SealValues(&args, set); err != nil {
		return nil, err
	}
	return a.start(ctx, records.Run{Job: "provision", Title: title, Target: engine.Target("site", p.Name)}, args)
}

// dueDay is the day that a request names; nil where it names none, and the zero time for "none any more".
func dueDay(given *string) (*time.Time, error) {
	if given == nil {
		return nil, nil
	}
	day, err := time.Parse(time.DateOnly, *given)
	if err != nil {
		return nil, input.Wrongf("%q is not a day like 2026-12-01", *given)
	}
	return &day, nil
}
