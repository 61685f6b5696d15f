package client_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"

	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

// Lists come in pages; the client follows them as far as it is asked to.
func Example() {
	lodge := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Query().Get("after") == "" {
			w.Header().Set("Link", `</api/v1/machines?after=tickets-db>; rel="next"`)
			io.WriteString(w, `[{"name": "tickets-db", "state": "running"}]`)
			return
		}
		io.WriteString(w, `[{"name": "timetable", "state": "off"}]`)
	}))
	defer lodge.Close()
	machines, more, err := client.New(lodge.URL, "token").Machines(context.Background(), wire.MachineFilter{})
	if err != nil {
		panic(err)
	}
	for _, m := range machines {
		fmt.Println(m.Name, m.State)
	}
	fmt.Println(more)
	// Output:
	// tickets-db running
	// timetable off
	// false
}
