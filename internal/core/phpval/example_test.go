package phpval_test

import (
	"fmt"

	"nestseed/internal/core/phpval"
)

func ExampleSet() {
	value := []byte(`a:1:{s:6:"school";a:1:{s:4:"name";s:4:"Base";}}`)
	changed, err := phpval.Set(value, "Alder Valley", "school", "name")
	fmt.Println(string(changed), err)
	// Output: a:1:{s:6:"school";a:1:{s:4:"name";s:12:"Alder Valley";}} <nil>
}
