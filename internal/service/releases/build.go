package releases

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/store"
)

// ErrDiscarded says that a release's archive is not kept any more.
var ErrDiscarded = errors.New("the archive was discarded")

// OpenArchive opens a release's archive. Errors: ErrDiscarded; archive.ErrDamaged, where it is not the one that was kept.
func (svc *Releases) OpenArchive(ctx context.Context, r records.Release) (*archive.Archive, store.File, error) {
	if r.Archive == "" {
		return nil, nil, fmt.Errorf("%w: %s; its record is left, and a new release can be built", ErrDiscarded, r.Ref())
	}
	a, f, err := svc.Stored.Open(ctx, r.Archive, r.SumsSha256)
	if err != nil {
		return nil, nil, fmt.Errorf("archive of %s: %w", r.Ref(), err)
	}
	// An archive that was imported says what it was called elsewhere.
	a.Manifest.Starter, a.Manifest.Number = r.Starter, r.Number
	return a, f, nil
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

// Build makes a release of a starter.
func (svc *Releases) Build(ctx context.Context, run engine.Run, args BuildArgs, report progress.Reporter) (*BuildResult, error) {
	d, err := svc.draft(ctx, run, args, report)
	if err != nil {
		return nil, err
	}
	defer d.file.Drop()
	report.Step("Keep the archive", progress.Amount{})
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	r := records.Release{StarterID: d.starter.ID, Starter: d.starter.Name, Number: d.built.Manifest.Number, RunID: &run.ID,
		SourceID: d.starter.SourceID, SecretsSealed: d.secrets}
	if err := svc.keepRelease(ctx, d.file, d.built, r); err != nil {
		return nil, err
	}
	m := d.built.Manifest
	svc.recordDifference(ctx, m.Ref(), report)
	svc.retain(ctx, d.starter.Name, report)
	size, err := svc.DB.Release(ctx, m.Ref())
	return &BuildResult{m.Ref(), size.ArchiveBytes, m.Totals, d.built.Copied, d.file.Shared(), m.Notes}, err
}

// recordDifference compares a new release with the one before, so that every list can say why it is larger or
// smaller. That it did not work is told and is no reason for the release to fail.
func (svc *Releases) recordDifference(ctx context.Context, ref string, report progress.Reporter) {
	to, err := svc.DB.Release(ctx, ref)
	if err != nil {
		return
	}
	releases, err := svc.DB.Releases(ctx, to.Starter)
	if err != nil {
		return
	}
	for _, from := range releases {
		if from.Number >= to.Number || from.Archive == "" {
			continue
		}
		res, err := svc.compareSizes(ctx, from, to)
		if err == nil {
			err = svc.DB.SetDifference(ctx, ref, records.Difference{From: from.Ref(), Sentence: res.Summary, Causes: res.Causes})
		}
		if err != nil {
			report.Note(fmt.Sprintf("it could not be compared with %s: %v", from.Ref(), err))
		}
		return
	}
}

// compareSizes compares the archives of two releases.
func (svc *Releases) compareSizes(ctx context.Context, from, to records.Release) (*contents.Comparison, error) {
	k, err := svc.Kinds.Of(ctx, to.Manifest)
	if err != nil {
		return nil, err
	}
	a, fa, err := svc.OpenArchive(ctx, from)
	if err != nil {
		return nil, err
	}
	defer fa.Close()
	b, fb, err := svc.OpenArchive(ctx, to)
	if err != nil {
		return nil, err
	}
	defer fb.Close()
	res, err := contents.CompareSizes(ctx, a, b, k)
	if err == nil {
		res.Explain(from.ArchiveBytes, to.ArchiveBytes)
	}
	return res, err
}

// keepRelease makes a draft an archive of the store and records its release.
func (svc *Releases) keepRelease(ctx context.Context, draft *store.Draft, built *build.Result, r records.Release) (err error) {
	m := built.Manifest
	if r.Archive, r.ArchiveBytes, err = svc.Stored.Keep(ctx, draft, fmt.Sprintf("%s-%d", r.Starter, r.Number), *r.RunID); err != nil {
		return err
	}
	r.SumsSha256, r.Manifest = built.SumsSHA256, &m
	if err = svc.DB.AddRelease(ctx, r, built.Index); err == nil {
		return nil
	}
	// An answer that was lost on its way may have been yes.
	switch kept, asked := svc.DB.ReleaseOfRun(ctx, *r.RunID); {
	case asked != nil: // the archive is swept, if no release names it
		return errors.Join(err, asked)
	case kept:
		return nil
	}
	_, dropped := svc.Stored.Remove(ctx, r.Archive)
	return errors.Join(err, dropped)
}

// draft is a release that is built and not kept yet.
type draft struct {
	starter records.Starter
	file    *store.Draft
	built   *build.Result
	secrets string
}

// draft builds a release of a starter. Its file is the caller's to keep or drop.
func (svc *Releases) draft(ctx context.Context, run engine.Run, args BuildArgs, report progress.Reporter) (*draft, error) {
	t, err := svc.DB.Starter(ctx, args.Starter)
	if err != nil {
		return nil, err
	}
	if t.SourceID == nil {
		return nil, fmt.Errorf("starter %s has no source: its releases were imported; import another one, or say which source "+
			"it is built from", t.Name)
	}
	list, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	src, open, err := svc.Sources.Open(ctx, *t.SourceID)
	if err != nil {
		return nil, err
	}
	defer open.Close()
	addresses, err := survey.Addresses(ctx, open.DB, open.Identity, sources.KnownAs(src)...)
	if err != nil {
		return nil, err
	}
	number, err := svc.DB.NextNumber(ctx, t.ID)
	if err != nil {
		return nil, err
	}
	m := archive.Manifest{
		ID: rand.Text(), Starter: t.Name, Number: number, Made: time.Now().UTC().Truncate(time.Second), By: run.Who, Note: args.Note,
		Source: src.Name, Origin: archive.Origin{Address: addresses[0], Also: addresses[1:min(len(addresses), archive.MostAddresses+1)]},
	}
	if number > 1 {
		m.Parent = fmt.Sprintf("%s@%d", t.Name, number-1)
	}
	d := &draft{starter: t}
	secrets, err := json.Marshal(open.Identity.Secrets())
	if err != nil {
		return nil, err
	}
	if d.secrets, err = svc.Vault.Seal(SecretsPurpose, string(secrets)); err != nil {
		return nil, err
	}
	in := build.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity, List: list, Manifest: m}
	if !args.Full {
		before, done := svc.before(ctx, t, string(secrets), report)
		defer done()
		in.Before = before
	}
	if d.file, err = svc.Stored.Store.Create(run.ID); err != nil {
		return nil, err
	}
	if d.built, err = build.Release(ctx, d.file, in, report); err != nil {
		d.file.Drop()
		return nil, err
	}
	return d, nil
}

