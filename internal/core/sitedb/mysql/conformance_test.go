package mysql_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitedb/sitedbtest"
)

// conformance is the schema of the tests that all engines have.
var conformance = []string{
	"CREATE TABLE every (id int unsigned NOT NULL AUTO_INCREMENT, t longtext NOT NULL DEFAULT 'it''s \\\\ \"x\"', b longblob, n bigint DEFAULT 0, " +
		"num decimal(12,3), r double, v varchar(40), day date, at datetime(6), js json, twice bigint GENERATED ALWAYS AS (n * 2) STORED, " +
		"PRIMARY KEY (id), KEY v (v(10)), CHECK (n >= 0 AND n <> 13)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	"INSERT INTO every (t, b, n, num, r, v, day, at, js) VALUES ('line\\nbreak\\ttab \\\\ it''s ß 漢 🎻', X'00ff5c27', 9007199254740993, 123456789.125, " +
		"1e308, 'plain', '2026-11-28', '2026-11-28 05:13:43.123456', '{\"a\": \"it''s\"}'), ('', '', 0, 0, 0, '', NULL, NULL, NULL)",
	"CREATE TABLE other (id bigint NOT NULL AUTO_INCREMENT, `every` int unsigned, note varchar(100) NOT NULL DEFAULT '', PRIMARY KEY (id), " +
		"CONSTRAINT belongs FOREIGN KEY (`every`) REFERENCES every (id) ON DELETE CASCADE) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	"INSERT INTO other (`every`, note) VALUES (1, 'first'), (2, 'second')",
	"CREATE VIEW seen AS SELECT t FROM every",
}

func TestTheEngineDoesWhatAllDo(t *testing.T) {
	s := stack.ForTest(t)
	require.NoError(t, s.StartMariaDB(context.Background()))
	server, err := sitedb.Connect(s.DatabaseURL())
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	client := func(t *testing.T, database, script string) string {
		return sitedbtest.Client(t, []string{"MYSQL_PWD=" + s.AdminPassword}, script, "mariadb", "--no-defaults", "-N", "-h", "127.0.0.1", "-P",
			fmt.Sprint(s.DatabasePort), "-u", s.AdminUser, "--default-character-set=utf8mb4", database)
	}
	sitedbtest.Run(t, sitedbtest.Engine{Server: server, Schema: conformance, Accounts: true,
		Run: func(t *testing.T, database, script string) { client(t, database, script) }, Query: client})
	require.NotEmpty(t, strings.TrimSpace(client(t, "mysql", "SELECT 1")))
}
