package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/casebook"
	"uakari/internal/confirm"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/program"
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
	// noSecret marks an account whose secret was not given, and secretWhy says why.
	noSecret  bool
	secretWhy string
	waited    time.Duration // until it worked; 0: it worked at once, or does not
}

func newConfirm() *cobra.Command {
	f := confirmFlags{traceFlags: traceFlags{out: "text"}}
	cmd := &cobra.Command{
		Use:   "confirm CASE|FACTS",
		Short: "trace again and compare with the recorded failure",
		Long: `Trace again what a kept trace found, and set before beside after, rung by rung.
CASE is the number of a case, FACTS a file that trace --facts wrote. It works
again only when the ladder is clear several times in a row. An account that
belongs to the case is tried once, in the run that completes the row, and must
be accepted. It repeats the failing try: same client, endpoint, account, proxy,
trust, card, sheets and resolvers. An option that is given again replaces its
own of the kept run. From another host than the one that failed, nothing is
confirmed.

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
	ask, env, given, err := f.again(ctx, cmd, was)
	if err != nil {
		return err
	}
	row := &confirm.Row{
		Wanted: f.times, Account: ask.Account, Secret: !f.noSecret, Client: clientOf(was.set),
	}
	seen, now, err := f.tries(ctx, cmd, was.set, ask, env, row)
	if err != nil {
		return err
	}
	result := row.Result(clientOf(seen))
	works := result == trail.ConfirmWorks
	closing := tell.Closing{Differs: weigh.Differences(was.set, seen)}
	if works {
		closing.Wider, closing.Narrow = weigh.Wider(was.set, seen), narrowOf(before)
	}
	if id, err := caseID(path); err == nil && !isFile(path) {
		if closing, err = concluded(cmd, id, seen, now, works, f.waited, closing); err != nil {
			return err
		}
	}
	out := confirmation(before, now, row.Good(), f.times, closing)
	out.Result, out.Works, out.Given = result, works, given
	out.Progress = append([]trail.Became{}, confirm.Progress(before, now)...)
	err = told(cmd, f.asJSON, out, func() string {
		return tell.Confirmed(out, f.secretWhy, on) + tell.Closed(closing, on)
	})
	if err != nil {
		return err
	}
	switch {
	case works && (len(closing.Standing) > 0 || closing.Case != 0 && len(closing.Wider) > 0):
		return exit(exitFault)
	case works:
		return nil
	case result == trail.ConfirmInterrupted:
		return exit(exitInterrupted)
	case result == trail.ConfirmNot && bothWays(now) == trail.OutcomeFault:
		return exit(exitFault)
	}
	return exit(exitUnsure)
}

// tries traces again and again, until it worked as often in a row as is wanted,
// or the time to wait for it is over.
func (f *confirmFlags) tries(
	ctx context.Context,
	cmd *cobra.Command,
	was fact.Set,
	ask fact.Ask,
	env look.Env,
	row *confirm.Row,
) (seen fact.Set, now trail.Trail, err error) {
	began := time.Now()
	until := began.Add(f.within)
	account, said := ask.Account, false
	for {
		ask.Began, ask.Account = time.Now().UTC(), ""
		if row.TriesAccount() {
			ask.Account = account
			ask = f.budget.bound(cmd, ask)
		}
		if seen, now, err = f.once(ctx, cmd, was, ask, env); err != nil {
			return seen, now, err
		}
		f.budget.spend(cmd, seen)
		outcome := bothWays(now)
		more := row.Add(now, outcome, seen.Presented())
		pause := betweenTries
		if outcome != trail.OutcomeClear {
			pause, f.waited = betweenWaits, 0
			more = more && !time.Now().Add(pause).After(until)
		} else if said && f.waited == 0 {
			f.waited = time.Since(began)
		}
		if !more {
			return seen, now, nil
		}
		if outcome != trail.OutcomeClear {
			before := ""
			if text := forecast(cmd, was.Ask.Endpoint.Input); text != "" && !said {
				before = "; " + text
			}
			said = true
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: not yet (%s)%s; waiting, %s left%s\n",
				foreign.Printable(tell.Short(now)), tell.Keeps(seen), time.Until(until).Round(time.Second), before)
		}
		if !sleep(ctx, pause) {
			now.Incomplete = "interrupted"
			row.Add(now, trail.OutcomeUnsure, false)
			return seen, now, nil
		}
	}
}

// confirmation is what was found, for other programs.
func confirmation(before, now trail.Trail, good, wanted int, c tell.Closing) trail.Confirmation {
	out := trail.Confirmation{
		Format: "uakari.confirm/1", Good: good, Wanted: wanted, Before: before, Now: now,
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

// again is what was asked then, and how to look now: the kept run, with each
// option that is given again in the place of its own. Of a run that came from
// elsewhere only the endpoint is taken over, and the rules that were given with
// it; the flags say the rest.
func (f *confirmFlags) again(
	ctx context.Context,
	cmd *cobra.Command,
	was kept,
) (ask fact.Ask, env look.Env, given []string, err error) {
	given = givenAgain(cmd)
	if err := f.inherit(cmd, was); err != nil {
		return ask, env, nil, err
	}
	if f.user != "" && f.secret != "" && !slices.Contains(given, "--secret") {
		// What the kept run read its secret from may be gone: the rest is confirmed.
		if _, err := f.readSecret(ctx, true); err != nil {
			f.noSecret, f.secretWhy, f.user, f.secret = true, err.Error(), "", ""
		}
	}
	now, env, err := f.ask(ctx, was.set.Ask.Endpoint.Input)
	if err != nil {
		return ask, env, nil, err
	}
	changed := func(flag string) bool { return slices.Contains(given, "--"+flag) }
	ask = was.set.Ask
	ask.Only = nil // the whole ladder, whatever was asked for then
	ask.Endpoint, ask.WaitMS, ask.Shared = now.Endpoint, now.WaitMS, now.Shared
	if was.foreign {
		ask.Account, ask.Card, ask.Unit, ask.Programs = now.Account, now.Card, now.Unit, now.Programs
		if ask.Account == "" && was.set.Ask.Account != "" {
			ask.Account, f.noSecret = was.set.Ask.Account, true
			f.secretWhy = "the kept run is not of your own casebook; add --user and --secret"
		}
	}
	if changed("user") || changed("secret") && now.Account != "" {
		ask.Account = now.Account
	}
	if changed("card") {
		ask.Card = now.Card
	}
	if changed("sheet") {
		ask.Sheets = now.Sheets
	}
	if changed("unit") {
		ask.Unit = now.Unit
	}
	if changed("resolver") {
		ask.Resolvers = now.Resolvers
	}
	if changed("program") {
		ask.Programs = now.Programs
	} else if len(ask.Programs) > 0 {
		if env.Programs, err = program.With(ask.Programs); err != nil {
			return ask, env, nil, err
		}
	}
	env.Card, env.Resolvers, env.Unit = ask.Card, ask.Resolvers, ask.Unit
	return ask, env, given, nil
}

// givenAgain is the options of this command line that replace those of the kept
// run, as they are typed.
func givenAgain(cmd *cobra.Command) []string {
	var given []string
	own := []string{"card", "sheet", "program"}
	cmd.Flags().Visit(func(flag *pflag.Flag) {
		if slices.Contains(inherited, flag.Name) || slices.Contains(own, flag.Name) {
			given = append(given, "--"+flag.Name)
		}
	})
	return given
}

// concluded keeps what was seen now in the case, and closes it if it works and
// no temporary change stands.
func concluded(
	cmd *cobra.Command,
	id int64,
	seen fact.Set,
	now trail.Trail,
	works bool,
	waited time.Duration,
	closing tell.Closing,
) (tell.Closing, error) {
	closing.Case = id
	err := withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		if err := b.Add(ctx, id, casebook.Entry{At: seen.Ended, Kind: casebook.Trace, Text: tell.Short(now),
			Set: &seen}); err != nil {
			return err
		}
		if works && waited > 0 {
			if err := b.Add(ctx, id, casebook.Waited(waited, seen.Ended)); err != nil {
				return err
			}
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
