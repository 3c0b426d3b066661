package postgres_test

import (
	"net/url"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitedb/sitedbtest"
)

func TestDatabasesThatWereGiven(t *testing.T) {
	s := stack.ForTest(t)
	require.NoError(t, s.StartPostgres(t.Context()))
	require.False(t, sitedb.IsGiven(s.PostgresURL()), "that is the server, and the database that everybody logs in to")
	server, err := url.Parse(s.PostgresURL())
	require.NoError(t, err)
	at := map[string]string{}
	var addresses []string
	for _, name := range []string{"u1_a", "u1_b"} {
		require.NoError(t, s.MakePostgres(t.Context(), name, "given-"+name))
		u := url.URL{Scheme: "postgres", User: url.UserPassword(name, "given-"+name), Host: server.Host, Path: name}
		at[name] = u.String()
		addresses = append(addresses, at[name])
	}
	sitedbtest.Given(t, addresses, func(t *testing.T, database string) {
		db, err := pgx.Connect(t.Context(), at[database]+"?sslmode=disable")
		require.NoError(t, err)
		defer db.Close(t.Context())
		for _, stmt := range []string{"CREATE TABLE parent (id serial PRIMARY KEY)", "CREATE TABLE child (of int REFERENCES parent (id))",
			"CREATE VIEW seen AS SELECT id FROM parent", "CREATE FUNCTION twice(n int) RETURNS int LANGUAGE sql AS 'SELECT 2 * n'",
			"CREATE SEQUENCE apart"} {
			_, err := db.Exec(t.Context(), stmt)
			require.NoError(t, err)
		}
	})
}
