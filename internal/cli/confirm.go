package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// confirmFlags is what the flags of confirm say.
type confirmFlags struct {
	traceFlags
	times  int
	within time.Duration
}

func newConfirm() *cobra.Command {
	f := confirmFlags{traceFlags: traceFlags{out: "text"}}
	cmd := &cobra.Command{
		Use:   "confirm FACTS",
		Short: "trace again, and set before beside after",
		Long: `Trace again what a kept trace found, and set before beside after, rung by rung.
FACTS is the file that trace --facts wrote. It works again only when the ladder
is clear several times in a row; an account is tried in the first of them alone.
Give --at and --record again, to look from the same hosts.

Exit status: 0 it works again, 1 it does not, 3 unsure, 2 wrong usage, 130
interrupted.`,
		Example: `  uakari trace --facts first.json https://tidebook.varzea.example/
  uakari confirm first.json --within 10m`,
		Args: takes(1, 1, "the file that trace --facts wrote"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.confirm(cmd, args[0]) },
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.IntVar(&f.times, "times", 3, "how often in a row it must work")
	flags.DurationVar(&f.within, "within", 0, "wait for it, up to this long")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

// Pauses of confirm.
const (
	betweenTries = time.Second
	betweenWaits = 5 * time.Second
)

func (f *confirmFlags) confirm(cmd *cobra.Command, path string) error {
	if f.times < 1 || f.times > 100 {
		return fmt.Errorf("--times %d: expected a number from 1 to 100", f.times)
	}
	if f.within < 0 {
		return fmt.Errorf("--within %s: expected a time above zero, like 10m", f.within)
	}
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	text, err := readKept(path)
	if err != nil {
		return err
	}
	kept, err := fact.DecodeSet(path, text)
	if err != nil {
		return err
	}
	before, _ := weigh.Weigh(kept)
	_, env, err := f.ask(kept.Ask.Endpoint.Input)
	if err != nil {
		return err
	}
	// What was asked then is asked now; the flags say only how to look.
	ask := kept.Ask
	env.Resolvers, env.Unit = ask.Resolvers, ask.Unit
	if ask.Card != nil {
		env.Card = ask.Card
	}
	ctx, stop := interruptible()
	defer stop()
	until := time.Now().Add(f.within)
	var now trail.Trail
	good, tries := 0, 0
	for {
		tries++
		ask.Began = time.Now().UTC()
		if tries > 1 {
			ask.Account = "" // accounts lock: one try is enough
		}
		if now, err = f.once(ctx, cmd, ask, env); err != nil {
			return err
		}
		if now.Incomplete == "interrupted" {
			break
		}
		pause := betweenTries
		if now.Outcome == trail.OutcomeClear {
			if good++; good == f.times {
				break
			}
		} else {
			good = 0
			if pause = betweenWaits; time.Now().Add(pause).After(until) {
				break
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: not yet (%s); waiting, %s left\n", printable(tell.Short(now)), time.Until(until).Round(time.Second))
		}
		if !sleep(ctx, pause) {
			now.Incomplete = "interrupted"
			break
		}
	}
	if err := write(cmd, "", []byte(tell.Confirmed(before, now, good, f.times, on))); err != nil {
		return err
	}
	switch {
	case now.Incomplete == "interrupted":
		return exit(exitInterrupted)
	case good < f.times && now.Outcome == trail.OutcomeUnsure:
		return exit(exitUnsure)
	case good < f.times:
		return exit(exitFault)
	}
	return nil
}

// once traces once more.
func (f *confirmFlags) once(ctx context.Context, cmd *cobra.Command, ask fact.Ask, env look.Env) (trail.Trail, error) {
	ctx, cancel := context.WithTimeout(ctx, f.deadline)
	defer cancel()
	at, done, err := f.vantages(ctx, env)
	defer done()
	if err != nil && !errors.Is(err, context.Canceled) {
		return trail.Trail{}, err
	}
	p := newProgress(cmd.ErrOrStderr())
	_, judged := trace.Run(ctx, ask, at, p.watch)
	p.stop()
	return judged, nil
}

// sleep reports false if the context ended first.
func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}
