package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"nestseed/internal/wire"
)

// Runs lists the newest runs.
func (c *Client) Runs(ctx context.Context, limit int) ([]wire.Run, error) {
	return get[[]wire.Run](ctx, c, fmt.Sprintf("/runs?limit=%d", limit))
}

// Run shows a run.
func (c *Client) Run(ctx context.Context, id int64) (wire.Run, error) {
	return get[wire.Run](ctx, c, fmt.Sprintf("/runs/%d", id))
}

// Log reads a run's log.
func (c *Client) Log(ctx context.Context, id int64) ([]wire.LogLine, error) {
	return get[[]wire.LogLine](ctx, c, fmt.Sprintf("/runs/%d/log", id))
}

// RetryRun starts a run that is over once more; a run that makes a site takes another release.
func (c *Client) RetryRun(ctx context.Context, id int64, in wire.Retry) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/runs/%d/retry", id), in)
}

// RunAhead tells the steps that a run has before it.
func (c *Client) RunAhead(ctx context.Context, id int64) (wire.Ahead, error) {
	return get[wire.Ahead](ctx, c, fmt.Sprintf("/runs/%d/ahead", id))
}

// CancelRun cancels a run.
func (c *Client) CancelRun(ctx context.Context, id int64) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/runs/%d/cancel", id), nil)
}

// Wait follows a run to its end and returns it; each, unless nil, is told of every change. A stream
// that breaks, as when the service is restarted, is taken up again.
func (c *Client) Wait(ctx context.Context, id int64, each func(wire.Run)) (wire.Run, error) {
	var last wire.Run
	for breaks := 0; ; breaks++ {
		run, err := c.follow(ctx, id, each)
		if err == nil && run.Ended() {
			return run, nil
		}
		var p *Problem
		if ctx.Err() != nil || errors.As(err, &p) && p.Status < 500 || breaks > 20 {
			if err == nil {
				err = errors.New("the run's events ended early")
			}
			return last, errors.Join(ctx.Err(), err)
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return last, ctx.Err()
		}
	}
}

func (c *Client) follow(ctx context.Context, id int64, each func(wire.Run)) (run wire.Run, err error) {
	res, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/events", id), nil, http.Header{"Accept": {"text/event-stream"}})
	if err != nil {
		return run, err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		run = wire.Run{}
		if err := json.Unmarshal([]byte(data), &run); err != nil {
			return run, err
		}
		if each != nil {
			each(run)
		}
	}
	return run, lines.Err()
}
