package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) run() *cli.Command {
	return noun("run", "background work",
		verb("list", "", "list runs, newest first", []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20}}, func(ctx context.Context, c *cli.Command,
			_ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			runs, err := svc.Runs(ctx, int(c.Int("limit")))
			if err != nil {
				return err
			}
			return a.print(c, runs, func() {
				var rows [][]string
				for _, r := range runs {
					rows = append(rows, []string{fmt.Sprint(r.ID), r.Title, r.Status, r.Who, day(r.CreatedAt), took(r)})
				}
				table(a.out, []string{">run", "what", "status", "by", "when", ">took"}, rows)
			})
		}),
		verb("show", "RUN", "show a run and its log", nil,
			a.withRun(func(ctx context.Context, c *cli.Command, svc *client.Client, id int64) error {
				r, err := svc.Run(ctx, id)
				if err != nil {
					return err
				}
				return a.showRun(ctx, c, svc, r)
			})),
		verb("watch", "RUN", "follow a run to its end", nil,
			a.withRun(func(ctx context.Context, c *cli.Command, svc *client.Client, id int64) error {
				r, err := svc.Run(ctx, id)
				if err != nil {
					return err
				}
				if r, err = a.watch(ctx, svc, r); err != nil {
					return err
				}
				return a.showRun(ctx, c, svc, r)
			})),
		a.retryRun(),
		verb("cancel", "RUN", "end a run; what it made is taken back", nil,
			a.withRun(func(ctx context.Context, c *cli.Command, svc *client.Client, id int64) error {
				r, err := svc.CancelRun(ctx, id)
				if err != nil {
					return err
				}
				return a.print(c, r, func() { fmt.Fprintf(a.out, "run %d (%s) was asked to end\n", r.ID, r.Title) })
			})))
}

func (a *app) retryRun() *cli.Command {
	return verb("retry", "RUN", "start a run that is over once more; a site that it made is made again, and what stands there "+
		"becomes a safety "+
		"copy", []cli.Flag{&cli.StringFlag{Name: "from", Usage: "another release for a site, or a starter for its newest"}, detach()},
		a.withRun(func(ctx context.Context, c *cli.Command, svc *client.Client, id int64) error {
			r, err := svc.RetryRun(ctx, id, wire.Retry{From: c.String("from")})
			if err != nil {
				return err
			}
			if r.Job == "provision" {
				return a.siteMade(ctx, c, svc, r)
			}
			ended, ok, err := a.follow(ctx, c, svc, r)
			if err != nil || !ok {
				return err
			}
			return a.showRun(ctx, c, svc, ended)
		}))
}

// withRun reads the number of a run.
func (a *app) withRun(do func(ctx context.Context, c *cli.Command, svc *client.Client, id int64) error) func(context.Context, *cli.Command,
	[]string) error {
	return func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usage("%q is not the number of a run; see nestseed run list", args[0])
		}
		return do(ctx, c, svc, id)
	}
}

func (a *app) showRun(ctx context.Context, c *cli.Command, svc *client.Client, r wire.Run) error {
	lines, err := svc.Log(ctx, r.ID)
	if err != nil {
		return err
	}
	var ahead wire.Ahead
	if !r.Ended() {
		if ahead, err = svc.RunAhead(ctx, r.ID); err != nil {
			return err
		}
	}
	return a.print(c, r, func() { a.printRun(r, ahead, lines) })
}

func took(r wire.Run) string {
	if r.StartedAt == nil || r.EndedAt == nil {
		return "-"
	}
	return millis(r.EndedAt.Sub(*r.StartedAt).Milliseconds())
}

func (a *app) printRun(r wire.Run, ahead wire.Ahead, log []wire.LogLine) {
	fmt.Fprintf(a.out, "run %d: %s, by %s, %s: %s", r.ID, r.Title, r.Who, day(r.CreatedAt), r.Status)
	if r.EndedAt != nil {
		fmt.Fprintf(a.out, " in %s", took(r))
	}
	fmt.Fprintln(a.out)
	if r.Error != "" {
		fmt.Fprintln(a.out, r.Error)
	}
	if line := progressLine(r.Progress); line != "" && !r.Ended() && r.Status != wire.CleanupFailed {
		fmt.Fprintln(a.out, line)
	}
	for _, s := range r.Progress.Steps {
		fmt.Fprintf(a.out, "  %8s  %s\n", millis(s.Millis), s.Name)
	}
	for i, s := range ahead.Steps {
		if i == 0 {
			fmt.Fprintf(a.out, "ahead, as in run %d:\n", ahead.Run)
		}
		fmt.Fprintf(a.out, "  %8s  %s\n", millis(s.Millis), s.Name)
	}
	for _, l := range log {
		fmt.Fprintf(a.out, "  %s  %s\n", l.At.Local().Format("15:04:05"), strings.ReplaceAll(l.Sentence, "\n", " "))
	}
}
