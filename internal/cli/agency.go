package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// agency is whose service it is, as its clients see it.
func (a *app) agency() *cli.Command {
	show := func(of wire.Agency) {
		logo := "none"
		if of.Logo != "" {
			logo = fmt.Sprintf("a picture, %s", size(int64(len(of.Logo)*3/4)))
		}
		fmt.Fprintf(a.out, "name     %s\ncontact  %s\ncolour   %s\nlogo     %s\n", of.Name, of.Contact, cmp.Or(of.Colour, "none"), logo)
	}
	return noun("agency", "what clients see of the agency when a site is handed over",
		asking(a, "show", "", "show it", nil, func(ctx context.Context, _ *cli.Command, svc *client.Client, _ []string) (wire.Agency, error) {
			return svc.Agency(ctx)
		}, show),
		asking(a, "set", "", "change it; what is not given stays as it is", []cli.Flag{&cli.StringFlag{Name: "name"},
			&cli.StringFlag{Name: "contact", Usage: "an address for mail, a number, or words"},
			&cli.StringFlag{Name: "colour", Usage: "like #1c6b4f"},
			&cli.StringFlag{Name: "logo", Usage: "`FILE` with a picture in PNG, JPEG, WebP or GIF; none takes it away", TakesFile: true}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, _ []string) (wire.Agency, error) {
				was, err := svc.Agency(ctx)
				if err != nil {
					return was, err
				}
				in := wire.NewAgency{Name: was.Name, Contact: was.Contact, Colour: was.Colour}
				for flag, into := range map[string]*string{"name": &in.Name, "contact": &in.Contact, "colour": &in.Colour} {
					if c.IsSet(flag) {
						*into = c.String(flag)
					}
				}
				switch file := c.String("logo"); file {
				case "":
				case "none":
					in.NoLogo = true
				default:
					if in.Logo, err = os.ReadFile(file); err != nil {
						return was, err
					}
				}
				return svc.SetAgency(ctx, in)
			}, show))
}
