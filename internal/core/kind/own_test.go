package kind

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatEachSiteHasItsOwnOfIsNoPlaceForAClientsValue(t *testing.T) {
	for _, c := range []struct {
		kind  string
		place Value
		own   bool
	}{
		{"wordpress", Value{Setting: "DB_USER"}, true}, {"wordpress", Value{Setting: "AUTH_KEY"}, true}, {"wordpress", Value{Setting: "$table_prefix"}, true},
		{"wordpress", Value{Setting: "WP_CONTENT_DIR"}, true}, {"wordpress", Value{Option: "siteurl"}, true}, {"wordpress", Value{Setting: "WP_HOME"}, true},
		{"wordpress", Value{Option: "blogname"}, false}, {"wordpress", Value{Setting: "WPLANG"}, false}, {"wordpress", Value{Setting: ""}, false},
		{"drupal", Value{Setting: "$databases[default][default][host]"}, true}, {"drupal", Value{Setting: "$databases"}, true}, {"drupal", Value{Setting: "$base"}, false},
		{"drupal", Value{Option: "system.site", Path: []string{"name"}}, false}, {"joomla", Value{Setting: "JConfig->db"}, true}, {"joomla", Value{Setting: "JConfig->sitename"}, false},
	} {
		require.Equal(t, c.own, named(t, c.kind).Own(c.place), "%s %s", c.kind, c.place)
	}
}
