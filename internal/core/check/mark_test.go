package check

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAMarkIsOfWhatWasFoundAndNotOfHowLongItTook(t *testing.T) {
	slow := Check{Name: "response time", Result: Warn, Sentence: "half of the pages answer within 2100 ms"}
	later := slow
	later.Sentence = "half of the pages answer within 2350 ms"
	require.Equal(t, slow.Mark(), later.Mark(), "numbers in a sentence change by themselves")
	require.NotEqual(t, slow.MarkEverywhere(), later.MarkEverywhere())

	broken := Check{Name: "values", Result: Warn, Sentence: "1 cannot be read", Evidence: []string{"av_options of row 7"}}
	for name, other := range map[string]Check{
		"another row":   {Name: "values", Result: Warn, Sentence: "1 cannot be read", Evidence: []string{"av_options of row 8"}},
		"one more":      {Name: "values", Result: Warn, Sentence: "2 cannot be read", Evidence: []string{"av_options of row 7", "av_options of row 8"}},
		"it fails now":  {Name: "values", Result: Fail, Sentence: "1 cannot be read", Evidence: []string{"av_options of row 7"}},
		"another check": {Name: "links", Result: Warn, Sentence: "1 cannot be read", Evidence: []string{"av_options of row 7"}},
	} {
		require.NotEqual(t, broken.Mark(), other.Mark(), name)
	}
	elsewhere := broken
	elsewhere.Evidence = []string{"bl_options of row 7"}
	require.NotEqual(t, broken.Mark(), elsewhere.Mark())
	require.Equal(t, broken.MarkEverywhere(), elsewhere.MarkEverywhere(), "on another site of the same origin")
}
