package buffers_test

import (
	"fmt"

	"nestseed/internal/core/buffers"
)

func ExampleTake() {
	b := buffers.Take(40 << 10)
	fmt.Println(len(b), buffers.Room(len(b)))
	buffers.Recycle(b)
	// Output: 40960 65536
}
