package httpapi

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

// NamedCopy is a safety copy of a site.
type NamedCopy struct {
	Named
	ID int64 `path:"id"`
}

// copyOperations are what is done with safety copies.
func (a *api) copyOperations(h huma.API) {
	a.onSite(h, "POST", "/sites/{name}/copies", "keep-copy", "Start making a safety copy of a site", "copy", "Copy site ")
	operation(h, "POST", "/sites/{name}/copies/{id}/put-back", "put-back-copy", "Start putting a safety copy of a site back", a.putBackCopy)
	operation(h, "PUT", "/sites/{name}/copy-rule", "set-copy-rule", "Say which safety copies of a site are kept",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.CopyRule]
		}) (*body[wire.Site], error) {
			if err := a.Sites.SetCopyRule(ctx, in.Name, in.Body.Last, in.Body.Days); err != nil {
				return nil, err
			}
			return a.showSite(ctx, in.Name)
		})
	operation(h, "DELETE", "/sites/{name}/copies/{id}", "drop-copy", "Start removing a safety copy of a site",
		func(ctx context.Context, in *NamedCopy) (*begun, error) {
			s, err := a.db.SiteOrRetired(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			args, err := a.Sites.DropArgs(ctx, s, in.ID)
			if err != nil {
				return nil, err
			}
			return a.start(ctx, records.Run{Job: "drop-copy", Title: "Drop a safety copy of " + s.Name, Target: engine.Target("site", s.Name)}, args)
		})
}

// moveOperations plan and start what changes where a site is, or which code it has.
func (a *api) moveOperations(h huma.API) {
	type moving struct {
		Named
		Put[wire.Move]
	}
	operation(h, "POST", "/sites/{name}/move/plan", "plan-move", "Plan the moving of a site; nothing is touched",
		func(ctx context.Context, in *moving) (*body[wire.MovePlan], error) {
			p, _, err := a.movePlan(ctx, in.Name, in.Body)
			return &body[wire.MovePlan]{p}, err
		})
	operation(h, "POST", "/sites/{name}/move", "move-site", "Start moving a site to another host",
		func(ctx context.Context, in *moving) (*begun, error) {
			p, args, err := a.movePlan(ctx, in.Name, in.Body)
			switch {
			case err != nil:
				return nil, err
			case !p.Ready:
				return nil, &provision.PlanError{Problems: p.Problems}
			case in.Body.Mark != "" && in.Body.Mark != p.Mark:
				return nil, errStale("moving " + p.Site)
			}
			return a.start(ctx, records.Run{Job: "move", Title: "Move site " + p.Site, Target: engine.Target("site", p.Site)}, args)
		})
	type refreshing struct {
		Named
		Put[wire.NewCode]
	}
	operation(h, "POST", "/sites/{name}/refresh/plan", "plan-refresh", "Plan a site's taking the code of a release; nothing is touched",
		func(ctx context.Context, in *refreshing) (*body[wire.Plan], error) {
			p, _, err := a.refreshPlan(ctx, in.Name, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[wire.Plan]{*p}, nil
		})
	operation(h, "POST", "/sites/{name}/refresh", "refresh-site", "Start giving a site the code of a release",
		func(ctx context.Context, in *refreshing) (*begun, error) {
			p, args, err := a.refreshPlan(ctx, in.Name, in.Body)
			if err == nil && in.Body.Mark != "" && in.Body.Mark != p.Mark {
				err = errStale("refreshing " + p.Name)
			}
			if err != nil {
				return nil, err
			}
			return a.startProvision(ctx, args, p, nil)
		})
}

// upkeepOperations are what is done with a site that stands: copies of it, its undoing, its end, and who sees it;
// and the making of many at once.
func (a *api) upkeepOperations(h huma.API) {
	operation(h, "GET", "/sites/{name}/undo", "plan-undo", "Plan the undoing of a site's last provisioning; nothing is touched",
		func(ctx context.Context, in *Named) (*body[wire.UndoPlan], error) {
			p, _, err := a.undoPlan(ctx, in.Name)
			return &body[wire.UndoPlan]{p}, err
		})
	operation(h, "POST", "/sites/{name}/undo", "undo-site", "Start undoing a site's last provisioning", func(ctx context.Context, in *struct {
		Named
		Put[wire.Undo]
	}) (*begun, error) {
		p, args, err := a.undoPlan(ctx, in.Name)
		if err == nil && in.Body.Mark != "" && in.Body.Mark != p.Mark {
			err = errStale("undoing " + p.Site)
		}
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: "undo", Title: "Undo site " + p.Site, Target: engine.Target("site", p.Site)}, args)
	})
	a.copyOperations(h)
	a.moveOperations(h)
	operation(h, "POST", "/sites/{name}/retire", "retire-site", "Start taking a site off its host", func(ctx context.Context, in *struct {
		Named
		Put[wire.Retire]
	}) (*begun, error) {
		s, err := a.db.Site(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: "retire", Title: "Retire site " + s.Name, Target: engine.Target("site", s.Name)},
			retireArgs(s, in.Body.NoCopy))
	})
	a.onSite(h, "POST", "/sites/{name}/rotate", "rotate-site", "Start giving a site new credentials", "rotate", "Rotate site ")
	operation(h, "PUT", "/sites/{name}/held", "hold-site", "Keep visitors out of a site, or let them in",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.Held]
		}) (*body[wire.Held], error) {
			preview, err := a.Sites.Hold(ctx, in.Name, in.Body.Held, in.Body.Visible)
			return &body[wire.Held]{wire.Held{Held: in.Body.Held, Preview: preview}}, err
		})
	operation(h, "POST", "/sites/table/plan", "plan-table", "Plan a site for each row; nothing is touched",
		func(ctx context.Context, in *Put[wire.NewTable]) (*body[wire.TablePlan], error) {
			p, err := a.tablePlan(ctx, in.Body)
			return &body[wire.TablePlan]{p}, err
		})
	operation(h, "POST", "/sites/table", "provision-table", "Start making a site for each row", a.provisionTable)
}

