package provision

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
)

// Made is something that was made on a host, and that undo takes away.
type Made struct {
	What string `json:"sort"` // "database", "user", "staging", "folder", "exchange", or "parent": a folder above it
	Name string `json:"name"`
	// ID tells a folder, file or link from others that have had its name, or will (see hostfs.FS.ID), and a database that was given from
	// what it was for others (see sitedb.Giver). What has none has a name that is used once.
	ID string `json:"id,omitempty"`
	// Where is whatever the journal's owner tells hosts apart by, where a journal is of several.
	Where string `json:"where,omitempty"`
}

// MadeIdentity is the sort of an entry that says which folder a run moves (see hostfs.FS.ID); nothing is taken back for it.
const MadeIdentity = "identity"

// Journal remembers what is being made, so that another process can take it back.
type Journal interface {
	// Making is called before a thing is made. It must not return before the record is safe.
	Making(ctx context.Context, m Made) error
	// NotOurs is called when the thing turned out to be there before.
	NotOurs(ctx context.Context, m Made) error
	// Still is nil while nobody else has taken the work over. It is asked before anything is taken away.
	Still(ctx context.Context) error
}

// Result is what came of it.
type Result struct {
	Admin         string        `json:"admin"`
	AdminPassword string        `json:"-"`
	Database      string        `json:"database"`
	User          string        `json:"user"`
	UserPassword  string        `json:"-"`
	Files         int64         `json:"files"`
	Rows          int64         `json:"rows"`
	Rewritten     rewrite.Tally `json:"rewritten"`
	// Tokens is in how many places text tokens were replaced, by field.
	Tokens map[string]int64 `json:"tokens,omitempty"`
	// CopyFolder is where the site lies that was replaced, relative to the host's folder.
	CopyFolder string `json:"copy_folder,omitempty"`
	// Kept is how many rows were taken over from it, by part.
	Kept map[string]int64 `json:"kept,omitempty"`
	// KeptAccounts says that the accounts of the old site, or of the release, are those that log in.
	KeptAccounts bool `json:"kept_accounts,omitempty"`
	// Adjustments is what was done so that the site does not work for where it came from, in sentences.
	Adjustments []string `json:"adjustments,omitempty"`
	// Quiet says that mail is kept from going out.
	Quiet bool `json:"quiet,omitempty"`
	// Upgraded is the version that the CMS brought its tables to, where code and tables differed.
	Upgraded string     `json:"upgraded,omitempty"`
	Steps    []StepTime `json:"steps"`
}

// StepTime is how long a step took. Files and rows are placed side by side.
type StepTime struct {
	Name   string `json:"name"`
	Millis int64  `json:"ms"`
}

// Make carries out a plan. On an error everything it made is taken away again before it returns.
func Make(ctx context.Context, req Request, p *Plan, journal Journal, report progress.Reporter) (*Result, error) {
	if err := p.Err(); err != nil {
		return nil, err
	}
	r, err := rewrite.New(p.Rules)
	if err != nil {
		return nil, err
	}
	mk := &maker{req: req, plan: p, journal: journal, report: report, rewriter: r, rowsLoaded: make(chan struct{}),
		numbers: map[string]string{}, links: linksOf(req.Shared), result: &Result{
			Admin: p.Admin, Database: p.Database, User: p.User,
		}}
	if p.Admin != "" {
		mk.result.AdminPassword = Password(20)
	}
	if p.User != "" {
		mk.result.UserPassword = Password(28)
		if g, is := req.Server.(sitedb.Giver); is {
			mk.result.UserPassword = g.Password(p.Database)
		}
	}
	if err := mk.readFiles(ctx); err != nil {
		return nil, err
	}
	if mk.tokens, err = tokensOf(mk); err != nil {
		return nil, err
	}
	if req.Refresh != nil {
		if mk.code, err = codeOf(req); err != nil {
			return nil, err
		}
		mk.result.Admin, mk.result.AdminPassword, mk.result.KeptAccounts = p.Admin, "", true
	}
	if req.Replace != nil {
		if mk.old, err = req.FS.Sub(ctx, req.Folder); err != nil {
			return nil, err
		}
	}
	err = mk.all(ctx)
	mk.close()
	if err != nil {
		return nil, mk.takeBack(ctx, err)
	}
	return mk.result, nil
}

