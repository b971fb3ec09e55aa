// Uakari says why a client cannot reach a server application, and what is the
// smallest safe change that mends it.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"uakari/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Main(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(status)
}
