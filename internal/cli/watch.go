package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// watchFlags is what the flags of watch say.
type watchFlags struct {
	traceFlags
	every, lasts time.Duration
	until        string
	before       string // how long it took before until it was clear
	metrics      string
	report       string
	all          bool
}

func newWatch() *cobra.Command {
	f := watchFlags{traceFlags: traceFlags{out: "text"}}
	cmd := &cobra.Command{
		Use:   "watch ENDPOINT",
		Short: "repeat a trace, to catch a fault that comes and goes",
		Long: `Trace again and again, and say what changed at the moment it failed: the address,
the process that holds the port, the unit's start, the certificate, the route.
On a terminal the sum so far stays in view; in a pipe there is a line for every
turn. The sum is told at the end, also on Ctrl-C. An account is tried once, in
the first trace alone.

Exit status: 0 the last trace was clear, 1 it was a fault, 3 unsure, 2 wrong
usage, 130 interrupted.`,
		Example: `  uakari watch https://tidebook.varzea.example/ --every 10s --for 1h
  uakari watch ledger:5432 --until fault`,
		Args: takes(1, 1, "one ENDPOINT"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.watch(cmd, args[0]) },
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.DurationVar(&f.every, "every", 10*time.Second, "the time from one trace to the next")
	flags.DurationVar(&f.lasts, "for", 0, "end after this long; without it, go on until Ctrl-C or --until")
	flags.StringVar(&f.until, "until", "", "end at the first `fault` or clear")
	flags.StringVar(&f.metrics, "metrics", "", "keep the last state in this `file` for a collector (OpenMetrics text)")
	f.packets.addPackets(cmd, "the packets of tries that fail, of the one before each and of the one after,")
	flags.StringVar(&f.report, "report", "", "write a page with the time line to this `file` (.html) at the end")
	flags.BoolVar(&f.all, "all", false, "a line for every trace, not for every turn alone")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

func (f *watchFlags) watch(cmd *cobra.Command, input string) error {
	switch {
	case f.every < time.Second:
		return fmt.Errorf("--every %s: expected a time of at least 1s", f.every)
	case f.lasts < 0:
		return fmt.Errorf("--for %s: expected a time above zero, like 1h", f.lasts)
	case f.until != "" && f.until != "fault" && f.until != "clear":
		return fmt.Errorf("--until %q: expected fault or clear", f.until)
	}
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	ask, env, err := f.ask(ctx, input)
	if err != nil {
		return err
	}
	at, done, err := f.vantages(ctx, env, weigh.First(ask.Endpoint))
	defer done()
	if err != nil {
		return err
	}
	if err := f.packets.begin(ctx, ask.Endpoint, env); err != nil {
		return fmt.Errorf("--packets: %w", err)
	}
	live := isTerminal(cmd.OutOrStdout()) && !f.all
	if f.until == "clear" {
		if f.before = forecast(cmd, input); f.before != "" && !live {
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: waiting until clear; %s\n", f.before)
		}
	}
	view := redrawn{cmd: cmd}
	var tally weigh.Tally
	began := time.Now()
	rejected := false // the account, which is not presented again
	for {
		next := time.Now().Add(f.every)
		ask.Began = time.Now().UTC()
		before := tally.Last
		pulse, err := f.pulse(ctx, cmd, ask, at)
		if err != nil {
			break
		}
		if pulse.Presented { // accounts lock: one try is enough
			rejected = !pulse.Accepted
			ask.Withhold = "it was tried once, at " + pulse.At.Format(time.TimeOnly)
		}
		if !rejected && ask.Withhold != "" {
			ask.Account = "" // it was accepted: the later tries are of all else
		}
		turned := tally.Add(pulse)
		f.packets.tried(pulse.Outcome != trail.OutcomeClear)
		if f.metrics != "" {
			if err := writeWhole(cmd, f.metrics, []byte(tell.Metrics(input, tally))); err != nil {
				return err
			}
		}
		switch {
		case live:
			view.draw(tell.Watching(input, tally, f.every, f.left(began), on))
		case turned || tally.Tries == 1 || f.all:
			var changes []string
			if tally.Tries > 1 {
				changes = pulse.Changed(before)
			}
			if err := write(cmd, "", []byte(tell.Watched(pulse, changes))); err != nil {
				return err
			}
		}
		if rejected && f.until == "clear" {
			break // no try without the account can show that it works
		}
		if f.ends(pulse, began, next) || !sleep(ctx, time.Until(next)) {
			break
		}
	}
	view.clear()
	if err := f.packets.end(cmd); err != nil {
		return err
	}
	if err := write(cmd, "", []byte(tell.WatchEnded(input, tally, on))); err != nil {
		return err
	}
	if f.report != "" {
		page, err := tell.WatchPage(input, tally, time.Now())
		if err == nil {
			err = writeWhole(cmd, f.report, []byte(page))
		}
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return exit(exitInterrupted)
	}
	if rejected {
		return exit(exitFault)
	}
	if status := statuses[tally.Last.Outcome]; status != exitClear {
		return status
	}
	return nil
}

// pulse is one trace. It fails only when the watch is interrupted.
func (f *watchFlags) pulse(
	ctx context.Context,
	cmd *cobra.Command,
	ask fact.Ask,
	at []trace.Vantage,
) (weigh.Pulse, error) {
	inner, cancel := until(ctx, cmd, f.deadline)
	defer cancel()
	trace.Renew(inner, at)
	ask = f.budget.bound(cmd, ask)
	set, judged := trace.Run(inner, ask, at, nil)
	f.budget.spend(cmd, set)
	if ctx.Err() != nil {
		return weigh.Pulse{}, errors.New("interrupted")
	}
	return weigh.PulseOf(set, judged), nil
}

// ends reports whether the watch is over.
func (f *watchFlags) ends(p weigh.Pulse, began, next time.Time) bool {
	clear := p.Outcome == trail.OutcomeClear
	return f.until == "fault" && !clear || f.until == "clear" && clear || f.lasts > 0 && next.After(began.Add(f.lasts))
}

// left is how long the watch still goes on, in words.
func (f *watchFlags) left(began time.Time) string {
	text := ""
	if f.lasts > 0 {
		text = fmt.Sprintf(", for %s more", max(0, time.Until(began.Add(f.lasts))).Round(time.Second))
	}
	if f.until != "" {
		text += ", until " + f.until
	}
	if f.before != "" {
		text += "; " + f.before
	}
	return text
}

// redrawn is a view on a terminal that is written over its last state.
type redrawn struct {
	cmd   *cobra.Command
	lines int
}

func (r *redrawn) draw(text string) {
	r.clear()
	fmt.Fprint(r.cmd.OutOrStdout(), text)
	r.lines = strings.Count(text, "\n")
}

func (r *redrawn) clear() {
	if r.lines > 0 {
		fmt.Fprintf(r.cmd.OutOrStdout(), "\x1b[%dA\x1b[J", r.lines)
	}
	r.lines = 0
}
