package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

const source = `package roof

import "fmt"

type tile struct {
	Name string ` + "`json:\"a name\"`" + `
}

func (r *roof) judge(n int, name string, err error) error {
	r.result("pages", fmt.Sprintf("%d pages open", n), "pages do not open", "look at "+
		"the log", nil)
	r.db.Exec("DELETE all rows")
	r.log.Warn("not for people")
	query := "SELECT a, b FROM tiles WHERE name = $1"
	if n > 3 {
		query += "; all " + name + " were opened"
	}
	_ = Check{Name: "mail", Sentence: "sent", Evidence: []string{"100 % of '{x}' at " + fmt.Sprint(n)}}
	return fmt.Errorf("read %[2]s: %[1]w", err, name)
}
`

func TestWhatPeopleReadIsGathered(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "roof")
	require.NoError(t, os.Mkdir(folder, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "roof.go"), []byte(source), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "roof_test.go"), []byte(`package roof; var a = "what a test says"`), 0o644))
	said, err := Gather(folder)
	require.NoError(t, err)
	var all []string
	for s, in := range said {
		require.Equal(t, []string{"roof"}, in)
		all = append(all, s)
	}
	require.ElementsMatch(t, []string{"pages", "{0} pages open", "pages do not open", "pages do not open ({0})", "pages do not open ({0}); {1} more are the same in the source",
		"nothing new: pages do not open ({0}), the same in the source", "look at the log", "all {0} were opened", "sent",
		"100 % of '''{'x'}''' at {0}", "read {1}: {0}"}, all)
}

func TestFormatsBecomeMessages(t *testing.T) {
	for format, message := range map[string]string{
		"%d of %q":       "{0} of {1}",
		"%.1f %%, %-3s|": "{0} %, {1}|",
		"%[2]s %[1]s %s": "{1} {0} {1}",
		"the site's {a}": "the site''s '{'a'}'",
	} {
		require.Equal(t, message, Message(format))
	}
	require.Equal(t, head+"\n#. a, b\nmsgid \"say \\\"no\\\"\"\nmsgstr \"say \\\"no\\\"\"\n", string(catalogue(map[string][]string{`say "no"`: {"a", "b"}})))
}
