package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestWhatIsInFlightIsBounded(t *testing.T) {
	f := newBudget(100)
	require.NoError(t, f.acquire(60))
	require.NoError(t, f.acquire(40))
	var got atomic.Bool
	waiting := make(chan error, 1)
	go func() {
		err := f.acquire(30)
		got.Store(true)
		waiting <- err
	}()
	time.Sleep(20 * time.Millisecond)
	require.False(t, got.Load(), "there is no room")
	f.release(60)
	require.NoError(t, <-waiting)
	f.release(70)
	require.NoError(t, f.acquire(1000), "one that is larger than the bound goes alone")
	go func() { waiting <- f.acquire(1) }()
	time.Sleep(10 * time.Millisecond)
	f.close()
	require.ErrorIs(t, <-waiting, errClosed)
}

// sheet is a target that keeps what is written.
type sheet struct{ b []byte }

func (m *sheet) WriteAt(p []byte, at int64) (int, error) {
	if need := int(at) + len(p); need > len(m.b) {
		m.b = append(m.b, make([]byte, need-len(m.b))...)
	}
	return copy(m.b[at:], p), nil
}

func (m *sheet) Truncate(n int64) error {
	m.b = m.b[:n]
	return nil
}

func TestTheSecondLaneComesBehindTheFirstWheneverItWasFilled(t *testing.T) {
	out := &sheet{}
	w := NewWriter(context.Background(), out)
	at := time.Unix(1_800_000_000, 0)
	small := func(l *Lane, name, text string) {
		require.NoError(t, l.Small(Header(name, 0o644, at), int64(len(text)), func(buf []byte) ([]byte, error) {
			return append(buf[:0], text...),
				nil
		}))
	}
	r, err := w.Reserve(ManifestName, at, []byte("{}"))
	require.NoError(t, err)
	rows := bytes.Repeat([]byte("INSERT INTO posts VALUES (1,'http://base.localhost');\n"), 60_000) // about 3 MB, packed ahead
	s := w.Database.Stream(Header("database/rows/posts.sql", 0o644, at), 0)
	_, err = s.Write(rows)
	require.NoError(t, err)
	n, err := s.Close()
	require.NoError(t, err)
	require.Equal(t, int64(len(rows)), n)
	require.NoError(t, w.Database.Close())
	for i := range 700 { // more than a line holds, folders between them
		if i%9 == 0 {
			e := &entry{header: Header(fmt.Sprintf("files/f%03d/", i), 0o755, at), blocks: make(chan *block, 1)}
			b := &block{ready: make(chan struct{})}
			close(b.ready)
			e.blocks <- b
			close(e.blocks)
			require.NoError(t, w.Files.whole(e))
		}
		small(w.Files, fmt.Sprintf("files/f%03d/a.txt", i-i%9), fmt.Sprintf("score %d", i))
	}
	require.NoError(t, w.Files.Close())
	_, err = w.Finish(r, at, func() ([]byte, error) { return []byte("{}"), nil })
	require.NoError(t, err)
	last := ""
	for i, e := range w.index {
		if e.Path == "database/rows/posts.sql" {
			require.Equal(t, len(w.index)-1, i)
		}
		last = e.Path
	}
	require.Equal(t, "database/rows/posts.sql", last)
	require.Len(t, w.index, 700+78+1)
	require.Contains(t, w.sums.String(), "  files/f000/a.txt\n")
}

func TestAFaultOfOneEntryEndsAllGoroutines(t *testing.T) {
	broken := errors.New("cannot be read")
	w := NewWriter(context.Background(), &sheet{})
	_, err := w.Reserve(ManifestName, time.Now(), []byte("{}"))
	require.NoError(t, err)
	s := w.Database.Stream(Header("database/rows/a.sql", 0o644, time.Now()), 0) // never closed
	_, err = s.Write(make([]byte, 3<<20))
	require.NoError(t, err)
	for i := range 200 {
		err = w.Files.Small(Header(fmt.Sprint("files/", i), 0o644, time.Now()), 10, func([]byte) ([]byte, error) { return nil, broken })
		if err != nil {
			break
		}
	}
	if err == nil {
		require.Error(t, w.Files.Close())
	}
	ended := make(chan struct{})
	go func() { w.Abandon(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("abandoning hangs")
	}
	require.ErrorIs(t, context.Cause(w.ctx), broken)
}
