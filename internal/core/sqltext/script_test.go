package sqltext

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// told is a script as a list of lines: statements, heads of inserts, rows.
func told(r io.Reader, skip bool) (out []string, err error) {
	s := NewScript(r)
	var row []Literal
	for s.Next() {
		ins := s.Insertion()
		if ins == nil {
			out = append(out, string(s.Statement()))
			continue
		}
		out = append(out, fmt.Sprintf("into %s %q", ins.Table, ins.Columns))
		if skip {
			out = append(out, fmt.Sprint(s.Skip(), " rows"))
			continue
		}
		for s.Row(&row) {
			line := "row"
			for _, l := range row {
				v, err := l.AppendValue(nil)
				if err != nil {
					return out, err
				}
				if l.IsNull() {
					v = []byte("NULL")
				}
				line += "|" + string(v)
			}
			out = append(out, line)
		}
	}
	return out, s.Err()
}

const dump = "\xef\xbb\xbf/*M!999999\\- enable the sandbox mode */ \n-- a dump; with 'quotes\n# and `this`\n/* and\n; this */\n" +
	"/*!40101 SET NAMES utf8mb4 */;\n/*!80000 SET only_mysql=1 */;\n/*!50003 SET x=1 */;\n" +
	"CREATE TABLE `a;b` (`id` int /*!50606 STORAGE DISK */ /*!80023 INVISIBLE */ COMMENT 'it''s; \\'so\\'') ENGINE=InnoDB;\n" +
	"/*!40000 ALTER TABLE `a;b` DISABLE KEYS */;\n" +
	"INSERT  INTO `db`.`a;b` (`id`, name) VALUES (1,'O\\'Brien; (x)'),(2,NULL) , \n (-3.5e+10,0x4142),(TRUE,X'4344'),(4,_binary " +
	"'\\0\\\\'),(5,_utf8mb4'ü'),(6,b'1');\n" +
	"REPLACE INTO t VALUES ('a''b');insert ignore into t values('');\n" +
	"DELIMITER ;;\n/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`%`*/ /*!50003 TRIGGER x BEFORE INSERT ON t FOR EACH ROW BEGIN SET @a=1; END " +
	"*/;;\nDELIMITER ;\nCOMMIT"

func TestScriptsOfDumpProgramsAreTakenApart(t *testing.T) {
	want := []string{
		"SET NAMES utf8mb4",
		"SET x=1",
		"CREATE TABLE `a;b` (`id` int  STORAGE DISK   COMMENT 'it''s; \\'so\\'') ENGINE=InnoDB",
		"ALTER TABLE `a;b` DISABLE KEYS",
		`into a;b ["id" "name"]`, "row|1|O'Brien; (x)", "row|2|NULL", "row|-3.5e+10|AB", "row|1|CD", "row|4|\x00\\", "row|5|ü", "row|6|\x01",
		`into t []`, "row|a'b", `into t []`, "row|",
		"CREATE   DEFINER=`root`@`%`   TRIGGER x BEFORE INSERT ON t FOR EACH ROW BEGIN SET @a=1; END",
		"COMMIT",
	}
	for name, r := range map[string]io.Reader{"whole": strings.NewReader(dump), "byte by byte": iotest.OneByteReader(strings.NewReader(dump)),
		"halves": iotest.HalfReader(strings.NewReader(dump))} {
		got, err := told(r, false)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	got, err := told(iotest.OneByteReader(strings.NewReader(dump)), true)
	require.NoError(t, err)
	require.Contains(t, got, "7 rows")
}

func TestOnlyPlainValuesAreRead(t *testing.T) {
	for _, rows := range []string{"(LOAD_FILE('/etc/passwd'))", "((SELECT 1))", "(1) ON DUPLICATE KEY UPDATE a=1", "(@x)", "(NOW())", "(1+1)",
		"('a' 'b')", "(a)", "(1", "('x", "(1),", "(1,,2)", "(1) SELECT 2", "(\"a\")"} {
		_, err := told(strings.NewReader("INSERT INTO t VALUES "+rows+";"), false)
		require.ErrorIs(t, err, ErrSyntax, rows)
	}
	_, err := told(strings.NewReader("INSERT INTO t SELECT * FROM mysql.user;"), false)
	require.ErrorIs(t, err, ErrSyntax)
}

func TestAnInsertOfManyMegabytesOnOneLineIsReadInLittleMemory(t *testing.T) {
	const rows = 300_000
	pr, pw := io.Pipe()
	go func() {
		fmt.Fprint(pw, "INSERT INTO t VALUES ")
		chunk := bytes.Repeat([]byte(`(12,'some text; with (brackets) and \'quotes\' in it'),`), 1000)
		for range rows/1000 - 1 {
			pw.Write(chunk)
		}
		pw.Write(chunk[:len(chunk)-1])
		pw.CloseWithError(io.EOF)
	}()
	s := NewScript(pr)
	require.True(t, s.Next())
	var row []Literal
	n := 0
	for s.Row(&row) {
		n++
	}
	require.NoError(t, s.Err())
	require.Equal(t, rows, n)
	require.Equal(t, scriptBuffer, len(s.buf))
}

func TestReadingCanGoOnInTheMiddleOfAStatement(t *testing.T) {
	s := NewScript(strings.NewReader(dump))
	for s.Next() && s.Insertion() == nil {
	}
	from := s.Offset()
	require.Equal(t, int64(7), s.Skip())
	rows := NewRows(strings.NewReader(dump[from:s.Offset()]), s.Delimiter())
	var row []Literal
	n := 0
	for rows.Row(&row) {
		n++
	}
	require.NoError(t, rows.Err())
	require.Equal(t, 7, n)
}

func TestNumbersAreKnown(t *testing.T) {
	for _, s := range []string{"0", "-1", "+2.5", ".5", "1e5", "1E-5", "12345678901234567890"} {
		require.True(t, IsNumber([]byte(s)), s)
	}
	for _, s := range []string{"", "-", ".", "1e", "1x", "0x1", "1.2.3", "1);DROP", "nan"} {
		require.False(t, IsNumber([]byte(s)), s)
	}
}

func TestWhatIsWrittenIsReadBackHoweverItIsCut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.SliceOfN(rapid.SliceOf(rapid.Byte()), 1, 6).Draw(t, "values")
		stmt := []byte("INSERT INTO `t` VALUES (")
		want := "row"
		for i, v := range values {
			if i > 0 {
				stmt = append(stmt, ',')
			}
			stmt = AppendText(stmt, v)
			want += "|" + string(v)
		}
		stmt = append(stmt, ");\n"...)
		got, err := told(iotest.OneByteReader(bytes.NewReader(append(stmt, stmt...))), false)
		require.NoError(t, err)
		require.Equal(t, []string{"into t []", want, "into t []", want}, got)
	})
}

func FuzzScript(f *testing.F) {
	f.Add([]byte(dump))
	f.Add([]byte("INSERT INTO t VALUES (1,'x"))
	f.Add([]byte("/*!50000 a /*! b */ */;delimiter //\nx//"))
	f.Fuzz(func(t *testing.T, b []byte) {
		whole, err := told(bytes.NewReader(b), false)
		cut, cutErr := told(iotest.OneByteReader(bytes.NewReader(b)), false)
		require.Equal(t, err == nil, cutErr == nil, "%v / %v", err, cutErr)
		if err == nil {
			require.Equal(t, whole, cut)
		}
	})
}
