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
