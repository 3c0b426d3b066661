package glob

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPatternsThatAskForTooMuchWorkAreRefused(t *testing.T) {
	for _, p := range []string{"", strings.Repeat("{a,a}", 30) + "b", "{{a,b},{c,d}}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}", strings.Repeat("*a", 40),
		strings.Repeat("x", 2000), "a[", "{a"} {
		require.ErrorIs(t, Validate(p), ErrPattern, p)
	}
	long := strings.Repeat("a", 200)
	for _, p := range []string{"*.{jpg,jpeg,png,gif,webp}", "wp-content/cache/**", "**/node_modules/**", `a\{b`, "{a,b}{c,d}{e,f}",
		strings.Repeat("*a", 16) + "b"} {
		require.NoError(t, Validate(p), p)
		start := time.Now()
		Match(p, long)
		require.Less(t, time.Since(start), 5*time.Second, p)
	}
}

func ExampleMatch() {
	fmt.Println(Match("uploads/**/*.{jpg,png}", "uploads/2026/11/choir.png"))
	// Output: true
}

func TestAQuotedPathMatchesItselfAlone(t *testing.T) {
	for _, p := range []string{"uploads/choir.jpg", "uploads/choir [1].jpg", "a{b}c", "what?.txt", "all*", `back\slash`, "]odd["} {
		require.NoError(t, Validate(Quote(p)), p)
		require.True(t, Match(Quote(p), p), p)
		require.False(t, Match(Quote(p), p+"x"), p)
	}
	require.False(t, Match(Quote("choir [1].jpg"), "choir 1.jpg"))
	for text, words := range map[string]bool{"choir": true, "uploads/2026": true, "*.jpg": false, "choir?": false, "{a,b}": false, `\[`: false} {
		require.Equal(t, words, Words(text), text)
	}
}
