package sources

import (
	"context"
	"slices"

	"nestseed/internal/core/survey"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// AcceptFinding accepts a finding of a source as known and harmless. Errors: input.ErrWrong, records.ErrNotFound.
func (s *Sources) AcceptFinding(ctx context.Context, name, what, where, reason, who string) error {
	src, err := s.DB.Source(ctx, name)
	if err != nil {
		return err
	}
	at := -1
	if src.Survey != nil {
		at = slices.IndexFunc(src.Survey.Findings, func(f survey.Finding) bool { return f.What == what && f.Where == where })
	}
	if at < 0 {
		return input.Wrongf("the survey of %s has no finding %q in %s; survey it again", src.Name, what, where)
	}
	f := &src.Survey.Findings[at]
	return s.DB.Accept(ctx, records.Acceptance{SourceID: &src.ID, What: f.Name(), Mark: f.Severity, Reason: reason, Who: who})
}

// UnacceptFinding accepts it no more. Errors: input.ErrWrong, records.ErrNotFound.
func (s *Sources) UnacceptFinding(ctx context.Context, name, what, where string) error {
	src, err := s.DB.Source(ctx, name)
	if err != nil {
		return err
	}
	accepted, err := s.DB.AcceptedOf(ctx, src.ID)
	if err != nil {
		return err
	}
	f := survey.Finding{What: what, Where: where}
	for _, a := range accepted {
		if a.What == f.Name() {
			return s.DB.Unaccept(ctx, a)
		}
	}
	return input.Wrongf("%q in %s is not accepted", what, where)
}
