package sums_test

import (
	"fmt"

	"nestseed/internal/core/sums"
)

func ExampleOf() {
	for _, sum := range sums.Of([][]byte{[]byte("harp"), []byte("lute")}) {
		fmt.Printf("%x\n", sum[:4])
	}
	// Output:
	// c7fa84b7
	// da817ac6
}
