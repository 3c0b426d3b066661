package cli

import (
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

//go:embed sheet.html
var sheetText string

var sheetPage = template.Must(template.New("sheet").Parse(sheetText))

// siteHandover makes the link for a client, withdraws it, or writes the page to print, which holds no secret.
func (a *app) siteHandover(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	switch {
	case c.Bool("withdraw"):
		if err := svc.WithdrawHandovers(ctx, args[0]); err != nil {
			return err
		}
		return a.print(c, map[string]string{"withdrawn": args[0]}, func() {
			fmt.Fprintf(a.out, "links for %s that were not opened do not work any more\n", args[0])
		})
	case c.String("sheet") != "":
		s, err := svc.Sheet(ctx, args[0])
		if err != nil {
			return err
		}
		if err := writeSheet(c.String("sheet"), s); err != nil {
			return err
		}
		return a.print(c, s, func() {
			fmt.Fprintf(a.out, "%s: what %s must know, to be printed; it holds no password\n", c.String("sheet"), s.Title)
		})
	}
	h, err := svc.HandOver(ctx, args[0], wire.NewHandover{Days: int(c.Int("days"))})
	if err != nil {
		return err
	}
	h.Path = strings.TrimSuffix(svc.Address(), "/") + h.Path
	return a.print(c, h, func() {
		fmt.Fprintf(a.out, "%s\nthis link opens once, until %s, and shows address and login of %s; older links that were not opened are "+
			"withdrawn\nit is shown only here: send it to the client, and no one else\n", h.Path, day(h.ExpiresAt), args[0])
	})
}

func writeSheet(name string, s wire.Sheet) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("the page cannot be written: %w; name a file that is not there yet", err)
	}
	if err := sheetPage.Execute(f, s); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// printHandovers tells of the links that were made for a client.
func (a *app) printHandovers(s wire.Site) {
	for _, h := range s.Handovers {
		state := "open until " + day(h.ExpiresAt)
		switch {
		case h.OpenedAt != nil:
			state = "opened " + day(*h.OpenedAt)
		case h.WithdrawnAt != nil:
			state = "withdrawn"
		}
		fmt.Fprintf(a.out, "handover  link of %s by %s: %s\n", day(h.MadeAt), h.MadeBy, state)
	}
}
