package kind

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// named returns a kind that comes with the program.
func named(t *testing.T, name string) *Kind {
	t.Helper()
	kinds, err := Stock()
	require.NoError(t, err)
	k, err := Named(kinds, name)
	require.NoError(t, err)
	return k
}
