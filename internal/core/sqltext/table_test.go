package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDefinitionsAreTakenApartAndWrittenAnew(t *testing.T) {
	d, err := ParseDefinition([]byte("CREATE TABLE IF NOT EXISTS `db`.`lad_posts` (\n `ID` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n " +
		"`post_title` text COLLATE utf8mb4_0900_ai_ci NOT NULL,\n" +
		" `old` varchar(20) CHARACTER SET latin1 DEFAULT 'a,(b)',\n `n` int GENERATED ALWAYS AS (length(`old`)) VIRTUAL,\n `at` datetime NOT " +
		"NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),\n" +
		" `kind` enum('a','b') NOT NULL, `raw` longblob,\n PRIMARY KEY (`ID`),\n KEY `x` (`old`(10)),\n CONSTRAINT `fk` FOREIGN KEY (`n`) " +
		"REFERENCES `other` (`id`) ON DELETE CASCADE,\n CHECK (`n` > 0)\n" +
		") ENGINE=InnoDB AUTO_INCREMENT=42 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci COMMENT='it''s' STATS_PERSISTENT=0 PARTITION BY " +
		"HASH(`ID`) PARTITIONS 4"))
	require.NoError(t, err)
	require.Equal(t, "lad_posts", d.Table)
	require.Equal(t, []string{"ID"}, d.PrimaryKey)
	require.Len(t, d.Constraints, 1)
	require.Equal(t, "ALTER TABLE `av_lad_posts` ADD CONSTRAINT `av_fk` FOREIGN KEY (`n`) REFERENCES `av_other` (`id`) ON DELETE CASCADE",
		d.Constraints[0].Text(func(s string) string { return "av_" + s }))
	require.Len(t, d.Columns, 7)
	require.Equal(t, []string{"old", "varchar", "latin1"}, []string{d.Columns[2].Name, d.Columns[2].Type, d.Columns[2].Charset})
	require.True(t, d.Columns[3].Generated)
	require.True(t, d.Columns[0].Numeric())
	require.Equal(t, "", d.Columns[6].Charset)
	require.Equal(t, "utf8mb4", d.Columns[5].Charset)
	text := d.Text(nil)
	require.Contains(t, text, "`post_title` text COLLATE utf8mb4_unicode_520_ci NOT NULL")
	require.Contains(t, text, "ENGINE=InnoDB COMMENT='it\\'s' AUTO_INCREMENT=42 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_520_ci")
	require.NotContains(t, text, "FOREIGN")
	require.NotContains(t, text, "PARTITION")
	require.Len(t, d.Notes, 2)
	again, err := ParseDefinition([]byte(text))
	require.NoError(t, err)
	require.Equal(t, text, again.Text(nil))
}

