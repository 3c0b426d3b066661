package phpval

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func swap(old, fresh string) func(dst, s []byte) []byte {
	return func(dst, s []byte) []byte {
		return append(dst, bytes.ReplaceAll(s, []byte(old), []byte(fresh))...)
	}
}

func TestRewriteKeepsSerialisedLengths(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"string":           {`s:5:"a.old";`, `s:7:"a.newer";`},
		"multi-byte":       {`s:9:"Schön old";`, "broken"},
		"multi-byte ok":    {`s:10:"Schön old";`, `s:12:"Schön newer";`},
		"null and bools":   {`a:3:{i:0;N;i:1;b:1;i:2;d:0.5;}`, `a:3:{i:0;N;i:1;b:1;i:2;d:0.5;}`},
		"array keys":       {`a:1:{s:3:"old";s:3:"old";}`, `a:1:{s:5:"newer";s:5:"newer";}`},
		"object":           {`O:3:"old":1:{s:3:"old";s:3:"old";}`, `O:3:"old":1:{s:3:"old";s:5:"newer";}`},
		"escaped string":   {`a:1:{i:0;S:4:"\6fld!";}`, `a:1:{i:0;s:6:"newer!";}`},
		"references":       {`a:2:{i:0;s:3:"old";i:1;R:2;}`, `a:2:{i:0;s:5:"newer";i:1;R:2;}`},
		"enum":             {`E:7:"Key:old";`, `E:7:"Key:old";`},
		"custom":           {`C:4:"List":22:{x:i:0;a:1:{i:0;s:3:"old";}}`, "broken"},
		"custom ok":        {`C:4:"List":26:{x:i:0;a:1:{i:0;s:3:"old";}}`, `C:4:"List":28:{x:i:0;a:1:{i:0;s:5:"newer";}}`},
		"custom text":      {`C:4:"Text":7:{say old}`, `C:4:"Text":9:{say newer}`},
		"quote inside":     {`s:7:"old";x;";`, `s:9:"newer";x;";`},
		"quotes fit":       {`s:7:"old";x;`, "broken"},
		"cut short":        {`a:1:{i:0;s:3:"old`, "broken"},
		"left over":        {`i:1;i:2;`, "broken"},
		"huge count":       {`a:99999999999999999999:{}`, "broken"},
		"key and no colon": {`a:1:{i00;N;}`, "broken"},
	} {
		t.Run(name, func(t *testing.T) {
			out, _, err := Rewrite(nil, []byte(c.in), swap("old", "newer"))
			if c.want == "broken" {
				require.ErrorIs(t, err, ErrBroken)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.want, string(out))
			require.True(t, Valid(out))
		})
	}
}

func TestDeepNestingIsRefusedNotCrashed(t *testing.T) {
	deep := bytes.Repeat([]byte(`a:1:{i:0;`), 100_000)
	require.False(t, Valid(deep))
}

func TestSetReachesInsideNestedValues(t *testing.T) {
	src := []byte("a:2:{s:7:\"contact\";a:2:{s:4:\"mail\";s:1:\"x\";s:4:\"show\";b:0;}i:7;O:1:\"P\":1:{s:4:\"\x00P\x00k\";i:3;}}")
	out, err := Set(src, "Grüße", "contact", "mail")
	require.NoError(t, err)
	got, err := Lookup(out, "contact", "mail")
	require.NoError(t, err)
	require.Equal(t, "Grüße", got)

	out, err = Set(out, "1", "contact", "show")
	require.NoError(t, err)
	require.Contains(t, string(out), `s:4:"show";b:1;`)

	out, err = Set(out, "12", "7", "k")
	require.NoError(t, err)
	require.Contains(t, string(out), `i:12;`)

	_, err = Set(out, "v", "contact", "phone")
	require.ErrorIs(t, err, ErrNoSuchPath)
	_, err = Lookup(out, "contact")
	require.ErrorIs(t, err, ErrNoSuchPath)
}

// generator makes serialised values of every shape that PHP writes, nested up to depth.
func generator(depth int) *rapid.Generator[[]byte] {
	return rapid.Custom(func(t *rapid.T) []byte {
		shape := rapid.IntRange(0, 3).Draw(t, "shape")
		switch {
		case shape == 0:
			return []byte(rapid.SampledFrom([]string{"N;", "i:-12;", "b:1;", "d:0.5;"}).Draw(t, "scalar"))
		case shape == 1 || depth == 0:
			return AppendString(nil, rapid.String().Draw(t, "text"))
		}
		out := fmt.Appendf(nil, "a:%d:{", shape)
		for i := range shape {
			if i%2 == 0 {
				out = fmt.Appendf(out, "i:%d;", i)
			} else {
				out = AppendString(out, rapid.String().Draw(t, "key"))
			}
			out = append(out, generator(depth-1).Draw(t, "member")...)
		}
		return append(out, '}')
	})
}

func TestRewritingThereAndBackIsIdentity(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		in := generator(4).Draw(t, "value")
		there, _, err := Rewrite(nil, in, swap("a", "\x01\x02"))
		require.NoError(t, err)
		back, _, err := Rewrite(nil, there, swap("\x01\x02", "a"))
		require.NoError(t, err)
		if !bytes.Contains(in, []byte("\x01\x02")) {
			require.Equal(t, string(in), string(back))
		}
	})
}

func FuzzScan(f *testing.F) {
	f.Add([]byte(`a:2:{i:0;s:3:"old";i:1;R:2;}`))
	f.Add([]byte(`C:4:"List":26:{x:i:0;a:1:{i:0;s:3:"old";}}`))
	f.Add([]byte(`S:4:"\6fld!";`))
	f.Fuzz(func(t *testing.T, b []byte) {
		valid := Valid(b)
		out, _, err := Rewrite(nil, b, swap("old", "newer"))
		require.Equal(t, valid, err == nil)
		if valid {
			require.True(t, Valid(out), "%q became %q", b, out)
			_, _ = Lookup(b, "0")
		}
	})
}

func TestArraysAreTakenApartAndPutTogether(t *testing.T) {
	src := []byte(`a:3:{i:170;a:1:{s:4:"hook";b:1;}s:7:"version";i:2;i:-5;s:3:"a"b";}`)
	members, err := Members(src)
	require.NoError(t, err)
	require.Len(t, members, 3)
	require.Equal(t, "170", members[0].Key)
	require.True(t, members[0].Int)
	require.Equal(t, `i:2;`, string(members[1].Value))
	require.Equal(t, string(src), string(AppendArray(nil, members)))
	_, err = Members([]byte(`s:1:"a";`))
	require.ErrorIs(t, err, ErrNoSuchPath)
	_, err = Members([]byte(`a:2:{i:1;}`))
	require.ErrorIs(t, err, ErrBroken)
}
