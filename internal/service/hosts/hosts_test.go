package hosts

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

func TestPatternsOfHostsAreFilledIn(t *testing.T) {
	for _, c := range []struct{ pattern, address, want string }{
		{"{name}", "http://a.example", "alder"}, {"clients/{name}/www", "http://a.example", "clients/alder/www"},
		{"{host}", "https://www.alder.example:8443/blog", "www.alder.example"}, {"fixed", "http://a.example", "fixed"},
	} {
		got, err := Fill(c.pattern, "alder", c.address)
		require.NoError(t, err)
		require.Equal(t, c.want, got)
	}
	_, err := Fill("{name}", "alder", "not an address")
	require.Error(t, err)
}

func TestOnlyAddressesOfHostsAreOurs(t *testing.T) {
	h := records.Host{Address: "http://{name}.localhost:8080"}
	for hostport, want := range map[string]bool{"files.localhost:8080": true, "files.localhost:8081": false, "a.b.localhost:8080": false,
		".localhost:8080": false, "localhost:8080": false, "127.0.0.1:8080": false, "evil.example:8080": false} {
		require.Equal(t, want, Owns(h, hostport), hostport)
	}
	fixed := records.Host{Address: "https://preview.loomandladder.example/{name}"}
	require.True(t, Owns(fixed, "preview.loomandladder.example:443"))
	require.False(t, Owns(fixed, "other.example:443"))
}

func TestASiteIsReachedInAPrivateNetworkOnlyWhereItsHostIsThere(t *testing.T) {
	h := records.Host{Address: "http://{name}.localhost:8080"}
	require.True(t, Reach(h, "http://alder.localhost:8080").Private)
	require.False(t, Reach(h, "http://alder-valley.example").Private, "what DNS says of a client's own name is the client's word")
	h.Connect = "10.0.0.7"
	require.Equal(t, "10.0.0.7", Reach(h, "http://alder-valley.example").Connect)
}

func TestATestRecommendsWhatTheProgramsHaveTold(t *testing.T) {
	there := provision.Runtime{Name: "PHP", Account: "web17", Folder: "/home/www/school/nestseed-asks", Writes: provision.WritesOwn}
	unread := provision.Runtime{Name: "PHP", Account: "web17", Folder: "/srv/www/nestseed-asks", Unreadable: true}
	for files, c := range map[string]struct {
		runtime provision.Runtime
		root    bool
		want    string
	}{
		"sftp://loom@host.example/srv/www":                  {there, true, "sftp://loom@host.example/srv/www?seen=/home/www/school"},
		"ftp://loom@host.example/www?seen=/srv":             {there, false, "ftp://loom@host.example/www?seen=/home/www/school"},
		"ftp://loom@host.example/www?seen=/home/www/school": {there, false, ""},
		"sftp://loom@host.example/home/www/school":          {there, false, ""},
		"file:///srv/www":                                   {unread, true, "file:///srv/www?owner=web17"},
		"file:///srv/www?owner=web17":                       {unread, true, ""},
		"file:///srv/www#":                                  {unread, false, ""},
		"sftp://loom@host.example/x#":                       {provision.Runtime{Folder: "/somewhere/else"}, false, ""},
		"sftp://loom@host.example/x#2":                      {provision.Runtime{}, false, ""},
	} {
		require.Equal(t, c.want, betterFiles(files, c.runtime, "nestseed-asks", c.root), files)
	}
}
