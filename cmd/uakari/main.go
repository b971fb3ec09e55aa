// Uakari says why a client cannot reach a server application, and what is the
// smallest safe change that mends it.
package main

import (
	"os"
	"runtime/debug"

	"uakari/internal/cli"
)

func main() {
	debug.SetGCPercent(400) // a run is short: memory is cheaper than time
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
