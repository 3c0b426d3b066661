package runs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/records"
	"nestseed/internal/service/store"
)

// SurveyArgs ask for a survey of a source.
type SurveyArgs struct {
	SourceID int64 `json:"source_id"`
}

// SurveyResult is what a survey came to.
type SurveyResult struct {
	Totals   survey.Totals `json:"totals"`
	Findings int           `json:"findings"`
}

func (w *Works) survey(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SurveyArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	src, open, err := w.openSource(ctx, args.SourceID)
	if err != nil {
		return nil, err
	}
	defer open.Close()
	h, err := w.DB.HostByID(ctx, src.HostID)
	if err != nil {
		return nil, err
	}
	visit := func(ctx context.Context, address string) (http.Header, error) {
		return check.Headers(ctx, address, h.Connect)
	}
	s, err := survey.Take(ctx, survey.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity, Visit: visit}, report)
	if err != nil {
		return nil, err
	}
	if ctx, err = w.commit(ctx, run); err != nil {
		return nil, err
	}
	return SurveyResult{s.Totals, len(s.Findings)}, w.DB.AddSurvey(ctx, src.ID, s)
}

func (w *Works) openSource(ctx context.Context, id int64) (records.Source, *OpenSource, error) {
	src, err := w.DB.SourceByID(ctx, id)
	if err != nil {
		return src, nil, err
	}
	h, err := w.DB.HostByID(ctx, src.HostID)
	if err != nil {
		return src, nil, err
	}
	open, err := w.OpenSourceAt(ctx, h, src.Name, src.Path, src.Database)
	return src, open, err
}

// BuildArgs ask for a release of a starter. Full reads and compresses everything, whatever the release before has.
type BuildArgs struct {
	Starter string `json:"starter"`
	Note    string `json:"note"`
	Full    bool   `json:"full"`
}

// BuildResult is the release that was built.
type BuildResult struct {
	Release      string          `json:"release"`
	ArchiveBytes int64           `json:"archive_bytes"`
	Totals       archive.Totals  `json:"totals"`
	Copied       progress.Amount `json:"copied"`       // from the release before
	SharedBytes  int64           `json:"shared_bytes"` // of the archive; they lie in the store once, with those of releases before
	Notes        []string        `json:"notes,omitempty"`
}

func (w *Works) build(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args BuildArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	d, err := w.draft(ctx, run, args, report)
	if err != nil {
		return nil, err
	}
	defer d.file.Drop()
	report.Step("Keep the archive", progress.Amount{})
	if ctx, err = w.commit(ctx, run); err != nil {
		return nil, err
	}
	r := records.Release{StarterID: d.starter.ID, Starter: d.starter.Name, Number: d.built.Manifest.Number, RunID: &run.ID, SourceID: d.starter.SourceID, SecretsSealed: d.secrets}
	if err := w.keepRelease(ctx, d.file, d.built, r); err != nil {
		return nil, err
	}
	m := d.built.Manifest
	w.tellDifference(ctx, m.Ref(), report)
	w.retain(ctx, d.starter.Name, report)
	size, err := w.DB.Release(ctx, m.Ref())
	return BuildResult{m.Ref(), size.ArchiveBytes, m.Totals, d.built.Copied, d.file.Shared(), m.Notes}, err
}

// tellDifference compares a new release with the one before, so that every list can say why it is larger or
// smaller. That it did not work is told and is no reason for the release to fail.
func (w *Works) tellDifference(ctx context.Context, ref string, report progress.Reporter) {
	to, err := w.DB.Release(ctx, ref)
	if err != nil {
		return
	}
	releases, err := w.DB.Releases(ctx, to.Starter)
	if err != nil {
		return
	}
	for _, from := range releases {
		if from.Number >= to.Number || from.Archive == "" {
			continue
		}
		c, err := w.compareSizes(ctx, from, to)
		if err == nil {
			err = w.DB.SetDifference(ctx, ref, records.Difference{From: from.Ref(), Sentence: c.Summary, Causes: c.Causes})
		}
		if err != nil {
			report.Note(fmt.Sprintf("it could not be compared with %s: %v", from.Ref(), err))
		}
		return
	}
}

// compareSizes compares the archives of two releases.
func (w *Works) compareSizes(ctx context.Context, from, to records.Release) (*archive.Comparison, error) {
	k, err := kind.Named(w.Kinds, to.Manifest.Kind)
	if err != nil {
		return nil, err
	}
	a, fa, err := w.OpenArchive(from)
	if err != nil {
		return nil, err
	}
	defer fa.Close()
	b, fb, err := w.OpenArchive(to)
	if err != nil {
		return nil, err
	}
	defer fb.Close()
	c, err := archive.CompareSizes(ctx, a, b, k)
	if err == nil {
		c.Tell(from.ArchiveBytes, to.ArchiveBytes)
	}
	return c, err
}

