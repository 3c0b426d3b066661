package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func (a *app) host() *cli.Command {
	add := verb("add", "NAME", "add a host", []cli.Flag{
		&cli.StringFlag{Name: "files", Required: true,
			Usage: "where its files are: file:///srv/www, with ?owner=USER for the files' owner, or sftp://USER@HOST/folder"},
		filesPassword(), filesKey(),
		&cli.StringFlag{Name: "web-root", Value: "{name}", Usage: "folder of a site below files"},
		&cli.StringFlag{Name: "address", Required: true, Usage: "address of a site, with {name} in it"},
		&cli.StringSliceFlag{Name: "database", Required: true,
			Usage: "database server: mysql://admin@127.0.0.1:3306/, with ?through=files for over the SSH of the files; once for each that " +
				"the host has"},
		databasePassword(),
		&cli.StringFlag{Name: "connect", Usage: "host or host:port that checks connect to, whatever DNS says"},
	}, func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		password, err := a.passwordFrom(c)
		if err != nil {
			return err
		}
		filesPassword, key, err := a.filesSecrets(c)
		if err != nil {
			return err
		}
		h, err := svc.AddHost(ctx, wire.NewHost{Name: args[0], Files: c.String("files"), WebRoot: c.String("web-root"),
			Address:  c.String("address"),
			Database: strings.Join(c.StringSlice("database"), " "), DatabasePassword: password, FilesPassword: filesPassword, FilesKey: key,
			Connect: c.String("connect")})
		if err != nil {
			return err
		}
		return a.print(c, h, func() {
			fmt.Fprintf(a.out, "host %s added\n", h.Name)
			if h.HostKey != "" {
				fmt.Fprintf(a.out, "It shows the key %s, and must show it from now on. Compare it with what the hosting company says.\n", h.HostKey)
			}
		})
	})
	show := func(h wire.Host) {
		fmt.Fprintf(a.out, "host      %s\nfiles     %s\nweb root  %s\naddress   %s\ndatabase  %s\n", h.Name, h.Files, h.WebRoot, h.Address,
			strings.ReplaceAll(h.Database, " ", "\n          "))
		if h.Connect != "" {
			fmt.Fprintf(a.out, "connect   %s\n", h.Connect)
		}
		if h.HostKey != "" {
			fmt.Fprintf(a.out, "host key  %s\n", h.HostKey)
		}
		a.printRoom(h)
		for _, r := range h.Runtimes {
			fmt.Fprintf(a.out, "runs      %s %s, as it told on %s\n", r.Name, r.Version, r.AskedAt.Local().Format("2 January 2006 15:04"))
		}
	}
	return noun("host", "places with files and database servers", add, a.hostSet(),
		a.hostFolders(),
		listing(a, "list hosts", (*client.Client).Hosts, []string{"host", "files", "address", "database"}, func(h wire.Host) []string {
			return []string{h.Name, h.Files, h.Address, h.Database}
		}),
		showing(a, "show a host", (*client.Client).Host, show),
		verb("test", "NAME", "test access, database, PHP and free space of a host", []cli.Flag{
			&cli.BoolFlag{Name: "apply", Usage: "change the address of its files to the one that the test recommends, and test again"}},
			a.hostTest),
		a.remove("hosts", "host"))
}

func (a *app) hostTest(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	t, err := svc.TestHost(ctx, args[0])
	if err == nil && c.Bool("apply") && t.Files != "" {
		if _, err = svc.ChangeHost(ctx, args[0], wire.ChangedHost{Files: t.Files}); err == nil {
			fmt.Fprintf(a.err, "the files of %s are at %s now\n", args[0], t.Files)
			t, err = svc.TestHost(ctx, args[0])
		}
	}
	if err != nil {
		return err
	}
	if err := a.print(c, t, func() {
		a.printSteps(t.Steps)
		if t.Files != "" {
			fmt.Fprintf(a.out, "\nThe test recommends the files address %s; nestseed host test %s --apply changes the host to it.\n",
				t.Files, args[0])
		}
	}); err != nil {
		return err
	}
	if t.Faults() > 0 {
		return errFaults
	}
	return nil
}

