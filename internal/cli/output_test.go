package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"nestseed/internal/client"
	"nestseed/internal/wire"
)

func TestSizesHaveThreeFiguresAndDecimalUnits(t *testing.T) {
	for bytes, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 9949: "9.9 kB", 9950: "10 kB", 999_499: "999 kB",
		999_500: "1.0 MB", 731_000_000: "731 MB", 5_000_000_000: "5.0 GB", 7e15: "7 PB"} {
		require.Equal(t, want, size(bytes))
	}
	require.Equal(t, "118,402", count(118402))
	require.Equal(t, "402", count(402))
	require.Equal(t, "1.7 s", millis(1700))
}

func TestBarsAreAsWideAsTheyShouldBe(t *testing.T) {
	for _, c := range []struct{ part, whole int64 }{{0, 0}, {0, 9}, {1, 1_000_000}, {5, 10}, {10, 10}, {11, 10}} {
		require.Equal(t, barWidth, utf8.RuneCountInString(bar(c.part, c.whole)), c)
	}
	require.NotEqual(t, strings.Repeat(" ", barWidth), bar(1, 1_000_000), "what is there is seen")
	require.Equal(t, strings.Repeat("█", barWidth), bar(10, 10))
}

func TestTablesAlignNumbersRightAndWordsLeft(t *testing.T) {
	var out bytes.Buffer
	table(&out, []string{"site", ">size"}, [][]string{{"älder", "9 MB"}, {"b", "731 MB"}})
	require.Equal(t, "site     size\nälder    9 MB\nb      731 MB\n", out.String())
	out.Reset()
	table(&out, []string{"site"}, nil)
	require.Empty(t, out.String())
}

func TestProgressSaysWhatIsKnownAndNothingElse(t *testing.T) {
	require.Equal(t, "", progressLine(wire.Progress{}))
	require.Equal(t, "5,512 of 8,890 files · 412 MB/s · 3s left", progressLine(wire.Progress{
		Done: wire.Amount{Files: 5512}, Expected: wire.Amount{Files: 8890}, BytesRate: 412e6, LeftSecs: 2.1}))
	require.Equal(t, "3 files · 20 rows", progressLine(wire.Progress{Done: wire.Amount{Files: 3, Rows: 20}}))
}

func TestExitCodesTellSortsOfFailureApart(t *testing.T) {
	for code, err := range map[int]error{
		exitFailed: errors.New("x"), exitUsage: usage("x"), exitNotFound: &client.Problem{Status: 404},
		exitRefused: &client.Problem{Status: 409}, exitFaults: errFaults,
	} {
		require.Equal(t, code, exitCode(fmt.Errorf("wrapped: %w", err)))
	}
	require.Equal(t, exitUsage, exitCode(&client.Problem{Status: 422}))
	require.Equal(t, exitFailed, exitCode(&client.Problem{Status: 500}))
}

func TestEveryCommandHasAUsageAndNoneNeedsAServiceToSayIt(t *testing.T) {
	var out, errOut bytes.Buffer
	require.Zero(t, Run(context.Background(), "dev", []string{"nestseed", "--help"}, nil, &out, &errOut))
	for _, noun := range []string{"host", "source", "packing", "starter", "release", "client", "site", "run", "vault", "kind", "user",
		"token"} {
		require.Contains(t, out.String(), noun)
		var help bytes.Buffer
		require.Zero(t, Run(context.Background(), "dev", []string{"nestseed", noun}, nil, &help, &errOut))
		require.Contains(t, help.String(), "nestseed "+noun)
	}
	require.Empty(t, errOut.String())
	out.Reset()
	require.Zero(t, Run(context.Background(), "1.2", []string{"nestseed", "--json", "version"}, nil, &out, &errOut))
	require.JSONEq(t, `{"version":"1.2"}`, out.String())
}

func TestDifferencesAreSigned(t *testing.T) {
	before := int64(100_000_000)
	require.Equal(t, "first", difference(wire.Release{}))
	require.Equal(t, "-33 MB", difference(wire.Release{ArchiveBytes: 67_000_000, BeforeBytes: &before}))
	require.Equal(t, "+1.0 MB", difference(wire.Release{ArchiveBytes: 101_000_000, BeforeBytes: &before}))
}
