package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// grace is how long a command may take to end once it is over: all of it ends
// within a second, whatever it waits for.
const grace = 850 * time.Millisecond

// How memory is traded for time: a run is short, and most need little. Beyond
// the soft limit the collector works for every byte.
const (
	gcPercent   = 400
	memoryLimit = 56 << 20
)

// run is one run of the program. Something in it may hang in a call that
// nobody can end, such as reading from a file system that is gone: then the
// run is over all the same.
type run struct {
	over chan error
}

type runKey struct{}

// execute runs a command, and comes back when it ends, or when it was given up.
func execute(root *cobra.Command) error {
	r := &run{over: make(chan error, 1)}
	done := make(chan error, 1)
	go func() { done <- root.ExecuteContext(context.WithValue(context.Background(), runKey{}, r)) }()
	select {
	case err := <-done:
		return err
	case err := <-r.over:
		return err
	}
}

// giveUp ends the run of a command if it does not end by itself soon after its
// context has. Released, it never does.
func giveUp(ctx context.Context, cmd *cobra.Command, why func() error) (release func()) {
	r, ok := cmd.Context().Value(runKey{}).(*run)
	if !ok {
		return func() {}
	}
	released := make(chan struct{})
	go func() {
		select {
		case <-released:
			return
		case <-ctx.Done():
		}
		select {
		case <-released:
		case <-time.After(grace):
			r.over <- why()
		}
	}()
	return func() { close(released) }
}

// interruptible is a context that ends at Ctrl-C, or when the program is told
// to end.
func interruptible(cmd *cobra.Command) (context.Context, context.CancelFunc) {
	debug.SetGCPercent(gcPercent)
	debug.SetMemoryLimit(memoryLimit)
	ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
	release := giveUp(ctx, cmd, func() error { return exit(exitInterrupted) })
	return ctx, func() { release(); stop() }
}

// until is a context that ends at the deadline as well.
func until(ctx context.Context, cmd *cobra.Command, deadline time.Duration) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	release := giveUp(ctx, cmd, func() error {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"uakari: the deadline of %s is over, and something did not end; what was seen of it is lost\n",
				deadline,
			)
			return exit(exitUnsure)
		}
		return exit(exitInterrupted)
	})
	return ctx, func() { release(); cancel() }
}

// Main runs the program and returns its exit status.
func Main(args []string, stdout, stderr io.Writer) int {
	// The version is asked for by scripts, often: it needs no command tree.
	if len(args) == 1 && args[0] == "version" && tellVersion(stdout) == nil {
		return exitClear
	}
	useMarkKey()
	defer giveBack()
	root := newRoot()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	return ended(execute(root), stderr)
}