// takeBack takes away what was made; it returns the error that it is given, with ErrLeftBehind when something may be left. Whoever has
// lost the work, or cannot know, takes back what nobody else can have: who has taken it over does the rest, from the journal.
func (mk *maker) takeBack(ctx context.Context, err error) error {
	mk.report.Step("Take back what was made", progress.Amount{})
	// The caller's context may be why we are here; taking back must not be cut short by it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Minute)
	defer cancel()
	if lost := mk.journal.Still(ctx); lost != nil {
		return errors.Join(err, fmt.Errorf("%w: %w", ErrLeftBehind, lost), UndoOwn(ctx, mk.req.FS, mk.req.Server, mk.made))
	}
	if undoErr := Undo(ctx, mk.req.FS, mk.req.Server, mk.made, mk.journal.Still); undoErr != nil {
		return errors.Join(err, fmt.Errorf("%w: %w", ErrLeftBehind, undoErr))
	}
	return err
}

func (mk *maker) close() {
	for _, handle := range []hostfs.FS{mk.stage, mk.old} {
		if handle != nil {
			handle.Close()
		}
	}
	if mk.db != nil {
		mk.db.Close()
	}
}

type maker struct {
	req      Request
	plan     *Plan
	journal  Journal
	report   progress.Reporter
	rewriter *rewrite.Rewriter
	tokens   []token
	files    map[string]*clientFile // of the client, by field
	numbers  map[string]string      // of pages and menu entries that fields name, once they are known
	db       sitedb.DB
	staging  string      // folder that the site is prepared in
	stage    hostfs.FS   // a handle on it, also when it has become the site's folder
	old      hostfs.FS   // a handle on the folder of the site that is replaced, also when it has become the safety copy
	bulk     hostfs.Bulk // takes files of the site, where the host has such a thing
	code     *code       // of a refresh, and of code that is placed for sites to share; nil otherwise
	tree     *tree       // of code that is placed for sites to share; nil otherwise
	links    links       // what leads to code that the site shares
	// rowsLoaded is closed when the rows are in, or when there are none to load.
	rowsLoaded chan struct{}

	mu     sync.Mutex // over made and result
	made   []Made
	result *Result
}

// making writes to the journal that something is about to be made, whose name is used once unless it has an identity.
func (mk *maker) making(ctx context.Context, sort, name, id string) error {
	m := Made{What: sort, Name: name, ID: id}
	if err := mk.journal.Making(ctx, m); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	mk.mu.Lock()
	defer mk.mu.Unlock()
	mk.made = append(mk.made, m)
	return nil
}

func (mk *maker) notOurs(ctx context.Context, sort, name, id string) error {
	m := Made{What: sort, Name: name, ID: id}
	mk.mu.Lock()
	mk.made = slices.DeleteFunc(mk.made, func(x Made) bool { return x == m })
	mk.mu.Unlock()
	return mk.journal.NotOurs(ctx, m)
}

// step is a part of the work that has a name. The long ones report their own amounts.
type step struct {
	name string
	do   func(context.Context) error
	long bool
}

