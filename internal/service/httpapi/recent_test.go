package httpapi

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
)

// A store that does not answer for one release keeps nobody from another, and who leaves does not wait.
func TestOneReleaseThatHangsKeepsNobodyFromTheOthers(t *testing.T) {
	hung, reads := make(chan struct{}), 0
	c := &recent[string]{most: 2, read: func(_ context.Context, r records.Release) (string, error) {
		if r.ID == 1 {
			<-hung
		}
		reads++
		return r.Starter, nil
	}}
	begun := make(chan error, 1)
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		_, err := c.get(ctx, records.Release{ID: 1, Starter: "hangs"})
		begun <- err
	}()
	for _, name := range []string{"one", "another", "one"} {
		got, err := c.get(t.Context(), records.Release{ID: map[string]int64{"one": 2, "another": 3}[name], Starter: name})
		require.NoError(t, err)
		require.Equal(t, name, got)
	}
	require.Equal(t, 2, reads, "what was read is kept")
	cancel()
	require.True(t, errors.Is(<-begun, context.Canceled))
	close(hung)
	got, err := c.get(t.Context(), records.Release{ID: 1, Starter: "hangs"})
	require.NoError(t, err)
	require.Equal(t, "hangs", got, "it was read on for whoever asks next")
}
