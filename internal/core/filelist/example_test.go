package filelist_test

import (
	"fmt"

	"nestseed/internal/core/filelist"
)

func ExampleEncode() {
	list := []filelist.Entry{{Path: "files/uploads/harp.jpg", Bytes: 9}, {Path: "files/index.php", Bytes: 5}}
	filelist.Sort(list)
	packed := filelist.Encode(list)
	err := filelist.Each(packed, func(e *filelist.Entry) { fmt.Println(e.Path, e.Bytes) })
	fmt.Println(err)
	// Output:
	// files/index.php 5
	// files/uploads/harp.jpg 9
	// <nil>
}
