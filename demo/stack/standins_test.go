package stack

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestStandInsShowTheirPages(t *testing.T) {
	ctx := context.Background()
	s := ForTest(t)
	require.NoError(t, s.StartMariaDB(ctx))
	require.NoError(t, s.StartPostgres(ctx))
	require.NoError(t, s.StartWeb(ctx))
	for name, engine := range map[string]string{"drupal-mysql": "mysql", "drupal-postgres": "postgres", "drupal-sqlite": "sqlite", "joomla-mysql": "mysql",
		"joomla-postgres": "postgres"} {
		in := StandIn{Name: name, Title: "Alder & Vale", Engine: engine, Database: "site_" + name[:6], Prefix: "lad_", Pages: []Page{{"Lessons", "<p>Every day</p>"}},
			DatabasePassword: "seven-scales", Salt: "pepper-and-salt-0815", Admin: "ines", AdminPassword: "let-me-in", AdminEmail: "ines@loomandladder.example"}
		if engine == "sqlite" {
			in.Database = "sites/default/files/.ht.sqlite"
		}
		install := s.InstallDrupal
		if name[0] == 'j' {
			install = s.InstallJoomla
		}
		require.NoError(t, install(ctx, in), name)
		res, err := Client().Get(s.Address(name) + "/")
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		res.Body.Close()
		require.NoError(t, err)
		require.Equal(t, 200, res.StatusCode, string(body))
		require.Contains(t, string(body), "Alder &amp; Vale")
		require.Contains(t, string(body), "Every day")
	}
}
