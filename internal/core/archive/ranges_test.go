package archive

import (
	"bytes"
	"errors"
	"io"
	"math/rand"
	"sync"
	"sync/atomic"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

func TestRangesReadWhatIsThereAndFetchEachBlockOnce(t *testing.T) {
	whole := make([]byte, 3*rangeBytes+77)
	rand.New(rand.NewSource(1)).Read(whole)
	var fetched atomic.Int64
	r := &Ranges{SizeBytes: int64(len(whole)), Fetch: func(p []byte, off int64) error {
		fetched.Add(1)
		copy(p, whole[off:])
		return nil
	}}
	require.NoError(t, iotest.TestReader(io.NewSectionReader(r, 0, r.SizeBytes), whole))
	require.Equal(t, int64(4), fetched.Load())
	var group sync.WaitGroup
	for g := range 8 {
		group.Go(func() {
			rng := rand.New(rand.NewSource(int64(g)))
			for range 200 {
				off := rng.Intn(len(whole) - 100)
				p := make([]byte, 100)
				if n, err := r.ReadAt(p, int64(off)); n != 100 || err != nil || !bytes.Equal(p, whole[off:off+100]) {
					t.Error("wrong bytes at", off, err)
				}
			}
		})
	}
	group.Wait()
	_, err := r.ReadAt(make([]byte, 1), r.SizeBytes)
	require.ErrorIs(t, err, io.EOF)
	_, err = r.ReadAt(make([]byte, 1), -1)
	require.Error(t, err)
}

func TestABlockThatFailedIsTriedAgain(t *testing.T) {
	broken := true
	r := &Ranges{SizeBytes: 10, Fetch: func(p []byte, _ int64) error {
		if broken {
			return errors.New("the line is dead")
		}
		return nil
	}}
	_, err := r.ReadAt(make([]byte, 4), 0)
	require.ErrorContains(t, err, "dead")
	broken = false
	_, err = r.ReadAt(make([]byte, 4), 0)
	require.NoError(t, err)
}

func TestRangesKeepFewBlocks(t *testing.T) {
	r := &Ranges{SizeBytes: 100 * rangeBytes, Fetch: func([]byte, int64) error { return nil }}
	for i := range int64(100) {
		_, err := r.ReadAt(make([]byte, 1), i*rangeBytes)
		require.NoError(t, err)
	}
	require.Len(t, r.blocks, blocksKept)
}
