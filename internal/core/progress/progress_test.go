package progress

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

type staged struct {
	Tally
	at [][2]float64
}

func (s *staged) Stage(from, to float64) { s.at = append(s.at, [2]float64{from, to}) }

func TestStagesOfAPartAreSharesOfIt(t *testing.T) {
	s := &staged{}
	part := Within(s, 0.5, 1)
	Stage(part, 0, 0.5)
	Stage(Within(part, 0.5, 1), 0.5, 1)
	require.Equal(t, [][2]float64{{0.5, 1}, {0.5, 0.75}, {0.75, 1}, {0.875, 1}}, s.at)
	Stage(Discard, 0, 1)
	Within(Discard, 0, 1).Add(Amount{Files: 1})
}

func TestTheShareIsOfWhatWasExpected(t *testing.T) {
	require.Equal(t, 0.5, Amount{Bytes: 5, Files: 9}.Share(Amount{Bytes: 10, Files: 9}))
	require.Equal(t, 0.25, Amount{Files: 1}.Share(Amount{Files: 4}))
	require.Equal(t, 1.0, Amount{Rows: 9}.Share(Amount{Rows: 4}), "there was more than was expected")
	require.Zero(t, Amount{Files: 9}.Share(Amount{}), "nothing is known")
}

func ExampleTally() {
	var t Tally
	t.Step("Place files", Amount{Files: 2})
	t.Add(Amount{Files: 1, Bytes: 4096})
	fmt.Println(t.Steps, t.Done.Files, "of", t.Expected.Files)
	// Output: [Place files] 1 of 2
}
