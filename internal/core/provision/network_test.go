package provision

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
)

func TestSubSitesStandBesideTheNewAddressAsTheyStoodBesideTheOld(t *testing.T) {
	for _, c := range [][4]string{ // of the network, of the sub-site, new, where the sub-site is then
		{"http://alder.example", "http://alder.example/drums", "https://brook.example", "https://brook.example/drums"},
		{"http://alder.example", "http://drums.alder.example", "https://brook.example:8443", "https://drums.brook.example:8443"},
		{"http://www.alder.example", "http://drums.alder.example", "https://www.brook.example", "https://drums.brook.example"},
		{"http://alder.example:8480", "http://drums.alder.example:8480", "http://brook.example", "http://drums.brook.example"},
		{"http://alder.example", "http://drum-school.example", "http://brook.example", "http://drum-school-example.brook.example"},
		{"http://alder.example/all", "http://alder.example/all/drums", "http://brook.example/all", "http://brook.example/all/drums"},
	} {
		m := &archive.Manifest{Origin: archive.Origin{Address: c[0], SubSites: []kind.SubSite{{ID: "1", Main: true, Address: c[0]},
			{ID: "2", Address: c[1]}}}}
		p := &Plan{Address: c[2]}
		require.NoError(t, p.subSites(m))
		require.Empty(t, p.Problems)
		require.Equal(t, c[3], p.SubSites[1].Address)
		require.Equal(t, c[2], p.SubSites[0].Address)
	}
	m := &archive.Manifest{Origin: archive.Origin{Address: "http://alder.example/all", SubSites: []kind.SubSite{{ID: "1", Main: true,
		Address: "http://alder.example/all"}, {ID: "2", Address: "drums"}}}}
	p := &Plan{Address: "http://brook.example"}
	require.NoError(t, p.subSites(m))
	require.Len(t, p.Problems, 2, "another folder, and no address: %v", p.Problems)
}

func TestWhoRunsANetworkGoesOnToWithTheNewOne(t *testing.T) {
	require.Equal(t, `a:2:{i:0;s:4:"ines";i:1;s:3:"new";}`, joined(`a:1:{i:0;s:4:"ines";}`, `a:1:{i:0;s:3:"new";}`))
	require.Equal(t, `a:1:{i:0;s:3:"new";}`, joined(`a:1:{i:0;s:3:"new";}`, `a:1:{i:0;s:3:"new";}`))
	require.Equal(t, "b", joined("a", "b"))
	require.Equal(t, `a:1:{i:0;s:3:"new";}`, joined("", `a:1:{i:0;s:3:"new";}`))
}
