package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func detach() cli.Flag {
	return &cli.BoolFlag{Name: "detach", Usage: "print the run's number and leave; the work goes on"}
}

// follow waits for a run that was started, showing its progress: a bar on a terminal, plain lines elsewhere.
// With --detach it prints the number and ok is false.
func (a *app) follow(ctx context.Context, c *cli.Command, svc *client.Client, run wire.Run) (ended wire.Run, ok bool, err error) {
	if c.Bool("detach") {
		return run, false, a.print(c, run, func() {
			fmt.Fprintf(a.out, "run %d: %s\nfollow it with: nestseed run watch %d\n", run.ID, run.Title, run.ID)
		})
	}
	ended, err = a.watch(ctx, svc, run)
	if ctx.Err() != nil {
		return ended, false, fmt.Errorf("left run %d, which goes on; follow it with nestseed run watch %d, end it with nestseed run cancel %d",
			run.ID, run.ID, run.ID)
	}
	return ended, err == nil, err
}

func (a *app) watch(ctx context.Context, svc *client.Client, run wire.Run) (wire.Run, error) {
	show, done := a.lines(run)
	if f, ok := terminal(a.err); ok {
		show, done = a.bar(f, run)
	}
	ended, err := svc.Wait(ctx, run.ID, show)
	done()
	switch {
	case err != nil:
		return ended, err
	case ended.Status == wire.Failed || ended.Status == wire.Cancelled:
		return ended, fmt.Errorf("run %d (%s) %s: %s", ended.ID, ended.Title, ended.Status, ended.Error)
	}
	return ended, nil
}

// lines prints a line for each step, and every few seconds how far it is.
func (a *app) lines(run wire.Run) (show func(wire.Run), done func()) {
	step, last, trouble := 0, time.Now(), ""
	return func(r wire.Run) {
		if cleanupTrouble(r, &trouble) {
			fmt.Fprintf(a.err, "%s: %s\n", run.Title, trouble)
		}
		for ; step < len(r.Progress.Steps); step++ {
			fmt.Fprintf(a.err, "%s: %s\n", run.Title, strings.ToLower(r.Progress.Steps[step].Name))
		}
		if time.Since(last) > 5*time.Second && r.Status != wire.CleanupFailed {
			last = time.Now()
			fmt.Fprintf(a.err, "%s: %s\n", run.Title, progressLine(r.Progress))
		}
	}, func() {}
}

// cleanupTrouble reports that a run has failed whose making could not be taken back yet, once for each reason.
func cleanupTrouble(r wire.Run, trouble *string) bool {
	if r.Status != wire.CleanupFailed || r.Error == *trouble {
		return false
	}
	*trouble = r.Error
	return true
}

// progressLine says how far a run is: what is done of what is expected, how fast, how long still.
func progressLine(p wire.Progress) string {
	var parts []string
	if p.Expected.Files >= max(1, p.Done.Files) {
		parts = append(parts, fmt.Sprintf("%s of %s files", count(p.Done.Files), count(p.Expected.Files)))
	} else if p.Done.Files > 0 {
		parts = append(parts, count(p.Done.Files)+" files")
	}
	if p.Done.Rows > 0 {
		parts = append(parts, count(p.Done.Rows)+" rows")
	}
	if p.BytesRate > 0 {
		parts = append(parts, size(int64(p.BytesRate))+"/s")
	}
	if p.LeftSecs > 0 {
		parts = append(parts, (time.Duration(p.LeftSecs+1)*time.Second).String()+" left")
	}
	return strings.Join(parts, " · ")
}

func (a *app) bar(f *os.File, run wire.Run) (show func(wire.Run), done func()) {
	progress := mpb.New(mpb.WithOutput(f), mpb.WithWidth(64), mpb.WithRefreshRate(120*time.Millisecond))
	var now wire.Run
	trouble := ""
	b := progress.New(1000, mpb.BarStyle().Lbound(" ").Filler("━").Tip("━").Padding("─").Rbound(" "),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Any(func(decor.Statistics) string { return strings.Map(harmless, run.Title+" · "+now.Progress.Step) })),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
			if now.Status == wire.CleanupFailed {
				return now.Status
			}
			return progressLine(now.Progress)
		})))
	return func(r wire.Run) {
			if cleanupTrouble(r, &trouble) {
				fmt.Fprintf(inert{progress}, "%s: %s\n", run.Title, trouble)
			}
			now = r
			b.SetCurrent(int64(r.Progress.Fraction * 999))
		}, func() {
			b.Abort(true)
			progress.Wait()
		}
}
