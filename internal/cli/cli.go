// Package cli holds the commands, one file each: they read flags, call, and
// tell. Nothing is judged here.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"syscall"

	"github.com/spf13/cobra"

	"uakari/internal/trail"
)

// Exit statuses.
const (
	exitClear       = 0
	exitFault       = 1
	exitUsage       = 2
	exitUnsure      = 3
	exitInterrupted = 130
)

// exit is an error that is only a status: all there is to say was said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

// statuses is the exit status of each outcome.
var statuses = map[trail.Outcome]exit{
	trail.OutcomeClear: exitClear, trail.OutcomeFault: exitFault, trail.OutcomeUnsure: exitUnsure,
}

// Main runs the program and returns its exit status.
func Main(args []string, stdout, stderr io.Writer) int {
	root := newRoot(args)
	root.SetArgs(args)
	// The library writes long texts for this command each time it is there.
	root.CompletionOptions.DisableDefaultCmd = len(args) == 0 || args[0] != "completion"
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.Execute()
	var status exit
	switch {
	case err == nil:
		return exitClear
	case errors.As(err, &status):
		return int(status)
	}
	fmt.Fprintln(stderr, "uakari: "+printable(err.Error()))
	return exitUsage
}

// command is a command's name and how to build it.
type command struct {
	name string
	make func() *cobra.Command
}

// commands is every command by its name, in the order of the work.
var commands = []command{
	{"trace", newTrace},
	{"ports", newPorts},
	{"service", newService},
	{"record", newRecord},
	{"explain", newExplain},
	{"demo", newDemo},
	{"look", newLook},
	{"stand-in", newStandIn},
	{"version", newVersion},
}

// newRoot builds the command tree. Where the first word is a command, only that
// one is built: the others' flags would cost more than starting.
func newRoot(args []string) *cobra.Command {
	named := len(args) > 0 && slices.ContainsFunc(commands, func(c command) bool { return c.name == args[0] })
	root := &cobra.Command{
		Use:   "uakari",
		Short: "why a client cannot reach a server application, and what mends it",
		Long: `Uakari says why this client cannot reach that server application, and what
is the smallest safe change that mends it. It changes nothing by itself.`,
		Example: `  uakari trace https://tidebook.varzea.example/
  uakari trace ledger:5432
  uakari explain ports/loopback-only
  uakari demo`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("unknown command %q; uakari help lists them", args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	for _, c := range commands {
		if !named || args[0] == c.name {
			root.AddCommand(c.make())
		}
	}
	root.CompletionOptions.HiddenDefaultCmd = true
	return root
}

// interruptible is a context that ends at Ctrl-C or when the program is told
// to end. Commands that are done in a moment go without: listening for
// signals costs as much as starting.
func interruptible() (context.Context, context.CancelFunc) {
	debug.SetGCPercent(400) // a run is short: memory is cheaper than time
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

// write writes a command's output to standard output, or to the file that -o
// names.
func write(cmd *cobra.Command, file string, text []byte) error {
	if file == "" {
		_, err := cmd.OutOrStdout().Write(text)
		return err
	}
	return os.WriteFile(file, text, 0o600)
}
