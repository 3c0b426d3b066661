package bounds_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/bounds"
)

func TestDefinitionsThatComeWithTheProgramAreWithin(t *testing.T) {
	files, err := filepath.Glob("../kind/defs/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, bounds.YAML(text), f)
	}
}

func TestYAMLThatWouldTakeMuchIsRefused(t *testing.T) {
	for what, text := range map[string]string{
		"brackets":      strings.Repeat("[", 2000),
		"braces":        "a: " + strings.Repeat("{a: ", 2000),
		"lists":         strings.Repeat("- ", 500) + "x",
		"complex keys":  strings.Repeat("? ", 500) + "x",
		"indentation":   deep(500),
		"long":          strings.Repeat("# x\n", 200_000),
		"references":    "a: &a [x]\n" + strings.Repeat("b: [*a, *a]\n", 60),
		"tabs in lists": strings.Repeat("-\t", 500) + "x",
	} {
		require.ErrorIs(t, bounds.YAML([]byte(text)), bounds.ErrTooMuch, what)
	}
	for what, text := range map[string]string{
		"patterns": "leave-out:\n  paths:\n" + strings.Repeat("    - \"**/*.log\"\n", 1000),
		"programs": "text: |\n" + strings.Repeat("  if ( $a[ 'b' ] ) { c(); }\n", 2000),
		"nothing":  "",
	} {
		require.NoError(t, bounds.YAML([]byte(text)), what)
	}
}

func deep(levels int) string {
	var out strings.Builder
	for i := range levels {
		fmt.Fprintf(&out, "%sa:\n", strings.Repeat(" ", i))
	}
	return out.String()
}

func TestJSONIsCounted(t *testing.T) {
	require.NoError(t, bounds.JSON([]byte(`{"a": [1, 2, {"b": null}]}`), 20))
	require.ErrorIs(t, bounds.JSON([]byte(`[`+strings.Repeat(`{},`, 100)+`{}]`), 100), bounds.ErrTooMuch)
	require.ErrorIs(t, bounds.JSON([]byte(strings.Repeat("[", 300)), 1000), bounds.ErrTooMuch)
	require.NoError(t, bounds.JSON([]byte(`{"a"`), 10), "what is no JSON is told by whoever reads it")
}