// onSite is an operation that starts a run on a site and needs nothing more.
func (a *api) onSite(h huma.API, method, path, id, summary, job, title string) {
	operation(h, method, path, id, summary, func(ctx context.Context, in *Named) (*begun, error) {
		s, err := a.db.Site(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return a.start(ctx, records.Run{Job: job, Title: title + s.Name, Target: engine.Target("site", s.Name)}, sites.ArgsFor(s))
	})
}

func (a *api) undoPlan(ctx context.Context, name string) (wire.UndoPlan, sites.SiteArgs, error) {
	s, err := a.db.Site(ctx, name)
	if err != nil {
		return wire.UndoPlan{}, sites.SiteArgs{}, err
	}
	args, sentences, err := a.Sites.UndoPlan(ctx, s)
	if err != nil {
		return wire.UndoPlan{}, args, err
	}
	mark, err := digest(args)
	return wire.UndoPlan{Site: s.Name, Sentences: sentences, Mark: mark}, args, err
}

func (a *api) movePlan(ctx context.Context, name string, in wire.Move) (wire.MovePlan, sites.MoveArgs, error) {
	s, err := a.db.Site(ctx, name)
	if err != nil {
		return wire.MovePlan{}, sites.MoveArgs{}, err
	}
	args, sentences, problems, err := a.Sites.MovePlan(ctx, s, in.Host, in.Address, orElse(in.Visible, s.Visible))
	if args.Despite = sites.Despite(in.Despite); err == nil {
		err = args.Despite.Valid()
	}
	if err != nil {
		return wire.MovePlan{}, args, err
	}
	mark, err := digest(args)
	return wire.MovePlan{Site: s.Name, Sentences: sentences, Problems: append([]string{}, problems...), Ready: len(problems) == 0,
		Mark: mark}, args, err
}

// refreshPlan plans a site's taking newer code: of the release that is named, or of the newest of its starter.
func (a *api) refreshPlan(ctx context.Context, name string, in wire.NewCode) (*wire.Plan, sites.ProvisionArgs, error) {
	s, err := a.db.Site(ctx, name)
	if err != nil {
		return nil, sites.ProvisionArgs{}, err
	}
	from := in.From
	if from == "" {
		from, _, _ = strings.Cut(s.Release, "@")
	}
	args := sites.ProvisionArgs{Name: s.Name, Client: s.Client, Release: from, Host: s.Host, Address: s.Address, Refresh: true,
		TenantOf: in.TenantOf, OwnCode: in.OwnCode, Despite: sites.Despite(in.Despite)}
	p, err := a.plan(ctx, args, nil)
	return p, args, err
}

// digest is a mark by which something that was shown is known again.
func digest(v any) (string, error) {
	text, err := json.Marshal(v)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12]), err
}

// putBackCopy makes a site from a safety copy of it: in its own place, or as a new one when it was retired.
func (a *api) putBackCopy(ctx context.Context, in *NamedCopy) (*begun, error) {
	s, err := a.db.SiteOrRetired(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	c, err := a.db.SiteCopyByID(ctx, in.ID)
	if err == nil && c.SiteID != s.ID {
		err = fmt.Errorf("site %s has no safety copy %d: %w", s.Name, in.ID, records.ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	release := s.Release
	if c.ReleaseID != nil {
		r, err := a.db.ReleaseByID(ctx, *c.ReleaseID)
		if err != nil {
			return nil, err
		}
		release = r.Ref()
	}
	args := sites.ProvisionArgs{Name: s.Name, Client: s.Client, Release: release, Host: s.Host, Address: s.Address, Visible: s.Visible,
		Replace: s.RetiredAt == nil, CopyID: c.ID, Hold: s.Held, Mail: !s.Quiet}
	p, err := a.plan(ctx, args, nil)
	if err != nil {
		return nil, err
	}
	return a.startProvision(ctx, args, p, nil)
}

func retireArgs(s records.Site, noCopy bool) sites.SiteArgs {
	args := sites.ArgsFor(s)
	args.NoCopy = noCopy
	return args
}
