package sites

import (
	"context"
	"errors"
	"fmt"

	"nestseed/internal/core/check"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// TableRow is a site to make: a line of a table.
type TableRow struct {
	Client  string `json:"client"`
	Address string `json:"address,omitempty"`
	Name    string `json:"name,omitempty"`
	Sealed  string `json:"sealed,omitempty"` // values for this site alone
}

// TableArgs ask for a site for each row. Clients and their settings are there already.
type TableArgs struct {
	Release       string     `json:"release"`
	Host          string     `json:"host"`
	Visible       bool       `json:"visible"`
	Mail          bool       `json:"mail,omitempty"`
	MailAddresses bool       `json:"mail_addresses,omitempty"`
	Mend          bool       `json:"mend,omitempty"`
	TenantOf      string     `json:"tenant_of,omitempty"`
	Hold          bool       `json:"hold"`
	Rows          []TableRow `json:"rows"`
}

// TableResult is one report over all rows.
type TableResult struct {
	Rows   []TableOutcome `json:"rows"`
	Made   int            `json:"made"`
	Failed int            `json:"failed"`
}

// TableOutcome is what became of a row.
type TableOutcome struct {
	Site    string `json:"site"`
	Address string `json:"address,omitempty"`
	Status  string `json:"status"` // done, failed, cancelled, or there: it was made before
	Error   string `json:"error,omitempty"`
	RunID   int64  `json:"run_id,omitempty"`
	Faults  int    `json:"faults"`
	Millis  int64  `json:"ms"`
}

// checksAtOnce is how many sites of a table are checked at a time.
const checksAtOnce = 3

// makingOfTable is about which share of a table's time the making of its sites takes; their checks take the rest.
const makingOfTable = 0.25

// ProvisionTable starts a run for each row, and gathers what became of them. Each succeeds or fails by itself. All sites are made before
// they are checked, but for the first, which shows at once what is wrong with all. Of tenants, which have the code of the first, some
// pages are opened (check.Like). It is called again when the runs have ended, or when it was interrupted: rows that have a run, or whose
// site is there, are not begun a second time.
func (svc *Sites) ProvisionTable(ctx context.Context, run engine.Run, args TableArgs, report progress.Reporter) (*TableResult, error) {
	if run.Progress.Step == "" { // it begins, or was interrupted
		progress.Stage(report, 0, makingOfTable)
		report.Step("Make sites", progress.Amount{Files: int64(len(args.Rows))})
	}
	res, first, err := svc.tableRows(ctx, run, args, report)
	if err != nil {
		return nil, err
	}
	if first != 0 {
		return res, &engine.Aside{First: first, From: 0, To: makingOfTable}
	}
	progress.Stage(report, makingOfTable, 1)
	if err := svc.checkRows(ctx, res.Rows, report); err != nil {
		return nil, err
	}
	for _, o := range res.Rows {
		if o.made() {
			res.Made++
		} else {
			res.Failed++
		}
	}
	if ctx.Err() != nil {
		return res, ctx.Err()
	}
	if res.Failed > 0 {
		return res, fmt.Errorf("%d of %d sites could not be made; the others are live, and the same table again makes those that are missing",
			res.Failed, len(res.Rows))
	}
	return res, nil
}

// tableRows begins the rows of a table that have not been, and says what became of all. first is the run of the first row while any of
// them has not ended, else 0.
func (svc *Sites) tableRows(ctx context.Context, run engine.Run, args TableArgs, report progress.Reporter) (_ *TableResult, first int64,
	err error) {
	begun, err := svc.DB.Children(context.WithoutCancel(ctx), run.ID)
	if err != nil {
		return nil, 0, err
	}
	byPurpose := map[string]engine.Run{}
	for _, child := range begun {
		byPurpose[child.Purpose] = child
	}
	res := &TableResult{Rows: make([]TableOutcome, len(args.Rows))}
	open := false
	for i, row := range args.Rows {
		o := &res.Rows[i]
		if o.Site = row.Name; o.Site == "" {
			o.Site = row.Client
		}
		child, has := byPurpose["site "+o.Site]
		if !has {
			if child, err = svc.beginRow(ctx, run, args, row, o, i > 0); err != nil {
				return nil, 0, err
			}
			if child.ID == 0 {
				report.Add(progress.Amount{Files: 1})
				continue
			}
		}
		if first == 0 {
			first = child.ID
		}
		open = open || child.EndedAt == nil
		if run.Progress.Step == "" && child.EndedAt != nil {
			report.Add(progress.Amount{Files: 1})
		}
		svc.rowEnded(ctx, child, o)
	}
	if !open {
		first = 0
	}
	return res, first, nil
}

// beginRow starts the run of a row, unless its site is there or the table was cancelled.
func (svc *Sites) beginRow(ctx context.Context, run engine.Run, args TableArgs, row TableRow, o *TableOutcome,
	unchecked bool) (engine.Run, error) {
	if ctx.Err() != nil {
		o.Status, o.Error = records.Cancelled, "it was not begun"
		return engine.Run{}, nil
	}
	if s, err := svc.DB.Site(ctx, o.Site); err == nil {
		o.Status, o.Address = "there", s.Address
		return engine.Run{}, nil
	} else if !errors.Is(err, records.ErrNotFound) {
		return engine.Run{}, err
	}
	return svc.Engine.Start(ctx, engine.Run{Job: "provision", Title: "Make site " + o.Site, Target: engine.Target("site", o.Site),
		Who: run.Who, ParentID: &run.ID, Purpose: "site " + o.Site},
		ProvisionArgs{Name: o.Site, Client: row.Client, Release: args.Release, Host: args.Host, Address: row.Address, Visible: args.Visible,
			Hold: args.Hold, Mail: args.Mail, MailAddresses: args.MailAddresses, Mend: args.Mend, TenantOf: args.TenantOf,
			Sealed: row.Sealed, Unchecked: unchecked})
}

// rowEnded says what became of a row's run.
func (svc *Sites) rowEnded(ctx context.Context, child engine.Run, o *TableOutcome) {
	o.RunID, o.Status, o.Error = child.ID, child.Status, child.Error
	if child.StartedAt != nil && child.EndedAt != nil {
		o.Millis = child.EndedAt.Sub(*child.StartedAt).Milliseconds()
	}
	if s, err := svc.DB.Site(context.WithoutCancel(ctx), o.Site); err == nil && child.Status == records.Done {
		o.Address = s.Address
	}
}

// made says whether the site of a row stands.
func (o TableOutcome) made() bool { return o.Status == records.Done || o.Status == "there" }

// checkRows checks the sites of rows that have not been checked. That one cannot be checked is told, and does not fail its row.
func (svc *Sites) checkRows(ctx context.Context, rows []TableOutcome, report progress.Reporter) error {
	report.Step("Check sites", progress.Amount{Files: int64(len(rows))})
	whole := svc.checkedWhole(ctx, rows)
	group := parallel.Group{}
	group.SetLimit(checksAtOnce)
	for i := range rows {
		group.Go(func() error {
			if o := &rows[i]; o.made() && ctx.Err() == nil {
				if err := svc.checkRow(ctx, o, whole.like(i)); err != nil && ctx.Err() == nil {
					report.Note(fmt.Sprintf("%s could not be checked: %v", o.Site, err))
				}
			}
			report.Add(progress.Amount{Files: 1})
			return nil
		})
	}
	return group.Wait()
}

// checkedWhole is a tenant all of whose pages were opened, without a fault, and what of them falls to each row of its table.
type checkedWhole struct {
	site   records.Site
	shares [][]string
}

// checkedWhole checks the first tenant of a table whole; nil where the rows share no code, or that one has a fault, so that each is to be
// looked at as a whole. One that was there, and of which it is not known which pages were opened, is passed over.
func (svc *Sites) checkedWhole(ctx context.Context, rows []TableOutcome) *checkedWhole {
	for i := range rows {
		o := &rows[i]
		if !o.made() {
			continue
		}
		s, err := svc.DB.Site(ctx, o.Site)
		if err != nil || s.CodeID == nil || svc.checkRow(ctx, o, nil) != nil {
			return nil
		}
		if s, err = svc.DB.Site(ctx, o.Site); err != nil || s.Report == nil || s.Report.Faults() > 0 {
			return nil
		}
		if s.Report.Like == "" && len(s.Report.Opened) > 0 {
			return &checkedWhole{s, check.Shares(s.Report.Opened, len(rows))}
		}
	}
	return nil
}

// like says what to open of a row's site, should it have the same code and come from the same release.
func (c *checkedWhole) like(row int) func(s records.Site) *check.Like {
	return func(s records.Site) *check.Like {
		if c == nil || s.CodeID == nil || *s.CodeID != *c.site.CodeID || s.ReleaseID != c.site.ReleaseID {
			return nil
		}
		return &check.Like{Name: c.site.Name, Count: c.site.Report.Pages, Pages: c.shares[row]}
	}
}

// checkRow checks a row's site, where it has not been; the whole of it where something is wrong with the part that like names.
func (svc *Sites) checkRow(ctx context.Context, o *TableOutcome, like func(records.Site) *check.Like) error {
	s, err := svc.DB.Site(ctx, o.Site)
	if err != nil {
		return err
	}
	if s.Report == nil {
		var part *check.Like
		if like != nil {
			part = like(s)
		}
		s.Report, err = svc.checkSite(ctx, o.Site, checking{like: part}, progress.Discard)
		if err == nil && part != nil && s.Report.Faults() > 0 {
			s.Report, err = svc.checkSite(ctx, o.Site, checking{}, progress.Discard)
		}
		if err != nil {
			return err
		}
		o.Millis += s.Report.TookMillis
	}
	o.Faults = s.Report.Faults()
	return nil
}