// SecretsPurpose is what the vault seals the secrets for that an archive was searched for.
const SecretsPurpose = "secrets of a release's source"

// before opens the release before, for what can be copied from it: the newest of this starter whose archive is
// there, that was built from the same source while it had the same secrets.
func (svc *Releases) before(ctx context.Context, t records.Starter, secrets string, report progress.Reporter) (*archive.Archive, func()) {
	nothing := func() {}
	releases, err := svc.DB.Releases(ctx, t.Name)
	if err != nil {
		return nil, nothing
	}
	for _, r := range releases {
		if r.Archive == "" || r.ImportedFrom != "" || r.SourceID == nil || *r.SourceID != *t.SourceID {
			continue
		}
		if old, err := svc.Vault.Unseal(SecretsPurpose, r.SecretsSealed); err != nil || old != secrets {
			report.Note("the source's passwords or keys have changed since " + r.Ref() + ", so everything is read and searched for them again")
			return nil, nothing
		}
		a, f, err := svc.OpenArchive(ctx, r)
		if err != nil {
			report.Note(fmt.Sprintf("nothing is copied from %s: %v", r.Ref(), err))
			return nil, nothing
		}
		return a, func() { f.Close() }
	}
	return nil, nothing
}

// RecoverBuild takes back an interrupted build: its draft is swept from the store, and so is an archive whose release was not
// recorded.
func (svc *Releases) RecoverBuild(ctx context.Context, run engine.Run, _ BuildArgs) (engine.Outcome, error) {
	if found, err := svc.DB.ReleaseOfRun(ctx, run.ID); err != nil || found {
		return engine.Finished, err
	}
	return engine.Again, nil
}

// VerifyArgs ask for a release to be verified.
type VerifyArgs struct {
	ReleaseID int64 `json:"release_id"`
}

// Verify compares every entry of a release with its sum.
func (svc *Releases) Verify(ctx context.Context, run engine.Run, args VerifyArgs, report progress.Reporter) (*archive.Verification, error) {
	r, err := svc.DB.ReleaseByID(ctx, args.ReleaseID)
	if err != nil {
		return nil, err
	}
	a, f, err := svc.OpenArchive(ctx, r)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	v, err := a.Verify(ctx, report)
	if err != nil {
		return nil, err
	}
	return v, svc.DB.SetVerified(ctx, r.ID, len(v.Faults))
}

// How long a release is left alone before it is verified by itself, and how long that holds.
const (
	verifiedAfter = time.Hour
	verifiedHolds = 30 * 24 * time.Hour
)

// StartVerifying verifies the release that needs it most, without being asked. It does nothing when none does, or one is being verified.
func (svc *Releases) StartVerifying(ctx context.Context) error {
	due := func(ctx context.Context) (records.Release, error) {
		return svc.DB.ToVerify(ctx, time.Now().Add(-verifiedHolds), time.Now().Add(-verifiedAfter))
	}
	r, err := due(ctx)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	run := records.Run{Job: "verify", Title: "Verify " + r.Ref(), Target: engine.Target("release", r.Ref()), Who: "the service"}
	return svc.Engine.StartDue(ctx, run, VerifyArgs{ReleaseID: r.ID}, func(ctx context.Context) (bool, error) {
		still, err := due(ctx) // another copy of the service may have been first
		if errors.Is(err, records.ErrNotFound) {
			return false, nil
		}
		return err == nil && still.ID == r.ID, err
	})
}
