package hostfs_test

import (
	"context"
	"fmt"
	"net/url"
	"os"

	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
)

func ExampleOpen() {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "school")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	host, err := hostfs.Open(ctx, hostfs.Access{Address: (&url.URL{Scheme: "file", Path: dir}).String()})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer host.Close()
	site, err := host.MakeSub(ctx, "alder-valley")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer site.Close()
	fmt.Println(hostfs.WriteFile(ctx, site, "index.html", []byte("Harp lessons"), 0o644))
	text, err := hostfs.ReadFile(ctx, host, "alder-valley/index.html", 1<<20)
	fmt.Println(string(text), err)
	_, err = hostfs.ReadFile(ctx, site, "../brook-lane/index.html", 1<<20)
	fmt.Println(err != nil, "a site does not reach its neighbour")
	// Output:
	// <nil>
	// Harp lessons <nil>
	// true a site does not reach its neighbour
}
