package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"nestseed/internal/client"
	"nestseed/internal/service"
	"nestseed/internal/service/cluster"
	"nestseed/internal/service/httpapi"
	"nestseed/internal/service/records"
)

const (
	defaultData   = "./.nestseed"
	defaultListen = "127.0.0.1:8470"
	settingsFile  = "nestseed.yaml"
)

// settings are the service's settings: the environment counts more than the file nestseed.yaml.
func (a *app) settings() (service.Settings, error) {
	file := map[string]string{}
	text, err := os.ReadFile(settingsFile)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return service.Settings{}, err
	}
	if err := yaml.Unmarshal(text, &file); err != nil {
		return service.Settings{}, usage("%s: %v", settingsFile, err)
	}
	for k := range file {
		if k != "data" && k != "listen" && k != "records" && k != "store" && k != "vault_key" && k != "dns" && k != "sample" && k != "metrics" {
			return service.Settings{}, usage("%s: there is no setting %q; there are data, listen, records, store, vault_key, dns, metrics and "+
				"sample",
				settingsFile, k)
		}
	}
	pick := func(name, fallback string) string {
		if v := os.Getenv("NESTSEED_" + strings.ToUpper(name)); v != "" {
			return v
		}
		if v := file[name]; v != "" {
			return v
		}
		return fallback
	}
	metrics := pick("metrics", "off")
	if metrics != "on" && metrics != "off" {
		return service.Settings{}, usage("metrics is %q; it is on or off", metrics)
	}
	return service.Settings{
		Metrics: metrics == "on", Data: pick("data", defaultData), Listen: pick("listen", defaultListen), Records: pick("records", ""),
		Store: pick("store", ""), VaultKey: pick("vault_key", ""), DNS: pick("dns", ""), Sample: pick("sample", ""), Version: a.version,
		Log: slog.New(slog.NewTextHandler(a.err, nil)),
	}, nil
}

func (a *app) serve() *cli.Command {
	return verb("serve", "", "run the service", nil, func(ctx context.Context, _ *cli.Command, _ []string) error {
		set, err := a.settings()
		if err != nil {
			return err
		}
		s, err := service.Open(ctx, set)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "Nest Seed answers at %s\n", s.Address())
		if s.OwnerPassword != "" {
			if err := a.tellPassword(s, set.Data); err != nil {
				return err
			}
		}
		return s.Serve(ctx)
	})
}

// tellPassword shows the owner's first password on a terminal. Elsewhere, as under a service manager, whose journal others
// read, it goes into a file that only this user can read.
func (a *app) tellPassword(s *service.Service, data string) error {
	if _, is := terminal(a.out); is {
		fmt.Fprintf(a.out, "Log in as owner with the password %s, shown this once; the owner's token is in %s\n", s.OwnerPassword, s.TokenFile())
		return nil
	}
	file := filepath.Join(data, service.PasswordFile)
	if err := os.WriteFile(file, []byte(s.OwnerPassword+"\n"), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Log in as owner with the password in %s, and remove that file; the owner's token is in %s\n", file, s.TokenFile())
	return nil
}

func (a *app) migrate() *cli.Command {
	return verb("migrate", "", "bring the records up to date, for a server named in NESTSEED_RECORDS", nil,
		func(ctx context.Context, _ *cli.Command, _ []string) error {
			set, err := a.settings()
			if err != nil {
				return err
			}
			if set.Records == "" {
				return usage("the private PostgreSQL is brought up to date by serve; migrate is for a server named in NESTSEED_RECORDS")
			}
			db, err := records.Open(ctx, set.Records)
			if err != nil {
				return err
			}
			db.Close()
			fmt.Fprintln(a.out, "the records are up to date")
			return nil
		})
}

// finding is one line of doctor.
type finding struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Says string `json:"says"`
}

func (a *app) doctor() *cli.Command {
	compare := &cli.BoolFlag{Name: "hosts", Usage: "compare what the records say with what is on the hosts"}
	return verb("doctor", "", "say what is wrong with this machine, the service or the hosts", []cli.Flag{compare}, func(ctx context.Context,
		c *cli.Command, _ []string) error {
		if c.Bool("hosts") {
			return a.doctorOfHosts(ctx, c)
		}
		set, err := a.settings()
		if err != nil {
			return err
		}
		found := a.examine(ctx, c, set)
		bad := false
		err = a.print(c, found, func() {
			for _, f := range found {
				mark := "✓"
				if !f.OK {
					mark = "✗"
				}
				fmt.Fprintf(a.out, "%s %-12s %s\n", mark, f.What, f.Says)
			}
		})
		for _, f := range found {
			bad = bad || !f.OK
		}
		if bad && err == nil {
			return errFaults
		}
		return err
	})
}