// keepRelease makes a draft an archive of the store and records its release.
func (w *Works) keepRelease(ctx context.Context, draft *store.Draft, built *archive.Built, r records.Release) (err error) {
	m := built.Manifest
	r.Archive = fmt.Sprintf("%s-%d-%s.zip", r.Starter, r.Number, m.ID)
	if r.ArchiveBytes, err = draft.Keep(r.Archive); err != nil {
		return err
	}
	r.SumsSha256, r.Manifest = built.SumsSHA256, &m
	if err = w.DB.AddRelease(ctx, r, built.Index); err == nil {
		return nil
	}
	// An answer that was lost on its way may have been yes.
	switch kept, asked := w.DB.ReleaseOfRun(ctx, *r.RunID); {
	case asked != nil: // the next start sweeps the archive, if no release names it
		return errors.Join(err, asked)
	case kept:
		return nil
	}
	_, dropped := w.Store.Remove(r.Archive)
	return errors.Join(err, dropped)
}

// draft is a release that is built and not kept yet.
type draft struct {
	starter records.Starter
	file    *store.Draft
	built   *archive.Built
	secrets string
}

// draft builds a release of a starter. Its file is the caller's to keep or drop.
func (w *Works) draft(ctx context.Context, run records.Run, args BuildArgs, report progress.Reporter) (*draft, error) {
	t, err := w.DB.Starter(ctx, args.Starter)
	if err != nil {
		return nil, err
	}
	if t.SourceID == nil {
		return nil, fmt.Errorf("starter %s has no source: its releases were brought in; bring in another with nestseed release import %s FILE", t.Name, t.Name)
	}
	list, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	src, open, err := w.openSource(ctx, *t.SourceID)
	if err != nil {
		return nil, err
	}
	defer open.Close()
	address, err := survey.Address(ctx, open.DB, open.Identity)
	if err != nil {
		return nil, err
	}
	number, err := w.DB.NextNumber(ctx, t.ID)
	if err != nil {
		return nil, err
	}
	m := archive.Manifest{
		ID: rand.Text(), Starter: t.Name, Number: number, Made: time.Now().UTC().Truncate(time.Second), By: run.Who, Note: args.Note,
		Source: src.Name, Origin: archive.Origin{Address: address},
	}
	if number > 1 {
		m.Parent = fmt.Sprintf("%s@%d", t.Name, number-1)
	}
	d := &draft{starter: t}
	secrets, err := json.Marshal(open.Identity.Secrets())
	if err != nil {
		return nil, err
	}
	if d.secrets, err = w.Vault.Seal(secretsPurpose, string(secrets)); err != nil {
		return nil, err
	}
	in := archive.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity, List: list, Manifest: m}
	if !args.Full {
		before, done := w.before(ctx, t, string(secrets), report)
		defer done()
		in.Before = before
	}
	if d.file, err = w.Store.Create(run.ID); err != nil {
		return nil, err
	}
	if d.built, err = archive.Build(ctx, d.file, in, report); err != nil {
		d.file.Drop()
		return nil, err
	}
	return d, nil
}

const secretsPurpose = "secrets of a release's source"

// before opens the release before, for what can be copied from it: the newest of this starter whose archive is
// there, that was built from the same source while it had the same secrets.
func (w *Works) before(ctx context.Context, t records.Starter, secrets string, report progress.Reporter) (*archive.Archive, func()) {
	nothing := func() {}
	releases, err := w.DB.Releases(ctx, t.Name)
	if err != nil {
		return nil, nothing
	}
	for _, r := range releases {
		if r.Archive == "" || r.ImportedFrom != "" || r.SourceID == nil || *r.SourceID != *t.SourceID {
			continue
		}
		if old, err := w.Vault.Unseal(secretsPurpose, r.SecretsSealed); err != nil || old != secrets {
			report.Note("the source's passwords or keys have changed since " + r.Ref() + ", so everything is read and searched for them again")
			return nil, nothing
		}
		a, f, err := w.OpenArchive(r)
		if err != nil {
			report.Note(fmt.Sprintf("nothing is copied from %s: %v", r.Ref(), err))
			return nil, nothing
		}
		return a, func() { f.Close() }
	}
	return nil, nothing
}

// recoverBuild: the draft is swept from the store, and so is an archive whose release was not recorded.
func (w *Works) recoverBuild(ctx context.Context, run records.Run) (Outcome, error) {
	if found, err := w.DB.ReleaseOfRun(ctx, run.ID); err != nil || found {
		return Finished, err
	}
	return Again, nil
}

// VerifyArgs ask for a release to be verified.
type VerifyArgs struct {
	ReleaseID int64 `json:"release_id"`
}

func (w *Works) verify(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args VerifyArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	r, err := w.DB.ReleaseByID(ctx, args.ReleaseID)
	if err != nil {
		return nil, err
	}
	a, f, err := w.OpenArchive(r)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	v, err := a.Verify(ctx, report)
	if err != nil {
		return nil, err
	}
	return v, w.DB.SetVerified(ctx, r.ID, len(v.Faults))
}
