// Package starters is what the service does with starters: what they are built from, their packing lists, and which of their
// archives are kept.
package starters

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
)

// Starters is the starters of the records.
type Starters struct {
	DB     *records.DB
	Engine *engine.Engine
	Kinds  *kinds.Kinds

	surveys surveyCache
}

// StockList is the name of the packing list that a starter gets when none is named.
const StockList = "starter"

// Create makes a starter from a source, with a stock packing list of its kind and further fields and launch tasks. Errors:
// input.ErrWrong, records.ErrNotFound, records.ErrTaken.
func (svc *Starters) Create(ctx context.Context, name, source, list string, fields []packing.Field, tasks []packing.LaunchTask) (
	t records.Starter, err error) {
	src, err := svc.DB.Source(ctx, source)
	if err != nil {
		return t, err
	}
	k, err := svc.Kinds.Named(ctx, src.Kind)
	if err != nil {
		return t, err
	}
	if list == "" {
		list = StockList
	}
	if src.Network {
		k = k.OfNetwork([]kind.SubSite{{ID: "1", Main: true}}) // which there are is found out when it is read
	}
	text, ok := k.Lists[list]
	if !ok {
		return t, input.Wrongf("%s has no stock list %q; it has %s", k.Title, list, strings.Join(slices.Sorted(maps.Keys(k.Lists)), ", "))
	}
	if len(fields)+len(tasks) > 0 {
		text, err = changed(text, func(l *packing.List) error {
			l.Fields, l.LaunchTasks = append(l.Fields, fields...), append(l.LaunchTasks, tasks...)
			return nil
		})
		if err != nil {
			return t, err
		}
	}
	return svc.DB.AddStarter(ctx, name, &src.ID, src.Kind, text)
}

// SetSource says which source a starter is built from. Errors: input.ErrWrong, records.ErrNotFound, engine.ErrBusy.
func (svc *Starters) SetSource(ctx context.Context, name, source string) (t records.Starter, err error) {
	err = svc.Engine.WithLock(ctx, engine.Target("starter", name), func(ctx context.Context) error {
		if t, err = svc.DB.Starter(ctx, name); err != nil {
			return err
		}
		src, err := svc.DB.Source(ctx, source)
		if err != nil {
			return err
		}
		if src.Kind != t.Kind {
			return input.Wrongf("source %s is %s and starter %s is made for %s; create a starter for it", src.Name, src.Kind, t.Name, t.Kind)
		}
		if err := svc.DB.SetStarterSource(ctx, t.Name, src.ID); err != nil {
			return err
		}
		t, err = svc.DB.Starter(ctx, name)
		return err
	})
	return t, err
}

// SetRetention says which archives of a starter are kept: the last so many, and one a week for so many weeks. Errors:
// records.ErrNotFound. It waits for no build: the rule is read when it is applied.
func (svc *Starters) SetRetention(ctx context.Context, name string, last, weeks int) (records.Starter, error) {
	if err := svc.DB.SetRetention(ctx, name, last, weeks); err != nil {
		return records.Starter{}, err
	}
	return svc.DB.Starter(ctx, name)
}

// SetList replaces a starter's packing list by a text. It waits for no build, which has read its own: a list that somebody else
// changed meanwhile is not replaced. Errors: input.ErrWrong, records.ErrNotFound, records.ErrChanged.
func (svc *Starters) SetList(ctx context.Context, name, text string) (records.Starter, error) {
	return svc.changeList(ctx, name, func(string) (string, error) {
		_, err := packing.Parse([]byte(text))
		return text, input.Wrong(err)
	})
}

// EditList edits a starter's packing list, like SetList. Errors: as of SetList.
func (svc *Starters) EditList(ctx context.Context, name string, e packing.Edit) (records.Starter, error) {
	return svc.changeList(ctx, name, func(text string) (string, error) { return edited(text, e) })
}

func edited(text string, e packing.Edit) (string, error) {
	return changed(text, func(l *packing.List) error {
		if unknown := e.Apply(l); len(unknown) > 0 {
			return input.Wrongf("%s: not left out, so it cannot be put back; the list leaves out %s", strings.Join(unknown, ", "),
				strings.Join(slices.Concat(l.LeaveOut.Paths, l.LeaveOut.Suffixes, l.LeaveOut.Tables, l.Empty), ", "))
		}
		return nil
	})
}

