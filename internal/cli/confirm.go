package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/plain"
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
	asJSON bool
}

func newConfirm() *cobra.Command {
	f := confirmFlags{traceFlags: traceFlags{out: "text"}}
	cmd := &cobra.Command{
		Use:   "confirm CASE|FACTS",
		Short: "trace again, and set before beside after",
		Long: `Trace again what a kept trace found, and set before beside after, rung by rung.
CASE is the number of a case, FACTS a file that trace --facts wrote. It works
again only when the ladder is clear several times in a row; an account is tried
in the first of them alone. It looks from where that trace did and as it did;
what is given anew goes first.

A case that works again is closed, unless a temporary change still stands. What
else differs from before, of what was seen both times, is told.

Exit status: 0 it works again, 1 it does not, 3 unsure, 2 wrong usage, 130
interrupted.`,
		Example: `  uakari trace --case new https://tidebook.varzea.example/
  uakari confirm 7 --within 10m`,
		ValidArgsFunction: caseNumbers,
		Args:              takes(1, 1, "the number of a CASE, or the file that trace --facts wrote"),
		RunE:              func(cmd *cobra.Command, args []string) error { return f.confirm(cmd, args[0]) },
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.IntVar(&f.times, "times", 3, "how often in a row it must work")
	flags.DurationVar(&f.within, "within", 0, "wait for it, up to this long")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	asData(cmd, &f.asJSON, " (uakari.confirm/1)")
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
	ctx, stop := interruptible(cmd)
	defer stop()
	was, err := f.failing(ctx, cmd, path)
	if err != nil {
		return err
	}
	before, _ := weigh.Weigh(was.set)
	ask, env, err := f.again(ctx, cmd, was)
	if err != nil {
		return err
	}
	seen, now, good, err := f.tries(ctx, cmd, was.set, ask, env)
	if err != nil {
		return err
	}
	closing := tell.Closing{Differs: weigh.Differences(was.set, seen)}
	if good == f.times {
		closing.Wider, closing.Narrow = weigh.Wider(was.set, seen), narrowOf(before)
	}
	if id, err := caseID(path); err == nil && !isFile(path) {
		if closing, err = concluded(cmd, id, seen, now, good == f.times, closing); err != nil {
			return err
		}
	}
	err = told(cmd, f.asJSON, confirmation(before, now, good, f.times, closing), func() string {
		return tell.Confirmed(before, now, good, f.times, on) + tell.Closed(closing, on)
	})
	if err != nil {
		return err
	}
	switch {
	case good == f.times && (len(closing.Standing) > 0 || closing.Case != 0 && len(closing.Wider) > 0):
		return exit(exitFault)
	case now.Incomplete == "interrupted":
		return exit(exitInterrupted)
	case good < f.times && bothWays(now) == trail.OutcomeUnsure:
		return exit(exitUnsure)
	case good < f.times:
		return exit(exitFault)
	}
	return nil
}

// tries traces again and again, until it worked as often in a row as is wanted,
// or the time to wait for it is over. good is how often it did, the last times.
func (f *confirmFlags) tries(
	ctx context.Context,
	cmd *cobra.Command,
	was fact.Set,
	ask fact.Ask,
	env look.Env,
) (seen fact.Set, now trail.Trail, good int, err error) {
	until := time.Now().Add(f.within)
	tries := 0
	for {
		tries++
		ask.Began = time.Now().UTC()
		if tries > 1 {
			ask.Account = "" // accounts lock: one try is enough
		}
		if seen, now, err = f.once(ctx, cmd, was, ask, env); err != nil {
			return seen, now, good, err
		}
		if now.Incomplete == "interrupted" {
			break
		}
		pause := betweenTries
		if bothWays(now) == trail.OutcomeClear {
			if good++; good == f.times {
				break
			}
		} else {
			good = 0
			if pause = betweenWaits; time.Now().Add(pause).After(until) {
				break
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: not yet (%s)%s; waiting, %s left\n",
				plain.Printable(tell.Short(now)), tell.Keeps(seen), time.Until(until).Round(time.Second))
		}
		if !sleep(ctx, pause) {
			now.Incomplete = "interrupted"
			break
		}
	}
	return seen, now, good, nil
}

// confirmation is what was found, for other programs.
func confirmation(before, now trail.Trail, good, wanted int, c tell.Closing) trail.Confirmation {
	out := trail.Confirmation{
		Format: "uakari.confirm/1", Works: good == wanted, Good: good, Wanted: wanted, Before: before, Now: now,
		Case: c.Case, Closed: c.After > 0, Standing: []string{}, Differs: append([]string{}, c.Differs...),
		Wider: append([]string{}, c.Wider...),
	}
	for _, each := range c.Standing {
		out.Standing = append(out.Standing, each.Text)
	}
	if c.Narrow.Do != "" {
		out.Narrow = &c.Narrow
	}
	return out
}

// again is what was asked then, and how to look now. Of a run that came from
// elsewhere only the endpoint is taken over, and the rules that were given with
// it; the flags say the rest.
func (f *confirmFlags) again(ctx context.Context, cmd *cobra.Command, was kept) (fact.Ask, look.Env, error) {
	if err := f.inherit(cmd, was); err != nil {
		return fact.Ask{}, look.Env{}, err
	}
	now, env, err := f.ask(ctx, was.set.Ask.Endpoint.Input)
	if err != nil {
		return fact.Ask{}, env, err
	}
	ask := was.set.Ask
	ask.Only = nil // the whole ladder, whatever was asked for then
	ask.Endpoint = now.Endpoint
	if was.foreign {
		ask.Account, ask.Card, ask.Unit = now.Account, now.Card, now.Unit
	} else if ask.Card != nil {
		env.Card = ask.Card
	}
	env.Resolvers, env.Unit = ask.Resolvers, ask.Unit
	return ask, env, nil
}

// concluded keeps what was seen now in the case, and closes it if it works and
// no temporary change stands.
func concluded(
	cmd *cobra.Command,
	id int64,
	seen fact.Set,
	now trail.Trail,
	works bool,
	closing tell.Closing,
) (tell.Closing, error) {
	closing.Case = id
	err := withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		if err := b.Add(ctx, id, casebook.Entry{At: seen.Ended, Kind: casebook.Trace, Text: tell.Short(now),
			Set: &seen}); err != nil {
			return err
		}
		c, err := b.Get(ctx, id)
		if err != nil {
			return err
		}
		closing.Standing = c.Standing()
		if !works || len(closing.Standing) > 0 || len(closing.Wider) > 0 {
			return nil
		}
		closing.After = time.Since(c.Opened)
		return b.Close(ctx, id, time.Now())
	})
	return closing, err
}

