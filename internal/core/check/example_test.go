package check_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"nestseed/internal/core/check"
)

func ExampleVisit() {
	school := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "<h1>%s</h1>", r.Host) }))
	defer school.Close()
	at := check.Reach{Address: "http://alder-valley.example", Connect: school.Listener.Addr().String(), Private: true}
	status, page, err := check.Visit(context.Background(), at, "/")
	fmt.Println(status, string(page), err)
	// Output: 200 <h1>alder-valley.example</h1> <nil>
}
