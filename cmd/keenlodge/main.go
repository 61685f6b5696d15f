// Command keenlodge is the service, its client and the demonstration in one program.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"keenlodge/demo/show"
	"keenlodge/internal/cli"
	"keenlodge/internal/service"
	standin "keenlodge/internal/standin/all"
)

func main() {
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	// A closed terminal ends it as cleanly as Ctrl-C does, unless it was started to outlive one (nohup).
	if !signal.Ignored(syscall.SIGHUP) {
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ends...)
	defer stop()
	os.Exit(cli.Main(ctx, os.Args, service.Host, append(service.Commands(), show.Command(), standin.Command())...))
}
