package optval_test

import (
	"fmt"

	"nestseed/internal/core/optval"
)

func ExampleLookup() {
	for _, option := range []string{`{"contact":{"phone":"01632 960210"}}`, `a:1:{s:7:"contact";a:1:{s:5:"phone";s:12:"01632 960211";}}`} {
		phone, err := optval.Lookup([]byte(option), "contact", "phone")
		fmt.Println(phone, err)
	}
	// Output:
	// 01632 960210 <nil>
	// 01632 960211 <nil>
}
