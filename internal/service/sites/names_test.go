package sites

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

// dns knows some names, counts what it is asked, and may be down.
type dns struct {
	names map[string]string
	asked map[string]int
	down  bool
}

func (d *dns) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	d.asked[host]++
	if d.down {
		return nil, errors.New("i/o timeout")
	}
	if a, known := d.names[host]; known {
		return []netip.Addr{netip.MustParseAddr(a)}, nil
	}
	return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
}

func TestNamesAreWatchedUntilTheyLeadToTheirHosts(t *testing.T) {
	db, ctx := recordstest.Open(t), t.Context()
	live, err := db.AddHost(ctx, records.Host{Name: "live", Files: "file:///srv/www", WebRoot: "{name}", Address: "https://{name}.example",
		Database: "mysql://a@h/", Connect: "203.0.113.7"})
	require.NoError(t, err)
	preview, err := db.AddHost(ctx, records.Host{Name: "preview", Files: "file:///srv/www", WebRoot: "{name}",
		Address: "https://{name}.preview.example", Database: "mysql://a@h/"})
	require.NoError(t, err)
	starter, err := db.AddStarter(ctx, "music-base", nil, "wordpress", "list: a")
	require.NoError(t, err)
	require.NoError(t, db.AddRelease(ctx, records.Release{StarterID: starter.ID, Starter: "music-base", Number: 1, Archive: "1.zip",
		Manifest: &archive.Manifest{Number: 1, Source: "base"}}, nil))
	release, err := db.Release(ctx, "music-base@1")
	require.NoError(t, err)
	client, err := db.AddClient(ctx, "alder-valley")
	require.NoError(t, err)
	for name, host := range map[string]records.Host{"alder-valley": live, "brook-lane": live, "cedar-hill": preview} {
		var run int64
		require.NoError(t, db.Tx(ctx, func(ctx context.Context) (err error) {
			run, _, err = db.AddRun(ctx, records.Run{Job: "provision", Title: "x", Target: "t", Who: "ines", Args: []byte("{}")})
			return err
		}))
		require.NoError(t, db.AddSite(ctx, records.Site{Name: name, ClientID: client.ID, HostID: host.ID, ReleaseID: release.ID, RunID: run,
			Address: "https://" + name + ".example", Folder: name,
			Plan: &provision.Plan{Name: name}, Result: &provision.Result{}}, nil))
	}
	known := &dns{names: map[string]string{"alder-valley.example": "203.0.113.7", "brook-lane.example": "198.51.100.4"},
		asked: map[string]int{}}
	w := &Sites{DB: db, DNS: known}

	arrived, err := w.WatchNames(ctx)
	require.NoError(t, err)
	require.Empty(t, arrived, "nobody waited for it")
	site := func(name string) records.Site {
		s, err := db.Site(ctx, name)
		require.NoError(t, err)
		return s
	}
	require.True(t, site("alder-valley").Lead.There)
	require.Equal(t, "brook-lane.example leads to 198.51.100.4, and the site's host is 203.0.113.7", site("brook-lane").Lead.Sentence())
	require.Nil(t, site("cedar-hill").Lead, "nobody knows where it should lead")
	require.Zero(t, known.asked["cedar-hill.example"])

	// While DNS does not answer, what was known stays.
	known.down = true
	_, err = w.WatchNames(ctx)
	require.NoError(t, err)
	require.NotNil(t, site("brook-lane").Lead)
	known.down = false

	known.names["brook-lane.example"] = "203.0.113.7"
	arrived, err = w.WatchNames(ctx)
	require.NoError(t, err)
	require.Len(t, arrived, 1)
	require.Equal(t, "brook-lane", arrived[0].Name)
	require.True(t, site("brook-lane").Lead.There)
	require.Equal(t, 1, known.asked["alder-valley.example"], "it is believed for a while")

	// After that it is asked again, and may have gone.
	old := site("alder-valley").Lead
	old.At, old.Since = old.At.Add(-2*leadStays), old.Since.Add(-2*leadStays)
	require.NoError(t, db.SetLead(ctx, site("alder-valley").ID, site("alder-valley").Address, old))
	_, err = w.WatchNames(ctx)
	require.NoError(t, err)
	require.Equal(t, old.Since, site("alder-valley").Lead.Since, "it leads where it did")
	require.WithinDuration(t, time.Now(), site("alder-valley").Lead.At, time.Minute)
	old.At = old.At.Add(-2 * leadStays)
	require.NoError(t, db.SetLead(ctx, site("alder-valley").ID, site("alder-valley").Address, old))
	require.NoError(t, db.SetLead(ctx, site("alder-valley").ID, "https://elsewhere.example", nil), "it was asked before the site moved")
	require.NotNil(t, site("alder-valley").Lead)
	delete(known.names, "alder-valley.example")
	_, err = w.WatchNames(ctx)
	require.NoError(t, err)
	require.Contains(t, site("alder-valley").Lead.Sentence(), "leads nowhere")
}
