package jobs

import (
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
)

// A run of a job that the interface does not name would break whoever reads the list of runs by its description.
func TestTheInterfaceNamesEveryJob(t *testing.T) {
	source, err := os.ReadFile("jobs.go")
	require.NoError(t, err)
	var registered []string
	for _, found := range regexp.MustCompile(`\{Name: "([a-z-]+)"`).FindAllStringSubmatch(string(source), -1) {
		registered = append(registered, found[1])
	}
	field, is := reflect.TypeFor[wire.Run]().FieldByName("Job")
	require.True(t, is)
	require.ElementsMatch(t, strings.Split(field.Tag.Get("enum"), ","), registered)
}
