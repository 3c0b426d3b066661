package archive

import (
	"strings"
	"testing"

	"nestseed/internal/core/kind"

	"github.com/stretchr/testify/require"
)

func TestHostileNamesAndLinksAreRefused(t *testing.T) {
	for _, name := range []string{"", "/etc/passwd", `\x`, `C:\x`, "a/../b", "..", "a//b", "./a", "a\x00b", `..\x`, strings.Repeat("x", 256)} {
		require.Error(t, CheckName(name), "%q", name)
	}
	var of *EntryError
	require.ErrorAs(t, Hostile("files/x", "is a link that leads out of the site, to %q", "/etc"), &of)
	require.Equal(t, "files/x", of.Entry)
	require.ErrorIs(t, of, ErrHostile)
	require.NoError(t, CheckName("files/wp-content/a..b/c"))
	require.True(t, LinkStays("a/b", "../c"))
	for _, target := range []string{"/etc", "../../x", "", `..\..\x`} {
		require.False(t, LinkStays("a/b", target), target)
	}
}

func TestAManifestNamesFewAddresses(t *testing.T) {
	a := &Archive{Manifest: Manifest{Origin: Origin{Also: make([]string, MostAddresses)}}}
	require.NoError(t, a.checkManifest())
	a.Manifest.Origin.Also = make([]string, MostAddresses+1)
	require.ErrorIs(t, a.checkManifest(), ErrHostile)
}

func TestAManifestNamesSubSitesByNumbers(t *testing.T) {
	of := func(all ...kind.SubSite) error {
		return (&Archive{Manifest: Manifest{Origin: Origin{SubSites: all}}}).checkManifest()
	}
	main := kind.SubSite{ID: "1", Main: true}
	require.NoError(t, of(main, kind.SubSite{ID: "2"}))
	for _, wrong := range [][]kind.SubSite{{{ID: "2"}}, {main, main}, {main, {ID: "2", Main: true}}, {main, {ID: "2`; DROP"}}, {main, {ID: "-2"}},
		{main, {ID: "02"}}, {main, {ID: "0"}}, {main, {ID: ""}}, {main, {ID: "99999999999999999999"}}, make([]kind.SubSite, MostSubSites+1)} {
		require.ErrorIs(t, of(wrong...), ErrHostile)
	}
}
