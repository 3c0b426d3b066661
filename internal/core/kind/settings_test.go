package kind

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const sample = `<html><?php
# define('DB_NAME', 'commented');
// define('DB_NAME', 'commented too');
/* define('DB_NAME', 'and this'); */
define('DB_NAME', "lad\x5fbase"); define( "DB_USER" , 'it\'s \me' );
\define('DB_PASSWORD', getenv('PW') ?: 'none');
const DB_HOST = 'localhost' . ':' . '3307', DB_CHARSET = "utf8mb4";
define('ROOT', __DIR__ . '/content'); define('SUB', ROOT . "/x");
define('HOSTED', $_SERVER['HTTP_HOST']);
define('FROM', "https://{$host}/");
define('DEBUG', false); define('LIMIT', -1);
$text = <<<EOT
define('DB_NAME', 'heredoc');
EOT;
if ( ! defined( 'ABSPATH' ) ) { define( 'ABSPATH', dirname( __FILE__ ) . '/' ); }
$table_prefix  = 'lad_';
$x == 'not an assignment';
require_once ABSPATH . 'wp-settings.php';
`

func TestSettingsAreReadWithoutRunningThem(t *testing.T) {
	s := readPHP([]byte(sample), "/srv/www/base", nil)
	for name, want := range map[string]string{
		"DB_NAME": "lad_base", "DB_USER": `it's \me`, "DB_HOST": "localhost:3307", "DB_CHARSET": "utf8mb4",
		"ROOT": "/srv/www/base/content", "SUB": "/srv/www/base/content/x", "DEBUG": "", "LIMIT": "-1",
		"ABSPATH": "/srv/www/base/", "$table_prefix": "lad_", "MISSING": "",
	} {
		got, err := s.Get(name)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	for name, why := range map[string]string{"DB_PASSWORD": "getenv", "HOSTED": "$_SERVER", "FROM": "put together", "$text": "put together"} {
		_, err := s.Get(name)
		require.ErrorIs(t, err, ErrUnreadable, name)
		require.ErrorContains(t, err, why)
	}
}

func TestSetChangesOneExpressionAndNothingElse(t *testing.T) {
	s := readPHP([]byte(sample), "/srv/www/base", nil)
	s.Set("DB_PASSWORD", `a'b\c`)
	s.Set("$table_prefix", "av_")
	s.Set("AUTH_KEY", "fresh")
	for name, want := range map[string]string{"DB_PASSWORD": `a'b\c`, "$table_prefix": "av_", "AUTH_KEY": "fresh", "DB_NAME": "lad_base"} {
		got, err := s.Get(name)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	out := string(s.Bytes())
	require.Contains(t, out, "define( 'AUTH_KEY', 'fresh' );\nrequire_once ABSPATH")
	require.Contains(t, out, "// define('DB_NAME', 'commented too');")
}

func TestSettingsWithoutALoaderGetNewOnesAtTheEnd(t *testing.T) {
	for _, src := range []string{"<?php\n$a = 'b';\n?>\n", "<?php\n$a = 'b';", "<?php"} {
		s := readPHP([]byte(src), "/", nil)
		s.Set("X", "1")
		got, err := s.Get("X")
		require.NoError(t, err)
		require.Equal(t, "1", got, src)
	}
}

func TestAFileThatDoublesItsValuesIsRefusedInTime(t *testing.T) {
	var src strings.Builder
	src.WriteString("<?php $v0 = 'xxxxxxxxxxxxxxxx';\n")
	for i := range 200 {
		fmt.Fprintf(&src, "$v%d = $v%d . $v%d;\n", i+1, i, i)
	}
	_, err := readPHP([]byte(src.String()), "/", nil).Get("$v200")
	require.ErrorIs(t, err, ErrUnreadable)
}

func TestAFileThatIsDeepOrLongIsReadInTime(t *testing.T) {
	deep := "<?php define('DB_NAME', " + strings.Repeat("(", 300_000) + "'x'" + strings.Repeat(")", 300_000) + ");"
	_, err := readPHP([]byte(deep), "/", nil).Get("DB_NAME")
	require.ErrorIs(t, err, ErrUnreadable)
	var long strings.Builder
	long.WriteString("<?php $v0 = 'x';\n")
	for i := range 60_000 {
		fmt.Fprintf(&long, "$v%d = $v%d;", i+1, i)
	}
	require.Len(t, readPHP([]byte(long.String()), "/", nil).Names(), maxEntries)
	readPHP([]byte("<?php define($k,$v);"+strings.Repeat("['AAA'=>'x'];", 60_000)), "/", nil)
}

func FuzzSettings(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("<?php <<<'A'\nA; \"{$x}\" `ls` ?> x <?= 1"))
	f.Fuzz(func(t *testing.T, src []byte) {
		s := readPHP(src, "/srv", nil)
		for _, n := range s.Names() {
			_, _ = s.Get(n)
		}
	})
}
