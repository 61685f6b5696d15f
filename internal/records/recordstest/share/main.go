// Command share runs a command whose test binaries share one PostgreSQL server.
//
//	go run ./internal/records/recordstest/share go test ./internal/...
package main

import (
	"fmt"
	"os"

	"keenlodge/internal/records/recordstest"
)

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "share: which command? write for example: share go test ./internal/...")
		os.Exit(2)
	}
	code, err := recordstest.Share(os.Args[1:]...)
	if err != nil {
		fmt.Fprintln(os.Stderr, "share:", err)
		os.Exit(1)
	}
	os.Exit(code)
}
