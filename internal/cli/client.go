package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) client() *cli.Command {
	return noun("client", "customers of the agency: settings and sites",
		asking(a, "add", "NAME", "add a client", []cli.Flag{&cli.StringSliceFlag{Name: "set", Usage: "KEY=VALUE, any number of times"},
			fileFlag()},
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Client, error) {
				set, err := pairs(c.StringSlice("set"))
				if err != nil {
					return wire.Client{}, err
				}
				cl, err := svc.AddClient(ctx, wire.NewClient{Name: args[0], Settings: set})
				if err != nil || !c.IsSet("file") {
					return cl, err
				}
				files := map[string]string{}
				if err := addFiles(ctx, svc, args[0], c.StringSlice("file"), files); err != nil {
					return cl, errors.Join(err, svc.Remove(ctx, "clients", args[0]))
				}
				return svc.SetClient(ctx, args[0], wire.Settings{Settings: files})
			}, func(cl wire.Client) {
				fmt.Fprintf(a.out, "client %s added with %s\n", cl.Name, several(int64(len(cl.Settings)), "setting"))
			}),
		listing(a, "list clients", (*client.Client).Clients, []string{"client", "title", ">settings",
			">sites"}, func(cl wire.ClientRow) []string {
			return []string{cl.Name, cl.Title, fmt.Sprint(cl.Settings), fmt.Sprint(cl.Sites)}
		}),
		showing(a, "show a client; secrets are not shown", (*client.Client).Client, a.printClient),
		asking(a, "set", "NAME [KEY=VALUE…]", "set settings; KEY= removes one",
			[]cli.Flag{fileFlag(), &cli.StringSliceFlag{Name: "secret",
				Usage: "KEY whose value is secret; licences, passwords, keys and tokens are so by their names"}},
			func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Client, error) {
				set, err := pairs(args[1:])
				if err == nil {
					err = addFiles(ctx, svc, args[0], c.StringSlice("file"), set)
				}
				if err == nil && len(set) == 0 {
					err = usage("nothing is set; give KEY=VALUE, or --file KEY=PATH")
				}
				if err != nil {
					return wire.Client{}, err
				}
				return svc.SetClient(ctx, args[0], wire.Settings{Settings: set, Secret: c.StringSlice("secret")})
			}, a.printClient),
		verb("import", "FILE", "add clients from a CSV table: a column name, and one for each setting", nil, a.clientImport),
		a.remove("clients", "client"))
}

func (a *app) printClient(cl wire.Client) {
	fmt.Fprintf(a.out, "%s: %s\n\n", cl.Name, several(int64(cl.Sites), "site"))
	var rows [][]string
	for _, k := range slices.Sorted(maps.Keys(cl.Settings)) {
		v := shownValue(cl.Settings[k].Value)
		if cl.Settings[k].Secret {
			v = "••••••••, in the vault"
		}
		rows = append(rows, []string{k, v})
	}
	table(a.out, []string{"setting", "value"}, rows)
}

func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(name)
}

// clientImport reads the whole table before it adds the first client.
func (a *app) clientImport(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	heads, rows, err := a.readTable(args[0], "name")
	if err != nil {
		return err
	}
	var added []wire.Client
	name := slices.Index(heads, "name")
	for _, row := range rows {
		n := wire.NewClient{Name: row[name], Settings: map[string]string{}}
		for i, v := range row {
			if i != name && v != "" {
				n.Settings[heads[i]] = v
			}
		}
		cl, err := svc.AddClient(ctx, n)
		if err != nil {
			return fmt.Errorf("%s: %w; %d of %d clients were added", row[name], err, len(added), len(rows))
		}
		added = append(added, cl)
	}
	return a.print(c, added, func() { fmt.Fprintf(a.out, "%s added\n", several(int64(len(added)), "client")) })
}

// readTable reads a CSV file whose first line names the columns; need is one that must be there.
func (a *app) readTable(file, need string) (heads []string, rows [][]string, err error) {
	text, err := a.readFile(file)
	if err != nil {
		return nil, nil, err
	}
	all, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(text), "\ufeff"))).ReadAll()
	if err != nil {
		return nil, nil, usage("%s: %v", file, err)
	}
	if len(all) < 2 {
		return nil, nil, usage("%s has no rows; the first line names the columns, each further one is a %s", file,
			map[string]string{"name": "client", "client": "site"}[need])
	}
	if !slices.Contains(all[0], need) {
		return nil, nil, usage("%s has no column %s; it has %s", file, need, strings.Join(all[0], ", "))
	}
	return all[0], all[1:], nil
}