func TestKeysThatAreAddedAfterwardsBelongToTheDefinition(t *testing.T) {
	d, err := ParseDefinition([]byte("CREATE TABLE `t` (`id` int NOT NULL, `a` varchar(9) NOT NULL) ENGINE=MyISAM DEFAULT CHARSET=utf8"))
	require.NoError(t, err)
	require.NoError(t, d.Alter([]byte("ADD PRIMARY KEY (`id`), ADD UNIQUE KEY `a` (`a`(3)), ADD KEY b (a,id)")))
	require.NoError(t, d.Alter([]byte("MODIFY `id` int NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=7")))
	require.NoError(t, d.Alter([]byte("ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `u` (`a`)")))
	require.NoError(t, d.Alter([]byte("DISABLE KEYS")))
	require.Equal(t, []string{"id"}, d.PrimaryKey)
	require.Equal(t, "CREATE TABLE `t` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `a` varchar(9) NOT NULL,\n  PRIMARY KEY (`id`),\n  UNIQUE "+
		"KEY `a` (`a`(3)),\n  KEY `b` (`a`, `id`)\n) ENGINE=MyISAM AUTO_INCREMENT=7 DEFAULT CHARSET=utf8", d.Text(nil))
	require.Len(t, d.Constraints, 1)
	for _, bad := range []string{"DROP COLUMN a", "RENAME TO x", "ENGINE=FEDERATED", "ADD COLUMN x int", "MODIFY `zz` int",
		"DISCARD TABLESPACE", "ADD KEY x ((load_file('/x')))"} {
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
		"CREATE TABLE t (a int) PARTITION BY HASH(a) AS SELECT * FROM mysql.user",
		"CREATE TABLE t (a int) PARTITION BY HASH(a) PARTITIONS 4; DROP TABLE u",
		"CREATE TABLE t (a text DEFAULT (load_file\v('/etc/passwd')))",
		"CREATE TABLE t (a text DEFAULT (load_file\f\n('/etc/passwd')))",
		"CREATE TABLE t (a text DEFAULT (`load_file`('/etc/passwd')))",
		"CREATE TABLE t (a int CHECK (mysql.f(a)))",
		"CREATE TABLE t (a int CHECK (a in (select 1)))",
		"CREATE TABLE t (a int, KEY x (a) USING FOO)",
		"CREATE TABLE t (a int, CONSTRAINT f FOREIGN KEY (a) REFERENCES mysql.user (a))",
		"CREATE TABLE t (a int REFERENCES u (a))",
		"CREATE TABLE t (a int) COMMENT='x' + 1",
		"CREATE TABLE t (a int DEFAULT 1 + 1)",
		"CREATE TABLE t (a int /*!999999 , b int */",
		"CREATE TABLE t (a int);",
		"CREATE TABLE t (a int DEFAULT ((((((1))))))) x",
		"CREATE TABLE t (a int DEFAULT (" + strings.Repeat("(", 10_000) + "1" + strings.Repeat(")", 10_000) + "))",
	} {
		_, err := ParseDefinition([]byte(stmt))
		require.ErrorIs(t, err, ErrSyntax, stmt)
	}
}

func FuzzDefinition(f *testing.F) {
	f.Add([]byte("CREATE TABLE `t` (`id` int NOT NULL, `a` varchar(9) COLLATE utf8mb4_0900_ai_ci, KEY b (a)) ENGINE=MyISAM DEFAULT " +
		"CHARSET=utf8"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := ParseDefinition(b)
		if err != nil {
			return
		}
		again, err := ParseDefinition([]byte(d.Text(nil)))
		require.NoError(t, err, "%q", d.Text(nil))
		require.Equal(t, len(d.Columns), len(again.Columns))
	})
}

