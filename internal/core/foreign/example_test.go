package foreign_test

import (
	"fmt"
	"strings"

	"nestseed/internal/core/foreign"
)

func ExampleFormatOf() {
	dump := "-- dump of a school\nCREATE TABLE lessons (id int);\n"
	format, err := foreign.FormatOf(strings.NewReader(dump), int64(len(dump)))
	fmt.Println(format, err)
	// Output: dump <nil>
}
