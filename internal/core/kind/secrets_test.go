package kind

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSecretsAreFoundWhereverTheyStand(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		letters := rapid.SliceOfN(rapid.ByteRange('a', 'd'), 0, 400)
		var secrets []Secret
		for range rapid.IntRange(0, 4).Draw(t, "secrets") {
			secrets = append(secrets, Secret{"S", rapid.SliceOfN(rapid.ByteRange('a', 'd'), 6, 24).Draw(t, "needle")})
		}
		text := letters.Draw(t, "text")
		if len(secrets) > 0 && rapid.Bool().Draw(t, "put in") {
			text = append(append(text, secrets[0].Needle...), letters.Draw(t, "rest")...)
		}
		want := false
		for _, s := range secrets {
			want = want || bytes.Contains(text, s.Needle)
		}
		if _, got := NewSearch(secrets).In(text); got != want {
			t.Fatalf("%q in %q: %v", secrets, text, got)
		}
	})
}

func TestTheSecretThatIsFoundIsNamed(t *testing.T) {
	s := NewSearch([]Secret{{"DB_PASSWORD", []byte("correct-horse-battery")}, {"AUTH_SALT", []byte("staple-staple")}})
	name, found := s.In([]byte("x = 'staple-staple'"))
	require.True(t, found)
	require.Equal(t, "AUTH_SALT", name)
	_, found = NewSearch(nil).In([]byte("anything"))
	require.False(t, found)
}
