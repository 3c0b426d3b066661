package kind

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
)

const arraysPHP = `<?php
$settings['hash_salt'] = 'first';
$databases = array(
  'default' => [
    'default' => array(
      'database' => 'alder', // of the base site
      'username' => "it's",
      'port' => 3306,
      'driver' => 'mysql',
      'namespace' => 'Drupal\\mysql',
      'init' => ['isolation' => 'SET SESSION x, y'],
    ),
  ),
);
$settings['trusted_host_patterns'] = ['^alder\.example$', '^www\.alder\.example$'];
$settings['hash_salt'] = 'the last one counts';
if (getenv('X')) { $settings['branch'] = 'a'; } else { $settings['branch'] = 'b'; }
$config['system.site']['name'] = computed();
`

const classPHP = `<?php
class JConfig {
	public $offline = false;
	public $host = 'localhost';
	public $password = "s\"3";
	var $old = 'way';
	private string $typed = 'yes';
	public $limit = 20;
	public function x() { $inner = 'not a property'; }
}
$after = 'x';
`

func TestSettingsOfEverySyntaxAreReadAndSet(t *testing.T) {
	for syntax, c := range map[string]struct {
		src  string
		want map[string]string
		add  []string // names that are not there
	}{
		"php arrays": {arraysPHP, map[string]string{
			"$databases[default][default][database]": "alder", "$databases[default][default][username]": "it's",
			"$databases[default][default][port]": "3306", "$databases[default][default][namespace]": `Drupal\mysql`,
			"$databases[default][default][init][isolation]": "SET SESSION x, y", "$settings[hash_salt]": "the last one counts",
			"$settings[trusted_host_patterns][1]": `^www\.alder\.example$`, "$databases[default][default][none]": "",
		}, []string{"$databases[default][default][prefix]", "$databases[other][default][database]", "$settings[fresh]", "$brand[new][one]"}},
		"php class": {classPHP, map[string]string{
			"JConfig->offline": "", "JConfig->host": "localhost", "JConfig->password": `s"3`, "JConfig->old": "way", "JConfig->typed": "yes",
			"JConfig->limit": "20", "JConfig->inner": "", "$after": "x",
		}, []string{"JConfig->live_site"}},
		"php returned": {"<?php return array('db' => ['host' => 'h', 'name' => 'alder'], 'debug' => true, 'x' => env('X', 'y'));", map[string]string{
			"[db][host]": "h", "[db][name]": "alder", "[debug]": "1"}, []string{"[db][port]", "[fresh][deep]"}},
		"dotenv": {"# of the site\nAPP_NAME=\"Alder Vale\"\nexport DB_HOST=localhost # here\nDB_PASSWORD='a b'\nEMPTY=\n", map[string]string{
			"APP_NAME": "Alder Vale", "DB_HOST": "localhost", "DB_PASSWORD": "a b", "EMPTY": ""}, []string{"FRESH"}},
		"ini": {"; of the site\ntop = 1\n[database]\nhost=\"localhost\" ; here\nname = alder ; there\npass='a;b'\n[site]\ntitle = Alder Vale\n",
			map[string]string{"top": "1", "database.host": "localhost", "database.name": "alder", "database.pass": "a;b", "site.title": "Alder Vale"},
			[]string{"database.port", "mail.host", "first"}},
		"json": {`{"site": {"title": "Alder \u0026 Vale", "pages": [1, "two"], "open": true}, "n": 12, "none": null, "empty": {}}`, map[string]string{
			"site.title": "Alder & Vale", "site.pages.1": "two", "site.open": "1", "n": "12", "none": ""},
			[]string{"site.url", "empty.a.b", "fresh", "deep.down"}},
		"yaml": {"# of the site\nsite:\n    title: Alder Vale # here\n    url: 'https://it''s.example'\n    open: true\n    list:\n      - a: b\n" +
			"text: |\n  not: a key\n  here\nn: 12\nmail:\n  from: \"a\\tb\"\n", map[string]string{
			"site.title": "Alder Vale", "site.url": "https://it's.example", "n": "12", "mail.from": "a\tb", "not": "", "site.open": "true"},
			[]string{"site.sub.deep", "mail.to", "fresh", "a.b"}},
	} {
		t.Run(syntax, func(t *testing.T) {
			name, _, _ := strings.Cut(syntax, " ")
			s, err := ReadSettings(name, []byte(c.src), "/srv", nil)
			require.NoError(t, err)
			for setting, want := range c.want {
				got, err := s.Get(setting)
				require.NoError(t, err, setting)
				require.Equal(t, want, got, setting)
			}
			const fresh = `it's "new" \ $x: # ; ü`
			set := []string{}
			for setting := range c.want {
				if s.Has(setting) {
					set = append(set, setting)
				}
			}
			for _, setting := range append(set, c.add...) {
				changed := s.Clone()
				changed.Set(setting, fresh)
				for other := range c.want {
					if got, err := changed.Get(other); other != setting {
						require.NoError(t, err)
						require.Equal(t, c.want[other], got, "%s, after %s was set in\n%s", other, setting, changed.Bytes())
					}
				}
				got, err := changed.Get(setting)
				require.NoError(t, err)
				require.Equal(t, fresh, got, "%s in\n%s", setting, changed.Bytes())
				reads(t, name, changed.Bytes(), setting, fresh)
			}
		})
	}
}

