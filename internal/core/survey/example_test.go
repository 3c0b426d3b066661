package survey_test

import (
	"fmt"

	"nestseed/internal/core/survey"
)

func ExampleTokens() {
	whole, inside := survey.Tokens("school", []byte(`a:2:{s:5:"phone";s:12:"01632 960210";s:7:"api_key";s:16:"k3y-9f8a77d1c2e4";}`))
	fmt.Println(whole, inside)
	// Output: false [school › api_key]
}
