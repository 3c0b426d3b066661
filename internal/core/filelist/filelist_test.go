package filelist

import (
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAListComesBackAsItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seen := map[string]bool{}
		var in []Entry
		for _, p := range rapid.SliceOf(rapid.StringN(1, 40, 80)).Draw(t, "paths") {
			if seen[p] {
				continue
			}
			seen[p] = true
			e := Entry{Path: p, Bytes: rapid.Int64Min(0).Draw(t, "bytes"), Packed: rapid.Int64Range(0, 1<<40).Draw(t, "packed"),
				Modified: rapid.Int64Range(-1<<40, 1<<40).Draw(t, "time"), Mode: 0o644, Area: rapid.SampledFrom([]string{"core", "media", "Ü"}).Draw(t,
					"area")}
			if rapid.Bool().Draw(t, "link") {
				e.Mode, e.Target = fs.ModeSymlink|0o777, "../"+p
			}
			in = append(in, e)
		}
		Sort(in)
		out, err := Decode(Encode(in))
		require.NoError(t, err)
		require.Equal(t, len(in), len(out))
		for i := range in {
			require.Equal(t, in[i], out[i])
		}
	})
}

func TestALongListIsSmall(t *testing.T) {
	var in []Entry
	for i := range 50_000 {
		in = append(in, Entry{Path: fmt.Sprintf("wp-content/uploads/2026/%02d/rehearsal-%05d.jpg", i%12, i), Bytes: int64(i * 7),
			Modified: 1_790_000_000 + int64(i), Mode: 0o644, Area: "media"})
	}
	Sort(in)
	packed := Encode(in)
	require.Less(t, len(packed), 20*len(in))
	out, err := Decode(packed)
	require.NoError(t, err)
	require.Equal(t, in, out)
}

func FuzzDecode(f *testing.F) {
	f.Add(Encode([]Entry{{Path: "a/b", Bytes: 3, Mode: 0o644, Area: "core"}, {Path: "a/c", Mode: fs.ModeSymlink, Target: "b", Area: "core"}}))
	f.Add([]byte(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		entries, err := Decode(b)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		for _, e := range entries {
			require.LessOrEqual(t, len(e.Path), maxBytes)
		}
	})
}
