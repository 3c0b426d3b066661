package provision_test

import (
	"fmt"
	"strings"

	"nestseed/internal/core/provision"
)

func ExampleHash() {
	hash, err := provision.Hash("phpass", provision.Password(20))
	fmt.Println(strings.HasPrefix(hash, "$P$"), len(hash), err)
	// Output: true 34 <nil>
}
