// Command keenlodge is the service, its client and the demonstration in one program.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"keenlodge/demo"
	"keenlodge/internal/cli"
	"keenlodge/internal/service"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Main(ctx, os.Args, service.Host, append(service.Commands(), demo.Command())...))
}