// doctorOfHosts says what the records name and is not there, and what is there and no record names.
func (a *app) doctorOfHosts(ctx context.Context, c *cli.Command) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	r, err := svc.ExamineHosts(ctx)
	if err != nil {
		return err
	}
	err = a.print(c, r, func() {
		for _, u := range r.Unreached {
			fmt.Fprintf(a.out, "✗ not looked at: %s\n", u)
		}
		for _, f := range r.Faults {
			fmt.Fprintf(a.out, "✗ %s\n  %s\n", f.Sentence, f.Remedy)
			if f.Run != 0 {
				fmt.Fprintf(a.out, "  nestseed run cancel %d\n", f.Run)
			}
		}
		if len(r.Faults) == 0 {
			fmt.Fprintf(a.out, "✓ %d folders, databases and accounts are there as the records say, on %d hosts; nothing else bears the "+
				"service's mark\n", r.Things, len(r.Hosts))
		}
	})
	if err == nil && len(r.Faults)+len(r.Unreached) > 0 {
		err = errFaults
	}
	return err
}

func (a *app) examine(ctx context.Context, c *cli.Command, set service.Settings) []finding {
	var out []finding
	say := func(what string, ok bool, format string, args ...any) {
		out = append(out, finding{what, ok, fmt.Sprintf(format, args...)})
	}
	dir, _ := filepath.Abs(set.Data)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		say("folder", false, "%s cannot be made: %v; set NESTSEED_DATA to another folder", dir, err)
	} else if err := syscall.Access(dir, 2); err != nil {
		say("folder", false, "%s cannot be written to; make it writable, or set NESTSEED_DATA", dir)
	} else {
		var st syscall.Statfs_t
		syscall.Statfs(dir, &st)
		free := int64(st.Bavail) * st.Bsize
		say("folder", free > 1<<30, "%s, %s free", dir, size(free))
	}
	if set.Records == "" {
		bins, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
		if len(bins) == 0 {
			say("PostgreSQL", false, "%v", cluster.ErrNoPostgres)
		} else {
			say("PostgreSQL", true, "%s", bins[len(bins)-1])
		}
	} else if db, err := records.Open(ctx, set.Records); err != nil {
		say("PostgreSQL", false, "%v", err)
	} else {
		db.Close()
		say("PostgreSQL", true, "the records answer and are up to date")
	}
	short := &http.Client{Timeout: 3 * time.Second}
	server := c.String("server")
	if server == "" {
		server = "http://" + set.Listen
	}
	if res, err := short.Get(server + "/readyz"); err == nil {
		res.Body.Close()
		say("service", res.StatusCode == 200, "answers at %s", server)
		svc, _ := a.service(c)
		if me, err := svc.Me(ctx); err != nil {
			say("token", false, "%v", err)
		} else {
			say("token", true, "commands run as %s (%s)", me.Name, me.Role)
		}
	} else if l, err := net.Listen("tcp", set.Listen); err != nil {
		say("service", false, "something that is not Nest Seed listens on %s; stop it, or set NESTSEED_LISTEN", set.Listen)
	} else {
		l.Close()
		say("service", true, "not running; %s is free for it", set.Listen)
	}
	return out
}

func (a *app) login() *cli.Command {
	return verb("login", "", "keep a server and a token for later commands", nil, func(ctx context.Context, c *cli.Command, _ []string) error {
		server := c.String("server")
		if server == "" {
			server = defaultServer
		}
		token := c.String("token")
		if token == "" {
			var err error
			if token, err = a.askSecret("token for " + server + ": "); err != nil {
				return err
			}
		}
		me, err := client.New(server, token).Me(ctx)
		if err != nil {
			return err
		}
		file, err := accessFile()
		if err != nil {
			return err
		}
		text, err := yaml.Marshal(access{server, token})
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return err
		}
		return a.print(c, me, func() { fmt.Fprintf(a.out, "commands now run as %s (%s) at %s\n", me.Name, me.Role, server) })
	})
}

func (a *app) versionCommand() *cli.Command {
	return verb("version", "", "print the version", nil, func(_ context.Context, c *cli.Command, _ []string) error {
		return a.print(c, map[string]string{"version": a.version}, func() { fmt.Fprintln(a.out, "nestseed", a.version) })
	})
}

func (a *app) openapi() *cli.Command {
	cmd := verb("openapi", "", "print the OpenAPI document of the HTTP interface", nil, func(context.Context, *cli.Command, []string) error {
		doc, err := httpapi.Description(a.version)
		if err == nil {
			_, err = a.out.Write(append(doc, '\n'))
		}
		return err
	})
	cmd.Hidden = true
	return cmd
}
