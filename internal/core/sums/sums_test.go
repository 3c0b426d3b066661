package sums

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func noise(n int, seed uint64) []byte {
	out := make([]byte, n)
	r := rand.New(rand.NewPCG(seed, 7))
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}

func TestSumsAreThoseOfTheStandardLibrary(t *testing.T) {
	t.Logf("sixteen lanes: %v", sixteenLanes)
	all := noise(300_000, 1)
	rapid.Check(t, func(t *rapid.T) {
		sizes := rapid.SliceOfN(rapid.OneOf(rapid.IntRange(0, 300), rapid.IntRange(0, 9000),
			rapid.SampledFrom([]int{55, 56, 63, 64, 65, 127, 128, 4096})), 0, 60).Draw(t, "sizes")
		var parts [][]byte
		for i, n := range sizes {
			from := (i * 4001) % (len(all) - 9000)
			parts = append(parts, all[from:from+n])
		}
		for i, got := range Of(parts) {
			if got != sha256.Sum256(parts[i]) {
				t.Fatalf("buffer %d of %d bytes", i, len(parts[i]))
			}
		}
	})
}

func TestSumsOfVeryDifferentSizes(t *testing.T) {
	var parts [][]byte
	for i, n := range []int{1 << 20, 0, 3, 64, 1 << 16, 200, 1 << 18, 65, 64 * 16, 1, 1 << 12, 99, 1 << 19, 1000, 7, 12345, 640, 1 << 17, 63} {
		parts = append(parts, noise(n, uint64(i)))
	}
	for i, got := range Of(parts) {
		require.Equal(t, sha256.Sum256(parts[i]), got, "%d bytes", len(parts[i]))
	}
	require.Empty(t, Of(nil))
}

func TestWithoutWideRegistersTheSumsAreTheSame(t *testing.T) {
	was := sixteenLanes
	sixteenLanes = false
	defer func() { sixteenLanes = was }()
	parts := [][]byte{noise(100, 1), noise(5000, 2), {}, noise(64, 3), noise(65, 4)}
	for i, got := range Of(parts) {
		require.Equal(t, sha256.Sum256(parts[i]), got)
	}
}

func BenchmarkOf(b *testing.B) {
	for _, n := range []int{1, 4, 16, 64} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			parts := make([][]byte, n)
			for i := range parts {
				parts[i] = noise(96<<10, uint64(i))
			}
			b.SetBytes(int64(n) * 96 << 10)
			for b.Loop() {
				Of(parts)
			}
		})
	}
}
