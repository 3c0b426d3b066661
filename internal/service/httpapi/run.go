package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/wire"
)

func runOut(r records.Run) wire.Run {
	if r.Progress.Steps == nil {
		r.Progress.Steps = []records.StepTime{}
	}
	if r.Status == records.Working && r.Error != "" {
		r.Status = wire.CleanupFailed
	}
	return wire.Run{ID: r.ID, Job: r.Job, Title: r.Title, About: aboutOut(r.Target), Status: r.Status, Who: r.Who,
		Progress: as[wire.Progress](r.Progress),
		Result:   r.Result, Error: r.Error, Committed: r.Committed,
		Repeats:   r.EndedAt != nil && (r.Job == "provision" || engine.Repeatable(r.Job)),
		CreatedAt: r.CreatedAt, StartedAt: r.StartedAt, EndedAt: r.EndedAt}
}

// aboutOut takes apart what engine.Target puts together.
func aboutOut(target string) wire.About {
	noun, name, _ := strings.Cut(target, ":")
	if plain, err := url.PathUnescape(name); err == nil {
		name = plain
	}
	return wire.About{Noun: noun, Name: name}
}

// start records a run in the name of who asks.
func (a *api) start(ctx context.Context, r records.Run, args any) (*begun, error) {
	r.Who = who(ctx).Name
	r, err := a.Engine.Start(ctx, r, args)
	if err != nil {
		return nil, err
	}
	return &begun{runOut(r)}, nil
}

type Numbered struct {
	ID int64 `path:"id"`
}

func (a *api) runOperations(h huma.API) {
	operation(h, "GET", "/runs", "list-runs", "List runs, newest first", func(ctx context.Context, in *struct {
		Before int64  `query:"before" doc:"only runs before this number: the last one of the page before"`
		Status string `query:"status" enum:"waiting,working,done,failed,cancelled"`
		Job    string `query:"job"`
		Find   string `query:"find" maxLength:"200" doc:"a part of the title"`
		Limit  int    `query:"limit" default:"50" maximum:"500"`
	}) (*body[[]wire.Run], error) {
		rs, err := a.db.RunRows(ctx, records.RunFilter{Before: in.Before, Status: in.Status, Job: in.Job, Find: in.Find, Limit: in.Limit})
		return list(rs, err, runOut)
	})
	operation(h, "GET", "/runs/{id}", "show-run", "Show a run", func(ctx context.Context, in *Numbered) (*body[wire.Run], error) {
		r, err := a.db.Run(ctx, in.ID)
		return single(r, err, runOut)
	})
	operation(h, "GET", "/runs/{id}/ahead", "run-ahead",
		"The steps that a run has before it, as the last run of its sort that has gone well had them", a.ahead)
	operation(h, "GET", "/runs/{id}/log", "run-log", "Read a run's log", func(ctx context.Context, in *struct {
		Numbered
		After int64 `query:"after"`
	}) (*body[[]wire.LogLine], error) {
		if _, err := a.db.Run(ctx, in.ID); err != nil {
			return nil, err
		}
		lines, err := a.db.Log(ctx, in.ID, in.After, 1000)
		return list(lines, err, func(l records.LogLine) wire.LogLine { return wire.LogLine(l) })
	})
	operation(h, "POST", "/runs/{id}/retry", "retry-run", "Start a run that is over once more", a.retry)
	operation(h, "POST", "/runs/{id}/cancel", "cancel-run", "Cancel a run", func(ctx context.Context, in *Numbered) (*body[wire.Run], error) {
		r, err := a.db.Run(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if r.Status != records.Waiting && r.Status != records.Working {
			return nil, input.Wrongf("run %d is over (%s); there is nothing to cancel", r.ID, r.Status)
		}
		asked := a.Engine.Cancel(ctx, in.ID)
		if asked != nil && !errors.Is(asked, records.ErrNotFound) {
			return nil, asked
		}
		// A run that ends meanwhile is over; that is no fault.
		r, err = a.db.Run(ctx, in.ID)
		if err == nil && asked != nil && r.Committed && r.EndedAt == nil {
			return nil, input.Wrong(fmt.Errorf("run %d (%s) cannot be cancelled any more: what it made is being kept, or what it has "+
				"begun must not "+
				"stop halfway; wait for its end", r.ID, r.Title))
		}
		return single(r, err, runOut)
	})
}

// ahead tells the steps that a run still has before it. Of a run that is over, or whose sort has never gone well, there are none.
func (a *api) ahead(ctx context.Context, in *Numbered) (*body[wire.Ahead], error) {
	r, err := a.db.Run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out := wire.Ahead{Steps: []wire.StepTime{}}
	if r.EndedAt != nil {
		return &body[wire.Ahead]{out}, nil
	}
	before, err := a.db.RunBefore(ctx, r)
	if errors.Is(err, records.ErrNotFound) {
		return &body[wire.Ahead]{out}, nil
	}
	if err != nil {
		return nil, err
	}
	out.Run = before.ID
	out.Steps = as[[]wire.StepTime](stepsLeft(r.Progress.Steps, before.Progress.Steps))
	return &body[wire.Ahead]{out}, nil
}

// stepsLeft is what comes after the newest of some steps in those of another run; all of them before the first, none where it is not
// among them.
func stepsLeft(now, then []records.StepTime) []records.StepTime {
	if len(now) == 0 {
		return then
	}
	for i := len(then) - 1; i >= 0; i-- {
		if then[i].Name == now[len(now)-1].Name {
			return then[i+1:]
		}
	}
	return []records.StepTime{}
}

// events writes server-sent events (WHATWG HTML, section 9.2) until send says it is over or the reader leaves.
func (a *api) events(c *gin.Context, send func(changed int64) (over bool, err error)) {
	changed, stop := a.Engine.Listen()
	defer stop()
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	alive := time.NewTicker(5 * time.Second)
	defer alive.Stop()
	for id := int64(0); ; {
		over, err := send(id)
		if over || err != nil {
			return
		}
		c.Writer.Flush()
		select {
		case id = <-changed:
		case <-alive.C: // also finds out what a lost notification did not tell
			id = 0
			if u, err := a.userOf(c); err != nil || u.Role != who(c.Request.Context()).Role {
				return // the session has ended, or is another's
			}
			fmt.Fprint(c.Writer, ": alive\n\n")
		case <-c.Request.Context().Done():
			return
		}
	}
}

func writeEvent(c *gin.Context, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(c.Writer, "data: %s\n\n", text)
	return err
}

// runEvents streams one run until it is over.
func (a *api) runEvents(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err == nil {
		_, err = a.db.Run(c, id)
	}
	if err != nil {
		refuseError(c, err)
		return
	}
	a.events(c, func(changed int64) (bool, error) {
		if changed != 0 && changed != id {
			return false, nil
		}
		r, err := a.db.Run(c, id)
		if err != nil {
			return true, err
		}
		out := runOut(r)
		return out.Ended(), writeEvent(c, out)
	})
}

// allEvents streams every run that changes, beginning with those that work.
func (a *api) allEvents(c *gin.Context) {
	a.events(c, func(changed int64) (bool, error) {
		var rs []records.Run
		var err error
		if changed == 0 {
			rs, err = a.db.RunsIn(c, records.Waiting, records.Working)
		} else {
			var r records.Run
			r, err = a.db.Run(c, changed)
			rs = []records.Run{r}
		}
		for _, r := range rs {
			if err == nil {
				err = writeEvent(c, runOut(r))
			}
		}
		return err != nil, err
	})
}
