package kind

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOfSeveralKindsTheOneCountsThatAsksForMore(t *testing.T) {
	wordpress := &Kind{Name: "wordpress", Detect: []string{"wp-includes/version.php", "wp-load.php"}}
	shop := &Kind{Name: "shop", Detect: []string{"wp-load.php", "wp-includes/version.php", "shop.php"}}
	blog := &Kind{Name: "blog", Detect: []string{"wp-login.php"}}
	same := &Kind{Name: "same", Detect: []string{"wp-load.php", "wp-includes/version.php"}}
	for _, c := range []struct {
		fit  []*Kind
		want string
	}{
		{nil, ""}, {[]*Kind{wordpress}, "wordpress"}, {[]*Kind{wordpress, shop}, "shop"}, {[]*Kind{shop, wordpress}, "shop"},
	} {
		got, err := narrowest(c.fit)
		require.NoError(t, err)
		if c.want == "" {
			require.Nil(t, got)
		} else {
			require.Equal(t, c.want, got.Name)
		}
	}
	for _, fit := range [][]*Kind{{blog, wordpress}, {wordpress, blog}, {same, wordpress}, {shop, blog, wordpress}} {
		_, err := narrowest(fit)
		require.ErrorIs(t, err, ErrAmbiguous)
		require.ErrorContains(t, err, fit[0].Name)
		require.ErrorContains(t, err, fit[1].Name)
	}
}