func (a *app) hostFolders() *cli.Command {
	return asking(a, "folders", "NAME [PATH]", "list the folders in a folder of a host, and which look like a site", nil,
		func(ctx context.Context, _ *cli.Command, svc *client.Client, args []string) (wire.Folders, error) {
			return svc.Folders(ctx, args[0], at(args, 1))
		}, func(f wire.Folders) {
			var rows [][]string
			for _, d := range f.Folders {
				rows = append(rows, []string{d.Name, d.Kind})
			}
			table(a.out, []string{"folder", "looks like"}, rows)
		})
}

func (a *app) hostSet() *cli.Command {
	return asking(a, "set", "NAME", "change a host; what is not given stays as it is", []cli.Flag{
		&cli.StringFlag{Name: "files", Usage: "where its files are"},
		filesPassword(), filesKey(),
		&cli.BoolFlag{Name: "new-host-key", Usage: "take the key that the host shows now, because the hosting company has changed it"},
		&cli.StringFlag{Name: "web-root", Usage: "folder of a new site below files"},
		&cli.StringFlag{Name: "address", Usage: "address of a new site, with {name} in it"},
		&cli.StringSliceFlag{Name: "database", Usage: "database servers, all that the host has"},
		databasePassword(),
		&cli.StringFlag{Name: "connect", Usage: "host or host:port that checks connect to; empty for what DNS says"},
	}, func(ctx context.Context, c *cli.Command, svc *client.Client, args []string) (wire.Host, error) {
		password, err := a.newPasswordFrom(c)
		if err != nil {
			return wire.Host{}, err
		}
		filesPassword, key, err := a.filesSecrets(c)
		if err != nil {
			return wire.Host{}, err
		}
		in := wire.ChangedHost{Files: c.String("files"), WebRoot: c.String("web-root"), Address: c.String("address"),
			Database: strings.Join(c.StringSlice("database"), " "), DatabasePassword: password, FilesPassword: filesPassword, FilesKey: key,
			NewHostKey: c.Bool("new-host-key")}
		if c.IsSet("connect") {
			in.Connect = new(c.String("connect"))
		}
		if in == (wire.ChangedHost{}) {
			return wire.Host{}, usage("say what to change; see nestseed host set --help")
		}
		return svc.ChangeHost(ctx, args[0], in)
	}, func(h wire.Host) { fmt.Fprintf(a.out, "host %s changed\n", h.Name) })
}

// printSteps prints what a host showed, and what to ask the hosting company for.
func (a *app) printSteps(steps []wire.Check) {
	for _, k := range steps {
		fmt.Fprintf(a.out, "%s %-23s %s\n", marks[k.Result], k.Name, k.Sentence)
		for _, e := range k.Evidence {
			fmt.Fprintf(a.out, "    %s\n", e)
		}
	}
	asked := false
	for _, k := range steps {
		if k.Remedy == "" {
			continue
		}
		if !asked {
			fmt.Fprintln(a.out, "\nAsk the hosting company:")
			asked = true
		}
		fmt.Fprintf(a.out, "- %s\n", k.Remedy)
	}
}

// remove is the verb that removes a thing by its name.
func (a *app) remove(plural, noun string) *cli.Command {
	return verb("remove", "NAME", "remove a "+noun+" that nothing uses", nil, func(ctx context.Context, c *cli.Command, args []string) error {
		svc, err := a.service(c)
		if err != nil {
			return err
		}
		if err := svc.Remove(ctx, plural, args[0]); err != nil {
			return err
		}
		return a.print(c, map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "%s %s removed\n", noun, args[0]) })
	})
}

// printRoom says what a host has left, and what is on it.
func (a *app) printRoom(h wire.Host) {
	if h.Use != nil && h.Use.Sites > 0 {
		fmt.Fprintf(a.out, "sites     %s of %s, the largest %s\n", several(int64(h.Use.Sites), "site"), size(h.Use.Bytes), size(h.Use.Largest))
	}
	switch r := h.Room; {
	case r == nil:
	case r.Trouble != "":
		fmt.Fprintf(a.out, "room      it could not be reached on %s: %s\n", day(r.At), r.Trouble)
	case r.FreeBytes == nil:
		fmt.Fprintln(a.out, "room      it does not tell how much is free")
	default:
		fmt.Fprintf(a.out, "room      %s free on %s\n", size(*r.FreeBytes), day(r.At))
	}
}
