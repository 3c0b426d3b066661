package sites

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
)

// MoveArgs ask for a site to go to another place, or to another address in its place. Where it was is part of them, for
// the end of the work.
type MoveArgs struct {
	SiteID      int64   `json:"site_id"`
	Host        string  `json:"host"`
	Address     string  `json:"address"`
	Visible     bool    `json:"visible"`
	InPlace     bool    `json:"in_place,omitempty"` // the folder stays the same
	Despite     Despite `json:"despite,omitzero"`
	OldHostID   int64   `json:"old_host_id"`
	OldAddress  string  `json:"old_address"`
	OldFolder   string  `json:"old_folder"`
	OldDatabase string  `json:"old_database"`
	OldUser     string  `json:"old_user"`
}

// MoveResult is the site where it is now.
type MoveResult struct {
	Site    string        `json:"site"`
	Address string        `json:"address"`
	Report  *check.Report `json:"report"`
}

// MovePlan says what moving a site will do, and what is against it.
func (svc *Sites) MovePlan(ctx context.Context, s records.Site, host, address string, visible bool) (args MoveArgs, sentences,
	problems []string, err error) {
	h, err := svc.DB.Host(ctx, host)
	if err != nil {
		return args, nil, nil, err
	}
	if address == "" {
		address = strings.ReplaceAll(h.Address, "{name}", s.Name)
	}
	folder, err := hosts.Fill(h.WebRoot, s.Name, address)
	if err != nil {
		return args, nil, nil, err
	}
	inPlace := h.ID == s.HostID && folder == s.Folder
	args = MoveArgs{SiteID: s.ID, Host: h.Name, Address: address, Visible: visible, InPlace: inPlace, OldHostID: s.HostID,
		OldAddress: s.Address, OldFolder: s.Folder, OldDatabase: s.Database, OldUser: s.DBUser}
	fsys, server, err := svc.Hosts.Open(ctx, h, s.Plan.Engine)
	if err != nil {
		return args, nil, nil, err
	}
	defer fsys.Close()
	defer server.Close()
	if other, err := svc.DB.Site(ctx, address); err == nil && other.ID != s.ID {
		problems = append(problems, fmt.Sprintf("site %s has the address %s already", other.Name, address))
	}
	if inPlace && address == s.Address {
		problems = append(problems, fmt.Sprintf("site %s is at %s on host %s; name another host, or another address",
			s.Name, address, h.Name))
	} else if _, err := fsys.Stat(ctx, folder); err == nil && !inPlace {
		problems = append(problems, fmt.Sprintf("%s exists already on host %s; move to a host or an address with another folder, or retire "+
			"what is there", path.Join(fsys.Root(), folder), h.Name))
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return args, nil, nil, err
	}
	if free, err := hostfs.FreeBytes(ctx, fsys); err == nil && free < 2*s.Plan.Bytes {
		problems = append(problems, fmt.Sprintf("host %s has %s free, and the site needs %s", h.Name, progress.SizeText(free),
			progress.SizeText(s.Plan.Bytes)))
	}
	if _, err := server.Version(ctx); err != nil {
		problems = append(problems, fmt.Sprintf("the database server of host %s does not answer: %v", h.Name, err))
	}
	if s.CodeID != nil && h.ID != s.HostID {
		problems = append(problems, fmt.Sprintf("site %s shares the code of install %s, which is on host %s; give it code of its own first",
			s.Name, s.Install, s.Host))
	}
	engines := "kept out"
	if visible {
		engines = "let in"
	}
	at := path.Join(fsys.Root(), folder)
	placed := fmt.Sprintf("the copy is placed at %s on host %s, in %s, with a database and a user of its own; accounts and content stay",
		address, h.Name, at)
	becomes := fmt.Sprintf("%s becomes %s, in rows and text files", s.Address, address)
	end := fmt.Sprintf("then %s on host %s is retired: its folder is put aside, whole and with database %s; undo brings it back, and "+
		"dropping that safety copy removes it", s.Address, s.Host, s.Database)
	switch {
	case inPlace:
		placed = fmt.Sprintf("the copy is made beside %s, with a database and a user of its own, and changes places with what is there; "+
			"accounts and content stay", at)
		end = fmt.Sprintf("what stood there stays as a safety copy, with database %s; undo puts it back. The web server of host %s has to "+
			"lead %s to that folder", s.Database, h.Name, address)
	case address == s.Address:
		becomes = fmt.Sprintf("the address stays %s; point its name at host %s once this is done", address, h.Name)
		end = fmt.Sprintf("until then visitors are still led to host %s, where the site goes on serving; what they write there does not come "+
			"over. Drop that safety copy when nobody is led there any more: its folder, database %s and its user are "+
			"removed then", s.Host, s.Database)
	}
	sentences = []string{
		fmt.Sprintf("a safety copy of %s is made: %d files, %s, and every row of %s as it is then", s.Name, s.Plan.Files,
			progress.SizeText(s.Plan.Bytes), s.Database),
		placed,
		becomes + "; search engines are " + engines,
		"it is checked at its new address; with a fault that it does not have now, it is taken back, and the site stays where it is",
		end,
	}
	if mail := svc.mailSentence(ctx, s.Name, address); mail != "" {
		sentences = append(sentences, mail)
	}
	return args, sentences, problems, nil
}

