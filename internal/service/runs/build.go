package runs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/records"
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
	s, err := survey.Take(ctx, survey.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity}, report)
	if err != nil {
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

// BuildArgs ask for a release of a starter.
type BuildArgs struct {
	Starter string `json:"starter"`
	Note    string `json:"note"`
}

// BuildResult is the release that was built.
type BuildResult struct {
	Release      string         `json:"release"`
	ArchiveBytes int64          `json:"archive_bytes"`
	Totals       archive.Totals `json:"totals"`
	Notes        []string       `json:"notes,omitempty"`
}

func (w *Works) build(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args BuildArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	t, err := w.DB.Starter(ctx, args.Starter)
	if err != nil {
		return nil, err
	}
	list, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	src, open, err := w.openSource(ctx, t.SourceID)
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
	draft, err := w.Store.Create(run.ID)
	if err != nil {
		return nil, err
	}
	defer draft.Drop()
	made, err := archive.Build(ctx, draft, archive.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity, List: list, Manifest: m}, report)
	if err != nil {
		return nil, err
	}
	report.Step("Keep the archive", progress.Amount{})
	name := fmt.Sprintf("%s-%d-%s.zip", t.Name, number, m.ID)
	size, err := draft.Keep(name)
	if err != nil {
		return nil, err
	}
	err = w.DB.AddRelease(ctx, records.Release{StarterID: t.ID, Starter: t.Name, Number: number, Archive: name, ArchiveBytes: size, SumsSha256: made.SumsSHA256, Manifest: &made.Manifest, RunID: &run.ID})
	if err != nil {
		w.Store.Remove(name)
		return nil, err
	}
	return BuildResult{made.Manifest.Ref(), size, made.Manifest.Totals, made.Manifest.Notes}, nil
}

// recoverBuild: the draft is swept from the store, and so is an archive whose release was not recorded.
func (w *Works) recoverBuild(ctx context.Context, run records.Run) (Outcome, error) {
	var found bool
	err := w.DB.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM releases WHERE run_id = $1)", run.ID).Scan(&found)
	if found {
		return Finished, err
	}
	return Again, err
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
