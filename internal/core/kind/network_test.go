package kind

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRulesAboutTablesAreForEachSubSite(t *testing.T) {
	one := named(t, "wordpress")
	require.Same(t, one, one.OfNetwork(nil))
	k := one.OfNetwork([]SubSite{{ID: "1", Main: true}, {ID: "2"}, {ID: "13"}})
	require.Equal(t, []string{"2_", "13_"}, k.Subs)
	require.Same(t, one, k.Single())
	require.Same(t, one, k.OfNetwork([]SubSite{{ID: "1", Main: true}}).Single(), "not of a network of a network")
	require.Equal(t, []string{"posts", "2_posts", "13_posts"}, k.OfSubs("posts"))
	require.Equal(t, []string{"users"}, k.OfSubs("users"), "accounts are for all")
	require.Equal(t, []string{"*_log"}, k.OfSubs("*_log"))
	require.True(t, k.IsOptions("13_options"))
	require.False(t, one.IsOptions("13_options"))
	require.True(t, slices.ContainsFunc(k.Prefixed, func(r Rows) bool {
		return r.Table == "2_options" && slices.Equal(r.Values, []string{"2_user_roles"})
	}))
	require.Contains(t, k.Relations, Relation{Table: "2_postmeta", Column: "post_id", To: Column{"2_posts", "ID"}})
	require.Contains(t, k.Admin.Authors, Column{"13_posts", "post_author"})
	require.NotContains(t, one.Lists["starter"], "sitemeta")
	require.NotContains(t, one.Lists["starter"], "#network")
	require.Contains(t, k.Lists["starter"], "  - table: sitemeta\n")
	require.NotContains(t, one.Relations, Relation{Table: "2_postmeta", Column: "post_id", To: Column{"2_posts", "ID"}})
}
