package packing_test

import (
	"fmt"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
)

func ExampleList_Compile() {
	list, err := packing.Parse([]byte("list: starter\nleave-out:\n  paths: ['**/cache/**']\n  suffixes: [mp4]\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	match, err := list.Compile(&kind.Kind{}, "lad_")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, file := range []string{"uploads/concert.mp4", "content/cache/page.html", "uploads/harp.jpg"} {
		rule, out := match.LeavesOut(file, 1200)
		fmt.Println(file, out, rule)
	}
	// Output:
	// uploads/concert.mp4 true suffix mp4
	// content/cache/page.html true **/cache/**
	// uploads/harp.jpg false
}
