// Package jobs is the background work that the service does: each job says what a noun does when its run works, and what
// becomes of a run that was interrupted. Everything else is in the nouns' packages.
package jobs

import (
	"context"
	"encoding/json"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/installs"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sites"
	"nestseed/internal/service/sources"
)

// Nouns are what jobs work with.
type Nouns struct {
	Sources  *sources.Sources
	Releases *releases.Releases
	Sites    *sites.Sites
	Installs *installs.Installs
}

const nothing = "it has changed nothing"

// Register makes every job known to the engine.
func Register(e *engine.Engine, n Nouns) {
	engine.Add(e, engine.Job[sources.SurveyArgs, *sources.SurveyResult]{Name: "survey", Do: n.Sources.Survey, Leaves: nothing})

	engine.Add(e, engine.Job[releases.BuildArgs, *releases.BuildResult]{Name: "build", Do: n.Releases.Build, Recover: n.Releases.RecoverBuild})
	engine.Add(e, engine.Job[releases.ImportArgs, *releases.ImportResult]{Name: "import", Do: n.Releases.Import,
		Recover: n.Releases.RecoverImport})
	engine.Add(e, engine.Job[releases.VerifyArgs, *archive.Verification]{Name: "verify", Do: n.Releases.Verify, Leaves: nothing})
	engine.Add(e, engine.Job[releases.CompareArgs, *contents.Comparison]{Name: "compare", Do: n.Releases.Compare, Leaves: nothing})

	engine.Add(e, engine.Job[sites.ProvisionArgs, *sites.ProvisionResult]{Name: "provision", Do: n.Sites.Provision,
		Recover: n.Sites.RecoverProvision})
	engine.Add(e, engine.Job[sites.TableArgs, *sites.TableResult]{Name: "table", Do: n.Sites.ProvisionTable,
		Leaves: "the sites that it had made stay"})
	engine.Add(e, engine.Job[sites.CheckArgs, *check.Report]{Name: "check", Do: n.Sites.Check, Leaves: nothing})
	engine.Add(e, engine.Job[sites.SiteArgs, map[string]string]{Name: "undo", Do: n.Sites.Undo, Recover: n.Sites.RecoverRemoval,
		Leaves: nothing})
	engine.Add(e, engine.Job[sites.SiteArgs, *sites.CopyResult]{Name: "copy", Do: n.Sites.KeepCopy})
	engine.Add(e, engine.Job[sites.SiteArgs, *sites.CopyResult]{Name: "retire", Do: n.Sites.Retire, Recover: n.Sites.RecoverRemoval,
		Leaves: "the site is as it was; a safety copy that was made of it stays"})
	engine.Add(e, engine.Job[sites.SiteArgs, *sites.CopyResult]{Name: "drop-copy", Do: n.Sites.DropCopy, Recover: n.Sites.RecoverRemoval,
		Leaves: nothing})
	engine.Add(e, engine.Job[sites.SiteArgs, *sites.RotateResult]{Name: "rotate", Do: n.Sites.Rotate, Recover: n.Sites.RecoverRotate,
		Leaves: nothing})
	engine.Add(e, engine.Job[sites.MoveArgs, *sites.MoveResult]{Name: "move", Do: n.Sites.Move, Recover: n.Sites.RecoverMove,
		Leaves: "the site stays where it was, and so does a safety copy that was made of it"})
	engine.Add(e, engine.Job[sites.SideBySideArgs, *records.SideBySide]{Name: "screenshots", Do: n.Sites.SideBySide, Leaves: nothing})

	engine.Add(e, engine.Job[installs.PlaceArgs, *installs.PlaceResult]{Name: "install-code", Do: n.Installs.Place,
		Recover: n.Installs.RecoverPlace})
	engine.Add(e, engine.Job[installs.RefreshArgs, *installs.Result]{Name: "install-refresh", Do: n.Installs.Refresh,
		Leaves: "the sites that it had brought to the new code stay there"})
	engine.Add(e, engine.Job[installs.RefreshArgs, *installs.Result]{Name: "install-undo", Do: n.Installs.Undo,
		Leaves: "the sites that it had brought back stay there"})
	engine.Add(e, engine.Job[installs.RemoveArgs, map[string]string]{Name: "install-remove", Do: n.Installs.Remove, Leaves: nothing})

	engine.Add(e, engine.Job[RetentionArgs, *RetentionResult]{Name: "retention", Do: n.retention,
		Leaves: "what it had discarded stays discarded"})
}

// RetentionArgs ask for the rules of all starters and sites to be applied.
type RetentionArgs struct{}

// RetentionResult is what was discarded.
type RetentionResult struct {
	Discarded []string `json:"discarded"`
	Copies    int      `json:"copies"` // safety copies of sites that were dropped
	Bytes     int64    `json:"bytes"`  // that are free now
}

// retention applies the rules. It is called again when the safety copies are dropped.
func (n Nouns) retention(ctx context.Context, run engine.Run, _ RetentionArgs, report progress.Reporter) (*RetentionResult, error) {
	res := &RetentionResult{}
	if len(run.Result) > 0 {
		if err := json.Unmarshal(run.Result, res); err != nil {
			return nil, err
		}
	} else {
		report.Step("Apply the rules for archives", progress.Amount{})
		discarded, err := n.Releases.Retain(ctx, report)
		res.Discarded, res.Bytes = append([]string{}, discarded.Discarded...), discarded.Bytes
		if err != nil {
			return res, err
		}
	}
	dropped, freed, waits, err := n.Sites.RetainCopies(ctx, run, report)
	if waits != 0 {
		return res, &engine.Aside{First: waits, From: 0.5, To: 1}
	}
	res.Copies, res.Bytes = dropped, res.Bytes+freed
	return res, err
}

// RetentionDue reports whether a rule keeps something no longer.
func (n Nouns) RetentionDue(ctx context.Context) (bool, error) {
	if due, err := n.Releases.RetentionDue(ctx); err != nil || due {
		return due, err
	}
	return n.Sites.RetentionDue(ctx)
}
