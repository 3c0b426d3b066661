package stack

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"

	"nestseed/internal/service/cluster"

	"github.com/jackc/pgx/v5"
)

// StartPostgres starts a PostgreSQL server for the databases of sites.
func (s *Stack) StartPostgres(ctx context.Context) error {
	if s.postgres != nil {
		return nil
	}
	if _, err := os.Stat(s.path("postgres")); err != nil && s.Throwaway {
		if err := ThrowawayPostgres(ctx, s.Dir); err != nil {
			return err
		}
	}
	server, err := cluster.Start(ctx, s.Dir)
	if err != nil {
		return err
	}
	u, err := url.Parse(server.Address())
	if err != nil {
		return err
	}
	s.postgres = server
	s.PostgresPort, err = strconv.Atoi(u.Port())
	return err
}

// PostgresURL is the address of the PostgreSQL server with its administrator.
func (s *Stack) PostgresURL() string { return s.postgres.Address() }

// MakePostgres makes a PostgreSQL database that belongs to a role of the same name.
func (s *Stack) MakePostgres(ctx context.Context, name, password string) error {
	db, err := pgx.Connect(ctx, s.PostgresURL())
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	for _, stmt := range []string{
		fmt.Sprintf(`CREATE ROLE "%s" LOGIN PASSWORD '%s'`, name, password),
		fmt.Sprintf(`CREATE DATABASE "%s" OWNER "%s"`, name, name),
		fmt.Sprintf(`REVOKE ALL ON DATABASE "%s" FROM PUBLIC`, name),
	} {
		if _, err := db.Exec(ctx, stmt); err != nil {
			return err
		}
	}
	return nil
}

// stopPostgres ends the PostgreSQL server, also one that an earlier program has started.
func (s *Stack) stopPostgres() error {
	if _, err := os.Stat(s.path("postgres", "data", "postmaster.pid")); err != nil {
		return nil
	}
	server, err := cluster.Start(context.Background(), s.Dir)
	if err != nil {
		return err
	}
	s.postgres = nil
	return server.Stop()
}
