package kinds

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/demo/stack"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

// TestAHostThatWasGivenItsDatabases does the main job where a hosting company has made databases and accounts, and lets nobody make more.
func TestAHostThatWasGivenItsDatabases(t *testing.T) {
	world.Prepared(t)
	hostOfEveryEngine(t)
	require.NoError(t, world.Stack.InstallDrupal(t.Context(), stack.StandIn{Name: "given-base", Title: "Folk music", Engine: "postgres",
		Database: "given_base", Prefix: "", DatabasePassword: "seven-scales-given", Salt: "pepper-of-the-given", Admin: "ines",
		AdminPassword: "let-me-in-please", AdminEmail: "ines@loomandladder.example", Pages: []stack.Page{{Title: "Sessions", Body: "<p>Mondays</p>"}}}))
	world.Must(t, "source", "add", "given-base", "--host", "every", "--path", "given-base", "--address", world.Stack.Address("given-base"))
	world.Must(t, "starter", "create", "given-base", "--from", "given-base")
	world.Must(t, "release", "build", "given-base")

	for _, of := range []struct{ engine, from string }{{"mysql", "music-base"}, {"postgres", "given-base"}} {
		t.Run(of.engine, func(t *testing.T) {
			host := "given-" + of.engine
			args := []string{"host", "add", host, "--files", "file://" + world.Stack.Sites() + "?owner=www-data", "--address",
				world.Stack.Address("{name}")}
			names := []string{"u4711_" + of.engine + "_a", "u4711_" + of.engine + "_b"}
			passwords := filepath.Join(t.TempDir(), "passwords")
			require.NoError(t, os.WriteFile(passwords, []byte("given-"+names[0]+"\ngiven-"+names[1]), 0o600))
			args = append(args, "--database-password-file", passwords)
			for _, name := range names {
				at := url.URL{Scheme: of.engine, User: url.User(name), Path: name}
				if of.engine == "mysql" {
					require.NoError(t, world.Stack.MakeDatabase(t.Context(), name, "given-"+name, ""))
					at.Host = fmt.Sprintf("127.0.0.1:%d", world.Stack.DatabasePort)
				} else {
					require.NoError(t, world.Stack.MakePostgres(t.Context(), name, "given-"+name))
					server, err := url.Parse(world.Stack.PostgresURL())
					require.NoError(t, err)
					at.Host = server.Host
				}
				args = append(args, "--database", at.String())
			}
			world.Must(t, args...)
			require.Contains(t, world.Must(t, "host", "test", host), "2 of 2 are empty")

			school := scenario.Schools(11)[10]
			school.Name = host
			world.AddClient(t, school)
			require.Contains(t, world.Must(t, "site", "plan", host, "--from", of.from, "--host", host), "Take database "+names[0])
			first := world.Ask[wire.Site](t, "site", "provision", host, "--from", of.from, "--host", host)
			require.Zero(t, first.Report.Faults(), "%+v", first.Report)
			require.Equal(t, names[0], first.Database)
			world.Must(t, "site", "rotate", host)
			world.Checked(t, host)
			second := world.Ask[wire.Site](t, "site", "provision", host, "--from", of.from, "--host", host, "--replace")
			require.Zero(t, second.Report.Faults(), "%+v", second.Report)
			require.Equal(t, names[1], second.Database)
			r := world.Nestseed(t, "site", "provision", host, "--name", host+"-more", "--from", of.from, "--host", host)
			require.Contains(t, r.Err, "have another made at the hosting company")
			require.Contains(t, world.Must(t, "host", "test", host), "no further site can be made here")
			world.Must(t, "site", "undo", host)
			world.Checked(t, host)
			require.Contains(t, world.Must(t, "host", "test", host), "1 of 2 are empty")
			refreshed := world.Ask[wire.Site](t, "site", "refresh", host, "--to", of.from)
			require.Zero(t, refreshed.Report.Faults(), "%+v", refreshed.Report)
			require.Equal(t, names[1], refreshed.Database)
			world.Must(t, "site", "retire", host)
			world.NothingLeft(t, host)
			require.Contains(t, world.Must(t, "host", "test", host), "2 of 2 are empty", "what is dropped is empty again")
			require.NotContains(t, strings.ToLower(world.Must(t, "--json", "host", "show", host)), "given-u4711", "passwords are in the vault")
		})
	}
}
