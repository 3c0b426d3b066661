package buffers

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBuffersAreAsLargeAsTheyAreCounted(t *testing.T) {
	for _, n := range []int{0, 1, 32 << 10, 32<<10 + 1, 140 << 10, 1 << 20, 1<<20 + 1, 8 << 20, 9 << 20} {
		b := Take(n)
		require.Len(t, b, n)
		require.GreaterOrEqual(t, int64(cap(b)), Room(n))
		require.LessOrEqual(t, Room(n), int64(max(2*n, least)), "never more than twice what is needed")
		Recycle(b)
	}
	Recycle(make([]byte, 5)) // too small to serve anybody
}

func TestWhatWaitsLiesInABufferOfItsSize(t *testing.T) {
	large := Take(1 << 20)
	copy(large, "packed to almost nothing")
	small := Shrink(large[:24])
	require.Equal(t, "packed to almost nothing", string(small))
	require.Less(t, cap(small), 128<<10)
	full := Take(40 << 10)
	require.Equal(t, &full[0], &Shrink(full)[0], "one that fits stays where it is")
}
