package archive

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAbsoluteLinksInsideASiteAreWrittenFromWhereTheyLie(t *testing.T) {
	for _, x := range [][3]string{
		{"wp-content/uploads", "/srv/base/media", "../media"}, {"link", "/srv/base/a/b", "a/b"}, {"a/b/c", "/srv/releases/5/a", "../../a"},
		{"a", "/srv/base", "."}, {"a", "/srv/basement/x", "/srv/basement/x"}, {"a", "../x", "../x"}, {"a", "/srv/base/../other", "/srv/base/../other"},
	} {
		require.Equal(t, x[2], RelativeLink(x[0], x[1], "/srv/base", "/srv/releases/5", ""), x[1])
	}
}