// steps returns what is done, in order.
func (mk *maker) steps() []step {
	if mk.req.Refresh != nil {
		return mk.thatApply([]step{
			{"Check the host", mk.check, false},
			{"Make the database", mk.makeDatabase, false},
			{"Place the code", mk.placeCode, true},
			{"Pause the site", mk.pause, false},
			{"Carry over files and rows", mk.carryOver, true},
			{"Share the code", mk.share, false},
			{"Write the settings file", mk.writeSettings, false},
			{"Adapt to the new address", mk.adjust, false},
			{"Swap in", mk.swapIn, false},
			{"Bring tables to the version of the code", mk.upgrade, false},
		})
	}
	all := []step{
		{"Check the host", mk.check, false},
		{"Make the database", mk.makeDatabase, false},
		{"Place files and load rows", mk.placeAndLoad, true},
		{"Pause the site", mk.pause, false},
		{"Take over from the old site", mk.keepOld, false},
		{"Share the code", mk.share, false},
		{"Set values", mk.setValues, false},
		{"Write the settings file", mk.writeSettings, false},
		{"Make the administrator", mk.makeAdministrator, false},
		{"Adapt to the new address", mk.adjust, false},
		{"Swap in", mk.swapIn, false},
		{"Bring tables to the version of the code", mk.upgrade, false},
	}
	if mk.req.Replace == nil || len(mk.req.Replace.Keep) == 0 {
		all = slices.Delete(all, 3, 5)
	}
	return mk.thatApply(all)
}

// thatApply leaves out the step about shared code for a site that has never had to do with such.
func (mk *maker) thatApply(all []step) []step {
	if mk.req.Shared != nil || mk.req.Replace != nil && mk.req.Replace.Shared != nil {
		return all
	}
	return slices.DeleteFunc(all, func(s step) bool { return s.name == "Share the code" })
}

// all runs the steps in order.
func (mk *maker) all(ctx context.Context) error {
	for _, s := range mk.steps() {
		if err := ctx.Err(); err != nil {
			return err
		}
		start := time.Now()
		if !s.long {
			mk.report.Step(s.name, progress.Amount{})
		}
		if err := s.do(ctx); err != nil {
			return fmt.Errorf("%s: %w", strings.ToLower(s.name[:1])+s.name[1:], err)
		}
		if !s.long || mk.req.Refresh != nil {
			mk.took(s.name, start)
		}
	}
	return nil
}

func (mk *maker) took(name string, start time.Time) {
	mk.mu.Lock()
	defer mk.mu.Unlock()
	mk.result.Steps = append(mk.result.Steps, StepTime{name, time.Since(start).Milliseconds()})
}

// check looks once more at what the plan was made for: it may have been agreed to long ago.
func (mk *maker) check(ctx context.Context) error {
	fresh, err := Prepare(ctx, mk.req)
	if err != nil {
		return err
	}
	if err := fresh.Err(); err != nil {
		return err
	}
	if fresh.Folder != mk.plan.Folder || fresh.Database != mk.plan.Database || fresh.Release != mk.plan.Release {
		return fmt.Errorf("%w: it is out of date; look at a new plan", ErrPlan)
	}
	return nil
}

func (mk *maker) makeDatabase(ctx context.Context) error {
	if mk.plan.Database == "" {
		return nil
	}
	owner, create := "", mk.req.Server.CreateDatabase
	if g, is := mk.req.Server.(sitedb.Giver); is {
		owner = "run-" + mk.req.RunID + "-" + rand.Text()
		create = func(ctx context.Context, name string) error { return g.Take(ctx, name, owner) }
	}
	if err := mk.making(ctx, "database", mk.newDatabase(), owner); err != nil {
		return err
	}
	if err := create(ctx, mk.newDatabase()); err != nil {
		if errors.Is(err, sitedb.ErrExists) {
			err = errors.Join(err, mk.notOurs(ctx, "database", mk.newDatabase(), owner))
		}
		return err
	}
	if mk.plan.User == "" {
		return nil
	}
	if err := mk.making(ctx, "user", mk.plan.User, ""); err != nil {
		return err
	}
	err := mk.req.Server.CreateUser(ctx, mk.plan.User, mk.result.UserPassword, mk.newDatabase())
	if errors.Is(err, sitedb.ErrExists) {
		err = errors.Join(err, mk.notOurs(ctx, "user", mk.plan.User, ""))
	}
	return err
}

