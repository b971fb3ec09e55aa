// Uakari says why a client cannot reach a server application, and what is the
// smallest safe change that mends it.
package main

import (
	"os"

	"uakari/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