// reads sees that a reader that is not ours finds the value.
func reads(t *testing.T, syntax string, text []byte, name, want string) {
	var v any
	switch syntax {
	case "json":
		require.NoError(t, json.Unmarshal(text, &v), string(text))
	case "yaml":
		require.NoError(t, yaml.Unmarshal(text, &v), string(text))
	default:
		return
	}
	for key := range strings.SplitSeq(name, ".") {
		switch x := v.(type) {
		case map[string]any:
			v = x[key]
		case []any:
			v = x[key[0]-'0']
		}
	}
	require.Equal(t, want, v, string(text))
}

func TestWhatPHPComputesIsNotReadFromArrays(t *testing.T) {
	s := readPHP([]byte(arraysPHP), "/srv", nil)
	_, err := s.Get("$config[system.site][name]")
	require.ErrorIs(t, err, ErrUnreadable)
	_, err = s.Get("$settings[branch]")
	require.ErrorIs(t, err, ErrUnreadable, "it differs by branch")
}

func TestSecretsAreBlankedInEverySyntax(t *testing.T) {
	const secret = "hush-hush-pepper"
	for syntax, src := range map[string]string{
		"php": "<?php return ['a' => ['key' => '" + secret + "']];", "dotenv": "A=x\nKEY=" + secret + "\n", "ini": "[a]\nkey=" + secret + "\n",
		"json": `{"a": {"key": "` + secret + `"}}`, "yaml": "a:\n  key: " + secret + "\n",
	} {
		s, err := ReadSettings(syntax, []byte(src), "/srv", nil)
		require.NoError(t, err)
		require.Equal(t, 1, s.Blank(NewSearch([]Secret{{"key", []byte(secret)}})), syntax)
		require.NotContains(t, string(s.Bytes()), secret)
	}
}

func TestTheDatabaseIsReadAndWritten(t *testing.T) {
	d := Database{Driver: "driver", Drivers: map[string][]string{"mysql": {"mysql", "mysqli"}, "postgres": {"pgsql"}}, Name: "name", User: "user",
		Password: "password", Host: "host", Port: "port"}
	s, err := ReadSettings("ini", []byte("driver=mysqli\nname=a\nuser=b\npassword=c\nhost=h\nport=3307\n"), "", nil)
	require.NoError(t, err)
	get := func(name string) string { v, _ := s.Get(name); return v }
	require.Equal(t, Access{"mysql", "a", "b", "c", "h:3307"}, d.read(get))
	d.Write(s, Access{"mysql", "n", "u", "p", "127.0.0.1:3306"})
	require.Equal(t, "mysqli", get("driver"), "the way that it was reached stays")
	require.Equal(t, Access{"mysql", "n", "u", "p", "127.0.0.1:3306"}, d.read(get))
	d.Write(s, Access{"postgres", "n", "u", "p", "127.0.0.1"})
	require.Equal(t, Access{"postgres", "n", "u", "p", "127.0.0.1"}, d.read(get))

	d = Database{URL: "DATABASE_URL", Drivers: d.Drivers}
	s, err = ReadSettings("dotenv", []byte("DATABASE_URL=mysql://b:c%40d@h:3307/a\n"), "", nil)
	require.NoError(t, err)
	require.Equal(t, Access{"mysql", "a", "b", "c@d", "h:3307"}, d.read(get))
	d.Write(s, Access{"postgres", "n", "u", "p w", "h"})
	require.Equal(t, Access{"postgres", "n", "u", "p w", "h"}, d.read(get))
}

func FuzzFlatSettings(f *testing.F) {
	f.Add("yaml", []byte("a:\n  b: 'x\n- c"))
	f.Add("ini", []byte("[a\nb=\"c"))
	f.Add("json", []byte(`{"a":[{}]}`))
	f.Fuzz(func(t *testing.T, syntax string, src []byte) {
		s, err := ReadSettings(syntax, src, "/srv", nil)
		if err != nil {
			return
		}
		for _, n := range s.Names() {
			_, _ = s.Get(n)
			s.Clone().Set(n, "x")
		}
		s.Set("a.b", "x")
	})
}
