package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestStringsInDefinitionsAreMapped(t *testing.T) {
	other := func(s string) string { return strings.ReplaceAll(s, "base", "alder's") }
	d, err := ParseDefinition([]byte("CREATE TABLE `base` (`base` varchar(99) DEFAULT 'http://base' COMMENT 'it''s at base', e enum('base','b\\\\ase'), " +
		"CHECK (`base` <> 'base')) COMMENT='of base'"))
	require.NoError(t, err)
	d.MapStrings(other)
	text := d.Text(nil)
	require.Equal(t, 5, strings.Count(text, `alder\'s`)+strings.Count(text, `alder''s`), text)
	require.Contains(t, text, "CREATE TABLE `base`")
	again, err := ParseDefinition([]byte(text))
	require.NoError(t, err)
	require.Equal(t, text, again.Text(nil))

	g, err := MySQL.ParseProgram([]byte("CREATE VIEW `v` AS SELECT 'at base' AS `base`, `base` AS x FROM `base`"), "", nil)
	require.NoError(t, err)
	g.MapStrings(other)
	require.Contains(t, g.Text(nil), "AS `base`")
	require.Equal(t, 1, strings.Count(g.Text(nil), "alder"))
}
