package sidebyside_test

import (
	"fmt"
	"image"
	"image/color"

	"nestseed/internal/core/sidebyside"
)

func ExampleDiffer() {
	before, after := image.NewRGBA(image.Rect(0, 0, 400, 300)), image.NewRGBA(image.Rect(0, 0, 400, 300))
	for x := 100; x < 140; x++ {
		for y := 100; y < 140; y++ {
			after.Set(x, y, color.White)
		}
	}
	frames, share := sidebyside.Differ(before, after)
	fmt.Printf("%d place, %.1f %% of the page\n", len(frames), 100*share)
	// Output: 1 place, 1.9 % of the page
}
