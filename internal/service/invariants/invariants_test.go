package invariants

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestEachRuleHasItsFault(t *testing.T) {
	alder := Thing{Host: "preview", What: "folder", Name: "alder", ID: "7.1", By: "site alder"}
	database := Thing{Host: "preview", What: "database", Name: "ns_alder_1_1", By: "site alder"}
	other := alder
	other.ID = "8.1"
	half := Thing{Host: "preview", What: "folder", Name: ".brook.nestseed-2-1", By: "run 2"}
	long := 2 * Standstill
	for _, c := range []struct {
		what string
		v    View
		want []string
	}{
		{"all is well", View{Must: []Thing{alder, database}, May: []Thing{half}, There: []Thing{alder, database, half}, Runs: []Run{
			{ID: 1, For: time.Second}, {ID: 2, For: long, Alive: true}, {ID: 3, For: long, Waiting: true, Blocked: true},
			{ID: 4, For: long, Aside: true, Open: 2}}}, nil},
		{"the same machine", View{Must: []Thing{database}, There: []Thing{database, {Host: "hosting", What: "database", Name: database.Name}}}, nil},
		{"on its way", View{Must: []Thing{alder}, May: []Thing{alder}}, nil},
		{"gone", View{Must: []Thing{alder}}, []string{"folder alder on host preview is not there, and site alder names it"}},
		{"another", View{Must: []Thing{alder}, There: []Thing{other}},
			[]string{"folder alder on host preview is not the one that site alder means: something else has its name"}},
		{"left", View{There: []Thing{half}}, []string{"folder .brook.nestseed-2-1 on host preview was made by this service, and no record names it"}},
		{"twice", View{Must: []Thing{database, {Host: "preview", What: "database", Name: "ns_alder_1_1", By: "site brook"}}, There: []Thing{database}},
			[]string{"database ns_alder_1_1 on host preview is named by site alder and by site brook"}},
		{"runs", View{Runs: []Run{{ID: 1, Title: "a", For: long}, {ID: 2, Title: "b", For: long, Waiting: true}, {ID: 3, Title: "c", For: long, Aside: true},
			{ID: 4, Title: "d", For: long, Reason: "no answer"}}}, []string{"run 1 (a) is said to be worked on, and no instance of the service does",
			"run 2 (b) waits, and nothing keeps it", "run 3 (c) waits for runs that have ended", "run 4 (d) could not be cleaned up after: no answer"}},
	} {
		var got []string
		for _, f := range Check(c.v) {
			require.NotEmpty(t, f.Remedy)
			got = append(got, f.Sentence)
		}
		require.Equal(t, c.want, got, c.what)
	}
}
