package provision

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
)

func TestFingerprintsOfTheOldPlaceBecomeThoseOfTheNewOne(t *testing.T) {
	known := fingerprints(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost:8480", New: "https://alder-valley.example"}},
		Paths: []rewrite.Pair{{Old: "/srv/www/base", New: "/srv/www/alder"}}})
	md := func(s string) string { return fmt.Sprintf("%x", md5.Sum([]byte(s))) }
	for in, want := range map[string]string{
		md("http://base.localhost:8480"):                                   md("https://alder-valley.example"),
		strings.ToUpper(md("http://base.localhost:8480/")):                 strings.ToUpper(md("https://alder-valley.example/")),
		"cache_" + md("base.localhost:8480") + ".lock":                     "cache_" + md("alder-valley.example") + ".lock",
		fmt.Sprintf("%x", sha1.Sum([]byte("base.localhost"))):              fmt.Sprintf("%x", sha1.Sum([]byte("alder-valley.example"))),
		fmt.Sprintf("%x", sha256.Sum256([]byte("//base.localhost:8480/"))): fmt.Sprintf("%x", sha256.Sum256([]byte("//alder-valley.example/"))),
		`{"in":"` + md("/srv/www/base/") + `"}`:                            `{"in":"` + md("/srv/www/alder/") + `"}`,
		md("http://other.localhost"):                                       md("http://other.localhost"),
		md("http://base.localhost:8480") + "0":                             md("http://base.localhost:8480") + "0", // a part of something longer
		"":                                                                 "",
	} {
		got, of := replaceFingerprints(in, known)
		require.Equal(t, want, got, in)
		require.Equal(t, in != want, len(of) > 0)
	}
	_, of := replaceFingerprints(md("base.localhost")+" "+md("/srv/www/base"), known)
	require.Equal(t, []string{"base.localhost", "/srv/www/base"}, of)
	value := append(phpval.AppendString([]byte("a:1:{i:0;"), md("base.localhost")), '}')
	fresh, _ := replaceFingerprints(string(value), known)
	require.True(t, phpval.Valid([]byte(fresh)))
	require.Empty(t, fingerprints(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://base.localhost"}}}),
		"nothing to change")
}

func TestExtensionsAreTakenOffTheListOfWhatIsActive(t *testing.T) {
	list := func(files ...string) []byte {
		var members []phpval.Member
		for i, f := range files {
			members = append(members, phpval.Member{Key: fmt.Sprint(i), Int: true, Value: phpval.AppendString(nil, f)})
		}
		return phpval.AppendArray(nil, members)
	}
	fresh, off := without(list("loom-cache/cache.php", "loom-school/loom-school.php", "hello.php", "loom-cache-pages/x.php"),
		[]string{"loom-cache*", "hello.php"})
	require.Equal(t, string(list("loom-school/loom-school.php")), string(fresh))
	require.Equal(t, []string{"loom-cache", "hello.php", "loom-cache-pages"}, off)
	for _, raw := range []string{"", "twentytwentythree", "a:1:{", string(list("loom-school/loom-school.php"))} {
		fresh, off = without([]byte(raw), []string{"loom-cache", "twenty*"})
		require.Equal(t, raw, string(fresh))
		require.Empty(t, off)
	}
}