func TestProgramsAreParsedToTheEndAndWrittenAnew(t *testing.T) {
	rename := func(s string) string { return strings.Replace(s, "lad_", "av_", 1) }
	for stmt, want := range map[string]string{
		"CREATE ALGORITHM=UNDEFINED DEFINER=`root`@`%` SQL SECURITY DEFINER VIEW `lad_seen` AS select `lad_posts`.`ID` AS `ID`,count(0) AS " +
			"`n` from `own`.`lad_posts` where `lad_posts`.`post_status` = 'publish' group by `lad_posts`.`ID`": "CREATE VIEW `av_seen` AS SELECT " +
			"`av_posts`.`ID` AS `ID`, count(0) AS `n` FROM `av_posts` WHERE `av_posts`.`post_status` = 'publish' GROUP BY `av_posts`.`ID`",
		"create view v as select * from lad_posts p left join (lad_terms t) on p.id = t.id and not t.x between 1 and 2 " +
			"limit 3, 4": "CREATE VIEW `v` AS SELECT * FROM `av_posts` `p` LEFT JOIN (`av_terms` `t`) ON `p`.`id` = `t`.`id` AND NOT `t`.`x` " +
			"BETWEEN 1 AND 2 LIMIT 3, 4",
		"create view v as (select 1 as a) union all select cast(x as char(10)) from t where x in (select y from u) and z " +
			"is not null": "CREATE VIEW `v` AS (SELECT 1 AS `a`) UNION ALL SELECT CAST(`x` AS char(10)) FROM `t` WHERE `x` IN (SELECT `y` FROM " +
			"`u`) AND `z` IS NOT NULL",
		"CREATE DEFINER=`a`@`b` TRIGGER lad_t BEFORE INSERT ON lad_posts FOR EACH ROW BEGIN DECLARE n int DEFAULT 0; SET n = n + 1, NEW.word " +
			"= TRIM(NEW.word); IF n > 1 THEN INSERT INTO lad_log (a) VALUES (NEW.id); END IF; END": "CREATE TRIGGER `av_t` BEFORE INSERT ON " +
			"`av_posts` FOR EACH ROW BEGIN DECLARE `n` int DEFAULT 0; SET `n` = `n` + 1, NEW.`word` = trim(NEW.`word`); IF `n` > 1 THEN INSERT " +
			"INTO `av_log` (`a`) VALUES (NEW.`id`); END IF; END",
		"CREATE FUNCTION f(a int, b varchar(9) charset utf8mb4) RETURNS text SQL SECURITY DEFINER DETERMINISTIC BEGIN WHILE a > 0 DO SET a = " +
			"a - 1; END WHILE; RETURN CONCAT(b, 'it''s'); END": "CREATE FUNCTION `f` (`a` int, `b` varchar(9) CHARSET utf8mb4) RETURNS text " +
			"DETERMINISTIC BEGIN WHILE `a` > 0 DO SET `a` = `a` - 1; END WHILE; RETURN concat(`b`, 'it\\'s'); END",
	} {
		g, err := MySQL.ParseProgram([]byte(stmt), "own", nil)
		require.NoError(t, err, stmt)
		require.Equal(t, want, g.Text(rename))
		again, err := MySQL.ParseProgram([]byte(g.Text(nil)), "", nil)
		require.NoError(t, err)
		require.Equal(t, g.Text(nil), again.Text(nil), "what was written is read the same")
	}
}

func TestProgramsThatReachOutOfTheDatabaseAreRefused(t *testing.T) {
	for _, stmt := range []string{
		"CREATE VIEW v AS SELECT * FROM mysql.user", "CREATE VIEW v AS SELECT `mysql`.`user`.`x` FROM t",
		"CREATE VIEW v AS SELECT load_file('/etc/passwd')", "CREATE VIEW v AS SELECT sleep(9)",
		"CREATE VIEW v AS SELECT `sleep`(9)", "CREATE VIEW v AS SELECT other.f(1)", "CREATE VIEW v AS SELECT 1 INTO OUTFILE '/tmp/x'",
		"CREATE VIEW v AS SELECT @@datadir", "CREATE VIEW v AS SELECT 1; DROP TABLE t",
		"CREATE VIEW v AS SELECT 1 FROM t PARTITION (p)", "CREATE VIEW v AS SELECT 1 FROM JSON_TABLE('[]', '$' COLUMNS (a int " +
			"PATH '$'))", "CREATE VIEW other.v AS SELECT 1",
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET GLOBAL general_log = 1", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET " +
			"@@global.x = 1", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET sql_mode = ''",
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET PASSWORD = 'x'", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW INSERT INTO " +
			"mysql.user VALUES (1)", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW CALL mysql.p()",
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW DROP TABLE b", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW BEGIN EXECUTE " +
			"IMMEDIATE 'x'; END", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW GRANT ALL ON *.* TO x",
		"CREATE PROCEDURE p() BEGIN PREPARE s FROM 'x'; END", "CREATE PROCEDURE p() LOAD DATA INFILE '/etc/passwd' " +
			"INTO TABLE t", "CREATE FUNCTION f RETURNS STRING SONAME 'x.so'", "CREATE AGGREGATE FUNCTION f RETURNS STRING SONAME 'x.so'",
		"CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM t", "CREATE USER x", "CREATE PROCEDURE p() KILL 1",
		"CREATE PROCEDURE p() DO sleep(1)", "CREATE PROCEDURE p() SELECT 1 INTO DUMPFILE '/tmp/x'", "CREATE PROCEDURE p() CALL q()",
	} {
		_, err := MySQL.ParseProgram([]byte(stmt), "own", nil)
		require.ErrorIs(t, err, ErrSyntax, stmt)
	}
}

