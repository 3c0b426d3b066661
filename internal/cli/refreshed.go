package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"
)

// between is how long a command that watches waits before it asks again.
const between = 2 * time.Second

// clear takes away what a terminal shows (ECMA-48, 8.3.39 ED and 8.3.21 CUP).
const clear = "\x1b[2J\x1b[H"

// refreshed lets a command that shows something go on showing it, whenever it has changed, with --watch.
func (a *app) refreshed(c *cli.Command) *cli.Command {
	c.Flags = append(c.Flags, &cli.BoolFlag{Name: "watch", Usage: "show it again whenever it has changed, until Ctrl C"})
	once := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
		if !c.Bool("watch") {
			return once(ctx, c)
		}
		out, before := a.out, []byte(nil)
		defer func() { a.out = out }()
		for {
			var now bytes.Buffer
			a.out = &now
			if err := once(ctx, c); err != nil {
				if ctx.Err() != nil {
					return nil
				}
				return err
			}
			if !bytes.Equal(now.Bytes(), before) {
				before = now.Bytes()
				if err := again(out, before); err != nil {
					return err
				}
			}
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(between):
			}
		}
	}
	return c
}

// again writes what is to be seen: on a terminal in the place of what was there.
func again(out io.Writer, text []byte) error {
	if f, is := terminal(out); is {
		if _, err := f.WriteString(clear); err != nil {
			return err
		}
	}
	_, err := out.Write(text)
	if errors.Is(err, os.ErrClosed) {
		return nil
	}
	return err
}
