package httpapi

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
)

func TestStepsThatAreLeftAreThoseAfterTheNewest(t *testing.T) {
	steps := func(names ...string) []records.StepTime {
		out := []records.StepTime{}
		for _, n := range names {
			out = append(out, records.StepTime{Name: n})
		}
		return out
	}
	then := steps("read", "pack", "read", "verify")
	require.Equal(t, then, stepsLeft(nil, then), "before its first")
	require.Equal(t, steps("read", "verify"), stepsLeft(steps("read", "pack"), then))
	require.Equal(t, steps("verify"), stepsLeft(steps("read"), then), "of a name that comes twice, the last is meant: no step is promised twice")
	require.Empty(t, stepsLeft(steps("verify"), then))
	require.Empty(t, stepsLeft(steps("something else"), then))
}
