package phpval

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func visited(src string) (out []string) {
	Each([]byte(src), func(path []string, value string) { out = append(out, strings.Join(path, " › ")+" = "+value) })
	return out
}

func TestEachValueIsVisitedWithThePathToIt(t *testing.T) {
	require.Equal(t, []string{" = harp"}, visited(`s:4:"harp";`))
	require.Equal(t, []string{"0 = a", "name = 1", "rate = 0.5", "on = 1", "none = "},
		visited(`a:5:{i:0;s:1:"a";s:4:"name";i:1;s:4:"rate";d:0.5;s:2:"on";b:1;s:4:"none";N;}`))
	require.Equal(t, []string{"look › wide = 1", "look › by › 3 = ines", "end = x"},
		visited(`O:8:"stdClass":2:{s:4:"look";a:2:{s:4:"wide";b:1;s:2:"by";O:1:"B":1:{i:3;s:4:"ines";}}s:3:"end";s:1:"x";}`))
	require.Empty(t, visited(`a:0:{}`))
	require.Equal(t, []string{"after = 1"}, visited(`a:2:{s:1:"c";C:1:"X":3:{abc}s:5:"after";i:1;}`),
		"what a class wrote by its own format is passed over")
	for _, broken := range []string{"", "s:5:\"harp\";", `a:2:{i:0;s:1:"a";}`, `a:1:{i:0;s:1:"a";}x`, `a:1:{O:1:"B":0:{}i:1;}`} {
		require.Empty(t, visited(broken), "%q is not valid, so nothing in it is", broken)
	}
}

// A path that was visited must still be the same when the next one comes.
func TestPathsAreNotOverwrittenByThoseThatFollow(t *testing.T) {
	var kept [][]string
	Each([]byte(`a:2:{s:1:"a";a:2:{s:1:"b";s:1:"1";s:1:"c";s:1:"2";}s:1:"d";a:1:{s:1:"e";s:1:"3";}}`),
		func(path []string, _ string) { kept = append(kept, path) })
	require.Equal(t, [][]string{{"a", "b"}, {"a", "c"}, {"d", "e"}}, kept)
}

// tree writes a random value and says which of its values should be visited, and with what.
func tree(t *rapid.T, depth int, path string, want map[string]string) string {
	if depth == 0 || rapid.IntRange(0, 2).Draw(t, "leaf") == 0 {
		switch rapid.IntRange(0, 3).Draw(t, "sort") {
		case 0:
			n := rapid.Int32().Draw(t, "n")
			want[path] = fmt.Sprint(n)
			return fmt.Sprintf("i:%d;", n)
		case 1:
			want[path] = "1"
			return "b:1;"
		case 2:
			want[path] = ""
			return "N;"
		}
		s := rapid.SampledFrom([]string{"", "http://base.localhost", `a "quoted" text; {with} signs`, "Grüße", "s:3:\"x\";"}).Draw(t, "s")
		want[path] = s
		return string(AppendString(nil, s))
	}
	n := rapid.IntRange(0, 3).Draw(t, "members")
	var b strings.Builder
	if rapid.Bool().Draw(t, "object") {
		fmt.Fprintf(&b, `O:4:"Loom":%d:{`, n)
	} else {
		fmt.Fprintf(&b, "a:%d:{", n)
	}
	for i := range n {
		key := fmt.Sprintf("k%d", i)
		b.Write(AppendString(nil, key))
		b.WriteString(tree(t, depth-1, strings.TrimPrefix(path+"/"+key, "/"), want))
	}
	return b.String() + "}"
}

// What Each visits, Lookup finds by the same path, and what Set puts there is all that changes.
func TestVisitingLookingUpAndSettingAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := map[string]string{}
		src := []byte(tree(t, 4, "", want))
		require.True(t, Valid(src), "%s", src)
		got := map[string]string{}
		Each(src, func(path []string, value string) {
			got[strings.Join(path, "/")] = value
			found, err := Lookup(src, path...)
			require.NoError(t, err)
			require.Equal(t, value, found)

			fresh, err := Set(src, "a fresh \"value\"", path...)
			require.NoError(t, err)
			require.True(t, Valid(fresh), "%s", fresh)
			Each(fresh, func(other []string, now string) {
				if strings.Join(other, "/") == strings.Join(path, "/") {
					require.Equal(t, "a fresh \"value\"", now)
				} else {
					require.Equal(t, want[strings.Join(other, "/")], now)
				}
			})
		})
		require.Equal(t, want, got)
		_, err := Lookup(src, "k0", "never there", "at all")
		require.ErrorIs(t, err, ErrNoSuchPath)
	})
}

// What is known not to change is passed over, and the outcome is the same.
func TestStringsFarFromAnyChangeArePassedOver(t *testing.T) {
	src := []byte(`a:3:{s:5:"title";s:7:"Lessons";s:3:"old";a:1:{i:0;s:9:"the old a";}s:1:"x";O:3:"Hut":1:{s:3:"old";s:3:"old";}}`)
	seen := 0
	change := func(dst, s []byte) []byte {
		seen++
		return append(dst, bytes.ReplaceAll(s, []byte("old"), []byte("newer"))...)
	}
	want, n, err := Rewrite(nil, src, change)
	require.NoError(t, err)
	all := seen
	seen = 0
	got, m, err := RewriteNear(nil, src, func(from int) int {
		if i := bytes.Index(src[from:], []byte("old")); i >= 0 {
			return from + i
		}
		return len(src)
	}, change)
	require.NoError(t, err)
	require.Equal(t, string(want), string(got))
	require.Equal(t, n, m)
	require.Less(t, seen, all)
	require.True(t, Valid(got))
}
