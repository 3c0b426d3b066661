package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// Despite names checks that may fail after a change without stopping it: somebody has decided so, for a reason. Their faults are
// accepted on the site.
type Despite struct {
	Checks []string `json:"checks,omitempty"`
	Reason string   `json:"reason,omitempty"`
}

// Valid says what is wrong with a decision. Errors: input.ErrWrong.
func (d Despite) Valid() error {
	for _, name := range d.Checks {
		if !slices.Contains(check.Names(), name) {
			return input.Wrongf("there is no check %q; the checks are: %s", name, strings.Join(check.Names(), ", "))
		}
	}
	if len(d.Checks) > 0 && len(strings.TrimSpace(d.Reason)) < 3 {
		return input.Wrongf("say for what reason the change is made despite that check; the reason is shown on the site")
	}
	return nil
}

// newFaults returns the checks of a report that failed by something that the site did not have before, and that nobody has accepted or
// decided on.
func (svc *Sites) newFaults(ctx context.Context, siteID int64, before, rep *check.Report, despite Despite) ([]check.Check, error) {
	accepted, err := svc.DB.AcceptedOn(ctx, siteID)
	return slices.DeleteFunc(rep.Since(before), func(c check.Check) bool {
		return slices.Contains(despite.Checks, c.Name) || records.CoveredBy(accepted, &c) != nil
	}), err
}

// acceptDespite accepts what failed although somebody had decided to make the change despite it.
func (svc *Sites) acceptDespite(ctx context.Context, siteID int64, rep *check.Report, despite Despite, who string) (err error) {
	for _, c := range rep.Checks {
		if c.Result == check.Fail && slices.Contains(despite.Checks, c.Name) {
			err = errors.Join(err, svc.DB.Accept(ctx, records.Acceptance{SiteID: &siteID, What: c.Name, Mark: c.Mark(),
				Reason: despite.Reason, Who: who}))
		}
	}
	return err
}

// reportFresh is how old what checks have found may be to be what there was before a change.
const reportFresh = time.Hour

// before returns what the checks find on a site before it is changed. Where they cannot be made, what they found last counts.
func (svc *Sites) before(ctx context.Context, s records.Site) *check.Report {
	if s.Report != nil && time.Since(s.Report.At) < reportFresh {
		return s.Report
	}
	if rep, err := svc.checkAt(ctx, s, checking{}, progress.Discard); err == nil {
		return rep
	}
	return s.Report
}

// faultNames names checks for the result of a run.
func faultNames(checks []check.Check) []string {
	names := []string{}
	for _, c := range checks {
		names = append(names, c.Name)
	}
	return names
}

// FaultsOf names the new faults that a run has found that made or changed a site, as its result says.
func FaultsOf(run engine.Run) ([]string, error) {
	var res struct {
		NewFaults []string `json:"new_faults"`
	}
	if err := json.Unmarshal(run.Result, &res); err != nil {
		return nil, fmt.Errorf("result of run %d: %w", run.ID, err)
	}
	return res.NewFaults, nil
}