// once traces once more, and looks at the filters that were seen before.
func (f *confirmFlags) once(
	ctx context.Context,
	cmd *cobra.Command,
	before fact.Set,
	ask fact.Ask,
	env look.Env,
) (fact.Set, trail.Trail, error) {
	ctx, cancel := until(ctx, cmd, f.deadline)
	defer cancel()
	at, done, err := f.vantages(ctx, env, weigh.First(ask.Endpoint))
	defer done()
	if err != nil && !errors.Is(err, context.Canceled) {
		return fact.Set{}, trail.Trail{}, err
	}
	p := newProgress(cmd.ErrOrStderr())
	set, _ := trace.Run(ctx, ask, at, p.watch)
	set = trace.Follow(ctx, set, at, p.watch)
	set = trace.Filters(ctx, set, before, at)
	p.stop()
	judged, _ := weigh.Weigh(set)
	return set, judged, nil
}

// narrowOf is the remedy of a filter or a list that was found to stop the client:
// the first with a command, else the first.
func narrowOf(before trail.Trail) (narrow trail.Remedy) {
	for _, c := range before.Blocking() {
		for _, r := range c.Remedies {
			switch {
			case c.Rung != trail.Rules || r.Undo == "":
			case r.Command != "":
				return r
			case narrow.Do == "":
				narrow = r
			}
		}
	}
	return narrow
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
