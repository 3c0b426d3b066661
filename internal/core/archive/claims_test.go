package archive

import (
	"strings"
	"testing"

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
