package cli

import (
	"bytes"
	"context"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

// words are those of a command line, without what is piped or redirected.
func words(line string) (out []string) {
	line = regexp.MustCompile(`\s(?:>|\|)\s.*$`).ReplaceAllString(line, "")
	for _, w := range regexp.MustCompile(`(?:[^\s'"]|'[^']*'|"[^"]*")+`).FindAllString(line, -1) {
		if w = strings.NewReplacer("'", "", `"`, "").Replace(w); !regexp.MustCompile(`^[A-Z_]+=`).MatchString(w) {
			out = append(out, w)
		}
	}
	return out
}

func TestEveryCommandHasAnExampleThatIsUnderstood(t *testing.T) {
	all, used := examples(), map[string]bool{}
	fresh := func() *cli.Command { return (&app{out: &bytes.Buffer{}, err: &bytes.Buffer{}}).root() }
	var visit func(c *cli.Command, path []string)
	visit = func(c *cli.Command, path []string) {
		for _, sub := range c.Commands {
			visit(sub, append(path[:len(path):len(path)], sub.Name))
		}
		if len(c.Commands) > 0 {
			return
		}
		name := strings.Join(path, " ")
		example, there := all[name]
		require.True(t, there, "nestseed %s has no example", name)
		used[name] = true
		require.Contains(t, c.Description, example)

		// The command understands it; what it would do is not done.
		root := fresh()
		c = root
		for _, part := range path {
			c = c.Command(part)
		}
		ran := false
		c.Action = func(_ context.Context, c *cli.Command) error {
			ran = true
			n := len(strings.Fields(c.ArgsUsage))
			least := n - strings.Count(c.ArgsUsage, "[")
			require.GreaterOrEqual(t, c.Args().Len(), least, example)
			require.True(t, c.Args().Len() <= n || strings.Contains(c.ArgsUsage, "…"), example)
			return nil
		}
		require.NoError(t, root.Run(t.Context(), words(example)), example)
		require.True(t, ran, example)
	}
	visit(fresh(), nil)
	require.Len(t, used, len(all), "an example of a command that is not there")
}

func TestTheManualPageIsOneAndNamesEverything(t *testing.T) {
	s := &answers{}
	p := s.typed(t, "", "man")
	require.Zero(t, p.code, p.err)
	for _, part := range []string{".TH NESTSEED 1", "provision", "nestseed site plan alder-valley", "--mail-addresses"} {
		require.Contains(t, strings.ReplaceAll(p.out, `\-`, "-"), part)
	}
	if man, err := exec.LookPath("man"); err == nil {
		cmd := exec.Command(man, "--warnings", "-l", "-")
		cmd.Stdin = strings.NewReader(p.out)
		shown, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", shown)
	}
}

func TestWhatIsWatchedIsShownAgainWhenItHasChanged(t *testing.T) {
	asked := 0
	ctx, cancel := context.WithCancel(t.Context())
	a := &app{out: &bytes.Buffer{}, err: &bytes.Buffer{}}
	states := []string{wire.Working, wire.Working, wire.Done}
	c := a.refreshed(&cli.Command{Name: "show", Action: func(_ context.Context, c *cli.Command) error {
		_, err := a.out.Write([]byte(states[asked] + "\n"))
		if asked++; asked == len(states) {
			cancel()
		}
		return err
	}})
	out := a.out.(*bytes.Buffer)
	began := time.Now()
	require.NoError(t, c.Run(ctx, []string{"show", "--watch"}))
	require.Equal(t, wire.Working+"\n"+wire.Done+"\n", out.String(), "what is the same is not shown again")
	require.Greater(t, time.Since(began), between)
	require.Same(t, out, a.out)
}
