package sqltext

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDefinitionsAreTakenApartAndWrittenAnew(t *testing.T) {
	d, err := ParseDefinition([]byte("CREATE TABLE IF NOT EXISTS `db`.`lad_posts` (\n `ID` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n `post_title` text COLLATE utf8mb4_0900_ai_ci NOT NULL,\n" +
		" `old` varchar(20) CHARACTER SET latin1 DEFAULT 'a,(b)',\n `n` int GENERATED ALWAYS AS (length(`old`)) VIRTUAL,\n `at` datetime NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),\n" +
		" `kind` enum('a','b') NOT NULL, `raw` longblob,\n PRIMARY KEY (`ID`),\n KEY `x` (`old`(10)),\n CONSTRAINT `fk` FOREIGN KEY (`n`) REFERENCES `other` (`id`) ON DELETE CASCADE,\n CHECK (`n` > 0)\n" +
		") ENGINE=InnoDB AUTO_INCREMENT=42 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci COMMENT='it''s' STATS_PERSISTENT=0 PARTITION BY HASH(`ID`) PARTITIONS 4"))
	require.NoError(t, err)
	require.Equal(t, "lad_posts", d.Table)
	require.Equal(t, []string{"ID"}, d.PrimaryKey)
	require.Equal(t, []string{"CONSTRAINT `fk` FOREIGN KEY (`n`) REFERENCES `other` (`id`) ON DELETE CASCADE"}, d.Constraints)
	require.Len(t, d.Columns, 7)
	require.Equal(t, ColumnDefinition{Name: "old", Type: "varchar", Charset: "latin1"}, d.Columns[2])
	require.True(t, d.Columns[3].Generated)
	require.True(t, d.Columns[0].Numeric())
	require.Equal(t, "", d.Columns[6].Charset)
	require.Equal(t, "utf8mb4", d.Columns[5].Charset)
	text := d.Text()
	require.Contains(t, text, "`post_title` text COLLATE utf8mb4_unicode_520_ci NOT NULL")
	require.Contains(t, text, "ENGINE=InnoDB AUTO_INCREMENT=42 COMMENT='it''s' DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_520_ci")
	require.NotContains(t, text, "FOREIGN")
	require.NotContains(t, text, "PARTITION")
	require.Len(t, d.Notes, 2)
	again, err := ParseDefinition([]byte(text))
	require.NoError(t, err)
	require.Equal(t, text, again.Text())
}

func TestKeysThatAreAddedAfterwardsBelongToTheDefinition(t *testing.T) {
	d, err := ParseDefinition([]byte("CREATE TABLE `t` (`id` int NOT NULL, `a` varchar(9) NOT NULL) ENGINE=MyISAM DEFAULT CHARSET=utf8"))
	require.NoError(t, err)
	require.NoError(t, d.Alter([]byte("ADD PRIMARY KEY (`id`), ADD UNIQUE KEY `a` (`a`(3)), ADD KEY b (a,id)")))
	require.NoError(t, d.Alter([]byte("MODIFY `id` int NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=7")))
	require.NoError(t, d.Alter([]byte("ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `u` (`a`)")))
	require.NoError(t, d.Alter([]byte("DISABLE KEYS")))
	require.Equal(t, []string{"id"}, d.PrimaryKey)
	require.Equal(t, "CREATE TABLE `t` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `a` varchar(9) NOT NULL,\n  PRIMARY KEY (`id`),\n  UNIQUE KEY `a` (`a`(3)),\n  KEY b (a,id)\n) ENGINE=MyISAM DEFAULT CHARSET=utf8 AUTO_INCREMENT=7", d.Text())
	require.Len(t, d.Constraints, 1)
	for _, bad := range []string{"DROP COLUMN a", "RENAME TO x", "ENGINE=FEDERATED", "ADD COLUMN x int", "MODIFY `zz` int", "DISCARD TABLESPACE", "ADD KEY x ((load_file('/x')))"} {
		require.ErrorIs(t, d.Alter([]byte(bad)), ErrSyntax, bad)
	}
}

func TestDefinitionsThatReachOutOfTheDatabaseAreRefused(t *testing.T) {
	for _, stmt := range []string{
		"CREATE TABLE t (a int) ENGINE=FEDERATED CONNECTION='mysql://u@h/d/t'",
		"CREATE TABLE t (a int) ENGINE=CONNECT TABLE_TYPE=DOS FILE_NAME='/etc/passwd'",
		"CREATE TABLE t (a int) DATA DIRECTORY='/tmp'",
		"CREATE TABLE t (a int) ENGINE=InnoDB INDEX DIRECTORY='/tmp'",
		"CREATE TABLE t (a int) TABLESPACE x",
		"CREATE TABLE t (a int) UNION=(u)",
		"CREATE TABLE t AS SELECT * FROM mysql.user",
		"CREATE TABLE t (a int) AS SELECT 1",
		"CREATE TABLE t (a int) SELECT 1",
		"CREATE TABLE t LIKE mysql.user",
		"CREATE TABLE t (a text DEFAULT (load_file('/etc/passwd')))",
		"CREATE TABLE t (a text DEFAULT (sys_exec('id')))",
		"CREATE TABLE t (a int AS (sleep(100)))",
		"CREATE TABLE t (a int DEFAULT (@@version))",
		"CREATE TABLE t (a int CHECK ((select 1)))",
		"CREATE TABLE t (a int, b frobnicator)",
		"CREATE TABLE t (a int",
		"CREATE TABLE t ()",
		"CREATE TABLE t (a int) ENGINE",
		"CREATE TABLE t (a int) AUTO_INCREMENT=x",
	} {
		_, err := ParseDefinition([]byte(stmt))
		require.ErrorIs(t, err, ErrSyntax, stmt)
	}
}

func FuzzDefinition(f *testing.F) {
	f.Add([]byte("CREATE TABLE `t` (`id` int NOT NULL, `a` varchar(9) COLLATE utf8mb4_0900_ai_ci, KEY b (a)) ENGINE=MyISAM DEFAULT CHARSET=utf8"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := ParseDefinition(b)
		if err != nil {
			return
		}
		again, err := ParseDefinition([]byte(d.Text()))
		require.NoError(t, err, "%q", d.Text())
		require.Equal(t, len(d.Columns), len(again.Columns))
	})
}
