package job

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/test/world"
)

func musicSchool(n int) scenario.School { return scenario.Schools(n)[n-1] }

// recordsAddress is where the service's private PostgreSQL answers.
func recordsAddress(t testing.TB) string {
	t.Helper()
	password, err := os.ReadFile(filepath.Join(world.Service.Data, "postgres-password"))
	require.NoError(t, err)
	pid, err := os.ReadFile(filepath.Join(world.Service.Data, "postgres", "data", "postmaster.pid"))
	require.NoError(t, err)
	return "postgres://nestseed:" + string(password) + "@127.0.0.1:" + strings.Split(string(pid), "\n")[3] + "/postgres?sslmode=disable"
}

// connectRecords looks into the records as nobody but a test does.
func connectRecords(t testing.TB) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), recordsAddress(t))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

func sqlRecords(t testing.TB, query string, args ...any) {
	t.Helper()
	_, err := connectRecords(t).Exec(context.Background(), query, args...)
	require.NoError(t, err)
}
