package httpapi

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/fetch"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

// travelling are the fields of a type that JSON has, by name; those of embedded types are its own. How the progress of a run follows from that of
// others is not shown.
func travelling(t reflect.Type) map[string]reflect.StructField {
	out := map[string]reflect.StructField{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			of := f.Type
			if of.Kind() == reflect.Pointer {
				of = of.Elem()
			}
			for n, inner := range travelling(of) {
				out[n] = inner
			}
		case f.IsExported() && name != "-" && f.Type != reflect.TypeFor[*records.ChildrenProgress]():
			out[name] = f
		}
	}
	return out
}

// same compares two types as JSON sees them.
func same(t *testing.T, where string, inside, outside reflect.Type, seen map[[2]reflect.Type]bool) {
	pair := [2]reflect.Type{inside, outside}
	if inside == outside || seen[pair] {
		return
	}
	seen[pair] = true
	if !assert.Equal(t, inside.Kind(), outside.Kind(), where) {
		return
	}
	switch inside.Kind() {
	case reflect.Pointer, reflect.Slice:
		same(t, where, inside.Elem(), outside.Elem(), seen)
	case reflect.Map:
		require.Equal(t, inside.Key(), outside.Key(), where)
		same(t, where, inside.Elem(), outside.Elem(), seen)
	case reflect.Struct:
		has, travels := travelling(inside), travelling(outside)
		for name, f := range has {
			o, there := travels[name]
			if assert.True(t, there, "%s: %s does not travel; add it to %s", where, name, outside) {
				assert.Equal(t, f.Tag.Get("json"), o.Tag.Get("json"), where)
				assert.Equal(t, f.Name, o.Name, where)
				same(t, where+"."+name, f.Type, o.Type, seen)
			}
		}
		for name := range travels {
			assert.Contains(t, has, name, "%s: nothing fills %s of %s", where, name, outside)
		}
	}
}

func TestWhatTravelsHasEverythingThatIsThere(t *testing.T) {
	for _, p := range [][2]any{
		{survey.Survey{}, wire.Survey{}}, {archive.Manifest{}, wire.Manifest{}}, {contents.Node{}, wire.Node{}}, {contents.MapNode{},
			wire.MapNode{}},
		{contents.Comparison{}, wire.Comparison{}}, {packing.Edit{}, wire.ListEdit{}}, {packing.Problem{}, wire.ListProblem{}},
		{provision.Plan{}, wire.SitePlan{}}, {rewrite.Tally{}, wire.RewriteTally{}}, {check.Report{}, wire.Report{}}, {fetch.Info{},
			wire.LinkInfo{}},
		{records.Progress{}, wire.Progress{}}, {records.Difference{}, wire.Difference{}}, {records.Setting{},
			wire.Setting{}}, {records.SideBySide{}, wire.SideBySide{}},
		{releases.BuildResult{}, wire.BuildResult{}}, {releases.ImportResult{}, wire.ImportResult{}}, {sites.ProvisionResult{},
			wire.ProvisionResult{}},
		{sites.TableResult{}, wire.TableResult{}}, {sites.CopyResult{}, wire.CopyResult{}}, {sites.MoveResult{},
			wire.MoveResult{}}, {sites.RotateResult{}, wire.RotateResult{}},
	} {
		inside, outside := reflect.TypeOf(p[0]), reflect.TypeOf(p[1])
		same(t, outside.Name(), inside, outside, map[[2]reflect.Type]bool{})
	}
}

func TestAValueIsTheSameAsAnotherType(t *testing.T) {
	in := &packing.List{Name: "music", DropRows: nil,
		Fields: []packing.Field{{Key: "phone", To: []packing.Target{{Cell: &packing.Spot{Table: "t"}}}}}}
	in.Blank.Columns = []packing.Cell{{Table: "users", Also: map[string]string{"a": "b"}}}
	out := as[*wire.PackingList](in)
	require.Equal(t, "t", out.Fields[0].To[0].Cell.Table)
	require.Nil(t, out.DropRows)
	require.Equal(t, in, as[*packing.List](out), "and back")
	require.Nil(t, as[*wire.PackingList]((*packing.List)(nil)))
	require.Empty(t, as[map[string]wire.Setting](nil))
	require.Equal(t, map[string]wire.Setting{"k": {Value: "v"}}, as[map[string]wire.Setting](map[string]records.Setting{"k": {Value: "v"}}))
	require.Panics(t, func() { as[wire.Finding](wire.Field{}) }, "of no such fields")
}
