package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/client"
)

// family is a base site of another application, and the school that gets a site of it.
type family struct {
	base    string
	title   string
	site    string
	school  int
	install func(*stack.Stack, context.Context, stack.StandIn) error
	in      stack.StandIn
	address bool // it stands nowhere in the site
}

var families = []family{
	{"folk-base", "Folk and early music", "folk-sessions", 9, (*stack.Stack).InstallDrupal, stack.StandIn{Engine: "postgres", Database: "folk_base", Prefix: ""}, true},
	{"choir-base", "Choirs and singing", "jazz-choir", 10, (*stack.Stack).InstallJoomla, stack.StandIn{Engine: "mysql", Database: "choir_base", Prefix: "chr_"}, true},
	{"notices-base", "Noticeboard", "linden-notices", 11, (*stack.Stack).InstallNoticeboard, stack.StandIn{Engine: "none"}, false},
}

// others are schools whose sites are no WordPress: stand-ins for two other families, one of them on PostgreSQL, and a small program
// without a database, which a file of the agency's own describes.
func (d *demo) others(ctx context.Context, svc *client.Client) error {
	d.begin("Other applications: stand-ins for Drupal (on PostgreSQL) and Joomla, and one by a kind file")
	if err := d.stack.StartPostgres(ctx); err != nil {
		return err
	}
	for _, f := range families {
		if err := d.once(f.base+"-ready", func() error { return f.install(d.stack, ctx, d.standIn(f)) }); err != nil {
			return err
		}
	}
	postgres, err := url.Parse(d.stack.PostgresURL())
	if err != nil {
		return err
	}
	secret, _ := postgres.User.Password()
	passwords := filepath.Join(d.dir, "database-passwords")
	if err := os.WriteFile(passwords, []byte(d.stack.AdminPassword+"\n"+secret+"\n"), 0o600); err != nil {
		return err
	}
	kindFile, err := filepath.Abs("docs/kinds/noticeboard.yaml")
	if err != nil {
		return err
	}
	steps := []step{
		{exists(svc.Host, ctx, "studio"), []string{"host", "add", "studio", "--files", "file://" + d.stack.Sites() + "?owner=www-data", "--address",
			d.stack.Address("{name}"), "--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", d.stack.AdminUser, d.stack.DatabasePort), "--database",
			fmt.Sprintf("postgres://%s@%s/", postgres.User.Username(), postgres.Host), "--database-password-file", passwords}},
		{exists(svc.Kind, ctx, "noticeboard"), []string{"kind", "add", kindFile}},
	}
	for _, f := range families {
		school := scenario.Schools(12)[f.school]
		source := []string{"source", "add", f.base, "--host", "studio", "--path", f.base}
		if f.address {
			source = append(source, "--address", d.stack.Address(f.base))
		}
		add := []string{"client", "add", school.Name}
		for k, v := range school.Settings {
			add = append(add, "--set", k+"="+v)
		}
		steps = append(steps, step{exists(svc.Source, ctx, f.base), source},
			step{surveyed(svc, ctx, f.base), []string{"source", "survey", f.base}},
			step{exists(svc.Starter, ctx, f.base), []string{"starter", "create", f.base, "--from", f.base}},
			step{exists(svc.Release, ctx, f.base), []string{"release", "build", f.base}},
			step{exists(svc.Client, ctx, school.Name), add},
			step{exists(svc.Site, ctx, f.site), []string{"site", "provision", school.Name, "--name", f.site, "--from", f.base, "--host", "studio"}})
	}
	return d.steps(ctx, steps)
}

// standIn completes what a base site is installed with.
func (d *demo) standIn(f family) stack.StandIn {
	in := f.in
	in.Name, in.Title = f.base, f.title
	in.DatabasePassword, in.Salt = "folk-and-choir-Xk4vTq9m", "pepper-of-the-other-bases-0815"
	in.Admin, in.AdminPassword, in.AdminEmail = "ines", scenario.BaseAdminPassword, "ines@loomandladder.example"
	at := d.stack.Address(f.base)
	in.Pages = []stack.Page{
		{Title: "Lessons", Body: "<p>Forty teachers, from the first note to the last exam.</p>"},
		{Title: "Concerts", Body: `<p>Every last Friday of the month; <a href="` + at + `/">all dates</a>.</p>`},
	}
	return in
}
