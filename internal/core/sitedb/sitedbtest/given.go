package sitedbtest

import (
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/sitedb"
)

// Given tries a server of two databases that somebody else has made, by their addresses. fill puts a table, a view of it, a table that
// points at it, and a function into one.
func Given(t *testing.T, addresses []string, fill func(t *testing.T, database string)) {
	t.Helper()
	ctx := t.Context()
	for _, a := range addresses {
		require.True(t, sitedb.IsGiven(a), a)
	}
	server, err := sitedb.NewGiven(addresses, sitedb.Connect)
	require.NoError(t, err)
	defer server.Close()
	g := server.(sitedb.Giver)
	v, err := server.Version(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, v.Number)

	first, user, err := g.Give(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, g.Password(first))
	require.NoError(t, server.CreateUser(ctx, user, "of no use", first), "it is there")
	require.Error(t, server.CreateUser(ctx, "somebody", "else", first))
	require.Error(t, server.CreateDatabase(ctx, "another"), "none but those that were given")
	require.Error(t, g.Drop(ctx, "another", "owner"))
	require.ErrorIs(t, server.DropDatabase(ctx, first), sitedb.ErrDenied, "nobody says whose it is")

	// Of two who want it, one gets it.
	var both sync.WaitGroup
	taken := make([]error, 2)
	for i := range taken {
		both.Go(func() { taken[i] = g.Take(ctx, first, "run-41-1") })
	}
	both.Wait()
	require.True(t, (taken[0] == nil) != (taken[1] == nil), "%v", taken)
	require.ErrorIs(t, errors.Join(taken...), sitedb.ErrExists)
	second, _, err := g.Give(ctx)
	require.NoError(t, err)
	require.NotEqual(t, first, second, "what is taken is given to nobody else, before anything is in it")

	fill(t, first)
	owner, err := g.Owner(ctx, first)
	require.NoError(t, err)
	require.Equal(t, "run-41-1", owner)
	require.NoError(t, g.Drop(ctx, first, "run-40-1"), "of another owner, who had it before")
	there, err := server.DatabaseExists(ctx, first)
	require.NoError(t, err)
	require.True(t, there)
	db, err := server.OpenAs(ctx, first, user, "of no use: a database has one account")
	require.NoError(t, err)
	tables, err := db.Tables(ctx)
	require.NoError(t, err)
	require.Len(t, tables, 3, "the mark is none of the site's, and nothing was dropped")
	require.NoError(t, db.Close())

	fill(t, second)
	_, _, err = g.Give(ctx)
	require.ErrorIs(t, err, sitedb.ErrNoneLeft)
	require.ErrorIs(t, server.CreateDatabase(ctx, second), sitedb.ErrExists, "what somebody else has put there stays")
	names, used, err := g.Given(ctx)
	require.NoError(t, err)
	require.Len(t, names, 2)
	require.True(t, used[first] && used[second])

	for _, name := range names {
		owner, err := g.Adopt(ctx, name) // the second gets one now
		require.NoError(t, err)
		require.NotEmpty(t, owner)
		require.NoError(t, g.Drop(ctx, name, ""))
		require.NoError(t, g.Drop(ctx, name, owner))
		require.NoError(t, g.Drop(ctx, name, owner), "again, after a kill")
		require.NoError(t, server.DropUser(ctx, name))
		db, err := server.Open(ctx, name)
		require.NoError(t, err, "it is there as before, and its account")
		tables, err := db.Tables(ctx)
		require.NoError(t, err)
		require.Empty(t, tables)
		code, err := db.Code(ctx)
		require.NoError(t, err)
		require.Empty(t, code)
		require.NoError(t, db.Close())
	}
}