func TestProgramsAreMadeBehindWhatTheyName(t *testing.T) {
	var all []*Program
	for _, stmt := range []string{"CREATE TRIGGER z BEFORE INSERT ON t FOR EACH ROW SET NEW.a = f(1)", "CREATE VIEW a AS SELECT * FROM b",
		"CREATE VIEW b AS SELECT * FROM c", "CREATE VIEW c AS SELECT 1", "CREATE FUNCTION f(x int) RETURNS int RETURN x"} {
		g, err := MySQL.ParseProgram([]byte(stmt), "", []*Program{{Type: "function", Name: "f"}})
		require.NoError(t, err, stmt)
		all = append(all, g)
	}
	var names []string
	for _, g := range SortPrograms(all) {
		names = append(names, g.Name)
	}
	require.Equal(t, []string{"f", "c", "b", "a", "z"}, names)
}

func FuzzProgram(f *testing.F) {
	f.Add([]byte("CREATE VIEW v AS SELECT a.b, count(*) FROM t a JOIN u USING (x) WHERE a.b LIKE 'x%' GROUP BY 1"))
	f.Add([]byte("CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW BEGIN IF NEW.x > 1 THEN SET NEW.y = CASE WHEN 1 THEN 2 ELSE 3 END; " +
		"END IF; END"))
	f.Fuzz(func(t *testing.T, b []byte) {
		g, err := MySQL.ParseProgram(b, "", nil)
		if err != nil {
			return
		}
		again, err := MySQL.ParseProgram([]byte(g.Text(nil)), "", nil)
		require.NoError(t, err, "%q", g.Text(nil))
		require.Equal(t, g.Text(nil), again.Text(nil))
	})
}

func TestAReleasesScriptsAreReadToTheirLastToken(t *testing.T) {
	for script, ok := range map[string]bool{
		"-- head\nSET NAMES utf8mb4;\nSET SESSION foreign_key_checks = 0, SESSION unique_checks = 0, SESSION time_zone = '+00:00';": true,
		"CREATE TABLE `a` (`b` int) ENGINE=InnoDB;\nALTER TABLE `a` ADD CONSTRAINT `f` FOREIGN KEY (`b`) REFERENCES `c` (`d`);":     true,
		"DELIMITER ;;\nCREATE VIEW v AS SELECT 1;;\nCREATE FUNCTION f() RETURNS int RETURN 1;;\nCREATE VIEW w AS SELECT f();;\n":    true,
		"SET NAMES x, GLOBAL general_log = 1;": false, "SET SESSION sql_mode = '', GLOBAL read_only = 1;": false,
		"SET SESSION time_zone = (SELECT 1);": false, "SET SESSION sql_mode = @x;": false,
		"INSERT INTO a VALUES (1);": false, "GRANT ALL ON *.* TO x;": false, "ALTER TABLE a ENGINE=FEDERATED;": false,
		"ALTER TABLE a ADD KEY x (b);": false, "ALTER TABLE mysql.a ADD CONSTRAINT f FOREIGN KEY (a) REFERENCES b (c);": false,
		"CREATE TABLE a AS SELECT * FROM mysql.user;": false, "DROP TABLE a;": false, "/*!50000 GRANT ALL ON *.* TO x */;": false,
		"CREATE TABLE a LIKE b;": false,
	} {
		err := (&Definitions{}).Read([]byte(script))
		require.Equal(t, ok, err == nil, "%s: %v", script, err)
	}
}
