package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
)

func (a *app) kind() *cli.Command {
	return noun("kind", "what CMS families are known",
		verb("list", "", "list kinds", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			kinds, err := svc.Kinds(ctx)
			if err != nil {
				return err
			}
			return a.print(c, kinds, func() {
				var rows [][]string
				for _, k := range kinds {
					rows = append(rows, []string{k.Name, k.Title, strings.Join(k.Lists, ", ")})
				}
				table(a.out, []string{"kind", "title", "stock packing lists"}, rows)
			})
		}),
		verb("show", "NAME", "print the definition of a kind", nil, func(ctx context.Context, c *cli.Command, args []string) error {
			svc, err := a.service(c)
			if err != nil {
				return err
			}
			k, err := svc.Kind(ctx, args[0])
			if err != nil {
				return err
			}
			return a.print(c, k, func() { fmt.Fprint(a.out, k.Definition) })
		}),
		verb("check", "FILE", "say whether a definition of a kind can be read", nil, func(_ context.Context, c *cli.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			k, err := kind.Parse(text)
			if err != nil {
				return usage("%s: %v", args[0], err)
			}
			for name, list := range k.Lists {
				if _, err := packing.Parse([]byte(list)); err != nil {
					return usage("%s: list %s: %v", args[0], name, err)
				}
			}
			return a.print(c, map[string]string{"name": k.Name, "title": k.Title}, func() { fmt.Fprintf(a.out, "%s (%s) can be read\n", k.Name, k.Title) })
		}))
}