// copyingShare is which share of a move is making the safety copy.
const copyingShare = 0.4

// Move brings a site to another place.
func (svc *Sites) Move(ctx context.Context, run engine.Run, args MoveArgs, report progress.Reporter) (*MoveResult, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	old, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	_, err = svc.copySite(ctx, run, old, records.CopyAsked, progress.Within(report, 0, copyingShare))
	old.Close()
	if err != nil {
		return nil, err
	}
	c, err := svc.DB.CopyOfRun(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	o, err := svc.Request(ctx, ProvisionArgs{Name: s.Name, Client: s.Client, Release: s.Release, Host: args.Host, Address: args.Address,
		Visible: args.Visible, CopyID: c.ID, Replace: args.InPlace}, run.Token())
	if err != nil {
		return nil, err
	}
	defer o.Close()
	o.Admin, o.Quiet = s.Admin, !args.Visible || s.Held
	plan, err := provision.Prepare(ctx, o.Request)
	if err != nil {
		return nil, err
	}
	if s.Held {
		if o.Hold, _, err = svc.holdingPage(ctx, o.Kind, s.Name, plan.Address, s.Plan); err != nil {
			return nil, err
		}
	}
	took := int64(checksMillis)
	if s.Report != nil {
		took = cmp.Or(s.Report.TookMillis, took)
	}
	placing := copyingShare + (1-copyingShare)*makingShare(plan, took)
	journal := svc.DB.Journal(run.ID, whereOn(o.Site.HostID, plan.Engine))
	res, err := provision.Make(ctx, o.Request, plan, journal, progress.Within(report, copyingShare, placing))
	if err != nil {
		return nil, errors.Join(err, svc.forgetIfGone(context.WithoutCancel(ctx), run, err))
	}
	plan.Values = s.Plan.Values
	there := s
	there.HostID, there.Folder, there.Address, there.RunID, there.Plan, there.Result = o.Site.HostID, o.Site.Folder, plan.Address, run.ID,
		plan, res
	there.Standing = records.StandingOf(plan, res)
	there.CodeID = o.Site.CodeID
	rep, err := svc.checkAt(ctx, there, checking{placed: o.Archive, moved: true}, progress.Within(report, placing, 1))
	if err == nil && rep.Faults() > 0 {
		err = svc.movable(ctx, s, rep, args)
	}
	if err == nil && args.InPlace {
		err = svc.keep(ctx, run, o, plan, res)
	} else if err == nil {
		there.Report = rep
		err = svc.moved(ctx, run, s, there, args.aside(run.ID))
	}
	ctx = context.WithoutCancel(ctx)
	if errors.Is(err, engine.ErrCleanup) {
		return nil, err
	}
	if err != nil {
		return nil, errors.Join(err, svc.takeBack(ctx, run, o.FS, o.Server))
	}
	if args.InPlace {
		return &MoveResult{s.Name, plan.Address, rep}, errors.Join(svc.DB.SetReport(ctx, s.Name, rep), svc.askName(ctx, there),
			svc.acceptDespite(ctx, s.ID, rep, args.Despite, run.Who))
	}
	if args.stays() {
		report.Note(fmt.Sprintf("point the name of %s at host %s; until it leads there, visitors see the site on host %s. Then drop the "+
			"safety copy %q of site %s", s.Address, args.Host, s.Host, records.CopyMoved, s.Name))
	}
	report.Step("Retire the old place", progress.Amount{})
	return &MoveResult{s.Name, plan.Address, rep}, errors.Join(svc.leave(ctx, run, args), svc.askName(ctx, there),
		svc.acceptDespite(ctx, s.ID, rep, args.Despite, run.Who))
}

// movable says why a site stays where it is: what the checks have found at its new address and it does not have where it is.
func (svc *Sites) movable(ctx context.Context, s records.Site, rep *check.Report, args MoveArgs) error {
	before := s.Report
	if !args.InPlace {
		before = svc.before(ctx, s) // it is still there
	}
	fresh, err := svc.newFaults(ctx, s.ID, before, rep, args.Despite)
	if err != nil || len(fresh) == 0 {
		return err
	}
	return fmt.Errorf("the checks at %s found faults that the site does not have now, so it stays where it is: %s. Correct them, or decide "+
		"to move it despite these checks", rep.Address, Faults(fresh))
}

// stays says that visitors are led to the old place until a name leads elsewhere.
func (a MoveArgs) stays() bool { return a.Address == a.OldAddress }

// aside is the folder that the old place is in afterwards.
func (a MoveArgs) aside(runID int64) string {
	if a.stays() {
		return a.OldFolder
	}
	return provision.Beside(a.OldFolder, fmt.Sprint(runID))
}

// Faults says what checks have found.
func Faults(failed []check.Check) string {
	var names []string
	for _, c := range failed {
		names = append(names, c.Name+": "+c.Sentence)
	}
	return strings.Join(names, "; ")
}

// moved commits the run and records where the site is now. The credentials it had are put aside until its old place is
// gone. With an error the record says that it is where it was.
func (svc *Sites) moved(ctx context.Context, run engine.Run, old, there records.Site, aside string) error {
	ctx, err := svc.Engine.Commit(ctx, run)
	if err != nil {
		return err
	}
	return svc.unlessRecorded(ctx, run, svc.DB.Tx(ctx, func(ctx context.Context) error {
		if err := svc.putSecrets(ctx, there.Name, run.ID, true, there.Result); err != nil {
			return err
		}
		return svc.DB.MoveSite(ctx, old, there, aside)
	}))
}

// leave takes the site out of service where it was, unless its address stays. It may have been done before the run was interrupted.
func (svc *Sites) leave(ctx context.Context, run engine.Run, args MoveArgs) error {
	aside := args.aside(run.ID)
	if aside == args.OldFolder {
		return nil
	}
	fsys, err := svc.Hosts.FilesByID(ctx, args.OldHostID)
	if err != nil {
		return err
	}
	defer fsys.Close()
	if _, err := fsys.Stat(ctx, aside); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	id, err := svc.identity(ctx, run, fsys, args.OldFolder)
	if err != nil {
		return err
	}
	if now, err := fsys.ID(ctx, args.OldFolder); err != nil || now != id {
		return errors.Join(err, fmt.Errorf("what is in %s is not the site that has moved", path.Join(fsys.Root(), args.OldFolder)))
	}
	if err := svc.Engine.Still(ctx); err != nil {
		return err
	}
	return errors.Join(fsys.Rename(ctx, args.OldFolder, aside), svc.DB.ClearMade(ctx, run.ID))
}

// returnToOldPlace brings a site that has moved to its old place again, unless this run has done so before it was
// interrupted.
func (svc *Sites) returnToOldPlace(ctx context.Context, run engine.Run, c records.SiteCopy) error {
	fsys, err := svc.Hosts.FilesByID(ctx, *c.HostID)
	if err != nil {
		return err
	}
	defer fsys.Close()
	id, err := svc.identity(ctx, run, fsys, c.Folder)
	if err != nil {
		return err
	}
	if now, err := fsys.ID(ctx, c.Place); err == nil && now == id {
		return nil
	}
	if there, err := fsys.ID(ctx, c.Folder); err != nil || there != id {
		return errors.Join(err, fmt.Errorf("the site that has moved is not in %s any more", path.Join(fsys.Root(), c.Folder)))
	}
	if err := errors.Join(free(ctx, fsys, c.Place), svc.Engine.Still(ctx)); err != nil {
		return err
	}
	return fsys.Rename(ctx, c.Folder, c.Place)
}

// free refuses to put a site where there is something.
func free(ctx context.Context, fsys hostfs.FS, folder string) error {
	_, err := fsys.Stat(ctx, folder)
	if err == nil {
		return fmt.Errorf("%w: at %s there is something else by now; move or retire that first", provision.ErrPlan,
			path.Join(fsys.Root(), folder))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// RecoverMove ends what was interrupted: with the site at its new place, or at its old one.
func (svc *Sites) RecoverMove(ctx context.Context, run engine.Run, args MoveArgs) (engine.Outcome, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return engine.TakenBack, err
	}
	if s.RunID == run.ID && args.InPlace {
		return engine.Finished, nil
	}
	if s.RunID == run.ID {
		return engine.Finished, svc.leave(ctx, run, args)
	}
	h, err := svc.DB.Host(ctx, args.Host)
	if err != nil {
		return engine.TakenBack, err
	}
	fsys, server, err := svc.Hosts.Open(ctx, h, s.Plan.Engine)
	if err != nil {
		return engine.TakenBack, err
	}
	defer fsys.Close()
	defer server.Close()
	return engine.TakenBack, svc.takeBack(ctx, run, fsys, server)
}