// newDatabase is what the new database is called while it is made: one that is a file lies elsewhere until all is in it, and one may
// lie in its place.
func (mk *maker) newDatabase() string {
	if mk.plan.User == "" {
		return mk.plan.Database + " of run " + mk.req.RunID
	}
	return mk.plan.Database
}

// openDatabase opens the new database with the site's own account. All that goes into it does so with no other: what came
// from a release or a site can do there what the site itself can, and no more.
func (mk *maker) openDatabase(ctx context.Context) (err error) {
	mk.db, err = mk.req.Server.OpenAs(ctx, mk.newDatabase(), mk.plan.User, mk.result.UserPassword)
	return err
}

// placeAndLoad does the two long steps side by side.
func (mk *maker) placeAndLoad(ctx context.Context) error {
	if err := mk.openDatabase(ctx); err != nil {
		return err
	}
	mk.report.Step("Place files and load rows",
		progress.Amount{Files: mk.plan.Files, Bytes: mk.plan.Bytes + mk.req.Archive.Manifest.Totals.SQLByte, Rows: mk.plan.Rows})
	group, ctx := parallel.WithContext(ctx)
	group.Go(func() error {
		defer mk.took("Place files", time.Now())
		return mk.placeFiles(ctx)
	})
	group.Go(func() error {
		defer close(mk.rowsLoaded)
		defer mk.took("Load rows", time.Now())
		return mk.loadRows(ctx)
	})
	return group.Wait()
}

// placeCode places what the release brings to a site that keeps its content.
func (mk *maker) placeCode(ctx context.Context) error {
	mk.report.Step("Place the code", progress.Amount{Files: mk.plan.Files - mk.plan.Refresh.Content, Bytes: mk.plan.Bytes})
	close(mk.rowsLoaded) // they stay where they are
	return mk.placeFiles(ctx)
}

// table returns a table's name on the new site.
func (mk *maker) table(bare string) string { return mk.plan.Prefix + bare }

// site is where single values of the new site are kept.
func (mk *maker) site() sitevalue.Site {
	return sitevalue.Site{Kind: mk.req.Kind, Prefix: mk.plan.Prefix, DB: mk.db}
}

// setValues puts the fields where they belong in the database. Those for the settings file follow with it.
func (mk *maker) setValues(ctx context.Context) error {
	if err := mk.placeClientFiles(ctx); err != nil {
		return err
	}
	for _, f := range mk.req.Archive.Manifest.List.Fields {
		for _, t := range f.To {
			value, give, err := mk.valueOf(f, t)
			if err == nil && give && t.Token == "" && (f.Type == "page" || f.Type == "menu-entry") {
				value, err = mk.numberOf(ctx, f.Type, value)
				mk.numbers[f.Key] = value
			}
			if err != nil {
				return fmt.Errorf("field %s: %w", f.Key, err)
			}
			if !give || !t.Place().InDatabase() {
				continue // in files
			}
			if err := mk.put(ctx, f, t, value); err != nil {
				return err
			}
		}
	}
	if err := mk.showSubSites(ctx); err != nil {
		return err
	}
	place, value := mk.visibility()
	return mk.eachSub(func(site sitevalue.Site, _ string) error {
		if !place.InDatabase() {
			return nil
		}
		return errors.Join(site.Set(ctx, mk.db, place, value), mk.mailOfSubSite(ctx, site))
	})
}

// visibility returns where the kind keeps whether search engines are let in, and what is to stand there.
func (mk *maker) visibility() (kind.Value, string) {
	v := mk.req.Kind.Visibility
	if mk.plan.Visible {
		return v.Place(), v.Visible
	}
	return v.Place(), v.Hidden
}

