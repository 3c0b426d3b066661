package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/wire"
)

func (a *app) kind() *cli.Command {
	return noun("kind", "what CMS families are known",
		listing(a, "list kinds", (*client.Client).Kinds, []string{"kind", "title", "stock packing lists"}, func(k wire.Kind) []string {
			return []string{k.Name, k.Title, strings.Join(k.Lists, ", ")}
		}),
		showing(a, "print the definition of a kind", (*client.Client).Kind, func(k wire.Kind) { fmt.Fprint(a.out, k.Definition) }),
		verb("check", "FILE", "say whether a definition of a kind can be read", nil,
			func(_ context.Context, c *cli.Command, args []string) error {
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
				return a.print(c, map[string]string{"name": k.Name, "title": k.Title},
					func() { fmt.Fprintf(a.out, "%s (%s) can be read\n", k.Name, k.Title) })
			}))
}
