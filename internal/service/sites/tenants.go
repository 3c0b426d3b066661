package sites

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/packing"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// sharing completes a request with the code that the site shares, and that the one it replaces does.
func (svc *Sites) sharing(ctx context.Context, o *Opened, args ProvisionArgs, h records.Host, r records.Release) error {
	if o.Old != nil && o.Old.CodeID != nil {
		was, err := svc.DB.InstallCode(ctx, *o.Old.CodeID)
		if err != nil {
			return err
		}
		o.Request.Replace.Shared = sharedOf(was)
		if args.TenantOf == "" && !args.OwnCode {
			args.TenantOf = was.Install
		}
	}
	code, err := svc.codeFor(ctx, args, r)
	if err != nil {
		return err
	}
	if code != nil {
		if code.HostID != h.ID {
			return fmt.Errorf("%w: install %s is on another host than %s; choose that host, or give site %s code of its own first",
				provision.ErrPlan, code.Install, h.Name, args.Name)
		}
		if err := svc.nameFree(ctx, *code, args.Name, o.Request.Address); err != nil {
			return err
		}
		if was := o.Request.Replace; was == nil || was.Shared == nil || was.Shared.Install != code.Install {
			if err := svc.apart(ctx, o, *code, h); err != nil {
				return err
			}
		}
		o.Request.Shared, o.Site.CodeID = sharedOf(*code), &code.ID
	}
	if o.Request.Shared == nil && (o.Request.Replace == nil || o.Request.Replace.Shared == nil) {
		return nil
	}
	plain, err := svc.Hosts.PlainFiles(ctx, h)
	if err != nil {
		return err
	}
	o.Request.Plain = plain
	o.close = append(o.close, func() { plain.Close() })
	return nil
}

// FolderOfCode is where all shared code lies among a host's files. No web server leads a name there: it begins with a dot.
const FolderOfCode = ".installs"

func sharedOf(c records.InstallCode) *provision.Shared {
	return &provision.Shared{Install: c.Install, Folder: c.Folder, All: FolderOfCode, Links: c.Links}
}

// codeFor returns the code that a site is to share; nil for one that has its own. Errors: provision.ErrPlan where the install has none of
// the release.
func (svc *Sites) codeFor(ctx context.Context, args ProvisionArgs, r records.Release) (*records.InstallCode, error) {
	if args.CopyID != 0 { // it is again what it was
		c, err := svc.DB.SiteCopyByID(ctx, args.CopyID)
		if err != nil || c.CodeID == nil {
			return nil, err
		}
		code, err := svc.DB.InstallCode(ctx, *c.CodeID)
		return &code, err
	}
	if args.TenantOf == "" {
		return nil, nil
	}
	i, err := svc.DB.Install(ctx, args.TenantOf)
	if err != nil {
		return nil, err
	}
	all, err := svc.DB.InstallCodes(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	var has []string
	for _, c := range all {
		if c.ReleaseID == r.ID {
			return &c, nil
		}
		has = append(has, c.Release)
	}
	return nil, fmt.Errorf("%w: install %s has no code of %s; it has that of %s. Refresh the install to bring it to all of its sites, "+
		"or give the site code of its own", provision.ErrPlan, i.Name, r.Ref(), strings.Join(has, ", "))
}

// apart refuses to let a site share code with those of other clients where nothing keeps them apart. Errors: provision.ErrPlan.
func (svc *Sites) apart(ctx context.Context, o *Opened, code records.InstallCode, h records.Host) error {
	why := o.Request.Runtime.TellsApart()
	if why == "" {
		return nil
	}
	clients, err := svc.DB.ClientsOfInstall(ctx, code.InstallID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(clients, func(id int64) bool { return id != o.Site.ClientID }) {
		return fmt.Errorf("%w: sites of different clients cannot share code on host %s: %s", provision.ErrPlan, h.Name, why)
	}
	return nil
}

// nameFree refuses a host name by which another site of the install is found. Errors: provision.ErrPlan.
func (svc *Sites) nameFree(ctx context.Context, code records.InstallCode, name, address string) error {
	others, err := svc.DB.TenantNames(ctx, code.InstallID)
	for other, at := range others {
		if other != name && hostName(at) == hostName(address) {
			return fmt.Errorf("%w: install %s tells its sites apart by host names, and site %s has %s already", provision.ErrPlan, code.Install,
				other, hostName(address))
		}
	}
	return err
}

// hostName is the host name in an address.
func hostName(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return strings.ToLower(u.Hostname())
}

// withoutShared leaves what a site shares out of what is packed.
func (svc *Sites) withoutShared(ctx context.Context, s records.Site, list *packing.List) error {
	if s.CodeID == nil {
		return nil
	}
	code, err := svc.DB.InstallCode(ctx, *s.CodeID)
	if err != nil {
		return err
	}
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return err
	}
	special := regexp.MustCompile(`[\\*?\[\]{}!]`)
	names := slices.Clone(code.Links)
	for _, l := range k.Tenants.Links {
		names = append(names, strings.ReplaceAll(l.At, "{host}", hostName(s.Address)))
	}
	for _, name := range names {
		list.LeaveOut.Paths = append(list.LeaveOut.Paths, special.ReplaceAllString(name, `\$0`))
	}
	return nil
}

// doorsOf returns the links by which shared code finds a site at an address and nothing else does, or found what it was: none for a site
// that has code of its own. What a safety copy, or a whole site, needs it for does not count once that is to go.
func (svc *Sites) doorsOf(ctx context.Context, o *openSite, codeID *int64, address string,
	goes func(records.Sharing) bool) ([]provision.Made, error) {
	if codeID == nil || address == "" {
		return nil, nil
	}
	code, err := svc.DB.InstallCode(ctx, *codeID)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	users, err := svc.DB.SharingCode(ctx, code.ID)
	if err != nil {
		return nil, err
	}
	for _, u := range users {
		if hostName(u.Address) == hostName(address) && !goes(u) {
			return nil, nil
		}
	}
	return []provision.Made{{What: "folder", Name: provision.Door(o.kind, sharedOf(code), address),
		Where: whereOn(code.HostID, o.Plan.Engine)}}, nil
}

// doorsToRemove notes in a run's journal the links by which shared code finds a site that goes, and found what it was.
func (svc *Sites) doorsToRemove(ctx context.Context, run engine.Run, o *openSite, copies []records.SiteCopy) error {
	goes := func(u records.Sharing) bool { return u.SiteID == o.ID }
	doors, err := svc.doorsOf(ctx, o, o.CodeID, o.Address, goes)
	for _, c := range copies {
		if err == nil && c.Archive == "" {
			var more []provision.Made
			more, err = svc.doorsOf(ctx, o, c.CodeID, c.Address, goes)
			doors = append(doors, more...)
		}
	}
	if err != nil {
		return err
	}
	return svc.note(ctx, run, doors)
}
