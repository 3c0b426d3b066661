// Command nestseed is the service, its workers and the command line.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"nestseed/internal/cli"
)

// version is set when a release is linked.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Run(ctx, version, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
