package sitevalue_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/sitevalue"
)

func TestTitlesAreReadAsPeopleReadThem(t *testing.T) {
	k := *kindtest.Named(t, "wordpress")
	k.SiteTitle = kind.Value{Setting: "TITLE"}
	for title, text := range map[string]string{
		`Brook Lane "Strings" & Voices`: `<?php define('TITLE', 'Brook Lane &quot;Strings&quot; &amp; Voices');`,
		"":                              `<?php define('TITLE', getenv('TITLE'));`,
	} {
		settings, err := kind.ReadSettings("php", []byte(text), "/srv/site", nil)
		require.NoError(t, err)
		is, err := sitevalue.Site{Kind: &k, Settings: settings}.Title(t.Context())
		require.NoError(t, err)
		require.Equal(t, title, is)
	}
}