// valueOf returns the value of a field for a place, and whether it must be written: the release's own is there already.
func (mk *maker) valueOf(f packing.Field, t packing.Target) (value string, give bool, err error) {
	value, give = mk.plainValueOf(f)
	switch {
	case !give:
	case f.IsFile():
		value, err = mk.as(mk.files[f.Key], t)
	case mk.numbers[f.Key] != "":
		value = mk.numbers[f.Key]
	}
	return value, give, err
}

// plainValueOf returns the value of a field as it was given, and whether it must be written.
func (mk *maker) plainValueOf(f packing.Field) (string, bool) {
	if g, ok := mk.req.Values[f.Key]; ok && g.Value != "" {
		return g.Value, true
	}
	for _, v := range mk.plan.Values {
		if v.Key == f.Key && v.Origin == fromField {
			return f.Default, true
		}
	}
	return "", false
}

// hold keeps visitors out, or sees that nothing that did came with the release.
func (mk *maker) hold(ctx context.Context) error {
	return mk.req.Kind.KeepOut(ctx, mk.stage, mk.plan.Folder, mk.req.Hold)
}

func (mk *maker) hasTable(bare string) bool {
	for _, t := range mk.req.Archive.Manifest.Tables {
		if t.Name == mk.plan.OldPrefix+bare {
			return true
		}
	}
	return false
}

// forget removes rows that the CMS rebuilds: compiled rewrite rules and transients, tables of caches and sessions.
func (mk *maker) forget(ctx context.Context) error {
	for _, t := range mk.req.Archive.Manifest.Tables {
		bare, own := strings.CutPrefix(t.Name, mk.plan.OldPrefix)
		if own && t.Rows > 0 && slices.ContainsFunc(mk.req.Kind.Empty, func(p string) bool { return packing.Wild(p, bare) }) {
			if err := mk.db.Empty(ctx, mk.table(bare)); err != nil {
				return err
			}
		}
	}
	for _, r := range mk.req.Kind.Forget {
		if len(mk.req.Kind.Subs) > 0 && !mk.hasTable(r.Table) {
			continue // not every sub-site has every table
		}
		for _, v := range r.Values {
			if err := mk.db.DeleteLike(ctx, mk.table(r.Table), r.Column, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// placeDatabase puts a database that is a file into the prepared site, now that all is in it.
func (mk *maker) placeDatabase(ctx context.Context) error {
	placer, is := mk.req.Server.(sitedb.Placer)
	if !is || mk.plan.Database == "" {
		return nil
	}
	file := mk.req.Kind.Settings.Database.File
	if err := mk.discard(ctx, file); err != nil {
		return err
	}
	return placer.Place(ctx, mk.newDatabase(), mk.stage, file)
}

// swapIn makes the prepared folder the site's folder.
func (mk *maker) swapIn(ctx context.Context) error {
	if err := mk.placeDatabase(ctx); err != nil {
		return err
	}
	if err := mk.pauseUntilUpgraded(ctx); err != nil {
		return err
	}
	if err := mk.openDoor(ctx); err != nil {
		return err
	}
	if mk.req.Replace != nil {
		return mk.exchange(ctx)
	}
	if _, err := mk.req.FS.Stat(ctx, mk.req.Folder); err == nil {
		return fmt.Errorf("%w: %s appeared meanwhile", ErrPlan, mk.plan.Folder)
	}
	id, err := mk.req.FS.ID(ctx, mk.staging)
	if err != nil {
		return err
	}
	if err := mk.making(ctx, "folder", mk.req.Folder, id); err != nil {
		return err
	}
	if err := mk.req.FS.Rename(ctx, mk.staging, mk.req.Folder); err != nil {
		return err
	}
	return reopen(ctx, mk.req.FS, &mk.stage, mk.req.Folder)
}

// reopen opens a folder anew where it is now: over a network, a handle does not follow a folder that is renamed.
func reopen(ctx context.Context, fsys hostfs.FS, handle *hostfs.FS, folder string) error {
	now, err := fsys.Sub(ctx, folder)
	if err != nil {
		return err
	}
	(*handle).Close()
	*handle = now
	return nil
}
