package rewrite_test

import (
	"fmt"

	"nestseed/internal/core/rewrite"
)

func ExampleNew() {
	r, err := rewrite.New(rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.example", New: "https://alder-valley.example"}}})
	if err != nil {
		fmt.Println(err)
		return
	}
	w := r.Worker()
	for _, value := range []string{`<a href="http://base.example/lessons/">`, `s:19:"http://base.example";`,
		`{"at":"http:\/\/base.example"}`} {
		out := w.Value(nil, []byte(value))
		fmt.Println(string(out))
	}
	// Output:
	// <a href="https://alder-valley.example/lessons/">
	// s:28:"https://alder-valley.example";
	// {"at":"https:\/\/alder-valley.example"}
}
