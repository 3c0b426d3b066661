package kind

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// described reads settings as those of a kind that somebody has added.
func described(t *testing.T, syntax, text string, change func(*Kind)) *Identity {
	t.Helper()
	s, err := ReadSettings(syntax, []byte(text), "/srv/www/board", nil)
	require.NoError(t, err)
	k := &Kind{Name: "board", Title: "Board", Described: true}
	k.Settings.Files, k.Settings.Syntax, k.Settings.Salts = []string{"config.json"}, syntax, []string{"security.salt"}
	k.SiteTitle.Setting = "general.title"
	if change != nil {
		change(k)
	}
	return &Identity{Kind: k, Settings: s, SettingsPath: "board/config.json"}
}

func TestSettingsThatAKindNamesHaveToBeThere(t *testing.T) {
	const text = `{"general": {"title": "Board"}, "security": {"salt": "x"}}`
	require.NoError(t, described(t, "json", text, nil).Has())
	for _, name := range []string{"general.titel", "title", "general.Title"} {
		err := described(t, "json", text, func(k *Kind) { k.SiteTitle.Setting = name }).Has()
		require.ErrorIs(t, err, ErrCannotRead)
		require.ErrorContains(t, err, "has no "+name+", which kind board names; it has general.title, security.salt")
		require.NoError(t, described(t, "json", text, func(k *Kind) { k.SiteTitle.Setting, k.Settings.Optional = name, []string{name} }).Has())
	}
	require.ErrorContains(t, described(t, "json", text, nil).Has("api.secret"), "has no api.secret", "what a packing list empties")
	require.ErrorContains(t, described(t, "php", "<?php $GLOBALS['hash'] = 'x';", func(k *Kind) {
		k.Settings.Salts, k.SiteTitle.Setting = []string{"$GLOBALS[hash]"}, ""
	}).Has(), "it has $hash")
	require.NoError(t, described(t, "json", text, func(k *Kind) { k.SiteTitle.Setting, k.Described = "none", false }).Has(), "it comes with the program")
}

func TestASettingsFileThatCannotBeReadIsRefused(t *testing.T) {
	_, err := ReadSettings("json", []byte("<?php /* {\"login\": \"agency\"} */ ?>"), "", nil)
	require.ErrorIs(t, err, ErrCannotRead)
	require.ErrorContains(t, err, "not JSON")
	for syntax, text := range map[string]string{"php": "no program", "dotenv": "# nothing", "ini": "", "yaml": "- a\n- b\n", "json": "[]"} {
		require.ErrorContains(t, described(t, syntax, text, nil).Has(), "no setting can be read", syntax)
	}
}
