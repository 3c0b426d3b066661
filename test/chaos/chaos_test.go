package main

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

// A short round; `go run ./test/chaos` does as many as one likes.
func TestWhateverGoesWrongNothingIsHalfMadeOrLost(t *testing.T) {
	var log bytes.Buffer
	_, err := run(t.Context(), 8, 11, "", &log)
	require.NoError(t, err, log.String())
}