func (svc *Starters) changeList(ctx context.Context, name string, change func(text string) (string, error)) (records.Starter, error) {
	t, err := svc.DB.Starter(ctx, name)
	if err != nil {
		return t, err
	}
	text, err := change(t.List)
	if err != nil {
		return t, err
	}
	if err := svc.DB.SetList(ctx, name, t.List, text); err != nil {
		return t, err
	}
	t.List = text
	return t, nil
}

// Edited is a starter with another packing list, edited; nothing is kept. Errors: as of SetList.
func (svc *Starters) Edited(t records.Starter, text string, e *packing.Edit) (records.Starter, error) {
	t.List = text
	if e == nil {
		return t, nil
	}
	var err error
	t.List, err = edited(text, *e)
	return t, err
}

// changed is the text of a packing list after a change of it, with its comments. Errors: input.ErrWrong.
func changed(text string, change func(*packing.List) error) (string, error) {
	l, err := packing.Parse([]byte(text))
	if err != nil {
		return "", input.Wrong(err)
	}
	if err := change(l); err != nil {
		return "", err
	}
	if err := l.Valid(); err != nil {
		return "", input.Wrong(err)
	}
	return packing.Amend(text, l)
}

// Remove removes a starter that has no releases. Errors: records.ErrInUse, records.ErrNotFound, engine.ErrBusy.
func (svc *Starters) Remove(ctx context.Context, name string) error {
	return svc.Engine.WithLock(ctx, engine.Target("starter", name), func(ctx context.Context) error {
		return svc.DB.RemoveStarter(ctx, name)
	})
}

// Packing is what a packing list comes to against its source's newest survey.
type Packing struct {
	List     *packing.List
	Surveyed bool
	In, Out  survey.Share
	Saved    map[string]survey.Share // by rule
	Problems []packing.Problem
}

// surveyed is a packing list with what its source's newest survey found; without a survey, it and the matcher are nil.
func (svc *Starters) surveyed(ctx context.Context, t records.Starter) (*packing.List, *survey.Survey, *packing.Matcher, error) {
	l, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, nil, nil, input.Wrong(err)
	}
	if t.SourceID == nil {
		return l, nil, nil, nil
	}
	s, err := svc.surveys.get(ctx, svc.DB, *t.SourceID)
	if errors.Is(err, records.ErrNotFound) {
		return l, nil, nil, nil
	}
	if err != nil {
		return nil, nil, nil, err
	}
	k, err := svc.Kinds.Named(ctx, t.Kind)
	if err != nil {
		return nil, nil, nil, err
	}
	m, err := l.Compile(k.OfNetwork(s.SubSites), s.Prefix)
	return l, s, m, err
}

// Level is a folder of a starter's source, or what is found below it, and its tables, with what a packing list does with them.
type Level struct {
	Nodes  []survey.Node
	All    int // of which those are the largest
	Tables []survey.TableNode
}

// Level returns one for the list of a starter. Errors: input.ErrWrong.
func (svc *Starters) Level(ctx context.Context, t records.Starter, folder, find string) (out Level, err error) {
	_, s, m, err := svc.surveyed(ctx, t)
	if err != nil || s == nil {
		return out, err
	}
	out.Nodes, out.All = s.Level(m, folder, find)
	if folder == "" {
		out.Tables = s.TableLevel(m)
	}
	return out, nil
}

// Packing totals a starter's packing list, or another text in its place. Errors: input.ErrWrong.
func (svc *Starters) Packing(ctx context.Context, t records.Starter) (*Packing, error) {
	l, s, m, err := svc.surveyed(ctx, t)
	if err != nil {
		return nil, err
	}
	out := &Packing{List: l, Saved: map[string]survey.Share{}}
	if s == nil {
		return out, nil
	}
	out.Surveyed = true
	out.In, out.Out, out.Saved = s.Total(m)
	tables := make([]string, len(s.Tables))
	for i, tb := range s.Tables {
		tables[i] = tb.Name
	}
	used := map[string]bool{}
	for rule := range out.Saved {
		used[rule] = true
	}
	out.Problems = m.Check(func(yield func(string, int64) bool) {
		for _, f := range s.Files {
			if !yield(f.Path, f.Bytes) {
				return
			}
		}
	}, tables, used)
	return out, nil
}
