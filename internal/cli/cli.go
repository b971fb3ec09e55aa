// Package cli holds the commands, one file each: they read flags, call, and
// tell. Nothing is judged here.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
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
	// The version is asked for by scripts, often: it needs no command tree.
	if len(args) == 1 && args[0] == "version" && tellVersion(stdout) == nil {
		return exitClear
	}
	root := newRoot()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	return ended(root.Execute(), stderr)
}

// ended is the exit status of an error. One that is more than a status is told,
// also where it comes together with a status.
func ended(err error, stderr io.Writer) int {
	all := []error{err}
	if several, ok := err.(interface{ Unwrap() []error }); ok {
		all = several.Unwrap()
	}
	status := exit(exitClear)
	for _, each := range all {
		var only exit
		switch {
		case each == nil:
		case errors.As(each, &only):
			if status == exitClear {
				status = only
			}
		default:
			fmt.Fprintln(stderr, "uakari: "+printable(each.Error()))
			status = exitUsage
		}
	}
	return int(status)
}

// newRoot builds the command tree.
func newRoot() *cobra.Command {
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
	root.AddCommand(newTrace(), newConfirm(), newRules(), newNames(), newCerts(), newPorts(), newService(), newRecord(), newCard(), newCase(), newReport(), newWatch(), newExplain(), newDemo(), newLook(), newStandIn(), newVersion())
	root.AddCommand(newRungs()...)
	root.CompletionOptions.HiddenDefaultCmd = true
	return root
}

// manyArgs is more arguments than anybody gives.
const manyArgs = 1 << 20

// takes is a check of how many arguments a command was given, in words that
// say what was expected.
func takes(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return fmt.Errorf("%s: expected %s; there is nothing", cmd.Name(), what)
		case len(args) > most:
			return fmt.Errorf("%s: expected %s; there is %q too", cmd.Name(), what, args[most])
		}
		return nil
	}
}

// interruptible is a context that ends at Ctrl-C or when the program is told
// to end. Commands that are done in a moment go without: listening for
// signals costs as much as starting.
func interruptible() (context.Context, context.CancelFunc) {
	debug.SetGCPercent(400) // a run is short: memory is cheaper than time
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

// told writes a judgement as JSON, or as text.
func told(cmd *cobra.Command, asJSON bool, judged any, text func() string) error {
	if !asJSON {
		return write(cmd, "", []byte(text()))
	}
	b, err := json.MarshalIndent(judged, "", "  ")
	if err != nil {
		return err
	}
	return write(cmd, "", append(b, '\n'))
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
