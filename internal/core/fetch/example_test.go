package fetch_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"nestseed/internal/core/fetch"
)

func ExampleLook() {
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/zip")
		w.Header().Set("Content-Length", "1200")
	}))
	defer there.Close()
	info, err := fetch.Look(context.Background(), there.URL+"/harbour.zip", fetch.Options{Ours: func(string) bool { return true }})
	fmt.Println(info.Name, info.Bytes, err)
	_, err = fetch.Look(context.Background(), there.URL+"/harbour.zip", fetch.Options{})
	fmt.Println(err != nil, "inside a network, and not one of ours")
	// Output:
	// harbour.zip 1200 <nil>
	// true inside a network, and not one of ours
}
