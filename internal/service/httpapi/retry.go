package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

// retry starts a run that is over once more. A site that was made, and is there, is made again in its place: what stands there
// becomes a safety copy.
func (a *api) retry(ctx context.Context, in *struct {
	Numbered
	Put[wire.Retry]
}) (*begun, error) {
	r, err := a.db.Run(ctx, in.ID)
	switch {
	case err != nil:
		return nil, err
	case r.EndedAt == nil:
		return nil, input.Wrongf("run %d is not over (%s); wait for its end, or cancel it first", r.ID, r.Status)
	case r.Job == "provision":
		return a.provisionAgain(ctx, r, in.Body.From)
	case in.Body.From != "":
		return nil, input.Wrongf("run %d (%s) makes no site; only such a run takes another release", r.ID, r.Title)
	case !engine.Repeatable(r.Job):
		return nil, input.Wrongf("run %d (%s) is not started again from here, as what it would find is not what it found; begin it anew "+
			"where you "+
			"began it", r.ID, r.Title)
	}
	again, err := a.Engine.Repeat(ctx, records.Run{Job: r.Job, Title: r.Title, Target: r.Target, Who: who(ctx).Name, Args: r.Args})
	if err != nil {
		return nil, err
	}
	return &begun{runOut(again)}, nil
}

func (a *api) provisionAgain(ctx context.Context, r records.Run, from string) (*begun, error) {
	var args sites.ProvisionArgs
	if err := json.Unmarshal(r.Args, &args); err != nil {
		return nil, err
	}
	if from != "" {
		if args.CopyID != 0 {
			return nil, input.Wrongf("run %d put a safety copy back, which is of no release; name none", r.ID)
		}
		args.Release = from
	}
	_, err := a.db.Site(ctx, args.Name)
	switch {
	case err == nil:
		args.Replace = !args.Refresh
	case errors.Is(err, records.ErrNotFound) && (args.Refresh || args.Replace):
		return nil, fmt.Errorf("%w; it was there when run %d began", err, r.ID)
	case !errors.Is(err, records.ErrNotFound):
		return nil, err
	}
	p, err := a.plan(ctx, args, nil)
	if err != nil {
		return nil, err
	}
	return a.startProvision(ctx, args, p, nil)
}
